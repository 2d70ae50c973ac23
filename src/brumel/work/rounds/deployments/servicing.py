"""Service visits written down: checked, put on a visit to the site, corrected in versions."""

from __future__ import annotations

import uuid
from dataclasses import replace
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy.orm import Session

from brumel.core.deployed.service import error_line
from brumel.core.deployed.service import service_errors as worked_errors
from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import say
from brumel.store.deployments import Deployment, Service
from brumel.store.tables import Lot
from brumel.work import kit
from brumel.work.desk import MovedOn, NotFound, Refused, Write, Written, clean_reason, object_id, writes
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.deployments.plan import STATES, locked, state_of, steps_of, take_step
from brumel.work.rounds.deployments.pointing import point
from brumel.work.rounds.deployments.visits import (
    PLAIN,
    RESETS,
    ChannelService,
    ServiceVisit,
    back_at,
    service_of,
    services_of,
)
from brumel.work.rounds.deployments.watching import alarms
from brumel.work.rounds.sheet import entry, photos

OLDEST = timedelta(days=30)


def _faults(d: Deployment, visit: ServiceVisit, now: datetime, *, is_late: bool) -> list[InputError]:
    """What cannot be so; `is_late` where it may be of long ago: what the lead writes, and what is corrected."""
    faults = list[InputError]()
    for name, at in (
        ("at", visit.at),
        ("back_at", visit.back_at),
        ("logger_at", visit.logger_at),
        ("true_at", visit.true_at),
    ):
        if at is not None and (at.tzinfo is None or not 2000 <= at.year <= 2100):
            faults.append(InputError(name, "A time of the visit lies outside the calendar. Is the clock right?"))
            return faults
    if visit.at > now + timedelta(minutes=5):
        faults.append(
            InputError("at", say("The visit is of {at}, which is in the future. Is the clock right?", at=visit.at))
        )
    if not is_late and visit.at < now - OLDEST:
        faults.append(
            InputError("at", say("The visit is of {at}, over {n} days ago; ask the lead.", at=visit.at, n=OLDEST.days))
        )
    if not visit.lifts and visit.back_at is None:
        faults.append(InputError("back_at", "When was it back in the water? Or say that it was lifted for good."))
    if visit.back_at is not None and not timedelta(0) <= visit.back_at - visit.at <= timedelta(days=2):
        faults.append(InputError("back_at", "It was back in the water after it came out, within two days."))
    if (visit.logger_at is None) != (visit.true_at is None):
        faults.append(InputError("logger_at", "The logger's clock and the time are read together."))
    for name, value in (("battery_percent", visit.battery_percent), ("memory_percent", visit.memory_percent)):
        if value is not None and not 0 <= value <= 100:
            faults.append(InputError(name, f"{name.split('_')[0].title()} is a share from 0 to 100 %.", value=value))
    recorded = {c.quantity for c in d.channels}
    for quantity, told in visit.by_channel.items():
        faults += _of_channel(quantity, told, recorded)
    return faults


def _known(session: Session, d: Deployment, visit: ServiceVisit) -> None:
    """Raises NotFound for a meter, a lot or a probe that is none; Refused where the logger would check itself."""
    if visit.beside_id and kit.meter_of(session, visit.beside_id).id == d.meter_id:
        raise Refused(f"{d.meter.name} is the logger itself; the checking instrument is another.")
    for told in visit.by_channel.values():
        for lot in filter(None, told.lots):
            if session.get(Lot, object_id(lot, "lot")) is None:
                raise NotFound("There is no such lot.")
        if told.probe_id:
            kit.probe_of(session, told.probe_id)


def _of_channel(quantity: str, told: ChannelService, recorded: set[str]) -> list[InputError]:
    if quantity not in recorded:
        return [InputError("channel", f"The logger does not record “{quantity[:40]}”.")]
    criteria = channels.criteria(quantity)
    if criteria is None:
        return [InputError("channel", f"{channels.title(quantity)} has no checks of its own.")]
    if told.reset not in RESETS:
        return [InputError("reset", f"{channels.title(quantity)}: it was calibrated again, swapped, or neither.")]
    faults = list[InputError]()
    if told.read.reset and not told.reset:
        faults.append(InputError("reset", "Standards were read again; say whether it was calibrated or swapped."))
    try:
        for several in (told.read.standards, told.read.reset):
            error_line(several, gain=criteria.relative)
        low, high = channels.span(quantity)
        for value in (
            *(getattr(told.read, n) for n in PLAIN),
            *(s.value for s in (*told.read.standards, *told.read.reset)),
        ):
            if value is not None and not low - abs(low) <= value <= high:
                raise InputError("value", f"{value:.6g} is nothing an instrument shows.", value=value)
        worked_errors(told.read, criteria, told.read.after or 1.0)
    except InputError as error:
        faults += [
            InputError(f"{quantity}_{f.field}", f"{channels.title(quantity)}: {f}", value=f.value) for f in error.faults
        ]
    return faults


@writes("deployment.service", Written)
def record(
    w: Write, *, deployment_id: str, visit: ServiceVisit, service_id: str = "", reason: str = "", version: int = 0
) -> Written:
    """A service visit as it was, or a correction of one with a reason: a new version, never over the old one.

    It goes on a visit to the site of its own, which takes its photos. Raises every fault at once; Refused where the logger
    was not out, MovedOn where it was corrected in another window.
    """
    d = locked(w, deployment_id)
    faults = _faults(d, visit, w.now, is_late=bool(service_id) or w.actor.role == "lead")
    _known(w.session, d, visit)
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    steps = steps_of(w.session, [d])[d.id]
    state = state_of(steps)
    if "started" not in steps:
        raise Refused(f"This deployment is {STATES[state]}; it is visited once it is out.")
    if visit.at < steps["started"].at:
        raise InputError("at", say("It was set out on {at}; the visit cannot be of before.", at=steps["started"].at))
    old = service_of(w.session, service_id) if service_id else None
    if old is None and "lifted" in steps:
        raise Refused("It was lifted meanwhile; what was read belongs on the visit that lifted it.")
    if old is not None and (old.deployment_id != d.id or old.version != version):
        raise MovedOn("This visit was corrected in another window. You now see it.")
    if old is not None and bool(old.body.get("lifts")) != visit.lifts:
        raise InputError("lifts", "Whether a visit lifted the logger stays as it was kept.")
    _in_its_place(w.session, d, visit, old)
    row = Service(
        id=uuid.uuid4(),
        root_id=old.root_id if old else uuid.uuid4(),
        version=old.version + 1 if old else 1,
        deployment_id=d.id,
        visit_id=old.visit_id if old else _site_visit(w, d, visit),
        at=visit.at,
        body=_body(visit),
        reason=clean_reason(reason, required=old is not None),
        written_at=w.written,
        by_id=w.actor.id,
    )
    w.session.add(row)
    w.session.flush()
    w.record(f"deployment:{d.id}", {"service": str(row.root_id), "version": row.version})
    if visit.lifts and "lifted" not in steps:
        take_step(w, d, "lifted", visit.at, {"service": str(row.root_id)})
        for alarm in alarms(w.session, d.id):  # nobody watches a logger that is out of the water
            alarm.ended_at = w.now
    elif visit.seen and state == "started":
        take_step(w, d, "confirmed", visit.back_at or visit.at, {"count": 1, "first_at": visit.at.isoformat()})
    point(w.session, d)
    return Written(str(row.root_id))


def _in_its_place(session: Session, d: Deployment, visit: ServiceVisit, old: Service | None) -> None:
    for other in services_of(session, [d.id]):
        if old is not None and other.root_id == old.root_id:
            continue
        if other.at <= visit.at <= back_at(other) or visit.at <= other.at <= (visit.back_at or visit.at):
            raise InputError("at", say("Another service of this logger is of {at}.", at=other.at))


def _site_visit(w: Write, d: Deployment, visit: ServiceVisit) -> uuid.UUID | None:
    """The visit to the site that goes with it: its photos and what was read beside the logger belong there."""
    probes = [str(c.probe_id) for c in d.channels if c.probe is not None and c.probe.retired_at is None]
    if not probes or d.site.retired_at is not None:
        return None
    begun = replace(w, now=visit.at)
    sheet = entry.open_visit(begun, str(d.site_id), probes, "typed", visit.outing_id)
    words = " ".join(filter(None, (f"Service of the logger “{d.name}”.", visit.found, visit.done)))
    entry.say_on(begun, str(sheet.id), note=words[:2000])
    for name, data in visit.photos:
        photos.put_on(begun, sheet, name, data)
    return sheet.id


def _body(visit: ServiceVisit) -> dict[str, Any]:
    def text(at: datetime | None) -> str | None:
        return at.isoformat() if at else None

    return {
        "back_at": text(visit.back_at),
        "found": " ".join(visit.found.split())[:1000],
        "done": " ".join(visit.done.split())[:1000],
        "clock": {"logger": text(visit.logger_at), "true": text(visit.true_at), "set": visit.clock_set}
        if visit.logger_at
        else None,
        "battery_percent": visit.battery_percent,
        "memory_percent": visit.memory_percent,
        "seen": visit.seen,
        "lifts": visit.lifts,
        "beside_id": visit.beside_id,
        "channels": {q: told.as_dict() for q, told in visit.by_channel.items() if told.as_dict()},
    }
