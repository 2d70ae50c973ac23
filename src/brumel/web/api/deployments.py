"""Deployments for programs: which there are, their records, and the feed of a live logger."""

from __future__ import annotations

import uuid
from datetime import timedelta
from typing import Literal

from flask import request
from pydantic import AwareDatetime, Field

from brumel.core.errors import InputError
from brumel.web.access import desk
from brumel.web.api import models
from brumel.web.api.door import acting, operation
from brumel.web.api.models import Answer, Asked, QuantityKey
from brumel.work.desk import NotFound, object_id
from brumel.work.rounds import deployments as dep
from brumel.work.rounds.deployments import out
from brumel.work.rounds.deployments.watching import MOST_RECORDS
from brumel.work.rounds.deployments.whole import us

#: Values of one answer.
MOST_VALUES = 20_000


class ChannelOf(Answer):
    quantity: str = Field(description="A key of the quantities, or of what is logged beside them, as battery")
    unit: str
    probe_id: uuid.UUID | None


class DeploymentOf(Answer):
    """A logger that is planned, out, or was lifted."""

    id: uuid.UUID
    name: str
    site_id: uuid.UUID
    meter_id: uuid.UUID
    depth_m: float | None
    interval_s: float
    planned_start: AwareDatetime
    planned_end: AwareDatetime
    state: Literal["planned", "configured", "started", "confirmed", "lifted", "cancelled"]
    channels: list[ChannelOf]


class DeploymentList(Answer):
    items: list[DeploymentOf]


class OfRecords(Asked):
    since: AwareDatetime | None = Field(default=None, description="From then on, that moment too")
    until: AwareDatetime | None = Field(default=None, description="Up to then, that moment not")


class RecordOf(Answer):
    at: AwareDatetime
    recorded: float | None
    reported: float | None = Field(description="null where it is not reported")
    flag: int = Field(description=models.FLAGS)
    grade: str = Field(description="excellent, good, fair, poor or doubtful; empty while nothing is signed")
    expanded_uncertainty: float | None


class RecordList(Answer):
    quantity: str
    unit: str
    items: list[RecordOf]
    more_since: AwareDatetime | None = Field(description="Ask on from then; null where that was all")


class NewRecord(Asked):
    at: AwareDatetime
    values: dict[QuantityKey, float] = Field(
        min_length=1, max_length=20, description="By quantity, in the unit of its channel"
    )


class NewRecords(Asked):
    records: list[NewRecord] = Field(min_length=1, max_length=MOST_RECORDS)


class ReceivedRecords(Answer):
    new: int
    there: int = Field(description="Came before with the same values")


@operation("GET", "/deployments", "records", DeploymentList)
def deployments(_: models.Nothing) -> DeploymentList:
    """All deployments, the one planned last first."""
    with desk().read() as session:
        several = dep.deployments(session)
        steps = dep.steps_of(session, several)
        return DeploymentList(
            items=[
                DeploymentOf(
                    id=d.id,
                    name=d.name,
                    site_id=d.site_id,
                    meter_id=d.meter_id,
                    depth_m=d.depth_m,
                    interval_s=d.interval_s,
                    planned_start=d.planned_start,
                    planned_end=d.planned_end,
                    state=dep.state_of(steps[d.id]),
                    channels=[ChannelOf(quantity=c.quantity, unit=c.unit, probe_id=c.probe_id) for c in d.channels],
                )
                for d in several
            ]
        )


@operation("GET", "/deployments/{deployment_id}/records/{quantity}", "records", RecordList, OfRecords)
def deployment_records(asked: OfRecords, deployment_id: str, quantity: str) -> RecordList:
    """A channel's records as recorded and as reported, the oldest first."""
    with desk().read() as session:
        whole = dep.whole_of(session, dep.deployment_of(session, deployment_id))
        channel = dep.channel_of(whole.deployment, quantity)
        until = us(asked.until - timedelta(microseconds=1)) if asked.until else None
        told = dep.reported(session, whole, channel, us(asked.since) if asked.since else None, until)
        rows, more = list[RecordOf](), None
        for at, (cell,) in out.rows([out.ChannelOut(channel, told, "", "")]):
            if len(rows) == MOST_VALUES:
                more = at
                break
            if cell is not None:
                row = RecordOf(
                    at=at,
                    recorded=cell.recorded,
                    reported=cell.reported,
                    flag=cell.flag,
                    grade=cell.grade,
                    expanded_uncertainty=cell.u,
                )
                rows.append(row)
        return RecordList(quantity=quantity, unit=channel.unit, items=rows, more_since=more)


@operation("POST", "/deployments/{deployment_id}/records", "loggers", ReceivedRecords, body=NewRecords)
def send_records(_: models.Nothing, sent: NewRecords, deployment_id: str) -> ReceivedRecords:
    """Records of a live logger, each once: one that came before with the same values is passed over."""
    try:
        key = object_id(request.headers.get("Idempotency-Key", "").strip(), "key")
    except NotFound:
        raise InputError(
            "Idempotency-Key", "Send a UUID made for this one write in the header Idempotency-Key."
        ) from None
    records = [dep.SentRecord(r.at, dict(r.values)) for r in sent.records]
    came = dep.receive(desk(), acting(), key, deployment_id=deployment_id, records=records)
    return ReceivedRecords(new=came.new, there=came.there)
