"""The tables of deployments: the plan, what happened to it, service visits, files and their values, corrections, a feed."""

from __future__ import annotations

import uuid
from datetime import datetime

from sqlalchemy import ARRAY, CheckConstraint, Float, ForeignKey, Index, SmallInteger, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.tables import Base, Json, Meter, Probe, Site, User, Uuid


class Deployment(Base):
    """A logger that is to be left at a site: where, how deep, how often it records, what it holds, for how long.

    state, next_at, next_words : where it stands and what is next, kept right with each write
    interval_s [s], depth_m [m], memory_records [1], battery_days [d]; oxygen_set : {salinity, pressure_hpa} that the logger
    works oxygen out with
    """

    __tablename__ = "deployments"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"), index=True)
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"), index=True)
    name: Mapped[str]
    depth_m: Mapped[float | None]
    interval_s: Mapped[float]
    memory_records: Mapped[float | None]
    battery_days: Mapped[float | None]
    planned_start: Mapped[datetime]
    planned_end: Mapped[datetime]
    oxygen_set: Mapped[Json] = mapped_column(default=dict)
    note: Mapped[str] = mapped_column(default="")
    state: Mapped[str] = mapped_column(default="planned")
    next_at: Mapped[datetime | None]
    next_words: Mapped[Json] = mapped_column(default=dict)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    site: Mapped[Site] = relationship(lazy="joined")
    meter: Mapped[Meter] = relationship(lazy="joined")
    channels: Mapped[list[Channel]] = relationship(lazy="selectin", order_by="Channel.place")


class Channel(Base):
    """One quantity a deployed logger records, in the unit of the record, and by which probe."""

    __tablename__ = "deployment_channels"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    deployment_id: Mapped[Uuid] = mapped_column(ForeignKey("deployments.id"), index=True)
    place: Mapped[int] = mapped_column(SmallInteger)
    quantity: Mapped[str]
    unit: Mapped[str]
    probe_id: Mapped[Uuid | None] = mapped_column(ForeignKey("probes.id"))
    probe: Mapped[Probe | None] = relationship(lazy="joined")
    __table_args__ = (
        UniqueConstraint("deployment_id", "quantity", name="deployment_channels_one_quantity"),
        UniqueConstraint("deployment_id", "place", name="deployment_channels_one_place"),
    )


class DeploymentStep(Base):
    """What happened to a deployment. `kind` is "configured", "started", "confirmed", "lifted" or "cancelled"."""

    __tablename__ = "deployment_steps"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    deployment_id: Mapped[Uuid] = mapped_column(ForeignKey("deployments.id"))
    kind: Mapped[str]
    at: Mapped[datetime]
    body: Mapped[Json]
    written_at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (
        UniqueConstraint("deployment_id", "kind", name="deployment_steps_once"),
        CheckConstraint(
            "kind in ('configured', 'started', 'confirmed', 'lifted', 'cancelled')", name="deployment_steps_kind"
        ),
    )


class Service(Base):
    """A service visit, in versions; the highest stands. `visit_id` is the site's visit that has its photos and readings."""

    __tablename__ = "deployment_services"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    root_id: Mapped[Uuid]
    version: Mapped[int]
    deployment_id: Mapped[Uuid] = mapped_column(ForeignKey("deployments.id"), index=True)
    visit_id: Mapped[Uuid | None] = mapped_column(ForeignKey("visits.id"))
    at: Mapped[datetime]
    body: Mapped[Json]
    reason: Mapped[str] = mapped_column(default="")
    written_at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("root_id", "version", name="deployment_services_one_version"),)


class LoggerFile(Base):
    """A file of a logger as it came, packed with gzip. One file comes once to a deployment while it is not withdrawn."""

    __tablename__ = "deployment_files"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    deployment_id: Mapped[Uuid] = mapped_column(ForeignKey("deployments.id"), index=True)
    name: Mapped[str]
    sha256: Mapped[str]
    size: Mapped[int]
    body: Mapped[bytes] = mapped_column(deferred=True)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")


class FileIntake(Base):
    """How a file was read, and what came of it: its shape, its clock, and how many rows were new, there already, or none."""

    __tablename__ = "deployment_intakes"
    file_id: Mapped[Uuid] = mapped_column(ForeignKey("deployment_files.id"), primary_key=True)
    shape: Mapped[Json]
    clock: Mapped[Json]
    told: Mapped[Json]
    starts: Mapped[datetime]
    ends: Mapped[datetime]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class FileEnd(Base):
    """A wrong file, withdrawn: kept and readable, counted nowhere."""

    __tablename__ = "deployment_file_ends"
    file_id: Mapped[Uuid] = mapped_column(ForeignKey("deployment_files.id"), primary_key=True)
    reason: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")


class Block(Base):
    """Some thousand values of one channel of one file in time order, as `work.rounds.deployments.blocks` packs them.

    starts, ends : by the time put right; low, high : of values that did not fail a test, None where all did
    samples : times, values and flags; parts : the least and greatest value of each 64 of them
    """

    __tablename__ = "deployment_blocks"
    file_id: Mapped[Uuid] = mapped_column(ForeignKey("deployment_files.id"), primary_key=True)
    channel_id: Mapped[Uuid] = mapped_column(ForeignKey("deployment_channels.id"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    starts: Mapped[datetime]
    ends: Mapped[datetime]
    count: Mapped[int]
    odd: Mapped[int]
    low: Mapped[float | None]
    high: Mapped[float | None]
    parts: Mapped[bytes] = mapped_column(deferred=True)
    samples: Mapped[bytes] = mapped_column(deferred=True)
    __table_args__ = (Index("deployment_blocks_by_time", "channel_id", "starts"),)


class Correction(Base):
    """A channel's correction by the lead, in versions; the highest stands. `body` holds its intervals and the working."""

    __tablename__ = "deployment_corrections"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    channel_id: Mapped[Uuid] = mapped_column(ForeignKey("deployment_channels.id"))
    version: Mapped[int]
    body: Mapped[Json]
    reason: Mapped[str]
    signed_name: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("channel_id", "version", name="deployment_corrections_one_version"),)


class Mark(Base):
    """A stretch of a channel's record that the lead has flagged, with a word why."""

    __tablename__ = "deployment_marks"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    channel_id: Mapped[Uuid] = mapped_column(ForeignKey("deployment_channels.id"), index=True)
    starts: Mapped[datetime]
    ends: Mapped[datetime]
    flag: Mapped[int] = mapped_column(SmallInteger)
    words: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")


class MarkEnd(Base):
    """A mark that was taken off again, and why."""

    __tablename__ = "deployment_mark_ends"
    mark_id: Mapped[Uuid] = mapped_column(ForeignKey("deployment_marks.id"), primary_key=True)
    reason: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class FeedRecord(Base):
    """A record a live logger sent: its values in the places of the channels, None where it sent none."""

    __tablename__ = "deployment_records"
    deployment_id: Mapped[Uuid] = mapped_column(ForeignKey("deployments.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    values: Mapped[list[float | None]] = mapped_column(ARRAY(Float))
    came_at: Mapped[datetime]


class Alarm(Base):
    """What a live logger's watch has noticed. `ended_at` is when it passed; `seen_at` when somebody said it was seen to.

    kind : "silent", "flat", "drift" or "limit"; words : a sentence's template with its values
    """

    __tablename__ = "deployment_alarms"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    deployment_id: Mapped[Uuid] = mapped_column(ForeignKey("deployments.id"))
    channel_id: Mapped[Uuid | None] = mapped_column(ForeignKey("deployment_channels.id"))
    kind: Mapped[str]
    at: Mapped[datetime]
    words: Mapped[Json]
    seen_at: Mapped[datetime | None]
    seen_by_id: Mapped[Uuid | None] = mapped_column(ForeignKey("users.id"))
    seen_by: Mapped[User | None] = relationship(lazy="joined")
    ended_at: Mapped[datetime | None]
    deployment: Mapped[Deployment] = relationship(lazy="joined")
    __table_args__ = (
        Index(
            "deployment_alarms_one_open",
            "deployment_id",
            text("coalesce(channel_id, deployment_id)"),
            "kind",
            unique=True,
            postgresql_where=text("ended_at is null"),
        ),
    )
