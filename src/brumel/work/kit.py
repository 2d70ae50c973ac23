"""Probes, meters and solutions, and what each probe can be trusted for now."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy import Double, func, select
from sqlalchemy.orm import Session

from brumel.core.ph import Buffer, buffer_ph, label_buffer
from brumel.core.ph.buffers import find_buffer
from brumel.core.verdict import Outcome
from brumel.methods.upkeep import load_upkeep
from brumel.store.tables import Calibration, Dip, Lot, Point, Probe, Run, RunEnd, Upkeep
from brumel.work.desk import NotFound, object_id


@dataclass(frozen=True)
class Trust:
    """What a probe may be trusted for now. `calibration` backs readings only where `valid`."""

    valid: bool
    words: str
    next_step: str
    calibration: Calibration | None
    outcome: Outcome


@dataclass(frozen=True)
class LotView:
    """A lot with its buffer table and whatever speaks against using it."""

    lot: Lot
    buffer: Buffer
    objections: tuple[str, ...]

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
    return list(session.scalars(select(Probe).where(Probe.retired_at.is_(None)).order_by(Probe.name)))


def buffer_of(lot: Lot) -> Buffer:
    """The lot's own label table where it has one; it wins over the family's."""
    if lot.label_table:
        table = {float(t): float(p) for t, p in lot.label_table.items()}
        return label_buffer(lot.code, f"{lot.name} ({lot.code})", table, lot.expanded_uncertainty)
    return find_buffer(lot.family)


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
    return LotView(lot, buffer_of(lot), tuple(objections))


def lots(session: Session, now: datetime) -> list[LotView]:
    """All lots not discarded, those in date first."""
    rows = list(session.scalars(select(Lot).where(Lot.discarded_at.is_(None)).order_by(Lot.code)))
    used = used_before(session, [row.id for row in rows if row.single_use])
    return sorted(
        (lot_view(row, now, used=row.id in used) for row in rows),
        key=lambda v: (len(v.objections), v.buffer.nominal_ph),
    )


def used_before(session: Session, lot_ids: Sequence[uuid.UUID], run_id: uuid.UUID | None = None) -> set[uuid.UUID]:
    """Which of these lots gave a point in a run (in another run than `run_id`)."""
    if not lot_ids:
        return set()
    query = select(Point.lot_id).where(Point.lot_id.in_(lot_ids)).distinct()
    if run_id is not None:
        query = query.where(Point.run_id != run_id)
    return {found for found in session.scalars(query) if found}


def last_upkeep(session: Session, probe_id: uuid.UUID, before: datetime) -> Upkeep | None:
    """The newest thing done to a probe."""
    query = select(Upkeep).where(Upkeep.probe_id == probe_id, Upkeep.at <= before)
    return session.scalar(query.order_by(Upkeep.at.desc()).limit(1))


@dataclass(frozen=True)
class Wait:
    """A wait that still runs: what was done, in words, what the probe does meanwhile, and when it ends."""

    done: Upkeep
    words: str
    meanwhile: str
    ready_at: datetime


LONGEST_WAIT = timedelta(days=14)


def conditioning(session: Session, found: Probe, now: datetime) -> Wait | None:
    """The wait of a probe that ends last; None where it may be calibrated. The probe's own waits win over the default."""
    query = select(Upkeep).where(Upkeep.probe_id == found.id, Upkeep.at <= now, Upkeep.at > now - LONGEST_WAIT)
    running = []
    for done in session.scalars(query):
        own = found.waits.get(done.what)
        ready = done.ready_at if own is None else done.at + timedelta(hours=float(own))
        if ready > now:
            running.append(Wait(done, *upkeep_words(found, done), ready))
    return max(running, key=lambda w: w.ready_at, default=None)


def upkeep_words(found: Probe, done: Upkeep) -> tuple[str, str]:
    """What was done and what the probe does meanwhile, in words."""
    spec = load_upkeep().get(found.quantity, {}).get(done.what)
    return (spec.words, spec.meanwhile) if spec else (done.what, "")


def lot_ph(lot: Lot, temperature_c: float) -> float:
    """What the lot should read at the cup's own temperature [°C] -> pH."""
    return float(buffer_ph(buffer_of(lot), temperature_c))


def latest_calibration(session: Session, probe_id: uuid.UUID, before: datetime | None = None) -> Calibration | None:
    """The newest calibration of a probe, whatever its outcome."""
    query = select(Calibration).where(Calibration.probe_id == probe_id)
    if before:
        query = query.where(Calibration.at <= before)
    return session.scalar(query.order_by(Calibration.at.desc()).limit(1))


def last_usable(
    session: Session, probe_id: uuid.UUID, *, full: bool = False, before: datetime | None = None
) -> Calibration | None:
    """The newest calibration that may back readings; with `full`, one that measured a slope."""
    query = select(Calibration).where(Calibration.probe_id == probe_id, Calibration.usable)
    if full:
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


def trust(session: Session, found: Probe, now: datetime) -> Trust:
    """What can this probe be trusted for now, until when, and what stands in the way."""
    newest = latest_calibration(session, found.id, now)
    done = last_upkeep(session, found.id, now)
    waiting = conditioning(session, found, now)
    if waiting:
        words = (
            f"{waiting.words.capitalize()} {waiting.done.at:%d %b, %H:%M} UTC; {waiting.meanwhile or 'waiting'} until "
            f"{waiting.ready_at:%d %b, %H:%M} UTC."
        )
        return Trust(False, words, "Then calibrate it on Bench.", newest, Outcome.NOT)
    if newest is not None and done is not None and done.at > newest.at:
        words = f"{upkeep_words(found, done)[0].capitalize()} {done.at:%d %b, %H:%M} UTC, after calibration {newest.number}."
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    if newest is None:
        return Trust(False, "Never calibrated.", "Calibrate it on Bench.", None, Outcome.NOT)
    if not newest.usable:
        words = f"Calibration {newest.number} of {newest.at:%d %b, %H:%M} UTC: {Outcome(newest.outcome).words}."
        return Trust(False, words, "Follow its remedies, then calibrate again.", newest, Outcome.NOT)
    if newest.valid_until < now:
        words = f"Calibration {newest.number} ran out on {newest.valid_until:%d %b, %H:%M} UTC."
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    outcome = Outcome(newest.outcome)
    words = f"Calibration {newest.number}: {outcome.words} until {newest.valid_until:%d %b, %H:%M} UTC."
    return Trust(True, words, "Ready for the round.", newest, outcome)


def open_run(session: Session, probe_id: uuid.UUID) -> Run | None:
    """The run of this probe that has not ended, if there is one."""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    query = select(Run).where(Run.probe_id == probe_id, ~ended)
    return session.scalar(query.order_by(Run.started_at.desc()).limit(1))


def last_cups(session: Session, probe_id: uuid.UUID) -> dict[str, str]:
    """The lots of the probe's last run by step: what stands on the shelf is usually taken again."""
    newest = session.scalar(select(Run).where(Run.probe_id == probe_id).order_by(Run.started_at.desc()).limit(1))
    return dict(newest.cups) if newest else {}


def present_dip(session: Session, probe_id: uuid.UUID) -> Dip | None:
    """Where the probe stands now: its newest dip."""
    return session.scalar(select(Dip).where(Dip.probe_id == probe_id).order_by(Dip.number.desc()).limit(1))
