"""Service visits of a deployment: what was read before and after cleaning, in standards, and what was done and found."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.deployed.service import ServiceErrors, ServiceReading, Standard, error_line
from brumel.core.deployed.service import service_errors as worked_errors
from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import say
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Channel, Deployment, Service
from brumel.work.desk import MovedOn, NotFound, Refused, Write, Written, clean_reason, object_id, writes
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.deployments.plan import STATES, locked, state_of, steps_of, take_step
from brumel.work.rounds.sheet import entry, photos

OLDEST = timedelta(days=30)
RESETS = {"": "nothing was set", "calibrated": "calibrated again", "swapped": "swapped for another probe"}
_PLAIN = ("before", "after", "beside_before", "beside_after")


@dataclass(frozen=True)
class ChannelService:
    """What was read of one channel; `reset` is a key of RESETS, `probe_id` the probe it was swapped for."""

    read: ServiceReading
    reset: str = ""
    probe_id: str = ""

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        r = self.read
        plain = {name: getattr(r, name) for name in _PLAIN if getattr(r, name) is not None}
        several = {
            name: [[s.read, s.value] for s in getattr(r, name)] for name in ("standards", "reset") if getattr(r, name)
        }
        if "reset" in several:
            several["reset_standards"] = several.pop("reset")
        return {**plain, **several, **({"was": self.reset, "probe_id": self.probe_id} if self.reset else {})}

    @classmethod
    def restored(cls, body: Mapping[str, Any]) -> ChannelService:
        """The inverse of `as_dict`."""
        standards, reset = (
            tuple(Standard(*pair) for pair in body.get(name, ())) for name in ("standards", "reset_standards")
        )
        plain = {name: body.get(name) for name in _PLAIN}
        read = ServiceReading(**plain, standards=standards, reset=reset, was_reset=bool(body.get("was")))
        return cls(read, body.get("was", ""), body.get("probe_id", ""))


@dataclass(frozen=True)
class ServiceVisit:
    """A service visit as it was noted at the water.

    at, back_at : when it came out of the water, and when it was back; the two are one where it was lifted for good
    logger_at, true_at : its clock and the time, read together; clock_set : whether it was set right then
    battery, memory : what is used [%]
    by_channel : by quantity; seen : whether its first record after the visit was seen
    """

    at: datetime
    back_at: datetime | None
    by_channel: Mapping[str, ChannelService]
    found: str = ""
    done: str = ""
    logger_at: datetime | None = None
    true_at: datetime | None = None
    clock_set: bool = False
    battery_percent: float | None = None
    memory_percent: float | None = None
    seen: bool = False
    lifts: bool = False
    outing_id: str = ""
    photos: Sequence[tuple[str, bytes]] = field(default=())


def service_of(session: Session, service_id: str | uuid.UUID) -> Service:
    """One service visit as it stands, by the id of any of its versions or its own."""
    key = object_id(service_id, "service visit")
    row = session.get(Service, key)
    root = row.root_id if row else key
    newest = session.scalar(select(Service).where(Service.root_id == root).order_by(Service.version.desc()).limit(1))
    if newest is None:
        raise NotFound("There is no such service visit.")
    return newest


def services_of(session: Session, deployment_ids: Sequence[uuid.UUID]) -> list[Service]:
    """The service visits of deployments as they stand, in time order."""
    newest = select(Service.root_id, func.max(Service.version)).group_by(Service.root_id)
    query = select(Service).where(Service.deployment_id.in_(deployment_ids))
    standing = {
        (root, version) for root, version in session.execute(newest.where(Service.deployment_id.in_(deployment_ids)))
    }
    return sorted((s for s in session.scalars(query) if (s.root_id, s.version) in standing), key=lambda s: s.at)


def versions_of(session: Session, service: Service) -> list[Service]:
    """All versions of a service visit, the newest first."""
    query = select(Service).where(Service.root_id == service.root_id)
    return list(session.scalars(query.order_by(Service.version.desc())))


def reading_of(service: Service, quantity: str) -> ChannelService | None:
    """What a visit read of a channel; None where it read nothing of it."""
    body = service.body.get("channels", {}).get(quantity)
    return ChannelService.restored(body) if body else None


def errors_of(service: Service, channel: Channel, level: float) -> ServiceErrors | None:
    """What a visit says of a channel; None for a channel without checks, or where nothing of it was read."""
    criteria = channels.criteria(channel.quantity)
    told = reading_of(service, channel.quantity)
    return worked_errors(told.read, criteria, level) if criteria and told else None


def back_at(service: Service) -> datetime:
    """When the logger was back in the water; when it came out, where it was lifted for good."""
    text = service.body.get("back_at")
    return datetime.fromisoformat(text) if text else service.at


def _faults(d: Deployment, visit: ServiceVisit, now: datetime) -> list[InputError]:
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
    if visit.at < now - OLDEST:
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
            *(getattr(told.read, n) for n in _PLAIN),
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
    faults = _faults(d, visit, w.now)
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
    elif visit.seen and state == "started":
        take_step(w, d, "confirmed", visit.back_at or visit.at, {"count": 1, "first_at": visit.at.isoformat()})
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
        "channels": {q: told.as_dict() for q, told in visit.by_channel.items() if told.as_dict()},
    }


# -- when to come again


@dataclass(frozen=True)
class NextVisit:
    """When the next visit should be, and why, in words; overdue by `now` where it lies before."""

    at: datetime
    why: str


def next_visit(d: Deployment, since: datetime, services: Sequence[Service], stops_at: datetime | None) -> NextVisit:
    """The next visit of a logger that is out, from how fast it has fouled and drifted so far.

    since : when it was set out; stops_at : when its memory is full or its battery flat. The rate is that of the worst
    channel in the worst interval; without any check it is the first visit's days. Source: the criterion of USGS-TM1D3.
    """
    spec = load_deployments().visits
    last = back_at(services[-1]) if services else since
    days, why = spec.first_days, "nothing is known yet of how it fouls"
    begins, rates = since, list[tuple[float, str]]()
    for service in services:
        span_d = max((service.at - begins).total_seconds() / 86_400, 0.5)
        begins = back_at(service)
        for c in d.channels:
            told = reading_of(service, c.quantity)
            level = told.read.after if told and told.read.after is not None else 1.0
            errors = errors_of(service, c, level)
            if errors is not None and errors.is_checked and errors.allowed > 0:
                rates.append((errors.size / errors.allowed / span_d, c.quantity))
    if rates:
        rate, quantity = max(rates)
        days = spec.share / rate if rate > 0 else spec.latest_days
        why = say(
            "by then {quantity} will be off by its criterion, going by the visits so far",
            quantity=channels.title(quantity).lower(),
        )
        if days > spec.latest_days:
            why = say("it has hardly fouled; no longer than {n:.0f} days all the same", n=spec.latest_days)
        days = min(max(days, spec.soonest_days), spec.latest_days)
    at = last + timedelta(days=days)
    if stops_at is not None and stops_at - timedelta(days=1) < at:
        at, why = stops_at - timedelta(days=1), "its memory is full or its battery flat the day after"
    if d.planned_end < at:
        at, why = d.planned_end, "its planned end: lift it"
    return NextVisit(at, why)
