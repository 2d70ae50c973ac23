"""What each probe may be trusted for now: asked for many probes at once, so that a page costs a few queries."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import ARRAY, Uuid, func, literal, select, true
from sqlalchemy.orm import Session, lazyload

from brumel.core.verdict import Outcome
from brumel.store.records import Closing
from brumel.store.tables import Calibration, CalibrationWithdrawal, Inspection, Maintenance, Probe, ProbeInstallation
from brumel.work.kit.maintenance import Wait, maintenance_words, waits


@dataclass(frozen=True)
class Trust:
    """What a probe may be trusted for now. `calibration` backs readings only where `valid`."""

    valid: bool
    words: str
    next_step: str
    calibration: Calibration | None
    outcome: Outcome


@dataclass(frozen=True)
class TrustFacts:
    """The newest of everything that speaks for or against a probe."""

    look: Inspection | None
    calibration: Calibration | None
    maintenance: Maintenance | None
    wait: Wait | None
    installation: ProbeInstallation | None
    closing: Closing | None


def facts(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, TrustFacts]:
    """The facts of many probes by a handful of queries, each looking up one row a probe in an index."""
    ids = [p.id for p in probes]
    standing = (
        ~select(CalibrationWithdrawal.calibration_id)
        .where(CalibrationWithdrawal.calibration_id == Calibration.id)
        .exists()
    )
    looks = _newest(session, Inspection, ids)
    calibrations = _newest(session, Calibration, ids, Calibration.at <= now, standing)
    maintenance = _newest(session, Maintenance, ids, Maintenance.at <= now)
    installations = _newest(session, ProbeInstallation, ids, ProbeInstallation.at <= now)
    running = waits(session, probes, now)
    query = (
        select(Closing)
        .options(lazyload("*"))
        .where(Closing.calibration_id.in_([c.id for c in calibrations.values()]), Closing.at <= now)
        .order_by(Closing.at)
    )
    closings = {c.calibration_id: c for c in session.scalars(query)}
    return {
        i: TrustFacts(
            looks.get(i),
            calibration := calibrations.get(i),
            maintenance.get(i),
            running.get(i),
            installations.get(i),
            closings.get(calibration.id) if calibration else None,
        )
        for i in ids
    }


def _newest(session: Session, table: Any, ids: Sequence[uuid.UUID], *where: Any) -> dict[uuid.UUID, Any]:
    wanted = select(func.unnest(literal(list(ids), ARRAY(Uuid))).label("probe_id")).subquery()
    top = (
        select(table.id).where(table.probe_id == wanted.c.probe_id, *where).order_by(table.at.desc()).limit(1).lateral()
    )
    newest = select(top.c.id).select_from(wanted).join(top, true())
    # What hangs on the rows (a run with its whole method) is loaded only where someone asks for it.
    return {r.probe_id: r for r in session.scalars(select(table).options(lazyload("*")).where(table.id.in_(newest)))}


def trust_of(session: Session, probe: Probe, now: datetime) -> Trust:
    """What can this probe be trusted for now, until when, and what stands in the way."""
    return trusts(session, [probe], now)[probe.id]


def trusts(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, Trust]:
    """What each of these probes can be trusted for now."""
    known = facts(session, probes, now)
    return {p.id: _judged(p, known[p.id], now) for p in probes}


def _judged(probe: Probe, known: TrustFacts, now: datetime) -> Trust:
    look, newest, done, waiting = known.look, known.calibration, known.maintenance, known.wait
    if look is not None and look.blocks:
        words = f"Inspected {look.at:%d %b, %H:%M} UTC and kept off Bench: {look.note or 'see its findings'}"
        return Trust(False, words.rstrip(".") + ".", "Put it right, then inspect it again.", None, Outcome.NOT)
    if waiting:
        words = (
            f"{waiting.words.capitalize()} {waiting.done.at:%d %b, %H:%M} UTC; {waiting.meanwhile or 'waiting'} until "
            f"{waiting.ready_at:%d %b, %H:%M} UTC."
        )
        return Trust(False, words, "Then calibrate it on Bench.", newest, Outcome.NOT)
    if newest is not None and done is not None and done.at > newest.at:
        what = maintenance_words(probe, done)[0].capitalize()
        words = f"{what} {done.at:%d %b, %H:%M} UTC, after calibration {newest.number}."
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    moved = known.installation
    if newest is not None and moved is not None and moved.at > newest.at:
        words = f"Fitted to {moved.meter.name} {moved.at:%d %b, %H:%M} UTC, after calibration {newest.number}."
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    if newest is None:
        return Trust(False, "Never calibrated.", "Calibrate it on Bench.", None, Outcome.NOT)
    if not newest.usable:
        words = f"Calibration {newest.number} of {newest.at:%d %b, %H:%M} UTC: {Outcome(newest.outcome).words}."
        return Trust(False, words, "Follow its remedies, then calibrate again.", newest, Outcome.NOT)
    if newest.valid_until < now:
        words = f"Calibration {newest.number} ran out on {newest.valid_until:%d %b, %H:%M} UTC."
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    closed = known.closing
    if closed is not None and not closed.holds:
        words = f"Closing check {closed.number} of {closed.at:%d %b, %H:%M} UTC did not hold for calibration {newest.number}."
        return Trust(False, words, "Find out why, then calibrate it on Bench.", newest, Outcome.NOT)
    outcome = Outcome(newest.outcome)
    words = f"Calibration {newest.number}: {outcome.words} until {newest.valid_until:%d %b, %H:%M} UTC."
    return Trust(True, words, "Ready for the round.", newest, outcome)
