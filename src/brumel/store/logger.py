"""The tables of loggers' series: what was recorded, what was read at its ends, and what was decided."""

from __future__ import annotations

import uuid
from datetime import datetime

from sqlalchemy import ForeignKey, Index, SmallInteger, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.tables import Base, Json, Probe, User, Uuid


class LoggerSeries(Base):
    """A series a logger left at a site recorded: what, where, by which probe, and how many values."""

    __tablename__ = "logger_series"
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
    __table_args__ = (Index("logger_series_by_site", "site_id", "quantity", "starts"),)


class LoggerValue(Base):
    """One value of a logged series, as it was recorded, with its QARTOD flag."""

    __tablename__ = "logger_values"
    series_id: Mapped[Uuid] = mapped_column(ForeignKey("logger_series.id"), primary_key=True)
    at: Mapped[datetime] = mapped_column(primary_key=True)
    value: Mapped[float]
    flag: Mapped[int] = mapped_column(SmallInteger)


class LoggerCheck(Base):
    """What was read when a logger was lifted: in the water before and after cleaning, and in a standard."""

    __tablename__ = "logger_checks"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    series_id: Mapped[Uuid] = mapped_column(ForeignKey("logger_series.id"))
    at: Mapped[datetime]
    body: Mapped[Json]
    sentence: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("logger_checks_by_series", "series_id", "at"),)


class LoggerDecision(Base):
    """What a series is worth, by the lead; the highest version stands. `effect` is the correction, as it was worked out."""

    __tablename__ = "logger_decisions"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    series_id: Mapped[Uuid] = mapped_column(ForeignKey("logger_series.id"))
    version: Mapped[int]
    check_id: Mapped[Uuid | None] = mapped_column(ForeignKey("logger_checks.id"))
    decision: Mapped[str]
    effect: Mapped[Json]
    reason: Mapped[str]
    signed_name: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (UniqueConstraint("series_id", "version"),)
