"""The sheet of a visit: every probe in the water, what it is worth, what follows from it, and what is odd about it."""

from __future__ import annotations

import math
import uuid
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy import ScalarSelect, Select, bindparam, select
from sqlalchemy.orm import Session, joinedload, lazyload, load_only, undefer

from brumel.core.quantity_table import MEASURED
from brumel.core.sentence import say
from brumel.core.sheet import Water
from brumel.store.rounds import VisitNote
from brumel.store.standing import is_standing
from brumel.store.tables import Calibration, Dip, Lot, Point, Probe, Reading, User, Visit, VisitProbe
from brumel.work import kit
from brumel.work.desk import NotFound, object_id
from brumel.work.link import samples
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities import standards
from brumel.work.quantities.book import quantity_of
from brumel.work.rounds.sheet.judging import judge_sheet
from brumel.work.rounds.sheet.model import Backing, OtherDisplay, Sheet, SheetLine
from brumel.work.rounds.sites import past_values


def visit_of(session: Session, visit_id: str | uuid.UUID) -> Visit:
    """One visit by id; the front door for everything that names a visit."""
    visit = session.scalars(_whole(), {"visit": object_id(visit_id, "visit")}).unique().one_or_none()
    if visit is None:
        raise NotFound("There is no such visit.")
    return visit


@cache
def _whole() -> Select[Visit]:
    with_probes = joinedload(Visit.carried).joinedload(VisitProbe.probe)
    at_once = (
        with_probes,
        joinedload(Visit.photos),
        joinedload(Visit.outing).lazyload("*"),
        undefer(Visit.moved_to_id),
    )
    return select(Visit).where(Visit.id == bindparam("visit")).options(*at_once)


def conditions(session: Session, visit: Visit) -> dict[str, Any]:
    """What is known of the air and the water of a visit."""
    return _merged(_said(session, visit.id))


def _merged(said: Iterable[VisitNote]) -> dict[str, Any]:
    """All that was said of the air and the water, the newest of each kept."""
    merged: dict[str, Any] = {}
    for row in said:
        if row.kind == "conditions":
            merged |= row.body
    return merged


def _beside(said: Iterable[VisitNote], dips: Iterable[Dip]) -> dict[uuid.UUID, OtherDisplay]:
    """What was typed besides, the newest of each probe that stands in the water, since it went in."""
    found: dict[uuid.UUID, OtherDisplay] = {}
    rows = [row for row in said if row.kind == "beside"]
    for dip in dips:
        for row in rows:
            if str(dip.probe_id) not in row.body or row.at < dip.started_at:
                continue
            found.pop(dip.probe_id, None)
            if other := row.body[str(dip.probe_id)]:
                found[dip.probe_id] = OtherDisplay(other["entered"], other["value"], tuple(other["set_to"]))
    return found


def _still(said: Iterable[VisitNote], dips: Iterable[Dip]) -> frozenset[uuid.UUID]:
    """The probes whose display was watched standing still since they went in."""
    rows = [row for row in said if row.kind == "still"]
    return frozenset(d.probe_id for d in dips if any(r.at >= d.started_at and str(d.probe_id) in r.body for r in rows))


def _said(session: Session, visit_id: uuid.UUID) -> list[VisitNote]:
    return list(session.scalars(_notes(), {"visit": visit_id}))


@cache
def _notes() -> Select[VisitNote]:
    return select(VisitNote).where(VisitNote.visit_id == bindparam("visit")).order_by(VisitNote.at)


def of_visit(session: Session, visit_id: uuid.UUID | ScalarSelect[uuid.UUID]) -> list[Reading]:
    """The readings recorded in a visit, standing versions, in the order of a sheet."""
    return _in_order([row for row, stands in _versions(session, visit_id) if stands])


def of_visits(session: Session, visit_ids: Sequence[uuid.UUID]) -> dict[uuid.UUID, list[Reading]]:
    """The same of several visits."""
    query = select(Reading).options(lazyload("*")).where(Reading.visit_id.in_(visit_ids), is_standing())
    readings: dict[uuid.UUID, list[Reading]] = {visit: [] for visit in visit_ids}
    for row in session.scalars(query):
        readings[row.visit_id].append(row)
    return {visit: _in_order(rows) for visit, rows in readings.items()}


def _versions(session: Session, visit_id: uuid.UUID | ScalarSelect[uuid.UUID]) -> list[tuple[Reading, bool]]:
    """Every version that was written in a visit, and whether it stands."""
    rows = session.execute(_all_versions().where(Reading.visit_id == visit_id))
    return [(row, stands) for row, stands in rows]


@cache
def _all_versions() -> Select[Reading, bool]:
    of_calibration = (Calibration.number, Calibration.at, Calibration.valid_until, Calibration.outcome)
    calibration = joinedload(Reading.calibration).options(lazyload("*"), load_only(*of_calibration))
    by = joinedload(Reading.by).options(lazyload("*"), load_only(User.name))
    query = select(Reading, is_standing()).options(lazyload("*"), by, calibration)
    return query.order_by(Reading.version)


def _in_order(standing: Sequence[Reading]) -> list[Reading]:
    return sorted(standing, key=lambda r: (quantity_names.ORDER.get(r.quantity, 99), r.at))


def sheet_of_visit(
    session: Session, visit_id: str | uuid.UUID, now: datetime, seen: Mapping[str, int | None] | None = None
) -> Sheet:
    """The visit of that id as it stands now; `seen` cuts the trace of a dip at the sample a page had shown."""
    visit = visit_of(session, visit_id)
    said = _said(session, visit.id)
    versions = _versions(session, visit.id)
    kept = _in_order([row for row, stands in versions if stands])
    probes = [c.probe for c in visit.carried]
    taken = {row.dip_id for row, _ in versions}
    known = kit.reading_facts(session, probes, now)
    dips = {
        probe_id: one.dip
        for probe_id, one in known.items()
        if one.dip is not None and one.dip.visit_id == visit.id and one.dip.id not in taken
    }
    traces = samples.traces(session, list(dips.values()))
    signals = {p.id: quantity_of(p.quantity).native for p in probes}
    for probe_id, dip in dips.items():
        trace = traces[dip.id] = traces[dip.id].seen_until((seen or {}).get(str(dip.id)))
        signals[probe_id] = trace.entered_as if trace.t_s.size else dip.entered or signals[probe_id]
    uncertainties = standards_uncertainty(session, [one.usable for i, one in known.items() if one.usable and i in dips])
    behind = {p.id: _backing(p, signals[p.id], known[p.id], uncertainties, now) for p in probes}
    lines = []
    for carried in visit.carried:
        probe, mine = carried.probe, tuple(r for r in kept if r.probe_id == carried.probe_id)
        dip_here = dips.get(probe.id)
        trace_here = traces[dip_here.id] if dip_here else None
        lines.append(SheetLine(probe, carried.role, behind[probe.id], dip_here, trace_here, kept=mine))
    depth = next((line.dip.depth_m for line in lines if line.dip is not None), None)
    past = past_values(session, visit.site, before=visit.at, depth_m=depth)
    notes = tuple(row for row in said if row.kind == "note")
    here = list(dips.values())
    beside, still = _beside(said, here), _still(said, here)
    whole = Sheet(visit, tuple(lines), Water(), _merged(said), tuple(kept), depth, notes, beside=beside, still=still)
    return judge_sheet(whole, past, now)


def _backing(
    probe: Probe, signal: str, known: kit.ReadingFacts, uncertainties: Mapping[uuid.UUID, float], now: datetime
) -> Backing:
    """What a signal of this probe is read with. Without a valid calibration the reading is unbacked, but read.

    uncertainties : of the standards behind a calibration, for the probes that stand in the water
    """
    quantity, usual = quantity_of(probe.quantity), MEASURED[probe.quantity].standard_u
    trust, last = kit.trust_by(probe, known.facts, now), known.usable
    newest = trust.calibration
    if trust.valid and newest and quantity.can_read(newest, signal):
        words = say("calibration {number} in force; closing check pending", number=newest.number)
        return Backing(kit.restored(newest), newest, "open", words, uncertainties.get(newest.id, usual), trust)
    why = _other_signal(newest, signal) if trust.valid and newest else trust.words
    if last and quantity.can_read(last, signal):
        words = say("no valid calibration; read with calibration {number}: {why}", number=last.number, why=why)
        return Backing(kit.restored(last), last, "unbacked", words, uncertainties.get(last.id, usual), trust)
    ideal, fit = MEASURED[probe.quantity].ideal, quantity.ideal(probe)
    if fit is None:
        nothing = trust.words
        if last:
            advice = f"Type {_entered(last.signal)} in its place, or calibrate the probe first."
            nothing = f"{_other_signal(last, signal)}. {advice}"
        return Backing(None, None, "unbacked", nothing, usual, trust, ideal)
    words = say("no valid calibration; read with {ideal}: {why}", ideal=ideal, why=why)
    return Backing(fit, None, "unbacked", words, usual, trust, ideal)


def _entered(signal: str) -> str:
    """What is typed, in words."""
    known = {"mv": "mV", "ph": "displayed pH", "mg_l_n": "displayed mg/L", "mg_l_ion": "displayed mg/L"}
    return known.get(signal, signal)


def _other_signal(calibration: Calibration, signal: str) -> str:
    """Why a calibration cannot read what was typed."""
    made = _entered(calibration.signal)
    return f"calibration {calibration.number} was made from {made}, this reading is {_entered(signal)}"


def backing_at(session: Session, probe: Probe, signal: str, at: datetime) -> Backing:
    """What a signal of this probe is read with at a time that may be past."""
    known = kit.reading_facts(session, [probe], at)[probe.id]
    uncertainties = standards_uncertainty(session, [known.usable] if known.usable else [])
    return _backing(probe, signal, known, uncertainties, at)


def standards_uncertainty(session: Session, calibrations: Iterable[Calibration]) -> dict[uuid.UUID, float]:
    """Standard uncertainty of the least certain cup of each run, in the unit of the quantity's budget.

    A cup is as certain as its standard, and as what was still to come when its point was taken lets it be.
    """
    by_run = {c.run_id: c for c in calibrations}
    stated: dict[uuid.UUID, list[float]] = {c.id: [] for c in by_run.values()}
    rows = (
        select(Point.run_id, Lot, Point.signal, Point.settling)
        .join(Lot, Lot.id == Point.lot_id, isouter=True)
        .where(Point.run_id.in_(by_run), ~Point.withdrawn)
    )
    rest: dict[uuid.UUID, float] = dict.fromkeys(stated, 0.0)
    for run_id, lot, signal, settling in session.execute(rows) if by_run else ():
        calibration = by_run[run_id]
        quantity = calibration.run.probe.quantity
        if lot is not None:
            stated[calibration.id].append(standards.label_uncertainty(lot, quantity))
        left = [float((settling or {}).get(part) or 0.0) for part in ("remaining", "remaining_u")]
        to_come = quantity_of(quantity).budget_share(math.hypot(*left), signal or 0.0)
        rest[calibration.id] = max(rest[calibration.id], to_come)
    return {
        c.id: math.hypot(max(stated[c.id], default=0.0) / 2 or MEASURED[c.run.probe.quantity].standard_u, rest[c.id])
        for c in by_run.values()
    }
