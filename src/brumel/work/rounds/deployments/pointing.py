"""Where a deployment stands and what is next, noted on it with each write that changes either."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy.orm import Session

from brumel.core.sentence import as_data, say
from brumel.store.deployments import Deployment
from brumel.work.rounds.deployments.plan import state_of, steps_of
from brumel.work.rounds.deployments.visits import next_visit, services_of


def point(session: Session, d: Deployment) -> None:
    """Note state and next on a deployment, as its steps and visits say now."""
    session.flush()
    steps = steps_of(session, [d])[d.id]
    d.state = state_of(steps)
    d.next_at, what, words = _next(session, d, steps["started"].at if "started" in steps else None)
    d.next_words = {"what": what, **as_data(words)} if words else {}
    session.flush()


def _next(session: Session, d: Deployment, started_at: datetime | None) -> tuple[datetime | None, str, str]:
    if d.state in ("lifted", "cancelled"):
        return None, "", ""
    if started_at is None:
        return d.planned_start, "start", say("Set out the logger “{name}” at {site}", name=d.name, site=d.site.name)
    if d.state == "started":
        return started_at, "confirm", say("See the first records of “{name}” at {site}", name=d.name, site=d.site.name)
    upcoming = next_visit(d, started_at, services_of(session, [d.id]))
    is_last = upcoming.at >= d.planned_end
    words = say(
        "{what} the logger “{name}” at {site}: {why}",
        what="Lift" if is_last else "Service",
        name=d.name,
        site=d.site.name,
        why=upcoming.why,
    )
    return upcoming.at, "lift" if is_last else "visit", words
