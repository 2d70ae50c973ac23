"""The tables. Evidence (samples, points, readings, calibrations) is only ever added to."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Identity, Index, String, UniqueConstraint
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

Json = dict[str, Any]
Uuid = uuid.UUID


class Base(DeclarativeBase):
    """Shared type choices: UTC time stamps with zone, JSON as JSONB."""

    type_annotation_map = {datetime: TIMESTAMP(timezone=True), Json: JSONB, list[Any]: JSONB, str: String}


def _uuid() -> Mapped[Uuid]:
    return mapped_column(primary_key=True, default=uuid.uuid4)


class User(Base):
    """A person who signs in. `stamp` changes with the password, so old sessions end."""

    __tablename__ = "users"
    id: Mapped[Uuid] = _uuid()
    username: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    role: Mapped[str] = mapped_column(CheckConstraint("role in ('technician', 'lead')", name="users_role"))
    password_hash: Mapped[str]
    stamp: Mapped[str]
    active: Mapped[bool] = mapped_column(default=True)
    created_at: Mapped[datetime]


class Meter(Base):
    """A meter; `link` says how readings come: typed, from the simulated meter, or by the link program ("sdi12")."""

    __tablename__ = "meters"
    id: Mapped[Uuid] = _uuid()
    name: Mapped[str]
    serial: Mapped[str]
    link: Mapped[str] = mapped_column(CheckConstraint("link in ('typed', 'simulated', 'sdi12')", name="meters_link"))
    description: Mapped[str] = mapped_column(default="")
    firmware: Mapped[str] = mapped_column(default="")
    battery: Mapped[str] = mapped_column(default="")
    token_hash: Mapped[str] = mapped_column(default="")
    retired_at: Mapped[datetime | None]


class Probe(Base):
    """A probe measures one quantity and has its own life.

    Its own record wins over the method: `waits` {upkeep: hours}, `intervals` {upkeep: days}, `limits` {name: value},
    `storage`. `nominal` is a cell's constant [1/cm]; `address` its place on the meter's link.
    """

    __tablename__ = "probes"
    id: Mapped[Uuid] = _uuid()
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
    in_service: Mapped[datetime]
    retired_at: Mapped[datetime | None]
    note: Mapped[str] = mapped_column(default="")
    waits: Mapped[Json] = mapped_column(default=dict)
    intervals: Mapped[Json] = mapped_column(default=dict)
    limits: Mapped[Json] = mapped_column(default=dict)
    meter: Mapped[Meter] = relationship(lazy="joined")


class Fitting(Base):
    """The probe was fitted to a meter; the newest row says where it is now."""

    __tablename__ = "fittings"
    id: Mapped[Uuid] = _uuid()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"), index=True)
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    at: Mapped[datetime]
    reason: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    meter: Mapped[Meter] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")


class Snapshot(Base):
    """A meter's settings as they were seen; `changes` against the one before, acknowledged with a reason."""

    __tablename__ = "snapshots"
    id: Mapped[Uuid] = _uuid()
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    at: Mapped[datetime]
    settings: Mapped[Json]
    changes: Mapped[list[Any]]
    reason: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("snapshots_by_meter", "meter_id", "at"),)


class Inspection(Base):
    """A probe looked over: findings by item; one that blocks keeps it off Bench until a later, clean look."""

    __tablename__ = "inspections"
    id: Mapped[Uuid] = _uuid()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    at: Mapped[datetime]
    findings: Mapped[Json]
    blocks: Mapped[bool]
    note: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("inspections_by_probe", "probe_id", "at"),)


class Upkeep(Base):
    """Something done to a probe, and until when it must not be calibrated."""

    __tablename__ = "upkeep"
    id: Mapped[Uuid] = _uuid()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    what: Mapped[str]
    at: Mapped[datetime]
    ready_at: Mapped[datetime]
    note: Mapped[str] = mapped_column(default="")
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("upkeep_by_probe", "probe_id", "at"),)


class Lot(Base):
    """A solution by lot. `measures` {quantity: {family, label, u, ...}} says what it is a standard of; a label wins."""

    __tablename__ = "lots"
    id: Mapped[Uuid] = _uuid()
    code: Mapped[str] = mapped_column(unique=True)
    name: Mapped[str]
    measures: Mapped[Json]
    container: Mapped[str] = mapped_column(default="bottle")
    expires_on: Mapped[datetime]
    opened_at: Mapped[datetime | None]
    open_days: Mapped[int]
    single_use: Mapped[bool] = mapped_column(default=False)
    discarded_at: Mapped[datetime | None]


class Count(Base):
    """How much there was of a lot [mL, or pieces of what is for a single use] or of a spare, counted by hand."""

    __tablename__ = "counts"
    id: Mapped[Uuid] = _uuid()
    lot_id: Mapped[Uuid | None] = mapped_column(ForeignKey("lots.id"))
    spare: Mapped[str] = mapped_column(default="")
    amount: Mapped[float]
    reason: Mapped[str] = mapped_column(default="")
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    __table_args__ = (
        CheckConstraint("(lot_id is null) <> (spare = '')", name="counts_of_one_thing"),
        Index("counts_by_lot", "lot_id", "at"), Index("counts_by_spare", "spare", "at"),
    )  # fmt: skip


class Client(Base):
    """Who the water belongs to."""

    __tablename__ = "clients"
    id: Mapped[Uuid] = _uuid()
    name: Mapped[str] = mapped_column(unique=True)
    note: Mapped[str] = mapped_column(default="")
    retired_at: Mapped[datetime | None]


class Site(Base):
    """A place that is read: where it is, what it is used for, and its terms as they stand (`SiteTerms` keeps them all).

    `ranges` {quantity: {usual, gross}}, `limits` {quantity: {low, high, source}}, `water` how its salt and solids are
    worked out, `depths` the points of a profile [m].
    """

    __tablename__ = "sites"
    id: Mapped[Uuid] = _uuid()
    client_id: Mapped[Uuid] = mapped_column(ForeignKey("clients.id"), index=True)
    name: Mapped[str]
    kind: Mapped[str]
    use: Mapped[str] = mapped_column(default="")
    zone: Mapped[str]
    altitude_m: Mapped[float]
    latitude: Mapped[float | None]
    longitude: Mapped[float | None]
    depths: Mapped[list[Any]] = mapped_column(default=list)
    ranges: Mapped[Json]
    limits: Mapped[Json] = mapped_column(default=dict)
    water: Mapped[Json] = mapped_column(default=dict)
    terms_version: Mapped[int] = mapped_column(default=1)
    note: Mapped[str] = mapped_column(default="")
    retired_at: Mapped[datetime | None]
    owner: Mapped[Client] = relationship(lazy="joined")

    @property
    def client(self) -> str:
        """The client's name."""
        return self.owner.name


class SiteTerms(Base):
    """The ranges, limits and use of a site as they were from a moment on, with who changed them and why."""

    __tablename__ = "site_terms"
    id: Mapped[Uuid] = _uuid()
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"))
    version: Mapped[int]
    body: Mapped[Json]
    reason: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("site_id", "version"),)


class Run(Base):
    """One calibration in the making. `method` is the method as it was; `cups` maps step keys to lots.

    `conditions` hold pressure, salinity, the water's temperature, and whether the meter itself is adjusted.
    """

    __tablename__ = "runs"
    id: Mapped[Uuid] = _uuid()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"), index=True)
    operator_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    source: Mapped[str] = mapped_column(CheckConstraint("source in ('live', 'typed')", name="runs_source"))
    method: Mapped[Json]
    cups: Mapped[Json]
    conditions: Mapped[Json] = mapped_column(default=dict)
    purpose: Mapped[str] = mapped_column(default="calibration")
    snapshot_id: Mapped[Uuid | None] = mapped_column(ForeignKey("snapshots.id"))
    inspection_id: Mapped[Uuid | None] = mapped_column(ForeignKey("inspections.id"))
    sitting_id: Mapped[Uuid | None] = mapped_column(ForeignKey("sittings.id"), index=True)
    repeats_id: Mapped[Uuid | None] = mapped_column(ForeignKey("runs.id"))
    started_at: Mapped[datetime]
    probe: Mapped[Probe] = relationship(lazy="joined")
    operator: Mapped[User] = relationship(lazy="joined")


class Sitting(Base):
    """Several probes of one meter calibrated together; its runs name it."""

    __tablename__ = "sittings"
    id: Mapped[Uuid] = _uuid()
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    operator_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    started_at: Mapped[datetime]
    meter: Mapped[Meter] = relationship(lazy="joined")
    operator: Mapped[User] = relationship(lazy="joined")


class RunEnd(Base):
    """How a run ended: finished or abandoned. One row at most, so two windows cannot end it twice."""

    __tablename__ = "run_ends"
    run_id: Mapped[Uuid] = mapped_column(ForeignKey("runs.id"), primary_key=True)
    how: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    reason: Mapped[str]


class Dip(Base):
    """The probe stands in one cup of a run, or in the water of a site. The newest dip of a probe is the present one."""

    __tablename__ = "dips"
    id: Mapped[Uuid] = _uuid()
    number: Mapped[int] = mapped_column(Identity(), unique=True)
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"), index=True)
    run_id: Mapped[Uuid | None] = mapped_column(ForeignKey("runs.id"), index=True)
    step: Mapped[str] = mapped_column(default="")
    lot_id: Mapped[Uuid | None] = mapped_column(ForeignKey("lots.id"))
    visit_id: Mapped[Uuid | None] = mapped_column(ForeignKey("visits.id"), index=True)
    depth_m: Mapped[float | None]
    source: Mapped[str]
    entered: Mapped[str] = mapped_column(default="")
    started_at: Mapped[datetime]


class Sample(Base):
    """One sample of a dip, as it came: the signal in the quantity's own unit, and the display where it was typed.

    Range-partitioned by `at`; (dip, seq) is counted by the sender.
    """

    __tablename__ = "samples"
    dip_id: Mapped[Uuid] = mapped_column(primary_key=True)
    seq: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    t_s: Mapped[float]
    signal: Mapped[float]
    temperature_c: Mapped[float]
    displayed: Mapped[float | None]
    __table_args__ = {"postgresql_partition_by": "RANGE (at)"}


class Point(Base):
    """An accepted point of a run. A redone point is a new version; a withdrawn one has no signal, but a reason."""

    __tablename__ = "points"
    id: Mapped[Uuid] = _uuid()
    run_id: Mapped[Uuid] = mapped_column(ForeignKey("runs.id"))
    step: Mapped[str]
    version: Mapped[int]
    dip_id: Mapped[Uuid | None] = mapped_column(ForeignKey("dips.id"))
    lot_id: Mapped[Uuid | None] = mapped_column(ForeignKey("lots.id"))
    withdrawn: Mapped[bool] = mapped_column(default=False)
    signal: Mapped[float | None]
    temperature_c: Mapped[float | None]
    expected: Mapped[float | None]
    expanded: Mapped[float | None]
    entered_as: Mapped[str] = mapped_column(default="mv")
    settling: Mapped[Json | None]
    early: Mapped[bool] = mapped_column(default=False)
    suspicions: Mapped[list[Any] | None]
    reason: Mapped[str] = mapped_column(default="")
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    __table_args__ = (UniqueConstraint("run_id", "step", "version"), Index("points_by_lot", "lot_id", "at"))


class Calibration(Base):
    """What a finished run found. `usable` says it may back readings: fit, or with care by a named decision."""

    __tablename__ = "calibrations"
    id: Mapped[Uuid] = _uuid()
    number: Mapped[int] = mapped_column(Identity(start=1001), unique=True)
    run_id: Mapped[Uuid] = mapped_column(ForeignKey("runs.id"), unique=True)
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    at: Mapped[datetime]
    valid_until: Mapped[datetime]
    signal: Mapped[str]
    fit: Mapped[Json]
    verdict: Mapped[Json]
    causes: Mapped[list[Any]]
    as_found: Mapped[list[Any]]
    outcome: Mapped[str]
    usable: Mapped[bool]
    decision: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    figures: Mapped[Json]
    run: Mapped[Run] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("calibrations_by_probe", "probe_id", "at"),)


class Superseding(Base):
    """A calibration that no longer counts: a repeat took its place, or someone said why. It stays in the record."""

    __tablename__ = "supersedings"
    calibration_id: Mapped[Uuid] = mapped_column(ForeignKey("calibrations.id"), primary_key=True)
    new_id: Mapped[Uuid | None] = mapped_column(ForeignKey("calibrations.id"))
    at: Mapped[datetime]
    reason: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")


class MethodVersion(Base):
    """A method the lead made or changed; the highest version of a key is the one in use."""

    __tablename__ = "method_versions"
    id: Mapped[Uuid] = _uuid()
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
    """One run of the link program on a meter: its clock starts at `at`; `last_at` and `last` are what came last."""

    __tablename__ = "link_sessions"
    id: Mapped[Uuid] = _uuid()
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"), index=True)
    at: Mapped[datetime]
    agent: Mapped[str]
    last_at: Mapped[datetime]
    last: Mapped[Json] = mapped_column(default=dict)


class Visit(Base):
    """A technician at a site. What was known of air and water there, and notes, are `VisitNote`s: they come bit by bit."""

    __tablename__ = "visits"
    id: Mapped[Uuid] = _uuid()
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"), index=True)
    operator_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    outing_id: Mapped[Uuid | None] = mapped_column(ForeignKey("outings.id"), index=True)
    source: Mapped[str]
    at: Mapped[datetime]
    site: Mapped[Site] = relationship(lazy="joined")
    operator: Mapped[User] = relationship(lazy="joined")
    carried: Mapped[list[VisitProbe]] = relationship(lazy="selectin", order_by="VisitProbe.place")

    @property
    def probes(self) -> list[Probe]:
        """The probes the site is read with, the first instrument's before the second's."""
        return [c.probe for c in self.carried]


class VisitProbe(Base):
    """A probe a site is read with; `role` is "first", or "second" for a second instrument beside the first."""

    __tablename__ = "visit_probes"
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), primary_key=True)
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"), primary_key=True)
    place: Mapped[int]
    role: Mapped[str] = mapped_column(default="first")
    probe: Mapped[Probe] = relationship(lazy="joined")


class Reading(Base):
    """A site reading. (`root_id`, `version`): a correction is a new row with a reason; the highest version stands.

    `parents` name the roots a derived value follows from; `ruling_id` the decision that made this version.
    """

    __tablename__ = "readings"
    id: Mapped[Uuid] = _uuid()
    root_id: Mapped[Uuid]
    version: Mapped[int]
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), index=True)
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"))
    quantity: Mapped[str]
    at: Mapped[datetime]
    probe_id: Mapped[Uuid | None] = mapped_column(ForeignKey("probes.id"))
    depth_m: Mapped[float | None]
    role: Mapped[str] = mapped_column(default="first")
    parents: Mapped[list[Any]] = mapped_column(default=list)
    dip_id: Mapped[Uuid | None] = mapped_column(ForeignKey("dips.id"))
    calibration_id: Mapped[Uuid | None] = mapped_column(ForeignKey("calibrations.id"))
    backing: Mapped[str]
    backing_words: Mapped[str]
    entered_as: Mapped[str]
    raw: Mapped[float]
    raw_unit: Mapped[str]
    temperature_c: Mapped[float]
    value: Mapped[float]
    unit: Mapped[str]
    expanded_uncertainty: Mapped[float | None]
    working: Mapped[Json]
    settling: Mapped[Json]
    findings: Mapped[list[Any]]
    flag: Mapped[int]
    outcome: Mapped[str] = mapped_column(default="")
    outcome_words: Mapped[str] = mapped_column(default="")
    grade: Mapped[str] = mapped_column(default="")
    ruling_id: Mapped[Uuid | None] = mapped_column(ForeignKey("rulings.id"), index=True)
    reason: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    written_at: Mapped[datetime]
    probe: Mapped[Probe | None] = relationship(lazy="joined")
    visit: Mapped[Visit] = relationship(lazy="joined")
    calibration: Mapped[Calibration | None] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (
        UniqueConstraint("root_id", "version"),
        Index("readings_by_site", "site_id", "quantity", "at"),
        Index("readings_by_time", "at"),
        Index("readings_by_calibration", "calibration_id", "at"),
    )


class WriteKey(Base):
    """An idempotency key that has been used, and what came of it."""

    __tablename__ = "write_keys"
    key: Mapped[Uuid] = mapped_column(primary_key=True)
    user_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    action: Mapped[str]
    at: Mapped[datetime]
    result: Mapped[Json]


class Audit(Base):
    """Who did what to which thing, written in the same transaction as the thing."""

    __tablename__ = "audit"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    at: Mapped[datetime] = mapped_column(index=True)
    user_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    action: Mapped[str]
    subject: Mapped[str] = mapped_column(index=True)
    detail: Mapped[Json]
    key: Mapped[Uuid]
    user: Mapped[User] = relationship(lazy="joined")


class Truth(Base):
    """What the simulated meter knows and Brumel's judging never reads: probes, waters, its clock."""

    __tablename__ = "sim_truths"
    subject: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[Json]


class RateLimit(Base):
    """Counters of the sign-in limit, shared by all web workers."""

    __tablename__ = "rate_limits"
    key: Mapped[str] = mapped_column(primary_key=True)
    count: Mapped[int]
    expires_at: Mapped[datetime]
