"""Today: what can be trusted now, and what is open."""

from __future__ import annotations

import uuid
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from flask import Blueprint, render_template
from sqlalchemy.orm import Session

from brumel.store.rounds import Round
from brumel.store.tables import Meter, Probe
from brumel.web.access import actor, desk
from brumel.web.bench.place import give_keys
from brumel.web.drawings import frame
from brumel.web.rounds.outing import asked_leave
from brumel.work import bench, kit, records, rounds
from brumel.work.quantities import names as quantity_names
from brumel.work.records import news, signing
from brumel.work.rounds import calendar, outings
from brumel.work.rounds import plan as day_plan
from brumel.work.rounds.beginning import first_steps

blueprint = Blueprint("today", __name__, template_folder="templates")


def _midnight(now: datetime) -> datetime:
    return now.replace(hour=0, minute=0, second=0, microsecond=0)


def day_marks(made: Sequence[news.Made], now: datetime, visits: Sequence[ReadVisit]) -> list[tuple[datetime, str, str]]:
    """What the ribbon shows of today: calibrations and visits."""
    since = _midnight(now)
    marks = [(c.at, f"run-{c.outcome}", f"calibration {c.number}, {c.probe}") for c in made]
    marks += [
        (v.at, f"visit-{v.rows[0].backing}", f"{v.site}: {v.words}")
        for v in visits
        if since <= v.at < now + timedelta(hours=1)
    ]
    return marks


@dataclass(frozen=True)
class ReadVisit:
    """What a visit read of the quantities its site is read for, in the order of a sheet."""

    at: datetime
    rows: list[records.RecentReading]

    @property
    def site(self) -> str:
        return self.rows[0].site

    @property
    def words(self) -> str:
        """In a few words, for the ribbon."""
        return ", ".join(f"{quantity_names.name(r.quantity)} {r.value:.4g}" for r in self.rows[:3])


#: Readings that are looked through for the last visits.
LOOKED_THROUGH = 160


def _read_visits(session: Session) -> list[ReadVisit]:
    """The last visits, newest first, each with the first readings of its site's main quantities, in the order of a sheet."""
    by_visit: dict[uuid.UUID, list[records.RecentReading]] = {}
    for row in records.recent(session, LOOKED_THROUGH):
        by_visit.setdefault(row.visit_id, []).append(row)
    visits = []
    for rows in by_visit.values():
        upmost = min((r.depth_m for r in rows if r.depth_m is not None), default=None)
        shown = [r for r in rows if r.depth_m == upmost] or rows
        shown.sort(key=lambda r: quantity_names.ORDER.get(r.quantity, 99))
        visits.append(ReadVisit(max(r.at for r in rows), shown))
    return visits


def _zone(session: Session, ahead: Round | None) -> str:
    """The day is drawn in the zone of the practice's waters."""
    if ahead is not None:
        return ahead.zone
    sites = rounds.sites_by_client(session)
    return sites[0].zone if sites else "UTC"


def _next_day(planned: Round, now: datetime, gone: Collection[uuid.UUID]) -> date | None:
    """When a round is due next; not today any more where it was gone to and came back."""
    today = calendar.today_of(planned, now)
    return calendar.next_day(planned, today + timedelta(days=1) if planned.id in gone else today)


def _round_today(
    session: Session, now: datetime, trusts: Mapping[Probe, kit.Trust], known: day_plan.AlreadyKnown
) -> dict[str, Any]:
    """The outing that runs, else the next round with its plan up to leaving."""
    today = outings.of_today(session, now)
    outing = outings.running_of(actor(), today)
    if outing is not None:
        day, soonest = outing.day, outing.round
    else:
        gone = {one.round_id for one in today}
        due = [(next_, r) for r in calendar.rounds(session) if (next_ := _next_day(r, now, gone))]
        if not due:
            return {"plan": None, "round": None, "way": None, "needed": []}
        day, soonest = min(due, key=lambda pair: (pair[0], pair[1].leave_at))
    carried = outings.choice_among(soonest, list(trusts), {p.id: trust for p, trust in trusts.items()})
    found = {
        "round": soonest,
        "day": day,
        "needed": [c.probe.id for c in carried.best(now)],
        "outing": outing,
        "round_zone": ZoneInfo(soonest.zone),
        "today_is": calendar.today_of(soonest, now),
    }
    if outing is not None:
        return found | {"plan": None, "way": outings.progress(session, outing), "faults": []}
    asked, wrong = asked_leave(soonest, now)
    leave = asked or calendar.leaving(soonest, day)
    plan = day_plan.plan_day(session, soonest, now, leave_at=leave, known=replace(known, carried=carried))
    return found | {"plan": plan, "way": None, "faults": wrong}


@blueprint.get("/")
def show() -> Any:
    """The readiness of each probe in one line, and open runs."""
    with desk().read() as session:
        now = desk().clock()
        probes = kit.probes_at_hand(session)
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
        visits = _read_visits(session)
        new = news.of_day(session, _midnight(now), now, actor())
        needed = [line for line in lines if line["probe"].id in ahead["needed"] or not ahead["needed"]]
        together = _meter_to_calibrate(needed)
        return render_template(
            "today/show.html",
            open_runs=open_runs,
            noticed=new.noticed,
            loggers=new.loggers,
            needed_lines=needed,
            other_lines=[line for line in lines if line not in needed],
            together=together,
            waits=signing.counts(session) if actor().role == "lead" else None,
            visits=visits[:5],
            sent_back=new.sent_back,
            first_steps=first_steps(session) if not visits and actor().role == "lead" else [],
            ribbon=frame.ribbon(day_marks(new.made, now, visits), now, _zone(session, ahead["round"]), shown),
            **ahead,
        )


def _meter_to_calibrate(lines: Sequence[Mapping[str, Any]]) -> Meter | None:
    """The meter with the most probes among these that need calibrating, where they are more than one."""
    wanting = [line["probe"].meter for line in lines if not line["trust"].valid and not line["run"]]
    most = max(wanting, key=lambda meter: sum(m.id == meter.id for m in wanting), default=None)
    return most if most is not None and sum(m.id == most.id for m in wanting) > 1 else None
