"""What each probe may be trusted for now: asked for many probes at once, so that a page costs a few queries."""

from __future__ import annotations

import uuid
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy import TIMESTAMP, Select, bindparam, func, select, true
from sqlalchemy.orm import Session, aliased, defer, lazyload
from sqlalchemy.orm.attributes import set_committed_value

from brumel.core.sentence import say
from brumel.core.verdict import Outcome
from brumel.store.base import a_row_each
from brumel.store.records import Closing
from brumel.store.tables import Calibration, Dip, Inspection, Maintenance, Probe, ProbeInstallation, Run, StorageRecord
from brumel.work.kit.calibrations import stands
from brumel.work.kit.maintenance import LONGEST_WAIT, Wait, maintenance_words, running_wait, waits_within
from brumel.work.quantities.book import quantity_of


@dataclass(frozen=True)
class Trust:
    """What a probe may be trusted for now. `calibration` backs readings only where `valid`."""

    valid: bool
    words: str
    next_step: str
    calibration: Calibration | None
    outcome: Outcome
    facts: TrustFacts | None = None


@dataclass(frozen=True)
class TrustFacts:
    """The newest of everything that speaks for or against a probe."""

    look: Inspection | None
    calibration: Calibration | None
    maintenance: Maintenance | None
    wait: Wait | None
    installation: ProbeInstallation | None
    closing: Closing | None
    storage: StorageRecord | None = None
    done_since_stored: frozenset[str] = frozenset()


#: What takes long to read of a row, and trust does not rest on.
UNASKED: dict[type[Any], tuple[str, ...]] = {
    Inspection: ("findings",),
    Calibration: ("verdict", "causes", "as_found", "figures"),
    Run: ("cups",),
    Maintenance: ("answers",),
    Closing: ("checks",),
}
#: What only reading with a calibration rests on.
TO_READ_WITH: dict[type[Any], tuple[str, ...]] = {Calibration: ("fit",), Run: ("method",)}


def facts(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, TrustFacts]:
    """The facts of many probes by one query, which looks up one row a probe and kind of fact in an index."""
    return {probe_id: one.facts for probe_id, one in _facts(session, probes, now, read_with=False).items()}


@dataclass(frozen=True)
class ReadingFacts:
    """What a probe is read with: the facts of its trust, the calibration that may back a reading, and where it stands."""

    facts: TrustFacts
    usable: Calibration | None
    dip: Dip | None


def reading_facts(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, ReadingFacts]:
    """What many probes are read with, by one query."""
    return _facts(session, probes, now, read_with=True)


def _facts(
    session: Session, probes: Sequence[Probe], now: datetime, *, read_with: bool
) -> dict[uuid.UUID, ReadingFacts]:
    asked = {"probes": [p.id for p in probes], "now": now, "since": now - LONGEST_WAIT}
    rows = session.execute(_newest_of_everything(read_with), asked)
    by_id = {p.id: p for p in probes}
    known = {}
    for probe_id, begun, done, look, calibration, made_by, last, fitted, closing, stored, *read in rows:
        wait = running_wait(by_id[probe_id], begun or [], now)
        of_trust = TrustFacts(look, calibration, last, wait, fitted, closing, stored, frozenset(done or ()))
        if calibration is not None:
            set_committed_value(calibration, "run", made_by)
        backing, run, dip = read or (None, None, None)
        if backing is not None:
            set_committed_value(backing, "run", run)
        known[probe_id] = ReadingFacts(of_trust, backing, dip)
    return known


@cache
def _newest_of_everything(read_with: bool) -> Select[Any]:
    """Made once: putting it together takes longer than what it asks for."""
    now = bindparam("now", type_=TIMESTAMP(timezone=True))
    wanted = a_row_each("probes", "probe_id")
    calibrations = _newest(Calibration, wanted, Calibration.at <= now, stands())
    closings = (
        select(Closing)
        .where(Closing.calibration_id == calibrations.c.id, Closing.at <= now)
        .order_by(Closing.at.desc())
        .limit(1)
        .lateral()
    )
    storage = _newest(StorageRecord, wanted, StorageRecord.at <= now)
    since = (
        select(func.jsonb_agg(Maintenance.what).label("done"))
        .where(Maintenance.probe_id == wanted.c.probe_id, Maintenance.at > storage.c.at, Maintenance.at <= now)
        .lateral()
    )
    parts = [
        (Inspection, _newest(Inspection, wanted)),
        (Calibration, calibrations),
        (Run, select(Run).where(Run.id == calibrations.c.run_id).lateral()),
        (Maintenance, _newest(Maintenance, wanted, Maintenance.at <= now)),
        (ProbeInstallation, _newest(ProbeInstallation, wanted, ProbeInstallation.at <= now)),
        (Closing, closings),
        (StorageRecord, storage),
    ]
    if read_with:
        usable = _newest(Calibration, wanted, Calibration.usable, Calibration.at <= now, stands())
        runs = select(Run).where(Run.id == usable.c.run_id).lateral()
        dips = select(Dip).where(Dip.probe_id == wanted.c.probe_id).order_by(Dip.number.desc()).limit(1).lateral()
        parts += [(Calibration, usable), (Run, runs), (Dip, dips)]
    running = (
        waits_within(now, bindparam("since", type_=TIMESTAMP(timezone=True)))
        .where(Maintenance.probe_id == wanted.c.probe_id)
        .lateral()
    )
    known = [aliased(table, part) for table, part in parts]
    query = select(wanted.c.probe_id, running.c.rows, since.c.done, *known)
    left_out = [
        defer(getattr(one, name))
        for (table, _), one in zip(parts, known, strict=True)
        for name in (*UNASKED.get(table, ()), *(() if read_with else TO_READ_WITH.get(table, ())))
    ]
    joined: Any = wanted
    for part in (*(part for _, part in parts), running, since):
        joined = joined.outerjoin(part, true())
    # What hangs on the rows is loaded only where someone asks for it; a run is then found in the session.
    return query.select_from(joined).options(lazyload("*"), *left_out)


def _newest(table: Any, wanted: Any, *where: Any) -> Any:
    return select(table).where(table.probe_id == wanted.c.probe_id, *where).order_by(table.at.desc()).limit(1).lateral()


def trust_of(session: Session, probe: Probe, now: datetime) -> Trust:
    """What can this probe be trusted for now, until when, and what stands in the way."""
    return trusts(session, [probe], now)[probe.id]


def trusts(session: Session, probes: Sequence[Probe], now: datetime) -> dict[uuid.UUID, Trust]:
    """What each of these probes can be trusted for now."""
    known = facts(session, probes, now)
    return {p.id: trust_by(p, known[p.id], now) for p in probes}


def trust_by(probe: Probe, known: TrustFacts, now: datetime) -> Trust:
    """What a probe can be trusted for, by the facts."""
    return replace(_judged(probe, known, now), facts=known)


def _judged(probe: Probe, known: TrustFacts, now: datetime) -> Trust:
    look, newest, done, waiting = known.look, known.calibration, known.maintenance, known.wait
    if look is not None and look.blocks:
        words = say("Inspected {at} and kept off Bench: {note}", at=look.at, note=look.note or "see its findings")
        return Trust(False, words.rstrip(".") + ".", "Put it right, then inspect it again.", None, Outcome.NOT)
    if waiting:
        words = say(
            "{treated} {at}; {meanwhile} until {ready_at}.",
            treated=waiting.words.capitalize(),
            at=waiting.at,
            meanwhile=waiting.meanwhile or "waiting",
            ready_at=waiting.ready_at,
        )
        return Trust(False, words, "Then calibrate it on Bench.", newest, Outcome.NOT)
    if newest is not None and done is not None and done.at > newest.at:
        what = maintenance_words(probe, done)[0].capitalize()
        words = say("{what} {at}, after calibration {number}.", what=what, at=done.at, number=newest.number)
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    moved = known.installation
    if newest is not None and moved is not None and moved.at > newest.at:
        words = say(
            "Fitted to {name} {at}, after calibration {number}.",
            name=moved.meter.name,
            at=moved.at,
            number=newest.number,
        )
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    if newest is None:
        return Trust(False, "Never calibrated.", "Calibrate it on Bench.", None, Outcome.NOT)
    if not newest.usable:
        words = say(
            "Calibration {number} of {at}: {words}.",
            number=newest.number,
            at=newest.at,
            words=Outcome(newest.outcome).words,
        )
        return Trust(False, words, "Follow its remedies, then calibrate again.", newest, Outcome.NOT)
    if newest.valid_until < now:
        words = say(
            "Calibration {number} ran out on {valid_until}.", number=newest.number, valid_until=newest.valid_until
        )
        return Trust(False, words, "Calibrate it on Bench.", newest, Outcome.NOT)
    closed = known.closing
    if closed is not None and not closed.holds:
        words = say(
            "Closing check {number} of {at} did not hold for calibration {calibration}.",
            number=closed.number,
            at=closed.at,
            calibration=newest.number,
        )
        return Trust(False, words, "Find out why, then calibrate it on Bench.", newest, Outcome.NOT)
    outcome = Outcome(newest.outcome)
    words = say(
        "Calibration {number}: {words} until {valid_until}.",
        number=newest.number,
        words=outcome.words,
        valid_until=newest.valid_until,
    )
    return Trust(True, words, "Ready for the round.", newest, outcome)


def typed_gap(probe: Probe, trust: Trust) -> str:
    """What is said where a valid calibration does not back what the display usually shows; empty where it does.

    A calibration made from the signal in mV says nothing of a display that was never set by it.
    """
    newest, quantity = trust.calibration, quantity_of(probe.quantity)
    shown = quantity.row.displayed
    if not trust.valid or newest is None or not shown or quantity.can_read(newest, shown):
        return ""
    made = quantity.entries[newest.signal].label if newest.signal in quantity.entries else newest.signal
    return say(
        "Calibration {number} was made in {made}: a typed {shown} has no valid calibration. Type {made}, or calibrate it by "
        "what it displays.",
        number=newest.number,
        made=made,
        shown=quantity.entries[shown].label,
    )


def best_of(trusted: Sequence[tuple[Probe, Trust]], quantities: Collection[str]) -> set[uuid.UUID]:
    """The probes these quantities are best read with: of each the trusted one, and one on a link first."""
    best: dict[str, uuid.UUID] = {}
    for probe, _ in sorted(trusted, key=lambda pair: (not pair[1].valid, pair[0].meter.link == "typed")):
        if probe.quantity in quantities:
            best.setdefault(probe.quantity, probe.id)
    return set(best.values())
