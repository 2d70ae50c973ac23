"""The sheet of a visit: every probe in the water, what it is worth, what follows from it, and what is odd about it."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.sheet import Water
from brumel.store.rounds import VisitNote
from brumel.store.tables import Calibration, Dip, Lot, Probe, Reading, Visit
from brumel.work import kit
from brumel.work.desk import NotFound, object_id
from brumel.work.link import samples
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities import standards
from brumel.work.quantities.book import quantity_of
from brumel.work.rounds.sheet.judging import judge_sheet
from brumel.work.rounds.sheet.model import Backing, Sheet, SheetLine
from brumel.work.rounds.sites import past_values

#: standard uncertainty of the standards where the run's lots say nothing: half of what their labels usually say
STANDARD_U = {
    "ph": 0.01,
    "conductivity": 0.5,
    "oxygen": 0.5,
    "redox": 2.5,
    "nitrate": 0.5,
    "ammonium": 0.5,
    "chlorine": 0.05,
    "temperature": 0.05,
}


def visit_of(session: Session, visit_id: str | uuid.UUID) -> Visit:
    """One visit by id; the front door for everything that names a visit."""
    visit = session.get(Visit, object_id(visit_id, "visit"))
    if visit is None:
        raise NotFound("There is no such visit.")
    return visit


def conditions(session: Session, visit: Visit) -> dict[str, Any]:
    """What is known of the air and the water of a visit: all that was said, the newest of each kept."""
    rows = session.scalars(
        select(VisitNote).where(VisitNote.visit_id == visit.id, VisitNote.kind == "conditions").order_by(VisitNote.at)
    )
    merged: dict[str, Any] = {}
    for row in rows:
        merged |= row.body
    return merged


def of_visit(session: Session, visit_id: uuid.UUID) -> list[Reading]:
    """The readings recorded in a visit, standing versions, in the order of a sheet."""
    rows = session.scalars(select(Reading).where(Reading.visit_id == visit_id).order_by(Reading.version))
    newest = {r.root_id: r for r in rows}
    return sorted(newest.values(), key=lambda r: (quantity_names.ORDER.get(r.quantity, 99), r.at))


def sheet_of_visit(
    session: Session, visit_id: str | uuid.UUID, now: datetime, seen: Mapping[str, int | None] | None = None
) -> Sheet:
    """The visit of that id as it stands now; `seen` cuts the trace of a dip at the sample a page had shown."""
    visit = visit_of(session, visit_id)
    stated = conditions(session, visit)
    kept = of_visit(session, visit.id)
    bare = [_stands(session, visit, c.probe, c.role, now, kept, seen or {}) for c in visit.carried]
    depth = next((line.dip.depth_m for line in bare if line.dip is not None), None)
    past = past_values(session, visit.site, before=visit.at, depth_m=depth)
    return judge_sheet(Sheet(visit, tuple(bare), Water(), stated, tuple(kept), depth), past, now)


def _stands(
    session: Session,
    visit: Visit,
    probe: Probe,
    role: str,
    now: datetime,
    kept: list[Reading],
    seen: Mapping[str, int | None],
) -> SheetLine:
    mine = tuple(r for r in kept if r.probe_id == probe.id)
    dip = kit.present_dip(session, probe.id)
    if dip is None or dip.visit_id != visit.id or any(r.dip_id == dip.id for r in _versions(session, visit, dip)):
        return SheetLine(probe, role, backing(session, probe, quantity_of(probe.quantity).native, now), kept=mine)
    trace = samples.trace(session, dip).seen_until(seen.get(str(dip.id)))
    entered = trace.entered_as if trace.t_s.size else dip.entered or quantity_of(probe.quantity).native
    return SheetLine(probe, role, backing(session, probe, entered, now), dip, trace, kept=mine)


def _versions(session: Session, visit: Visit, dip: Dip) -> list[Reading]:
    return list(session.scalars(select(Reading).where(Reading.dip_id == dip.id).limit(1)))


def backing(session: Session, probe: Probe, signal: str, now: datetime) -> Backing:
    """What a signal of this probe is read with. Without a valid calibration the reading is unbacked, but read."""
    quantity = quantity_of(probe.quantity)
    trust = kit.trust_of(session, probe, now)
    newest = trust.calibration
    if trust.valid and newest and fits(quantity, newest, signal):
        words = f"calibration {newest.number} in force; closing check pending"
        return Backing(kit.restored(newest), newest, "open", words, standard_u(session, probe.quantity, newest))
    last = kit.last_usable(session, probe.id, before=now)
    if trust.valid and newest:
        entered = {"mv": "mV", "ph": "displayed pH"}
        why = (
            f"calibration {newest.number} was made from {entered.get(newest.signal, newest.signal)}, this reading is "
            f"{entered.get(signal, signal)}"
        )
    else:
        why = trust.words.rstrip(".")
    if last and fits(quantity, last, signal):
        words = f"no valid calibration: {why}; read with calibration {last.number}"
        return Backing(kit.restored(last), last, "unbacked", words, standard_u(session, probe.quantity, last))
    ideal = quantity.ideal(probe)
    with_words = {"ph": "an ideal electrode", "conductivity": "the cell's nominal constant"}.get(
        probe.quantity, "a perfect probe"
    )
    return Backing(
        ideal,
        None,
        "unbacked",
        f"no valid calibration: {why}; read with {with_words}",
        STANDARD_U.get(probe.quantity, 0.5),
    )


def fits(quantity: Any, calibration: Calibration, signal: str) -> bool:
    """Whether a signal may be read with a calibration: a display is another scale than the raw signal.

    Conductivity and oxygen displays are taken back to the raw signal as they are typed, unless the meter was adjusted.
    """
    if calibration.signal == signal:
        return True
    return quantity.quantity != "ph" and not calibration.run.conditions.adjusted


def standard_u(session: Session, quantity: str, calibration: Calibration | None) -> float:
    """Standard uncertainty of the least certain standard of the run, in the unit of the quantity's budget."""
    usual = STANDARD_U.get(quantity, 0.5)
    if calibration is None or not calibration.run.cups:
        return usual
    ids = [uuid.UUID(v) for v in calibration.run.cups.values()]
    stated = [standards.label_uncertainty(lot, quantity) for lot in session.scalars(select(Lot).where(Lot.id.in_(ids)))]
    return max(stated, default=0.0) / 2 or usual
