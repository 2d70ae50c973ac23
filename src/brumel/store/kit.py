"""The tables of kit: people, meters, probes and what is done to them, solutions, counts, methods."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, CheckConstraint, ForeignKey, Identity, Index, UniqueConstraint, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid, uuid_key
from brumel.store.typed_json import LotMeasure, TypedJson


class User(Base):
    """A person who signs in. `stamp` changes with the password, so old sessions end; `units` are those of their pages.

    `totp_secret` is the seed of their second factor, empty where they have none; `totp_step` the last step that was used.
    """

    __tablename__ = "users"
    id: Mapped[Uuid] = uuid_key()
    username: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    role: Mapped[str] = mapped_column(
        CheckConstraint("role in ('technician', 'lead', 'auditor', 'client')", name="users_role")
    )
    password_hash: Mapped[str]
    stamp: Mapped[str]
    totp_secret: Mapped[str] = mapped_column(default="")
    totp_step: Mapped[int] = mapped_column(BigInteger, default=0)
    active: Mapped[bool] = mapped_column(default=True)
    created_at: Mapped[datetime]
    units: Mapped[Json] = mapped_column(default=dict)
    #: whether they were shown round: empty until they began the tour or did without it
    tour: Mapped[str] = mapped_column(default="")
    #: whose waters a person of a client may look at; empty for the practice's own people
    client_id: Mapped[Uuid | None] = mapped_column(ForeignKey("clients.id", use_alter=True))
    __table_args__ = (CheckConstraint("(role = 'client') = (client_id is not null)", name="users_of_clients"),)


class Meter(Base):
    """A meter; `link` says how readings come: typed, from the simulated meter, or by the link program ("sdi12")."""

    __tablename__ = "meters"
    id: Mapped[Uuid] = uuid_key()
    name: Mapped[str]
    serial: Mapped[str]
    link: Mapped[str] = mapped_column(CheckConstraint("link in ('typed', 'simulated', 'sdi12')", name="meters_link"))
    description: Mapped[str] = mapped_column(default="")
    firmware: Mapped[str] = mapped_column(default="")
    battery: Mapped[str] = mapped_column(default="")
    token_hash: Mapped[str] = mapped_column(default="")
    retired_at: Mapped[datetime | None]
    __table_args__ = (Index("meters_one_name", "name", unique=True, postgresql_where=text("retired_at is null")),)


class Probe(Base):
    """A probe measures one quantity and has its own life.

    Its record wins over the method: `waits` {maintenance: hours}, `intervals` {maintenance: days}, `limits` {name: value},
    `storage`. `nominal` is a cell's constant [1/cm]; `address` its place on the meter's link; `measures` says of a chlorine
    tip whether it is "free" or "total".
    """

    __tablename__ = "probes"
    id: Mapped[Uuid] = uuid_key()
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    name: Mapped[str]
    serial: Mapped[str]
    quantity: Mapped[str]
    kind: Mapped[str] = mapped_column(default="")
    cable_m: Mapped[float | None]
    nominal: Mapped[float | None]
    reference_electrode: Mapped[str] = mapped_column(default="")
    storage: Mapped[str] = mapped_column(default="")
    address: Mapped[str] = mapped_column(default="")
    measures: Mapped[str] = mapped_column(default="")
    in_service: Mapped[datetime]
    retired_at: Mapped[datetime | None]
    note: Mapped[str] = mapped_column(default="")
    waits: Mapped[Json] = mapped_column(default=dict)
    intervals: Mapped[Json] = mapped_column(default=dict)
    limits: Mapped[Json] = mapped_column(default=dict)
    #: which values of its address are its own, {how, signal, temperature}; empty where the first two are
    link_values: Mapped[Json] = mapped_column(default=dict)
    meter: Mapped[Meter] = relationship(lazy="joined")
    __table_args__ = (
        Index("probes_one_name", "name", unique=True, postgresql_where=text("retired_at is null")),
        Index(
            "probes_one_place",
            "meter_id",
            "address",
            text("coalesce((link_values->>'signal')::int, 1)"),
            unique=True,
            postgresql_where=text("retired_at is null and address <> ''"),
        ),
    )

    @property
    def link_place(self) -> str:
        """Where its samples come from on the link: its address, and the number of its signal where it is not the first."""
        signal = self.link_values.get("signal", 1)
        return self.address if not self.address or signal == 1 else f"{self.address}.{signal}"

    @property
    def reads(self) -> str:
        """What its readings are of: its quantity, or total chlorine where a chlorine tip measures that."""
        return "total_chlorine" if self.measures == "total" else self.quantity


class ProbeInstallation(Base):
    """The probe was fitted to a meter; the newest row says where it is now."""

    __tablename__ = "probe_installations"
    id: Mapped[Uuid] = uuid_key()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"), index=True)
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    at: Mapped[datetime]
    reason: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    meter: Mapped[Meter] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")


class MeterSettings(Base):
    """A meter's settings as they were seen; `changes` against the one before, acknowledged with a reason."""

    __tablename__ = "meter_settings"
    id: Mapped[Uuid] = uuid_key()
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    at: Mapped[datetime]
    settings: Mapped[Json]
    changes: Mapped[list[Any]]
    reason: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("meter_settings_by_meter", "meter_id", "at"),)


class Inspection(Base):
    """A probe inspected: findings by item; one that blocks keeps it off Bench until a later, clean look."""

    __tablename__ = "inspections"
    id: Mapped[Uuid] = uuid_key()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    at: Mapped[datetime]
    findings: Mapped[Json]
    blocks: Mapped[bool]
    note: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("inspections_by_probe", "probe_id", "at"),)


class Maintenance(Base):
    """Something done to a probe, and until when it must not be calibrated; `answers` {question: what was seen on the way}."""

    __tablename__ = "maintenance"
    id: Mapped[Uuid] = uuid_key()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    what: Mapped[str]
    at: Mapped[datetime]
    ready_at: Mapped[datetime]
    note: Mapped[str] = mapped_column(default="")
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    answers: Mapped[Json] = mapped_column(default=dict)
    __table_args__ = (Index("maintenance_by_probe", "probe_id", "at"),)


class StorageRecord(Base):
    """Where a probe was put away, by a key of the care book's places; the newest row says where it stands."""

    __tablename__ = "storage_records"
    id: Mapped[Uuid] = uuid_key()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    place: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("storage_records_by_probe", "probe_id", "at"),)


class Lot(Base):
    """A solution by lot. `measures` {quantity: {family, label, u, ...}} says what it is a standard of; a label wins.

    `parent_id` is the bottle an aliquot was filled from; `traceable_to` is what its certificate says, empty where none does.
    """

    __tablename__ = "lots"
    id: Mapped[Uuid] = uuid_key()
    code: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    measures: Mapped[dict[str, LotMeasure]] = mapped_column(TypedJson(dict[str, LotMeasure]))
    container: Mapped[str] = mapped_column(default="bottle")
    expires_on: Mapped[datetime]
    opened_at: Mapped[datetime | None]
    open_days: Mapped[int]
    single_use: Mapped[bool] = mapped_column(default=False)
    discarded_at: Mapped[datetime | None]
    traceable_to: Mapped[str] = mapped_column(default="")
    parent_id: Mapped[Uuid | None] = mapped_column(ForeignKey("lots.id"))
    parent: Mapped[Lot | None] = relationship(remote_side=[id], lazy="joined", join_depth=1)


class Count(Base):
    """How much there was of a lot [mL, or pieces of what is for a single use] or of a spare, counted by hand."""

    __tablename__ = "counts"
    id: Mapped[Uuid] = uuid_key()
    lot_id: Mapped[Uuid | None] = mapped_column(ForeignKey("lots.id"))
    spare: Mapped[str] = mapped_column(default="")
    amount: Mapped[float]
    reason: Mapped[str] = mapped_column(default="")
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    __table_args__ = (
        CheckConstraint("(lot_id is null) <> (spare = '')", name="counts_of_one_thing"),
        Index("counts_by_lot", "lot_id", "at"),
        Index("counts_by_spare", "spare", "at"),
    )


class SpareUse(Base):
    """A spare that was used up outside a probe's maintenance: a meter's set of batteries."""

    __tablename__ = "spare_uses"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    spare: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    __table_args__ = (Index("spare_uses_by_spare", "spare", "at"),)


class MethodVersion(Base):
    """A method the lead made or changed; the highest version of a key is the one in use."""

    __tablename__ = "method_versions"
    id: Mapped[Uuid] = uuid_key()
    key: Mapped[str]
    version: Mapped[int]
    body: Mapped[Json]
    retired: Mapped[bool] = mapped_column(default=False)
    reason: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("key", "version"),)


class LinkSession(Base):
    """One run of the link program on a meter: its clock starts at `at`."""

    __tablename__ = "link_sessions"
    id: Mapped[Uuid] = uuid_key()
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"), index=True)
    at: Mapped[datetime]
    agent: Mapped[str]


class LinkContact(Base):
    """The link spoke in this minute of its session: kept for good, one row a minute at most."""

    __tablename__ = "link_contacts"
    session_id: Mapped[Uuid] = mapped_column(ForeignKey("link_sessions.id"), primary_key=True)
    minute: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime]


class LinkState(Base):
    """How a link stands at this moment: what came last, and what it says of itself; the next contact replaces it.

    `last` {place: [signal, °C]}; `waiting` samples in its spool, `refused` how many were put aside there, `words` why.
    """

    __tablename__ = "link_states"
    session_id: Mapped[Uuid] = mapped_column(ForeignKey("link_sessions.id"), primary_key=True)
    at: Mapped[datetime]
    last: Mapped[Json] = mapped_column(default=dict)
    waiting: Mapped[int] = mapped_column(default=0)
    refused: Mapped[int] = mapped_column(default=0)
    words: Mapped[str] = mapped_column(default="")
    link: Mapped[LinkSession] = relationship(lazy="joined")
