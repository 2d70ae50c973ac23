"""Probes, meters and solutions, and what each probe can be trusted for now."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import ColumnElement, Double, func, select
from sqlalchemy.orm import Session

from brumel.core.fitness import Fitted
from brumel.core.ph import Buffer
from brumel.methods.upkeep import load_upkeep
from brumel.store.tables import (
    Calibration,
    Dip,
    Fitting,
    Inspection,
    Lot,
    Meter,
    Point,
    Probe,
    Run,
    RunEnd,
    Snapshot,
    Superseding,
    Upkeep,
)
from brumel.work import solutions
from brumel.work.desk import NotFound, object_id
from brumel.work.trades import trade


@dataclass(frozen=True)
class LotView:
    """A lot with whatever speaks against using it."""

    lot: Lot
    objections: tuple[str, ...]

    @property
    def buffer(self) -> Buffer:
        """The table of a pH buffer."""
        return solutions.buffer_of(self.lot)

    @property
    def quantities(self) -> tuple[str, ...]:
        """What it is a standard of."""
        return tuple(self.lot.measures)

    def nominal(self, quantity: str) -> float:
        """Its value at 25 °C for a quantity."""
        return solutions.nominal(self.lot, quantity)

    def stated(self, quantity: str) -> str:
        """Value and expanded uncertainty in one line, as "1413 µS/cm ± 1 %"."""
        unit, usual = solutions.UNCERTAINTY[quantity]
        body = solutions.measure(self.lot, quantity) or {}
        u = f"± {float(body.get('u') or usual):g}" + ("\u00a0%" if unit == "%" else "")
        return f"{trade(quantity).with_unit(self.nominal(quantity))} {u}"

    @property
    def usable(self) -> bool:
        return not self.objections


def probe(session: Session, probe_id: str | uuid.UUID) -> Probe:
    """One probe by id; the front door for everything that names a probe."""
    found = session.get(Probe, object_id(probe_id, "probe"))
    if found is None:
        raise NotFound("There is no such probe.")
    return found


def probes(session: Session) -> list[Probe]:
    """All probes in service."""
    on_meters = select(Probe).join(Meter, Meter.id == Probe.meter_id).where(Probe.retired_at.is_(None))
    return list(session.scalars(on_meters.where(Meter.retired_at.is_(None)).order_by(Probe.name)))


def meter(session: Session, meter_id: str | uuid.UUID) -> Meter:
    """One meter by id; the front door for everything that names a meter."""
    found = session.get(Meter, object_id(meter_id, "meter"))
    if found is None:
        raise NotFound("There is no such meter.")
    return found


def meters(session: Session) -> list[Meter]:
    """All meters in service."""
    return list(session.scalars(select(Meter).where(Meter.retired_at.is_(None)).order_by(Meter.name)))


def restored(found: Calibration) -> Fitted:
    """The fit of a calibration, ready to read with; where the meter itself was adjusted, its display is taken as it is."""
    own = trade(found.run.probe.quantity)
    if found.run.conditions.get("adjusted") and own.is_display(found.signal):
        ideal = own.ideal(found.run.probe)
        if ideal is not None:
            return ideal
    return own.restore(found.fit)


def lot_view(lot: Lot, now: datetime, *, used: bool = False) -> LotView:
    """The lot as of now: expired, open too long, discarded, or single use and `used` before."""
    objections = []
    if lot.single_use and used:
        objections.append(f"{lot.code} is for a single use and stood in an earlier run.")
    if lot.discarded_at and lot.discarded_at <= now:
        objections.append(f"{lot.code} was discarded on {lot.discarded_at:%d %b %Y}.")
    if lot.expires_on < now:
        objections.append(f"{lot.code} expired on {lot.expires_on:%d %b %Y}.")
    if lot.opened_at and lot.opened_at + timedelta(days=lot.open_days) < now:
        age = (now - lot.opened_at).days
        objections.append(f"{lot.code} has been open for {age} days; {lot.open_days} are allowed.")
    return LotView(lot, tuple(objections))


def lots(session: Session, now: datetime) -> list[LotView]:
    """All lots not discarded, those in date first."""
    rows = list(session.scalars(select(Lot).where(Lot.discarded_at.is_(None)).order_by(Lot.code)))
    used = used_before(session, [row.id for row in rows if row.single_use])
    return sorted(
        (lot_view(row, now, used=row.id in used) for row in rows),
        key=lambda v: (len(v.objections), *sorted(v.quantities)[:1], v.lot.code),
    )


def used_before(session: Session, lot_ids: Sequence[uuid.UUID], run: Run | None = None) -> set[uuid.UUID]:
    """Which of these lots gave a point in a run (in another run than this, or than those of its sitting)."""
    if not lot_ids:
        return set()
    query = select(Point.lot_id).where(Point.lot_id.in_(lot_ids)).distinct()
    if run is not None:
        query = query.where(Point.run_id != run.id)
        if run.sitting_id is not None:  # the probes of one meter stand in the same cup
            query = query.join(Run, Run.id == Point.run_id).where(
                (Run.sitting_id != run.sitting_id) | Run.sitting_id.is_(None)
            )
    return {found for found in session.scalars(query) if found}


def last_upkeep(session: Session, probe_id: uuid.UUID, before: datetime) -> Upkeep | None:
    """The newest thing done to a probe."""
    query = select(Upkeep).where(Upkeep.probe_id == probe_id, Upkeep.at <= before)
    return session.scalar(query.order_by(Upkeep.at.desc()).limit(1))


def upkeep_words(found: Probe, done: Upkeep) -> tuple[str, str]:
    """What was done and what the probe does meanwhile, in words."""
    spec = load_upkeep().get(found.quantity, {}).get(done.what)
    return (spec.words, spec.meanwhile) if spec else (done.what, "")


def lot_ph(lot: Lot, temperature_c: float) -> float:
    """What a buffer should read at the cup's own temperature [°C] -> pH."""
    return solutions.value(lot, "ph", temperature_c)


def hours_since(session: Session, found: Probe, what: str, now: datetime) -> float | None:
    """Hours since something was last done to a probe; None where it never was."""
    query = select(Upkeep.at).where(Upkeep.probe_id == found.id, Upkeep.what == what, Upkeep.at <= now)
    at = session.scalar(query.order_by(Upkeep.at.desc()).limit(1))
    return None if at is None else (now - at).total_seconds() / 3600


def first_gain(session: Session, found: Probe, now: datetime) -> float | None:
    """The gain of the first good calibration since the last new membrane [%]; None where there is none."""
    if found.quantity != "oxygen":
        return None
    since = select(func.max(Upkeep.at)).where(Upkeep.probe_id == found.id, Upkeep.what == "membrane", Upkeep.at <= now)
    start = session.scalar(since) or found.in_service
    query = select(Calibration.figures["gain_percent"].astext.cast(Double)).where(
        Calibration.probe_id == found.id, Calibration.at > start, Calibration.at <= now, Calibration.outcome != "not",
        Calibration.fit["kind"].astext != "check",
    )  # fmt: skip
    return session.scalar(query.order_by(Calibration.at).limit(1))


def last_fitting(session: Session, probe_id: uuid.UUID, before: datetime) -> Fitting | None:
    """The last time a probe was fitted to a meter."""
    query = select(Fitting).where(Fitting.probe_id == probe_id, Fitting.at <= before)
    return session.scalar(query.order_by(Fitting.at.desc()).limit(1))


def last_snapshot(session: Session, meter_id: uuid.UUID, before: datetime | None = None) -> Snapshot | None:
    """The settings of a meter as they were last taken down, by a moment where one is named."""
    query = select(Snapshot).where(Snapshot.meter_id == meter_id)
    if before is not None:
        query = query.where(Snapshot.at <= before)
    return session.scalar(query.order_by(Snapshot.at.desc()).limit(1))


def snapshots(session: Session, meter_id: uuid.UUID, count: int = 12) -> list[Snapshot]:
    """The settings of a meter over time, newest first."""
    query = select(Snapshot).where(Snapshot.meter_id == meter_id).order_by(Snapshot.at.desc()).limit(count)
    return list(session.scalars(query))


def retired(session: Session) -> list[Probe]:
    """Probes that were put away for good, the last first."""
    query = select(Probe).where(Probe.retired_at.is_not(None)).order_by(Probe.retired_at.desc())
    return list(session.scalars(query))


def last_inspection(session: Session, probe_id: uuid.UUID) -> Inspection | None:
    """The last time a probe was looked over."""
    query = select(Inspection).where(Inspection.probe_id == probe_id)
    return session.scalar(query.order_by(Inspection.at.desc()).limit(1))


def _standing() -> ColumnElement[bool]:
    """Calibrations that nothing has taken the place of."""
    return ~select(Superseding.calibration_id).where(Superseding.calibration_id == Calibration.id).exists()


def latest_calibration(session: Session, probe_id: uuid.UUID, before: datetime | None = None) -> Calibration | None:
    """The newest standing calibration of a probe, whatever its outcome."""
    query = select(Calibration).where(Calibration.probe_id == probe_id, _standing())
    if before:
        query = query.where(Calibration.at <= before)
    return session.scalar(query.order_by(Calibration.at.desc()).limit(1))


def last_usable(
    session: Session, probe_id: uuid.UUID, *, full: bool = False, before: datetime | None = None
) -> Calibration | None:
    """The newest calibration that may back readings; with `full`, one that measured a slope."""
    query = select(Calibration).where(Calibration.probe_id == probe_id, Calibration.usable, _standing())
    if full:
        own = session.scalar(select(Probe.quantity).where(Probe.id == probe_id))
        if own == "ph":
            query = query.where(Calibration.fit["kind"].astext != "offset")
    if before:
        query = query.where(Calibration.at <= before)
    return session.scalar(query.order_by(Calibration.at.desc()).limit(1))


def calibrations(session: Session, probe_id: uuid.UUID, count: int = 10) -> list[Calibration]:
    """The last calibrations of a probe, newest first."""
    query = select(Calibration).where(Calibration.probe_id == probe_id)
    return list(session.scalars(query.order_by(Calibration.at.desc()).limit(count)))


def settle_times(session: Session, runs: Sequence[uuid.UUID]) -> dict[uuid.UUID, float]:
    """The slowest cup of each run [s]; live runs only, a typed one cannot know."""
    query = (
        select(Point.run_id, func.max(Point.settling["settle_s"].astext.cast(Double)))
        .join(Run, Run.id == Point.run_id)
        .where(Point.run_id.in_(runs), ~Point.withdrawn, Run.source == "live")
        .group_by(Point.run_id)
    )
    return {run: float(seconds) for run, seconds in session.execute(query) if seconds is not None}


def open_run(session: Session, probe_id: uuid.UUID) -> Run | None:
    """The run of this probe that has not ended, if there is one."""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    query = select(Run).where(Run.probe_id == probe_id, ~ended)
    return session.scalar(query.order_by(Run.started_at.desc()).limit(1))


def open_runs(session: Session, found: Sequence[Probe]) -> dict[uuid.UUID, Run]:
    """The runs of these probes that have not ended, by probe."""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    query = select(Run).where(Run.probe_id.in_([p.id for p in found]), ~ended).order_by(Run.started_at)
    return {run.probe_id: run for run in session.scalars(query)}


def waits_for(session: Session, run: Run) -> str:
    """What of this sitting must end before an ion tip's run goes on; empty where nothing stands in its way."""
    if run.sitting_id is None or run.probe.quantity not in ("nitrate", "ammonium"):
        return ""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    open_ones = session.scalars(select(Run).where(Run.sitting_id == run.sitting_id, ~ended))
    names = [r.probe.name for r in open_ones if r.probe.quantity in ("ph", "redox", "conductivity")]
    return ", ".join(sorted(names))


def last_run(session: Session, probe_id: uuid.UUID) -> Run | None:
    """The newest run of a probe, whatever became of it."""
    return session.scalar(select(Run).where(Run.probe_id == probe_id).order_by(Run.started_at.desc()).limit(1))


def last_cups(session: Session, probe_id: uuid.UUID) -> dict[str, str]:
    """The lots of the probe's last run by step: what stands on the shelf is usually taken again."""
    query = select(Run).where(Run.probe_id == probe_id, Run.purpose == "calibration")
    newest = session.scalar(query.order_by(Run.started_at.desc()).limit(1))
    return dict(newest.cups) if newest else {}


def present_dip(session: Session, probe_id: uuid.UUID) -> Dip | None:
    """Where the probe stands now: its newest dip."""
    return session.scalar(select(Dip).where(Dip.probe_id == probe_id).order_by(Dip.number.desc()).limit(1))
