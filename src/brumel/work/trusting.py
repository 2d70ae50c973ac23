"""What each probe may be trusted for now: asked for many probes at once, so that a page costs a few queries."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import ARRAY, Uuid, func, literal, select, true
from sqlalchemy.orm import Session, lazyload

from brumel.core.verdict import Outcome
from brumel.store.rounds import Closing
from brumel.store.tables import Calibration, Fitting, Inspection, Probe, Superseding, Upkeep
from brumel.work.kit import upkeep_words


@dataclass(frozen=True)
class Trust:
    """What a probe may be trusted for now. `calibration` backs readings only where `valid`."""

    valid: bool
    words: str
    next_step: str
    calibration: Calibration | None
    outcome: Outcome


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
    return waits(session, [found], now).get(found.id)


def waits(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, Wait]:
    """The waits that still run, by probe."""
    own = {p.id: p for p in probes}
    query = select(Upkeep).where(Upkeep.probe_id.in_(own), Upkeep.at <= now, Upkeep.at > now - LONGEST_WAIT)
    found: dict[uuid.UUID, Wait] = {}
    for done in session.scalars(query):
        probe = own[done.probe_id]
        hours = probe.waits.get(done.what)
        ready = done.ready_at if hours is None else done.at + timedelta(hours=float(hours))
        if ready > now and (done.probe_id not in found or ready > found[done.probe_id].ready_at):
            found[done.probe_id] = Wait(done, *upkeep_words(probe, done), ready)
    return found


@dataclass(frozen=True)
class Facts:
    """The newest of everything that speaks for or against a probe."""

    look: Inspection | None
    calibration: Calibration | None
    upkeep: Upkeep | None
    wait: Wait | None
    fitting: Fitting | None
    closing: Closing | None


def facts(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, Facts]:
    """The facts of many probes by a handful of queries, each looking up one row a probe in an index."""
    ids = [p.id for p in probes]
    standing = ~select(Superseding.calibration_id).where(Superseding.calibration_id == Calibration.id).exists()
    looks = _newest(session, Inspection, ids)
    calibrations = _newest(session, Calibration, ids, Calibration.at <= now, standing)
    upkeep = _newest(session, Upkeep, ids, Upkeep.at <= now)
    fittings = _newest(session, Fitting, ids, Fitting.at <= now)
    running = waits(session, probes, now)
    query = (
        select(Closing)
        .options(lazyload("*"))
        .where(Closing.calibration_id.in_([c.id for c in calibrations.values()]), Closing.at <= now)
        .order_by(Closing.at)
    )
    closings = {c.calibration_id: c for c in session.scalars(query)}
    return {
        i: Facts(
            looks.get(i), made := calibrations.get(i), upkeep.get(i), running.get(i), fittings.get(i),
            closings.get(made.id) if made else None,
        )
        for i in ids
    }  # fmt: skip


def _newest(session: Session, table: Any, ids: Sequence[uuid.UUID], *where: Any) -> dict[uuid.UUID, Any]:
    wanted = select(func.unnest(literal(list(ids), ARRAY(Uuid))).label("probe_id")).subquery()
    top = (
        select(table.id).where(table.probe_id == wanted.c.probe_id, *where).order_by(table.at.desc()).limit(1).lateral()
    )
    found = select(top.c.id).select_from(wanted).join(top, true())
    # What hangs on the rows (a run with its whole method) is loaded only where someone asks for it.
    return {r.probe_id: r for r in session.scalars(select(table).options(lazyload("*")).where(table.id.in_(found)))}


def trust(session: Session, found: Probe, now: datetime) -> Trust:
    """What can this probe be trusted for now, until when, and what stands in the way."""
    return trusts(session, [found], now)[found.id]


def trusts(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, Trust]:
    """What each of these probes can be trusted for now."""
    known = facts(session, probes, now)
    return {p.id: _judged(p, known[p.id], now) for p in probes}


def _judged(found: Probe, known: Facts, now: datetime) -> Trust:
    look, newest, done, waiting = known.look, known.calibration, known.upkeep, known.wait
    if look is not None and look.blocks:
        words = f"Looked over {look.at:%d %b, %H:%M} UTC and kept off Bench: {look.note or 'see its findings'}"
        return Trust(False, words.rstrip(".") + ".", "Put it right, then look it over again.", None, Outcome.NOT)
    if waiting:
        words = (
            f"{waiting.words.capitalize()} {waiting.done.at:%d %b, %H:%M} UTC; {waiting.meanwhile or 'waiting'} until "
            f"{waiting.ready_at:%d %b, %H:%M} UTC."
        )
        return Trust(False, words, "Then calibrate it on Bench.", newest, Outcome.NOT)
    if newest is not None and done is not None and done.at > newest.at:
        words = f"{upkeep_words(found, done)[0].capitalize()} {done.at:%d %b, %H:%M} UTC, after calibration {newest.number}."
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    moved = known.fitting
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
