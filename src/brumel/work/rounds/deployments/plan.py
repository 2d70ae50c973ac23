"""A deployment planned and followed: how long it lasts, what is ready for it, and what has happened to it."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, lazyload

from brumel.core.deployed.endurance import Endurance, endurance
from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.methods.deployments import ToPack, load_deployments
from brumel.store.deployments import Channel, Deployment, DeploymentStep
from brumel.work import kit
from brumel.work.desk import MovedOn, NotFound, Write, alone_with, object_id
from brumel.work.rounds.deployments import channels

LONGEST = timedelta(days=3 * 366)
MOST_CHANNELS = 12
#: What has happened to it last, in words.
STATES = {
    "planned": "planned",
    "configured": "configured, not started",
    "started": "started, first records not seen",
    "confirmed": "recording",
    "lifted": "lifted",
    "cancelled": "cancelled",
}
#: States of a logger that is in the water.
OUT = ("started", "confirmed")
#: What may follow what.
_AFTER = {
    "configured": ("planned",),
    "started": ("configured",),
    "confirmed": ("started",),
    "lifted": ("started", "confirmed"),
    "cancelled": ("planned", "configured"),
}


@dataclass(frozen=True)
class PlannedChannel:
    """A quantity that is to be recorded, and the id of the probe that does it, empty for none."""

    quantity: str
    probe_id: str = ""


@dataclass(frozen=True)
class NewDeployment:
    """A plan as it is typed: interval in seconds, depth in metres; what is not known of the logger is None."""

    site_id: str
    meter_id: str
    name: str
    interval_s: float
    planned_start: datetime
    planned_end: datetime
    channels: Sequence[PlannedChannel]
    depth_m: float | None = None
    memory_records: float | None = None
    battery_days: float | None = None
    set_salinity: float | None = None
    set_pressure_hpa: float | None = None
    note: str = ""


def deployment_of(session: Session, deployment_id: str | uuid.UUID) -> Deployment:
    """One deployment by id; the front door for everything that names one."""
    found = session.get(Deployment, object_id(deployment_id, "deployment"))
    if found is None:
        raise NotFound("There is no such deployment.")
    return found


def channel_of(deployment: Deployment, quantity: str) -> Channel:
    """One of its channels by its quantity. Raises NotFound."""
    found = next((c for c in deployment.channels if c.quantity == quantity), None)
    if found is None:
        raise NotFound("The logger does not record that.")
    return found


def deployments(session: Session, site_id: uuid.UUID | None = None, *, whole: bool = True) -> list[Deployment]:
    """All deployments, or those of a site, the one planned last first; without their channels where not `whole`."""
    query = select(Deployment).order_by(Deployment.planned_start.desc(), Deployment.id)
    if not whole:
        query = query.options(lazyload("*"))
    return list(session.scalars(query.where(Deployment.site_id == site_id) if site_id else query))


def steps_of(session: Session, several: Sequence[Deployment]) -> dict[uuid.UUID, dict[str, DeploymentStep]]:
    """What has happened to each of them, by kind."""
    found: dict[uuid.UUID, dict[str, DeploymentStep]] = {d.id: {} for d in several}
    for step in session.scalars(select(DeploymentStep).where(DeploymentStep.deployment_id.in_(list(found)))):
        found[step.deployment_id][step.kind] = step
    return found


def state_of(steps: dict[str, DeploymentStep]) -> str:
    """The state by what has happened: a key of STATES."""
    return next(
        (kind for kind in ("cancelled", "lifted", "confirmed", "started", "configured") if kind in steps), "planned"
    )


def lasts(d: Deployment | NewDeployment) -> Endurance:
    """How long its memory and battery last, against its plan."""
    planned = (d.planned_end - d.planned_start).total_seconds() / 86_400
    return endurance(d.interval_s, max(planned, 0.0), d.memory_records, d.battery_days)


def out_elsewhere(session: Session, meter_id: uuid.UUID, but: uuid.UUID | None = None) -> Deployment | None:
    """The deployment in which this meter is out now."""
    query = select(Deployment).where(Deployment.meter_id == meter_id, Deployment.state.in_(OUT))
    return session.scalar(query.where(Deployment.id != but).limit(1) if but else query.limit(1))


def locked(w: Write, deployment_id: str) -> Deployment:
    """A deployment that nobody else writes on meanwhile."""
    found = deployment_of(w.session, deployment_id)
    alone_with(w.session, found.id)
    return found


# -- what happens to it


def take_step(w: Write, row: Deployment, kind: str, at: datetime, body: dict[str, Any]) -> None:
    """Put down what has happened. Raises MovedOn where it has moved on, InputError for a time that cannot be."""
    steps = steps_of(w.session, [row])[row.id]
    state = state_of(steps)
    if state not in _AFTER[kind]:
        raise MovedOn(f"This deployment is {STATES[state]} meanwhile. You now see it.")
    if at > w.now + timedelta(minutes=5):
        raise InputError("at", say("{at} is in the future. Is the clock right?", at=at))
    before = max((s.at for s in steps.values()), default=None)
    if before is not None and kind != "configured" and at < before - timedelta(minutes=1):
        raise InputError("at", say("At {at} it was not yet {state}.", at=at, state=STATES[state]))
    w.session.add(
        DeploymentStep(
            deployment_id=row.id, kind=kind, at=min(at, w.now), body=body, written_at=w.written, by_id=w.actor.id
        )
    )
    w.session.flush()
    w.record(f"deployment:{row.id}", {"is": kind, "at": at.isoformat()})


# -- getting ready


@dataclass(frozen=True)
class Ready:
    """What one channel still wants before its logger is set out: words, and whether it is ready."""

    channel: Channel
    words: str
    is_ready: bool


@dataclass(frozen=True)
class Readiness:
    """What is ready and what is to be taken along."""

    channels: list[Ready]
    packing: tuple[ToPack, ...]
    standards: list[tuple[Channel, list[kit.LotView]]] = field(default_factory=list)


def readiness(session: Session, d: Deployment, now: datetime) -> Readiness:
    """Calibrations of its probes against the plan, and what is packed for setting it out."""
    trusts = kit.trusts(session, [c.probe for c in d.channels if c.probe], now)
    found = []
    for c in d.channels:
        if channels.criteria(c.quantity) is None:
            found.append(Ready(c, "without checks of its own", True))
        elif c.probe is None:
            found.append(Ready(c, "no probe is named: its record will have no valid calibration", False))
        else:
            trust = trusts[c.probe.id]
            until = trust.calibration.valid_until if trust.valid and trust.calibration else None
            if until is None:
                found.append(Ready(c, trust.words, False))
            elif until < d.planned_start:
                found.append(Ready(c, say("its calibration runs out on {at}, before it is set out", at=until), False))
            else:
                found.append(Ready(c, trust.words, True))
    return Readiness(found, load_deployments().packing, standards_for(session, d, now))


def standards_for(session: Session, d: Deployment, now: datetime) -> list[tuple[Channel, list[kit.LotView]]]:
    """What its cleaned sensors are read in at a visit: for each channel with checks the lots that nothing speaks against."""
    shelf = [v for v in kit.lots_on_shelf(session, now) if not v.objections]
    checked = [c for c in d.channels if channels.criteria(c.quantity)]
    return [(c, [v for v in shelf if c.quantity in v.quantities]) for c in checked]
