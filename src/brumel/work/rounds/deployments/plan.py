"""A deployment planned and followed: how long it lasts, what is ready for it, and what has happened to it."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import exists, select
from sqlalchemy.orm import Session

from brumel.core.deployed.endurance import Endurance, endurance
from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import say
from brumel.methods.deployments import ToPack, load_deployments
from brumel.store.deployments import Channel, Deployment, DeploymentStep
from brumel.store.tables import Probe
from brumel.work import kit
from brumel.work.desk import MovedOn, NotFound, Refused, Write, Written, alone_with, clean_reason, object_id, writes
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.sites import site_of

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


def deployments(session: Session, site_id: uuid.UUID | None = None) -> list[Deployment]:
    """All deployments, or those of a site, the one planned last first."""
    query = select(Deployment).order_by(Deployment.planned_start.desc(), Deployment.id)
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


def _checked(session: Session, new: NewDeployment) -> list[Probe | None]:
    """The probes of its channels, in their order. Raises every fault at once."""
    faults = list[InputError]()
    name = " ".join(new.name.split())
    if not name or len(name) > 80:
        faults.append(InputError("name", "A deployment needs a name of at most 80 letters."))
    if new.planned_end <= new.planned_start:
        faults.append(InputError("planned_end", "The planned end must come after its start."))
    elif new.planned_end - new.planned_start > LONGEST:
        faults.append(InputError("planned_end", "A deployment is planned for three years at most."))
    if new.depth_m is not None and not 0 <= new.depth_m <= 1000:
        faults.append(InputError("depth_m", "Depth must lie between 0 and 1 000 m.", value=new.depth_m))
    for key, value, low, high, words in (
        ("set_salinity", new.set_salinity, 0, 42, "Salinity set in the logger"),
        ("set_pressure_hpa", new.set_pressure_hpa, 500, 1100, "Pressure set in the logger"),
    ):
        if value is not None and not low <= value <= high:
            faults.append(InputError(key, f"{words} must lie between {low} and {high}.", value=value))
    try:
        lasts(new)
    except InputError as error:
        faults += error.faults
    if not new.channels:
        faults.append(InputError("channel", "Choose at least one quantity that it records."))
    if len(new.channels) > MOST_CHANNELS:
        faults.append(InputError("channel", f"A logger takes {MOST_CHANNELS} channels at most."))
    quantities = [c.quantity for c in new.channels]
    if unknown := [q for q in quantities if q not in channels.known()]:
        faults.append(InputError("channel", f"“{unknown[0][:40]}” is nothing a logger records here."))
    if len(set(quantities)) < len(quantities):
        faults.append(InputError("channel", "A quantity stands twice."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    probes = [kit.probes_of(session, [c.probe_id])[0] if c.probe_id else None for c in new.channels]
    for c, probe in zip(new.channels, probes, strict=True):
        if probe is not None and probe.quantity != c.quantity:
            faults.append(InputError("channel", f"{probe.name} does not measure {channels.title(c.quantity).lower()}."))
        if probe is not None and probe.retired_at is not None:
            faults.append(InputError("channel", f"{probe.name} was put away for good; choose another."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return probes


def out_elsewhere(session: Session, meter_id: uuid.UUID, but: uuid.UUID | None = None) -> Deployment | None:
    """The deployment in which this meter is out now."""
    started = exists().where(DeploymentStep.deployment_id == Deployment.id, DeploymentStep.kind == "started")
    ended = exists().where(
        DeploymentStep.deployment_id == Deployment.id, DeploymentStep.kind.in_(("lifted", "cancelled"))
    )
    query = select(Deployment).where(Deployment.meter_id == meter_id, started, ~ended)
    return session.scalar(query.where(Deployment.id != but).limit(1) if but else query.limit(1))


@writes("deployment.save", Written)
def save(w: Write, *, new: NewDeployment, deployment_id: str = "") -> Written:
    """Plan a deployment, or change a plan that was not started. Its channels stay as they were made.

    Raises every fault at once; Refused where it was started, MovedOn where its channels would become others.
    """
    probes = _checked(w.session, new)
    site, meter = site_of(w.session, new.site_id), kit.meter_of(w.session, new.meter_id)
    if site.retired_at is not None:
        raise Refused(f"{site.name} is not read any more; the lead has put it away.")
    if meter.retired_at is not None:
        raise Refused(f"{meter.name} was put away for good.")
    row = _planned(w, deployment_id) if deployment_id else Deployment(id=uuid.uuid4(), at=w.now, by_id=w.actor.id)
    row.site_id, row.meter_id, row.name = site.id, meter.id, " ".join(new.name.split())
    row.depth_m, row.interval_s = new.depth_m, new.interval_s
    row.memory_records, row.battery_days = new.memory_records, new.battery_days
    row.planned_start, row.planned_end = new.planned_start, new.planned_end
    row.oxygen_set = {
        key: value
        for key, value in (("salinity", new.set_salinity), ("pressure_hpa", new.set_pressure_hpa))
        if value is not None
    }
    row.note = clean_reason(new.note, required=False)
    w.session.add(row)
    w.session.flush()
    wanted = [(c.quantity, p.id if p else None) for c, p in zip(new.channels, probes, strict=True)]
    if deployment_id:
        if wanted != [(c.quantity, c.probe_id) for c in row.channels]:
            raise Refused("What it records stays as it was planned. Cancel this plan and make another one.")
    else:
        for place, (quantity, probe_id) in enumerate(wanted):
            w.session.add(
                Channel(
                    deployment_id=row.id,
                    place=place,
                    quantity=quantity,
                    unit=channels.unit(quantity),
                    probe_id=probe_id,
                )
            )
    w.session.flush()
    w.record(f"deployment:{row.id}", {"name": row.name, "site": str(site.id)})
    return Written(str(row.id))


def locked(w: Write, deployment_id: str) -> Deployment:
    """A deployment that nobody else writes on meanwhile."""
    found = deployment_of(w.session, deployment_id)
    alone_with(w.session, found.id)
    return found


def _planned(w: Write, deployment_id: str) -> Deployment:
    row = locked(w, deployment_id)
    state = state_of(steps_of(w.session, [row])[row.id])
    if state not in ("planned", "configured"):
        raise Refused(f"This deployment is {STATES[state]}; its plan stays as it is.")
    return row


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


@writes("deployment.configure", Written)
def configure(
    w: Write, *, deployment_id: str, looked_at: Sequence[str], at: datetime, ahead_s: float | None
) -> Written:
    """The logger is set and looked over; it does not record yet.

    looked_at : keys of the settings that were looked at, which must be all; ahead_s : its clock before the time [s]
    """
    row = locked(w, deployment_id)
    missing = [s.words for s in load_deployments().settings if s.key not in looked_at]
    if missing:
        raise InputErrors([InputError("settings", f"Not looked at yet: {words}.") for words in missing])
    if ahead_s is not None and not abs(ahead_s) <= 86_400:
        raise InputError("ahead_s", "A clock that is a day off is set, not compared.", value=ahead_s)
    take_step(w, row, "configured", at, {"looked_at": list(looked_at), "ahead_s": ahead_s})
    return Written(str(row.id))


@writes("deployment.start", Written)
def start(w: Write, *, deployment_id: str, at: datetime) -> Written:
    """The logger was started and set out; that it records is seen later, or now."""
    row = locked(w, deployment_id)
    elsewhere = out_elsewhere(w.session, row.meter_id, row.id)
    if elsewhere is not None:
        raise Refused(
            say("{meter} is out at {site} in “{name}”. Lift it there first.", meter=row.meter.name,
                site=elsewhere.site.name, name=elsewhere.name)
        )  # fmt: skip
    take_step(w, row, "started", at, {})
    return Written(str(row.id))


@writes("deployment.confirm", Written)
def confirm(w: Write, *, deployment_id: str, at: datetime, first_at: datetime, count: int) -> Written:
    """First records were seen in the logger: when the first of them is of, and how many there were."""
    row = locked(w, deployment_id)
    started = steps_of(w.session, [row])[row.id].get("started")
    if not 1 <= count <= 1_000_000:
        raise InputError("count", "At least one record must have been seen.", value=count)
    if started is not None and first_at < started.at - timedelta(hours=24):
        raise InputError("first_at", "Those records are from before it was started; was its memory emptied?")
    if first_at > at + timedelta(hours=24):
        raise InputError("first_at", "The first record is of a later time than now. Is its clock right?")
    take_step(w, row, "confirmed", at, {"first_at": first_at.isoformat(), "count": count})
    return Written(str(row.id))


@writes("deployment.cancel", Written)
def cancel(w: Write, *, deployment_id: str, reason: str) -> Written:
    """A plan that is given up before it was started."""
    row = locked(w, deployment_id)
    take_step(w, row, "cancelled", w.now, {"reason": clean_reason(reason)})
    return Written(str(row.id))


# -- getting ready


@dataclass(frozen=True)
class Ready:
    """What one channel still wants before its logger is set out: words, and whether it is ready."""

    channel: Channel
    words: str
    is_ready: bool
    valid_until: datetime | None = None


@dataclass(frozen=True)
class Readiness:
    """What is ready and what is to be taken along."""

    channels: list[Ready]
    packing: tuple[ToPack, ...]
    standards: list[str] = field(default_factory=list)


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
                found.append(
                    Ready(c, say("its calibration runs out on {at}, before it is set out", at=until), False, until)
                )
            else:
                found.append(Ready(c, trust.words, True, until))
    return Readiness(found, load_deployments().packing)
