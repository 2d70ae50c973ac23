"""A probe's calibrations: the newest, the one that may back readings, and its fit ready to read with."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from datetime import datetime
from functools import cache

from sqlalchemy import ColumnElement, Double, Select, bindparam, func, select
from sqlalchemy.orm import Session, defer, joinedload, lazyload, load_only

from brumel.core.fitness import Fitted
from brumel.store.base import among
from brumel.store.tables import Calibration, CalibrationWithdrawal, Maintenance, Point, Probe, Run, User
from brumel.work.quantities.book import quantity_of


def restored(calibration: Calibration) -> Fitted:
    """The fit of a calibration, ready to read with; where the meter itself was adjusted, its display is taken as it is."""
    quantity = quantity_of(calibration.run.probe.quantity)
    if calibration.run.conditions.adjusted and quantity.is_display(calibration.signal):
        ideal = quantity.ideal(calibration.run.probe)
        if ideal is not None and not calibration.fit.get("display"):
            return ideal
    return quantity.restore(calibration.fit)


def first_gain(session: Session, probe: Probe, now: datetime) -> float | None:
    """The gain of the first good calibration since the last new membrane [%]; None where there is none."""
    if probe.quantity != "oxygen":
        return None
    since = select(func.max(Maintenance.at)).where(
        Maintenance.probe_id == probe.id, Maintenance.what == "membrane", Maintenance.at <= now
    )
    start = session.scalar(since) or probe.in_service
    query = select(Calibration.figures["gain_percent"].astext.cast(Double)).where(
        Calibration.probe_id == probe.id,
        Calibration.at > start,
        Calibration.at <= now,
        Calibration.outcome != "not",
        Calibration.fit["kind"].astext != "check",
    )
    return session.scalar(query.order_by(Calibration.at).limit(1))


def stands() -> ColumnElement[bool]:
    """Calibrations that nothing has taken the place of."""
    return (
        ~select(CalibrationWithdrawal.calibration_id)
        .where(CalibrationWithdrawal.calibration_id == Calibration.id)
        .exists()
    )


def last_usable(
    session: Session, probe: Probe, *, full: bool = False, before: datetime | None = None
) -> Calibration | None:
    """The newest calibration that may back readings; with `full`, one that measured a slope."""
    asked = {"probe_id": probe.id} | ({"before": before} if before else {})
    return session.scalar(_newest_usable(full and probe.quantity == "ph", before is not None), asked)


@cache
def _newest_usable(with_slope: bool, before: bool) -> Select[Calibration]:
    query = select(Calibration).where(Calibration.probe_id == bindparam("probe_id"), Calibration.usable, stands())
    if with_slope:
        query = query.where(Calibration.fit["kind"].astext != "offset")
    if before:
        query = query.where(Calibration.at <= bindparam("before"))
    return query.order_by(Calibration.at.desc()).limit(1)


def last_usables(session: Session, probe_ids: Sequence[uuid.UUID], before: datetime) -> dict[uuid.UUID, Calibration]:
    """The newest calibration up to a moment that may back readings, of each of several probes, by one query."""
    query = select(Calibration).where(Calibration.probe_id.in_(probe_ids), Calibration.usable, stands())
    newest = query.where(Calibration.at <= before).distinct(Calibration.probe_id)
    return {c.probe_id: c for c in session.scalars(newest.order_by(Calibration.probe_id, Calibration.at.desc()))}


def recent_calibrations(session: Session, probe_id: uuid.UUID, count: int = 10) -> list[Calibration]:
    """The last calibrations of a probe, newest first."""
    return list(session.scalars(_recent(), {"probe": probe_id, "most": count}))


@cache
def _recent() -> Select[Calibration]:
    """The probe is one and the same for all of them: it is looked up once, not read with each."""
    run = joinedload(Calibration.run).options(lazyload("*"), load_only(Run.probe_id, Run.source, Run.method))
    by = joinedload(Calibration.by).options(lazyload("*"), load_only(User.name))
    query = select(Calibration).where(Calibration.probe_id == bindparam("probe"))
    newest = query.order_by(Calibration.at.desc()).limit(bindparam("most"))
    return newest.options(run, by, defer(Calibration.verdict), defer(Calibration.causes))


def settle_times(session: Session, runs: Sequence[uuid.UUID]) -> dict[uuid.UUID, float]:
    """The slowest cup of each run [s]; live runs only, a typed one cannot know."""
    rows = session.execute(_slowest_cups(), {"runs": list(runs)})
    return {run: float(seconds) for run, seconds in rows if seconds is not None}


@cache
def _slowest_cups() -> Select[uuid.UUID, float]:
    return (
        select(Point.run_id, func.max(Point.settling["settle_s"].astext.cast(Double)))
        .join(Run, Run.id == Point.run_id)
        .where(among(Point.run_id, "runs"), ~Point.withdrawn, Run.source == "live")
        .group_by(Point.run_id)
    )
