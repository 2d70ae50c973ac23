"""The tables of a day out: rounds, outings, closing checks, rulings on readings, signatures, photos."""

from __future__ import annotations

import uuid
from datetime import date, datetime
from typing import Any

from sqlalchemy import ForeignKey, Identity, Index, SmallInteger, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.tables import Base, Calibration, Json, Probe, Run, Site, User, Uuid


class Round(Base):
    """Sites in their order, and when they are due: `rule` is an RFC 5545 recurrence from `starts` on, in `zone`."""

    __tablename__ = "rounds"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    name: Mapped[str]
    rule: Mapped[str] = mapped_column(default="")
    starts: Mapped[date]
    leave_at: Mapped[str] = mapped_column(default="08:00")
    zone: Mapped[str]
    note: Mapped[str] = mapped_column(default="")
    retired_at: Mapped[datetime | None]
    stops: Mapped[list[RoundStop]] = relationship(
        lazy="selectin", order_by="RoundStop.place", cascade="all, delete-orphan"
    )

    @property
    def sites(self) -> list[Site]:
        """The sites in their order."""
        return [s.site for s in self.stops]


class RoundStop(Base):
    """One site of a round."""

    __tablename__ = "round_stops"
    round_id: Mapped[Uuid] = mapped_column(ForeignKey("rounds.id"), primary_key=True)
    place: Mapped[int] = mapped_column(primary_key=True)
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"))
    site: Mapped[Site] = relationship(lazy="joined")


class Outing(Base):
    """A round on a day, with the meter that is carried and what was packed.

    `settings` {meter id: {snapshot, at, by}} says whose settings were looked through before leaving, as which snapshot.
    """

    __tablename__ = "outings"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    round_id: Mapped[Uuid] = mapped_column(ForeignKey("rounds.id"), index=True)
    day: Mapped[date]
    meter_id: Mapped[Uuid] = mapped_column(ForeignKey("meters.id"))
    operator_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    packed: Mapped[Json] = mapped_column(default=dict)
    settings: Mapped[Json] = mapped_column(default=dict)
    started_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    round: Mapped[Round] = relationship(lazy="joined")
    operator: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("round_id", "day"),)


class Closing(Base):
    """A closing check: what the calibration in force read in a standard at the end of the span it backs."""

    __tablename__ = "closings"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    number: Mapped[int] = mapped_column(Identity(start=1), unique=True)
    run_id: Mapped[Uuid] = mapped_column(ForeignKey("runs.id"), unique=True)
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    calibration_id: Mapped[Uuid] = mapped_column(ForeignKey("calibrations.id"), index=True)
    at: Mapped[datetime]
    checks: Mapped[list[Any]]
    holds: Mapped[bool]
    sentence: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    probe: Mapped[Probe] = relationship(lazy="joined")
    calibration: Mapped[Calibration] = relationship(lazy="joined")
    run: Mapped[Run] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("closings_by_probe", "probe_id", "at"),)


class Ruling(Base):
    """A lead's decision about the readings of a span: after a closing check, or after a later discovery.

    `kind` is "closing", "lot", "calibration" or "reopened"; `subject` the id of what it is about. Evidence: it is never
    changed; opening it again is another ruling that names it in `undoes_id`.
    """

    __tablename__ = "rulings"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    number: Mapped[int] = mapped_column(Identity(start=1), unique=True)
    kind: Mapped[str]
    subject: Mapped[Uuid]
    decision: Mapped[str]
    reason: Mapped[str]
    signed_name: Mapped[str]
    undoes_id: Mapped[Uuid | None] = mapped_column(ForeignKey("rulings.id"))
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("rulings_by_subject", "subject", "at"),)


class Signature(Base):
    """One version of a reading, signed with name and time. A new version is unsigned until it is signed itself."""

    __tablename__ = "signatures"
    reading_id: Mapped[Uuid] = mapped_column(ForeignKey("readings.id"), primary_key=True)
    name: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")


class Log(Base):
    """A series a logger left at a site recorded: what, where, by which probe, and how many values."""

    __tablename__ = "logs"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    site_id: Mapped[Uuid] = mapped_column(ForeignKey("sites.id"))
    quantity: Mapped[str]
    unit: Mapped[str]
    probe_id: Mapped[Uuid | None] = mapped_column(ForeignKey("probes.id"))
    calibration_id: Mapped[Uuid | None] = mapped_column(ForeignKey("calibrations.id"))
    depth_m: Mapped[float | None]
    name: Mapped[str]
    starts: Mapped[datetime]
    ends: Mapped[datetime]
    interval_s: Mapped[float]
    count: Mapped[int]
    gaps: Mapped[int]
    flagged: Mapped[int]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    probe: Mapped[Probe | None] = relationship(lazy="joined")
    __table_args__ = (Index("logs_by_site", "site_id", "quantity", "starts"),)


class LogValue(Base):
    """One value of a logged series, as it was recorded, with its QARTOD flag."""

    __tablename__ = "log_values"
    log_id: Mapped[Uuid] = mapped_column(ForeignKey("logs.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    value: Mapped[float]
    flag: Mapped[int] = mapped_column(SmallInteger)


class LogService(Base):
    """What was read when a logger was lifted: in the water before and after cleaning, and in a standard."""

    __tablename__ = "log_services"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    log_id: Mapped[Uuid] = mapped_column(ForeignKey("logs.id"))
    at: Mapped[datetime]
    body: Mapped[Json]
    sentence: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("log_services_by_log", "log_id", "at"),)


class LogRuling(Base):
    """What a series is worth, by the lead; the highest version stands. `effect` is the correction, as it was worked out."""

    __tablename__ = "log_rulings"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    log_id: Mapped[Uuid] = mapped_column(ForeignKey("logs.id"))
    version: Mapped[int]
    service_id: Mapped[Uuid | None] = mapped_column(ForeignKey("log_services.id"))
    decision: Mapped[str]
    effect: Mapped[Json]
    reason: Mapped[str]
    signed_name: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("log_id", "version"),)


class Unsigned(Base):
    """The newest versions that are not signed; kept by triggers of the database, only read here."""

    __tablename__ = "unsigned"
    reading_id: Mapped[Uuid] = mapped_column(ForeignKey("readings.id"), primary_key=True)


class VisitNote(Base):
    """Something said of a visit: a note, or the conditions there ({pressure_hpa, light, by_hand ...}); the newest stands."""

    __tablename__ = "visit_notes"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), index=True)
    kind: Mapped[str]
    body: Mapped[Json]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class Photo(Base):
    """A photo of a visit, drawn afresh on upload; its position is kept only where it was asked for."""

    __tablename__ = "photos"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), index=True)
    name: Mapped[str]
    width: Mapped[int]
    height: Mapped[int]
    jpeg: Mapped[bytes] = mapped_column(deferred=True)
    latitude: Mapped[float | None]
    longitude: Mapped[float | None]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
