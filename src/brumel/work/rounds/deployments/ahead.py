"""What lies ahead of deployments: loggers to set out, to visit and to lift, for the calendar and for Today."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.store.deployments import Deployment, DeploymentStep
from brumel.store.kept_words import from_data
from brumel.work.rounds.deployments.plan import lasts, state_of, steps_of
from brumel.work.rounds.deployments.visits import NextVisit, back_at, next_visit, services_of


@dataclass(frozen=True)
class Out:
    """A deployment that is planned or out: its state, its next visit where it is out, and when it stops by itself."""

    deployment: Deployment
    state: str
    next: NextVisit | None
    stops_at: datetime | None


def under_way(session: Session) -> list[Out]:
    """Deployments that are planned or out, by name."""
    over = select(DeploymentStep.deployment_id).where(DeploymentStep.kind.in_(("lifted", "cancelled")))
    several = list(session.scalars(select(Deployment).where(Deployment.id.not_in(over)).order_by(Deployment.name)))
    if not several:
        return []
    steps = steps_of(session, several)
    services = services_of(session, [d.id for d in several])
    found = []
    for d in several:
        started = steps[d.id].get("started")
        visited = [s for s in services if s.deployment_id == d.id]
        if started is None:
            found.append(Out(d, state_of(steps[d.id]), None, None))
            continue
        known = lasts(d)
        days = min((x for x in (known.full_d, known.flat_d) if x is not None), default=None)
        since = back_at(visited[-1]) if visited else started.at
        stops = since + timedelta(days=days) if days is not None else None
        found.append(Out(d, state_of(steps[d.id]), next_visit(d, started.at, visited, stops), stops))
    return found


def upcoming(session: Session) -> list[tuple[Deployment, str, datetime, str]]:
    """What is next of each that is planned or out: the deployment, a short key of what, when, and words."""
    query = select(Deployment).where(Deployment.next_at.is_not(None)).order_by(Deployment.next_at)
    return [
        (d, f"{d.next_words.get('what', 'next')}-{d.next_at:%Y%m%d}", d.next_at, from_data(d.next_words))
        for d in session.scalars(query)
        if d.next_at is not None
    ]
