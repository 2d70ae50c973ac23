"""Service visits of a deployment: what was read before and after cleaning, in standards, and what was done and found."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.deployed.service import ServiceErrors, ServiceReading, Standard
from brumel.core.deployed.service import service_errors as worked_errors
from brumel.core.sentence import say
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Channel, Deployment, Service
from brumel.work.desk import NotFound, object_id
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.deployments.plan import lasts

RESETS = {"": "nothing was set", "calibrated": "calibrated again", "swapped": "swapped for another probe"}
PLAIN = ("before", "after", "beside_before", "beside_after")


@dataclass(frozen=True)
class ChannelService:
    """What was read of one channel.

    reset : a key of RESETS; probe_id : the probe it was swapped for; lots : ids of the standards' lots, "" for one not named
    """

    read: ServiceReading
    reset: str = ""
    probe_id: str = ""
    lots: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        r = self.read
        plain = {name: getattr(r, name) for name in PLAIN if getattr(r, name) is not None}
        several = {
            name: [[s.read, s.value] for s in getattr(r, name)] for name in ("standards", "reset") if getattr(r, name)
        }
        if "reset" in several:
            several["reset_standards"] = several.pop("reset")
        done = {"was": self.reset, "probe_id": self.probe_id} if self.reset else {}
        return {**plain, **several, **done, **({"lots": list(self.lots)} if any(self.lots) else {})}

    @classmethod
    def restored(cls, body: Mapping[str, Any]) -> ChannelService:
        """The inverse of `as_dict`."""
        standards, reset = (
            tuple(Standard(*pair) for pair in body.get(name, ())) for name in ("standards", "reset_standards")
        )
        plain = {name: body.get(name) for name in PLAIN}
        read = ServiceReading(**plain, standards=standards, reset=reset, was_reset=bool(body.get("was")))
        return cls(read, body.get("was", ""), body.get("probe_id", ""), tuple(body.get("lots", ())))


@dataclass(frozen=True)
class ServiceVisit:
    """A service visit as it was noted at the water.

    at, back_at : when it came out of the water, and when it was back; the two are one where it was lifted for good
    logger_at, true_at : its clock and the time, read together; clock_set : whether it was set right then
    battery, memory : what is used [%]
    by_channel : by quantity; seen : whether its first record after the visit was seen
    beside_id : the checking instrument, a meter's id, empty where it is not named
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
    beside_id: str = ""
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
    query = select(Service).where(Service.deployment_id.in_(deployment_ids))
    newest = query.distinct(Service.root_id).order_by(Service.root_id, Service.version.desc())
    return sorted(session.scalars(newest), key=lambda s: s.at)


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


def level_read(told: ChannelService) -> float:
    """The level a channel was read at, where no record says it: in the water when cleaned, else in the first standard."""
    if told.read.after is not None:
        return told.read.after
    return next((s.value for s in told.read.standards), 1.0)


def found_by(service: Service, d: Deployment) -> list[tuple[Channel, ServiceErrors]]:
    """What a visit says of each channel it checked, at the level it was read at."""
    found = []
    for c in d.channels:
        told = reading_of(service, c.quantity)
        errors = errors_of(service, c, level_read(told)) if told else None
        if errors is not None and errors.is_checked:
            found.append((c, errors))
    return found


def back_at(service: Service) -> datetime:
    """When the logger was back in the water; when it came out, where it was lifted for good."""
    text = service.body.get("back_at")
    return datetime.fromisoformat(text) if text else service.at


# -- when to come again


@dataclass(frozen=True)
class NextVisit:
    """When the next visit should be, and why, in words; overdue by `now` where it lies before."""

    at: datetime
    why: str


def stops_at(d: Deployment, since: datetime, services: Sequence[Service]) -> datetime | None:
    """When its memory is full or its battery flat, counted from the last visit, else from when it was set out."""
    days = lasts(d).first_d
    return (back_at(services[-1]) if services else since) + timedelta(days=days) if days is not None else None


def next_visit(d: Deployment, since: datetime, services: Sequence[Service]) -> NextVisit:
    """The next visit of a logger that is out, from how fast it has fouled and drifted so far.

    since : when it was set out. The rate is that of the worst channel in the worst
    interval; without any check it is the first visit's days. Source: the criterion of USGS-TM1D3.
    """
    spec = load_deployments().visits
    last = back_at(services[-1]) if services else since
    days, why = spec.first_days, "nothing is known yet of how it fouls"
    begins, rates = since, list[tuple[float, str]]()
    for service in services:
        span_d = max((service.at - begins).total_seconds() / 86_400, 0.5)
        begins = back_at(service)
        for c, errors in found_by(service, d):
            if errors.allowed > 0:
                rates.append((errors.size / errors.allowed / span_d, c.quantity))
    if rates:
        rate, quantity = max(rates)
        days = spec.share / rate if rate > 0 else spec.latest_days
        why = say(
            "by then {quantity} will be off by its criterion, going by the visits so far",
            quantity=channels.words(quantity),
        )
        if days > spec.latest_days:
            why = say("it has hardly fouled; no longer than {n:.0f} days all the same", n=spec.latest_days)
        days = min(max(days, spec.soonest_days), spec.latest_days)
    at = last + timedelta(days=days)
    stops = stops_at(d, since, services)
    if stops is not None and stops - timedelta(days=1) < at:
        at, why = stops - timedelta(days=1), "its memory is full or its battery flat the day after"
    if d.planned_end < at:
        at, why = d.planned_end, "its planned end: lift it"
    return NextVisit(at, why)
