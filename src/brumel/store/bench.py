"""The tables of Bench: runs, dips, samples, points, calibrations."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import CheckConstraint, ForeignKey, Identity, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid, uuid_key
from brumel.store.kit import Meter, Probe, User
from brumel.store.typed_json import Cups, RunConditions, TypedJson


class Run(Base):
    """One calibration in the making. `method` is the method as it was; `cups` maps step keys to lots.

    `conditions` hold pressure, salinity, the water's temperature, and whether the meter itself is adjusted.
    A closing run names the calibration it closes.
    """

    __tablename__ = "runs"
    id: Mapped[Uuid] = uuid_key()
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"), index=True)
    operator_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    source: Mapped[str] = mapped_column(CheckConstraint("source in ('live', 'typed')", name="runs_source"))
    method: Mapped[Json]
    cups: Mapped[Cups] = mapped_column(TypedJson(Cups))
    conditions: Mapped[RunConditions] = mapped_column(TypedJson(RunConditions), default=RunConditions)
    purpose: Mapped[str] = mapped_column(default="calibration")
    settings_id: Mapped[Uuid | None] = mapped_column(ForeignKey("meter_settings.id"))
    inspection_id: Mapped[Uuid | None] = mapped_column(ForeignKey("inspections.id"))
    calibration_session_id: Mapped[Uuid | None] = mapped_column(ForeignKey("calibration_sessions.id"), index=True)
    repeats_id: Mapped[Uuid | None] = mapped_column(ForeignKey("runs.id"))
    closes_id: Mapped[Uuid | None] = mapped_column(ForeignKey("calibrations.id", use_alter=True))
    started_at: Mapped[datetime]
    probe: Mapped[Probe] = relationship(lazy="joined")
    operator: Mapped[User] = relationship(lazy="joined")


class CalibrationSession(Base):
    """Several probes of one meter calibrated together; its runs name it."""

    __tablename__ = "calibration_sessions"
    id: Mapped[Uuid] = uuid_key()
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
    id: Mapped[Uuid] = uuid_key()
    number: Mapped[int] = mapped_column(Identity(), unique=True)
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    run_id: Mapped[Uuid | None] = mapped_column(ForeignKey("runs.id"), index=True)
    step: Mapped[str] = mapped_column(default="")
    lot_id: Mapped[Uuid | None] = mapped_column(ForeignKey("lots.id"))
    visit_id: Mapped[Uuid | None] = mapped_column(ForeignKey("visits.id"), index=True)
    depth_m: Mapped[float | None]
    source: Mapped[str]
    entered: Mapped[str] = mapped_column(default="")
    started_at: Mapped[datetime]
    __table_args__ = (Index("dips_by_probe", "probe_id", "number"),)


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


class StruckValue(Base):
    """A typed value that was struck out: its sample stays in the record and counts for nothing."""

    __tablename__ = "struck_values"
    dip_id: Mapped[Uuid] = mapped_column(ForeignKey("dips.id"), primary_key=True)
    seq: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class RunChange(Base):
    """What was changed of a run on its way: the cup that is taken next, one left out, a lot replaced, a figure told.

    value : of a figure that the meter tells of itself; `step` is then its name
    """

    __tablename__ = "run_changes"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    run_id: Mapped[Uuid] = mapped_column(ForeignKey("runs.id"), index=True)
    kind: Mapped[str]
    step: Mapped[str]
    lot_id: Mapped[Uuid | None] = mapped_column(ForeignKey("lots.id"))
    value: Mapped[float | None]
    reason: Mapped[str] = mapped_column(default="")
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class Point(Base):
    """An accepted point of a run. A redone point is a new version; a withdrawn one has no signal, but a reason."""

    __tablename__ = "points"
    id: Mapped[Uuid] = uuid_key()
    run_id: Mapped[Uuid] = mapped_column(ForeignKey("runs.id"))
    step: Mapped[str]
    version: Mapped[int]
    dip_id: Mapped[Uuid | None] = mapped_column(ForeignKey("dips.id"))
    lot_id: Mapped[Uuid | None] = mapped_column(ForeignKey("lots.id"))
    withdrawn: Mapped[bool] = mapped_column(default=False)
    signal: Mapped[float | None]
    temperature_c: Mapped[float | None]
    expected: Mapped[float | None]
    expanded_uncertainty: Mapped[float | None]
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
    id: Mapped[Uuid] = uuid_key()
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
    run: Mapped[Run] = relationship(lazy="joined", foreign_keys=run_id)
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("calibrations_by_probe", "probe_id", "at"),)


class CalibrationWithdrawal(Base):
    """A calibration that no longer counts: a repeat took its place, or someone said why. It stays in the record."""

    __tablename__ = "calibration_withdrawals"
    calibration_id: Mapped[Uuid] = mapped_column(ForeignKey("calibrations.id"), primary_key=True)
    new_id: Mapped[Uuid | None] = mapped_column(ForeignKey("calibrations.id"))
    at: Mapped[datetime]
    reason: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
