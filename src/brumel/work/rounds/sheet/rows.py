"""Rows of readings: writing one, its next version, and what calculated of its visit."""

from __future__ import annotations

import math
import uuid
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core import believability as belief
from brumel.core.quantity_table import IONS, MEASURED
from brumel.core.sheet import Water
from brumel.store.tables import Reading, Visit, VisitMove
from brumel.store.typed_json import RunConditions
from brumel.work import kit
from brumel.work.desk import MovedOn, NotFound, Write, alone_with, object_id
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of
from brumel.work.questions import Question
from brumel.work.rounds.sheet.answers import Answers
from brumel.work.rounds.sheet.derived import derived, parts
from brumel.work.rounds.sheet.judging import SheetSignal, SiteContext, display_step, judge_sheet, value_of
from brumel.work.rounds.sheet.model import Backing, Sheet, SheetLine, SheetValue
from brumel.work.rounds.sheet.sheet import conditions, of_visit, standards_uncertainty
from brumel.work.rounds.sheet.sheet import visit_of as find_visit
from brumel.work.rounds.sites import Past, past_values

NOTHING_SAID = Answers()


def locked(w: Write, visit_id: str) -> Visit:
    """The visit alone. Whatever writes readings of a visit takes turns here, decisions of the lead too."""
    visit = find_visit(w.session, visit_id)
    alone_with(w.session, visit.id)
    if moved_to(w.session, visit.id) is not None:
        raise MovedOn("This visit was moved to its right site. Its sheet there is the one to write on.")
    return visit


def moved_to(session: Session, visit_id: uuid.UUID) -> uuid.UUID | None:
    """The visit that took the place of one that was written to the wrong site."""
    return session.scalar(select(VisitMove.moved_to_id).where(VisitMove.visit_id == visit_id))


def row_of(
    w: Write, of: Visit, value: SheetValue, settling: Mapping[str, Any], said: Answers, reason: str = ""
) -> Reading:
    """A worked-out value as the first version of a reading, not yet added.

    said : why what is odd may be so; reason : why the row is written at all, where it is not read anew
    """
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
        findings=said.beside(value.quantity, value.findings, value.follows_from),
        parents=list(value.parents),
        flag=int(belief.worst_flag(value.findings)),
        outcome=value.outcome.value,
        outcome_words=value.outcome_words,
        reason=reason or said.why(value.questions()),
        by_id=w.actor.id,
        written_at=w.written,
        entered_as="derived" if value.parents else "typed",
    )


def copy_of(w: Write, old: Reading, **changed: Any) -> Reading:
    """The next version of a reading as it was, but for what is changed; not yet added."""
    own = {"id", "version", "written_at", "by_id"}
    values = {c.key: getattr(old, c.key) for c in Reading.__table__.columns if c.key not in own}
    return Reading(id=uuid.uuid4(), version=old.version + 1, written_at=w.written, by_id=w.actor.id, **values | changed)


def next_version(w: Write, old: Reading, row: Reading) -> Reading:
    """Give a worked-out row the place of the next version of an older one, and add it."""
    w.session.add(in_place_of(old, row))
    w.session.flush()
    return row


def in_place_of(old: Reading, row: Reading) -> Reading:
    """A worked-out row as the next version of an older one, not yet added."""
    row.root_id, row.version, row.at, row.dip_id = old.root_id, old.version + 1, old.at, old.dip_id
    row.entered_as, row.probe_id, row.depth_m, row.role = old.entered_as, old.probe_id, old.depth_m, old.role
    return row


def follow(w: Write, of: Visit, said: Answers = NOTHING_SAID, why: str = "followed what it rests on") -> list[Question]:
    """Work out anew what rests on salt and pressure, and all that follows; returns the questions that arose."""
    if of.source == "imported":  # what was brought in stands as it came
        return []
    rows = of_visit(w.session, of.id)
    questions: list[Question] = []
    known = conditions(w.session, of)
    for depth in {r.depth_m for r in rows}:
        group = [r for r in rows if r.depth_m == depth]
        past = past_values(w.session, of.site, before=of.at, depth_m=depth)
        lines = tuple(SheetLine(c.probe, c.role, Backing(None, None, "", "", 0.0)) for c in of.carried)
        whole = judge_sheet(Sheet(of, lines, Water(), known, tuple(group), depth), past, w.now)
        group = [_anew(w, whole, row) for row in group]
        whole = replace(whole, kept=tuple(group))
        group = _still_followed(w, group)
        old = {r.quantity: r for r in group if r.parents}
        for value in derived(whole, parts(group), past, w.now):
            before = old.get(value.quantity)
            if before is not None and abs(before.value - value.value) < 1e-9 and before.backing == value.backing:
                continue
            questions += value.questions(before)
            if before is None:
                row = row_of(w, of, value, {}, said)
                row.depth_m = depth
                w.session.add(row)
            else:
                kept = said.and_kept(value.quantity, before.findings)
                next_version(w, before, row_of(w, of, value, {}, kept, why))
    w.session.flush()
    return questions


def _still_followed(w: Write, group: list[Reading]) -> list[Reading]:
    """The rows of one depth without those whose ground was struck out or moved away; these are struck out with it."""
    roots = {str(r.root_id) for r in group}
    lost = [r for r in group if r.parents and not roots.issuperset(r.parents)]
    for row in lost:
        w.session.add(copy_of(w, row, struck=True, reason="what it follows from does not stand here any more"))
    w.session.flush()
    return [r for r in group if r not in lost]


def _anew(w: Write, whole: Sheet, row: Reading) -> Reading:
    """A reading that rests on the water's salt, worked out with what is known now; itself where nothing changes."""
    if row.quantity not in ("oxygen", *IONS) or row.probe is None or row.entered_as == "by hand":
        return row
    if row.decision_id is not None:
        return row  # a decision stands; it is opened again, not overtaken
    value = rework(w.session, row, whole, ReadAgain.as_it_was(row), {})  # its findings stay as they were answered
    if value is None or abs(value.value - row.value) < 1e-9:
        return row
    new_row = row_of(w, whole.visit, value, row.settling, NOTHING_SAID, "worked out again with the salt read here")
    new_row.findings, new_row.flag = row.findings, row.flag
    return next_version(w, row, new_row)


@dataclass(frozen=True)
class ReadAgain:
    """What a kept reading is worked out from once more.

    entered : the way it was entered, a key of the quantity's entries; behind : what it is read with, None for what it was
    """

    raw: float
    temperature_c: float
    entered: str
    at: datetime
    behind: Backing | None = None

    @classmethod
    def as_it_was(cls, row: Reading) -> ReadAgain:
        assert row.temperature_c is not None  # only what was brought in may have none
        return cls(row.raw, row.temperature_c, entered_of(row), row.at)


def entered_of(row: Reading) -> str:
    """The way a probe's reading was entered: a key of the quantity's entries, by the unit it was kept with."""
    assert row.probe is not None
    quantity = quantity_of(row.probe.quantity)
    ways = (k for k, e in quantity.entries.items() if row.raw_unit in (e.label, f"{e.label} displayed"))
    return next(ways, quantity.native)


def rework(session: Session, row: Reading, whole: Sheet, again: ReadAgain, past: Past) -> SheetValue | None:
    """A kept reading worked out again; None where its fit is no longer to be had."""
    assert row.probe is not None
    quantity, entered = quantity_of(row.probe.quantity), again.entered
    shown = entered != quantity.native
    taken = kit.last_settings(session, row.probe.meter_id, before=again.at)  # as the meter was set when it was read
    case = RunContext(row.probe, RunConditions(pressure_hpa=whole.water.pressure_hpa), taken.settings if taken else {})
    way = quantity.entries.get(entered)
    signal = way.to_signal(again.raw, again.temperature_c, case) if way else again.raw
    behind = again.behind or _as_it_stood(session, row)
    if behind.fit is None:
        return None
    context = SiteContext(whole.visit.site, whole.water, past, again.at)
    left = math.hypot(*(float(row.settling.get(part) or 0.0) for part in ("remaining", "remaining_u")))
    displayed = again.raw if shown else None
    step = display_step(quantity, entered, displayed, row.value) if row.entered_as == "typed" else 0.0
    given = SheetSignal(signal, again.temperature_c, entered, displayed, left, row.role == "second", step)
    return value_of(context, row.probe, behind, given)


def _as_it_stood(session: Session, row: Reading) -> Backing:
    """What a reading was read with."""
    assert row.probe is not None
    kept, quantity = row.calibration, quantity_of(row.probe.quantity)
    fit = kit.restored(kept) if kept else quantity.ideal(row.probe)
    u = standards_uncertainty(session, [kept])[kept.id] if kept else quantity.row.standard_u
    return Backing(fit, kept, row.backing, row.backing_words, u, None, MEASURED[row.quantity].ideal)


def reading(session: Session, reading_id: str | uuid.UUID) -> Reading:
    """One version of a reading by id; the front door for everything that names a reading."""
    reading = session.get(Reading, object_id(reading_id, "reading"))
    if reading is None:
        raise NotFound("There is no such reading.")
    return reading
