"""Today: what can be trusted now, and what is open."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from flask import Blueprint, render_template
from sqlalchemy.orm import Session

from brumel.store.rounds import Round
from brumel.store.tables import Probe, Reading
from brumel.web.access import desk
from brumel.web.bench.place import give_keys
from brumel.web.drawings import frame
from brumel.web.rounds.outing import asked_leave
from brumel.work import bench, kit, records, rounds
from brumel.work.rounds import calendar, outings
from brumel.work.rounds import plan as day_plan

blueprint = Blueprint("today", __name__, template_folder="templates")


def day_marks(session: Session, now: datetime, recent: Sequence[Reading]) -> list[tuple[datetime, str, str]]:
    """What the ribbon shows of today: calibrations and site readings."""
    since = now.replace(hour=0, minute=0, second=0, microsecond=0)
    marks = [
        (c.at, f"run-{c.outcome}", f"calibration {c.number}, {c.run.probe.name}")
        for c in records.calibrations_since(session, since)
    ]
    marks += [
        (r.at, f"visit-{r.backing}", f"{r.visit.site.name}: pH {r.value:.2f}")
        for r in recent
        if since <= r.at < now + timedelta(hours=1)
    ]
    return marks


def _zone(session: Session, ahead: Round | None) -> str:
    """The day is drawn in the zone of the practice's waters."""
    if ahead is not None:
        return ahead.zone
    sites = rounds.sites_by_client(session)
    return sites[0].zone if sites else "UTC"


def _round_today(
    session: Session, now: datetime, trusts: Mapping[Probe, kit.Trust], known: day_plan.AlreadyKnown
) -> dict[str, Any]:
    """The round that is due today, else the next one, with its plan up to leaving."""
    due = [(day, r) for r in calendar.rounds(session) if (day := calendar.next_day(r, calendar.today_of(r, now)))]
    if not due:
        return {"plan": None, "round": None}
    day, soonest = min(due, key=lambda pair: (pair[0], pair[1].leave_at))
    asked, wrong = asked_leave(soonest, now)
    leave = asked or calendar.leaving(soonest, day)
    carried = outings.choice_among(soonest, list(trusts), {p.id: trust for p, trust in trusts.items()})
    return {
        "plan": day_plan.plan_day(session, soonest, now, leave_at=leave, known=replace(known, carried=carried)),
        "round": soonest,
        "day": day,
        "faults": wrong,
        "outing": outings.running(session, soonest, calendar.today_of(soonest, now)),
        "round_zone": ZoneInfo(soonest.zone),
        "today_is": calendar.today_of(soonest, now),
    }


@blueprint.get("/")
def show() -> Any:
    """The readiness of each probe in one line, and open runs."""
    with desk().read() as session:
        now = desk().clock()
        probes = kit.probes_in_service(session)
        trusts, open_runs = kit.trusts(session, probes, now), bench.open_runs(session)
        runs = {run.probe_id: run for run in reversed(open_runs)}
        idle = [p for p in probes if p.id not in runs and not trusts[p.id].valid]
        lots = kit.lots_on_shelf(session, now)
        again = bench.same_again(session, idle, now, lots)
        lines: list[dict[str, Any]] = [
            {
                "probe": p,
                "trust": trusts[p.id],
                "run": runs.get(p.id),
                "again": again.get(p.id),
                "key": "",
                "gap": kit.typed_gap(p, trusts[p.id]),
            }
            for p in probes
        ]
        give_keys(lines, taken="gs")
        poured = {(probe, one.method.key): one.cups for probe, one in again.items()}
        known = day_plan.AlreadyKnown(None, runs, lots, poured)
        ahead = _round_today(session, now, {p: trusts[p.id] for p in probes}, known)
        shown = ahead["plan"] if ahead.get("day") == ahead.get("today_is") else None
        recent = records.recent(session, records.Search(quantity="ph"), 40)
        return render_template(
            "today/show.html",
            lines=lines,
            open_runs=open_runs,
            recent=recent[:6],
            ribbon=frame.ribbon(day_marks(session, now, recent), now, _zone(session, ahead["round"]), shown),
            **ahead,
        )
