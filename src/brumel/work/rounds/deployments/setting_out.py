"""A deployment planned, and followed from being configured to recording: what people write down of it."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import say
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Channel, Deployment
from brumel.store.tables import Probe
from brumel.work import kit
from brumel.work.desk import Refused, Write, Written, clean_reason, writes
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.deployments.plan import (
    LONGEST,
    MOST_CHANNELS,
    STATES,
    NewDeployment,
    lasts,
    locked,
    out_elsewhere,
    state_of,
    steps_of,
    take_step,
)
from brumel.work.rounds.deployments.pointing import point
from brumel.work.rounds.sites import site_of


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
            faults.append(InputError("channel", f"{probe.name} does not measure {channels.words(c.quantity)}."))
        if probe is not None and probe.retired_at is not None:
            faults.append(InputError("channel", f"{probe.name} was put away for good; choose another."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return probes


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
    w.session.refresh(row)
    point(w.session, row)
    w.record(f"deployment:{row.id}", {"name": row.name, "site": str(site.id)})
    return Written(str(row.id))


def _planned(w: Write, deployment_id: str) -> Deployment:
    row = locked(w, deployment_id)
    state = state_of(steps_of(w.session, [row])[row.id])
    if state not in ("planned", "configured"):
        raise Refused(f"This deployment is {STATES[state]}; its plan stays as it is.")
    return row


# -- what happens to it


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
    point(w.session, row)
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
    point(w.session, row)
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
    point(w.session, row)
    return Written(str(row.id))


@writes("deployment.cancel", Written)
def cancel(w: Write, *, deployment_id: str, reason: str) -> Written:
    """A plan that is given up before it was started."""
    row = locked(w, deployment_id)
    take_step(w, row, "cancelled", w.now, {"reason": clean_reason(reason)})
    point(w.session, row)
    return Written(str(row.id))
