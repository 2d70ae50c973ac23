"""Rows of readings: writing one, its next version, and what calculated of its visit."""

from __future__ import annotations

import uuid
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core import believability as belief
from brumel.core.quantity_table import IONS, MEASURED
from brumel.core.sentence import as_evidence
from brumel.core.sheet import Water
from brumel.store.tables import Reading, Visit
from brumel.store.typed_json import RunConditions
from brumel.work import kit
from brumel.work.desk import NotFound, Write, object_id
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of
from brumel.work.rounds.sheet.derived import derived, parts
from brumel.work.rounds.sheet.judging import SheetSignal, SiteContext, judge_sheet, value_of
from brumel.work.rounds.sheet.model import Backing, Sheet, SheetLine, SheetValue
from brumel.work.rounds.sheet.sheet import conditions, of_visit, standards_uncertainty
from brumel.work.rounds.sheet.sheet import visit_of as find_visit
from brumel.work.rounds.sites import Past, past_values


def locked(w: Write, visit_id: str) -> Visit:
    """The visit alone. Whatever writes readings of a visit takes turns here, decisions of the lead too."""
    visit = find_visit(w.session, visit_id)
    w.session.execute(select(func.pg_advisory_xact_lock(func.hashtext(str(visit.id)))))
    return visit


def row_of(w: Write, of: Visit, value: SheetValue, settling: Mapping[str, Any], reason: str) -> Reading:
    """A worked-out value as the first version of a reading, not yet added."""
    row_id = uuid.uuid4()
    return Reading(
        id=row_id,
        root_id=row_id,
        version=1,
        visit_id=of.id,
        site_id=of.site_id,
        quantity=value.quantity,
        at=w.now,
        calibration_id=value.calibration.id if value.calibration else None,
        backing=value.backing,
        backing_words=value.backing_words,
        raw=value.raw,
        raw_unit=value.raw_unit,
        role="first",
        temperature_c=value.temperature_c,
        value=value.value,
        unit=value.unit,
        expanded_uncertainty=value.expanded_uncertainty,
        working=value.working.as_dict(),
        settling=dict(settling),
        findings=[{**as_evidence(f), "flag": int(f.flag)} for f in value.findings],
        parents=list(value.parents),
        flag=int(belief.worst_flag(value.findings)),
        outcome=value.outcome.value,
        outcome_words=value.outcome_words,
        reason=reason,
        by_id=w.actor.id,
        written_at=w.written,
        entered_as="derived" if value.parents else "typed",
    )


def next_version(w: Write, old: Reading, row: Reading) -> Reading:
    """Give a worked-out row the place of the next version of an older one, and add it."""
    row.root_id, row.version, row.at, row.dip_id = old.root_id, old.version + 1, old.at, old.dip_id
    row.entered_as, row.probe_id, row.depth_m, row.role = old.entered_as, old.probe_id, old.depth_m, old.role
    w.session.add(row)
    w.session.flush()
    return row


def follow(w: Write, of: Visit, reason: str = "") -> list[belief.QualityFinding]:
    """Work out anew what rests on salt and pressure, and all that follows; returns the questions that arose."""
    rows = of_visit(w.session, of.id)
    questions: list[belief.QualityFinding] = []
    known = conditions(w.session, of)
    for depth in {r.depth_m for r in rows}:
        group = [r for r in rows if r.depth_m == depth]
        past = past_values(w.session, of.site, before=of.at, depth_m=depth)
        lines = tuple(SheetLine(c.probe, c.role, Backing(None, None, "", "", 0.0)) for c in of.carried)
        whole = judge_sheet(Sheet(of, lines, Water(), known, tuple(group), depth), past, w.now)
        group = [_anew(w, whole, row) for row in group]
        whole = replace(whole, kept=tuple(group))
        old = {r.quantity: r for r in group if r.parents}
        for value in derived(whole, parts(group), past, w.now):
            before = old.get(value.quantity)
            if before is not None and abs(before.value - value.value) < 1e-9 and before.backing == value.backing:
                continue
            row = row_of(w, of, value, {}, reason)
            row.depth_m = depth
            if before is not None:
                row.reason = "followed what it rests on"
                next_version(w, before, row)
            else:
                w.session.add(row)
                questions += value.questions
    w.session.flush()
    return questions


def _anew(w: Write, whole: Sheet, row: Reading) -> Reading:
    """A reading that rests on the water's salt, worked out with what is known now; itself where nothing changes."""
    if row.quantity not in ("oxygen", *IONS) or row.probe is None or row.entered_as == "by hand":
        return row
    if row.decision_id is not None:
        return row  # a decision stands; it is opened again, not overtaken
    value = rework(w.session, row, whole, row.raw, row.temperature_c, {})  # its findings stay as they were answered
    if value is None or abs(value.value - row.value) < 1e-9:
        return row
    new_row = row_of(w, whole.visit, value, row.settling, "worked out again with the salt read here")
    new_row.findings, new_row.flag = row.findings, row.flag
    return next_version(w, row, new_row)


def rework(
    session: Session, row: Reading, whole: Sheet, raw: float, temperature_c: float, past: Past
) -> SheetValue | None:
    """A kept reading worked out again from its raw value; None where its fit is no longer to be had."""
    assert row.probe is not None
    quantity = quantity_of(row.probe.quantity)
    entered = next(
        (k for k, e in quantity.entries.items() if row.raw_unit in (e.label, f"{e.label} displayed")), quantity.native
    )
    shown = entered != quantity.native
    taken = kit.last_settings(session, row.probe.meter_id, before=row.at)  # as the meter was set when it was read
    case = RunContext(row.probe, RunConditions(pressure_hpa=whole.water.pressure_hpa), taken.settings if taken else {})
    signal = quantity.entries[entered].to_signal(raw, temperature_c, case) if entered in quantity.entries else raw
    kept = row.calibration
    fit = kit.restored(kept) if kept else quantity.ideal(row.probe)
    if fit is None:
        return None
    u = standards_uncertainty(session, [kept])[kept.id] if kept else quantity.row.standard_u
    behind = Backing(fit, kept, row.backing, row.backing_words, u, None, MEASURED[row.quantity].ideal)
    context = SiteContext(whole.visit.site, whole.water, past, row.at)
    given = SheetSignal(signal, temperature_c, entered, raw if shown else None, second=row.role == "second")
    return value_of(context, row.probe, behind, given)


def reading(session: Session, reading_id: str | uuid.UUID) -> Reading:
    """One version of a reading by id; the front door for everything that names a reading."""
    reading = session.get(Reading, object_id(reading_id, "reading"))
    if reading is None:
        raise NotFound("There is no such reading.")
    return reading
