"""Today: what can be trusted now, and what is open."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from flask import Blueprint, render_template
from sqlalchemy.orm import Session

from brumel.web import drawn
from brumel.web.access import desk
from brumel.work import kit, records, rounds, runstate

blueprint = Blueprint("today", __name__, template_folder="templates")


def day_marks(session: Session, now: datetime) -> list[tuple[datetime, str, str]]:
    """What the ribbon shows of today: calibrations and site readings."""
    since = now.replace(hour=0, minute=0, second=0, microsecond=0)
    marks = [
        (c.at, f"run-{c.outcome}", f"calibration {c.number}, {c.run.probe.name}")
        for c in records.calibrations(session)[0]
        if c.at >= since
    ]
    search = records.Search(since=since, until=now + timedelta(hours=1), quantity="ph")
    marks += [
        (r.at, f"visit-{r.backing}", f"{r.visit.site.name}: pH {r.value:.2f}")
        for r in records.readings(session, search)[0]
    ]
    return marks


def _zone(session: Session) -> str:
    """The day is drawn in the zone of the practice's waters."""
    found = rounds.sites(session)
    return found[0].zone if found else "UTC"


@blueprint.get("/")
def show() -> Any:
    """The readiness of each probe in one line, and open runs."""
    with desk().read() as session:
        now = desk().clock()
        lines = [
            {"probe": p, "trust": kit.trust(session, p, now), "run": kit.open_run(session, p.id)}
            for p in kit.probes(session)
        ]
        recent, _ = records.readings(session, records.Search(quantity="ph"))
        return render_template(
            "today/show.html", lines=lines, open_runs=runstate.open_runs(session), recent=recent[:6],
            ribbon=drawn.ribbon(day_marks(session, now), now, _zone(session)),
        )  # fmt: skip
