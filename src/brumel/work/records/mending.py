"""Mending what was written: a reading corrected, struck out or brought back, a visit moved to its right site.

Nothing is overwritten: each is a new version with its reason. A decision that rested on it is opened again, since the
lead decided about something else.
"""

from __future__ import annotations

import uuid
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core import believability as belief
from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.sentence import as_evidence, say
from brumel.core.working import Ladder, StepResult
from brumel.store.records import Closing, Decision
from brumel.store.rounds import Photo, VisitNote
from brumel.store.tables import Reading, Site, Visit, VisitMove, VisitProbe
from brumel.work.bench.points import TypedValue, check_typed
from brumel.work.desk import MovedOn, Refused, Write, clean_reason, writes
from brumel.work.quantities import names as quantity_names
from brumel.work.quantities.book import quantity_of
from brumel.work.records.decisions import SignedDecision, decision_of, lock_subject, take_back
from brumel.work.rounds.sheet.answers import Answers
from brumel.work.rounds.sheet.entry import checked_depth
from brumel.work.rounds.sheet.model import Sheet
from brumel.work.rounds.sheet.plausibility import findings, limited
from brumel.work.rounds.sheet.recording import BY_HAND
from brumel.work.rounds.sheet.rows import (
    ReadAgain,
    copy_of,
    entered_of,
    follow,
    in_place_of,
    locked,
    next_version,
    reading,
    rework,
    row_of,
)
from brumel.work.rounds.sheet.sheet import backing_at, of_visit, sheet_of_visit, visit_of
from brumel.work.rounds.sites import past_values, site_of

#: How far back a time may be set; older days are history that nobody corrects by a form.
OLDEST = timedelta(days=400)


@dataclass(frozen=True)
class Mended:
    """The new version's or visit's id, and the numbers of the decisions that were opened again."""

    id: str
    opened: tuple[int, ...] = ()


@dataclass(frozen=True)
class Correction:
    """How a reading should have been written; what is None stays as it is, but for the depth.

    raw : what the display showed, or a second method gave; unit : what was written behind it
    entered : the unit that was chosen, a key of the quantity's entries; at : when it was read
    """

    reason: str
    depth_m: float | None
    raw: float | None = None
    unit: str = ""
    entered: str = ""
    temperature_c: float | None = None
    at: datetime | None = None


@writes("reading.correct", Mended)
def correct(w: Write, *, reading_id: str, version: int, correction: Correction) -> Mended:
    """A slip put right: value, unit, temperature, depth or time, worked out afresh as a new version with its reason.

    What came by a link keeps its samples: only its depth and its time can have been wrong. Raises every fault by field.
    """
    old = _standing(w, reading_id, version)
    if old.parents:
        raise Refused("This value is calculated. Correct the reading it follows from; it follows by itself.")
    if old.entered_as == "imported":
        raise Refused("This was brought in from a table. Strike it out, and bring in the right one.")
    why = clean_reason(correction.reason)
    depth, at = checked_depth(correction.depth_m), _checked_time(w, old, correction.at)
    change = replace(correction, depth_m=depth, at=at)
    if not _differs(old, change):
        raise InputError("reason", "Nothing was changed: value, unit, depth and time are as they were.")
    if old.entered_as == "live" and correction.raw is not None:
        raise Refused(
            "This was read by a link: its samples are the record. Strike it out, or correct its depth or time."
        )
    _checked_value(old, change)
    opened = open_again(w, [old], _told(why))
    old = _newest_of(w.session, old)
    value = _by_hand(w, old, change, why) if old.probe is None else _from_probe(w, old, change, why)
    value.role = _role(w.session, value)
    w.session.add(value)
    w.session.flush()
    opened += open_again(w, [value], _told(why))
    follow(w, old.visit)
    newest = _newest_of(w.session, value)
    changed = {"from": old.value, "to": newest.value, "reason": why, "decisions opened": opened}
    w.record(f"reading:{old.root_id}", changed | _moved_in(old, newest))
    return Mended(str(newest.id), tuple(dict.fromkeys(opened)))


def _differs(old: Reading, change: Correction) -> bool:
    if (change.at, change.depth_m) != (old.at, old.depth_m) or change.unit:
        return True
    typed = [(change.raw, old.raw), (change.temperature_c, old.temperature_c)]
    if any(new is not None and (was is None or not abs(new - was) <= 1e-9) for new, was in typed):  # nan differs
        return True
    return bool(change.entered) and old.probe is not None and change.entered != entered_of(old)


def _moved_in(old: Reading, new: Reading) -> dict[str, Any]:
    """What changed besides the value, for the audit."""
    moved: dict[str, Any] = {}
    if old.at != new.at:
        moved["at"] = [old.at.isoformat(), new.at.isoformat()]
    if old.depth_m != new.depth_m:
        moved["depth_m"] = [old.depth_m, new.depth_m]
    return moved


def _standing(w: Write, reading_id: str, version: int, *, struck: bool = False) -> Reading:
    """The version a page had shown, where it is still the newest; the visit is locked."""
    old = reading(w.session, reading_id)
    _queue_up(w, [old])
    locked(w, str(old.visit_id))
    newest = _newest_of(w.session, old)
    if old.version != version or newest.version != version:
        raise MovedOn("This reading has a newer version. You now see it; nothing was changed.")
    if old.struck and not struck:
        raise Refused("This reading is struck out. Bring it back first.")
    return old


def _queue_up(w: Write, rows: Sequence[Reading]) -> None:
    """Wait for whoever decides about these readings, before any visit is locked: the order in which deciding waits too."""
    decided = _resting_on(w.session, rows)
    subjects = {r.calibration_id for r in rows if r.calibration_id is not None} | {d.subject for d in decided}
    for subject in sorted(subjects, key=str):
        lock_subject(w, subject)


def _newest_of(session: Session, row: Reading) -> Reading:
    query = select(Reading).where(Reading.root_id == row.root_id).order_by(Reading.version.desc()).limit(1)
    return session.scalars(query).one()


def _checked_time(w: Write, old: Reading, at: datetime | None) -> datetime:
    if at is None:
        return old.at
    if at.tzinfo is None:
        raise InputError("at", "The time of the reading has no zone.")
    if at > w.now:
        raise InputError("at", say("This would be read at {at}, which is in the future.", at=at))
    if at < w.now - OLDEST:
        raise InputError(
            "at", say("{at} is over {days} days ago; a form does not reach so far.", at=at, days=OLDEST.days)
        )
    return at


def _checked_value(old: Reading, change: Correction) -> None:
    """Whether the value can be at all, before anything is opened again."""
    if change.raw is None:
        return
    if old.probe is None:
        low, high = BY_HAND[old.quantity][1:]
        door = Door()
        door.number("value", change.raw, low, high)
        door.close()
    elif old.quantity != old.probe.reads:
        raise Refused("This temperature was read beside another value. Correct that one; or strike this one out.")
    else:
        check_typed(quantity_of(old.probe.quantity), _typed(old, change))


def _typed(old: Reading, change: Correction) -> TypedValue:
    assert old.probe is not None
    at_c = old.temperature_c if change.temperature_c is None else change.temperature_c
    assert at_c is not None
    raw = old.raw if change.raw is None else change.raw
    value = TypedValue(change.entered or entered_of(old), raw, at_c, None, change.unit)
    return value.read_as(quantity_of(old.probe.quantity))


def _from_probe(w: Write, old: Reading, change: Correction, why: str) -> Reading:
    """The next version of a probe's reading, not yet added; another unit or time may mean another calibration."""
    assert old.probe is not None
    assert change.at is not None
    if old.quantity != old.probe.reads:  # the temperature beside another value: its place and time alone
        return copy_of(w, old, at=change.at, depth_m=change.depth_m, reason=why)
    typed = _typed(old, change)
    before = entered_of(old)
    behind = None
    if typed.signal != before or change.at != old.at:
        behind = backing_at(w.session, old.probe, typed.signal, change.at)
    whole = sheet_of_visit(w.session, old.visit_id, w.now)
    past = past_values(w.session, whole.visit.site, before=change.at, depth_m=change.depth_m)
    again = ReadAgain(typed.value, typed.temperature_c, typed.signal, change.at, behind)
    value = rework(w.session, old, whole, again, past)
    if value is None:
        raise Refused("This signal cannot be read without a calibration.")
    row = in_place_of(old, row_of(w, old.visit, value, old.settling, _kept_answers(old), why))
    row.at, row.depth_m = change.at, change.depth_m
    return row


def _by_hand(w: Write, old: Reading, change: Correction, why: str) -> Reading:
    """The next version of a second method's result, not yet added."""
    number = old.value if change.raw is None else change.raw
    return _hand_row(w, old, _Place(old.visit, old.visit.site), replace(change, raw=number), why)


@dataclass(frozen=True)
class _Place:
    """The visit a version belongs to, and its site."""

    visit: Visit
    site: Site


def _hand_row(w: Write, old: Reading, to: _Place, change: Correction, why: str) -> Reading:
    assert change.raw is not None
    assert change.at is not None
    u = BY_HAND[old.quantity].at(change.raw)
    past = past_values(w.session, to.site, before=change.at, depth_m=change.depth_m)
    tests = findings(to.site, past, old.quantity, change.raw, change.at, u)
    outcome, words = limited(to.site, old.quantity, change.raw, u, old.unit)
    ladder = Ladder("By a second method")
    how = old.backing_words.removeprefix("by hand: ")
    ladder.step("c", quantity_names.name(old.quantity), how, StepResult(change.raw, "mg/L"), "reading")
    usual = ("usual of such a test", StepResult(u, "mg/L"), "common practice, no source")
    ladder.step("U", "expanded uncertainty, k = 2", *usual)
    return copy_of(
        w,
        old,
        visit_id=to.visit.id,
        site_id=to.site.id,
        value=change.raw,
        raw=change.raw,
        at=change.at,
        depth_m=change.depth_m,
        expanded_uncertainty=u,
        working=ladder.done().as_dict(),
        findings=[{**as_evidence(f), "flag": int(f.flag)} for f in tests],
        flag=int(belief.worst_flag(tests)),
        outcome=outcome.value,
        outcome_words=words,
        reason=why,
    )


def _role(session: Session, row: Reading) -> str:
    """First or repeat, by what else the sheet has of this quantity at this depth; a second instrument stays one."""
    if row.role == "second":
        return "second"
    sheet = of_visit(session, row.visit_id)
    others = (r for r in sheet if r.root_id != row.root_id and r.quantity == row.quantity and r.depth_m == row.depth_m)
    return "repeat" if any(r.role == "first" for r in others) else "first"


@writes("reading.strike", Mended)
def strike(w: Write, *, reading_id: str, version: int, reason: str) -> Mended:
    """A reading that should not be there: it stays in the record with its reason and counts nowhere."""
    old = _standing(w, reading_id, version)
    if old.parents:
        raise Refused("This value is calculated. Strike out the reading it follows from; it goes with it.")
    why = clean_reason(reason)
    opened = open_again(w, [old], _told(why))
    old = _newest_of(w.session, old)
    gone = copy_of(w, old, struck=True, reason=why)
    w.session.add(gone)
    w.session.flush()
    follow(w, old.visit)
    w.record(f"reading:{old.root_id}", {"struck out": old.value, "reason": why, "decisions opened": opened})
    return Mended(str(gone.id), tuple(opened))


@writes("reading.bring_back", Mended)
def bring_back(w: Write, *, reading_id: str, version: int, reason: str) -> Mended:
    """A reading that was struck out counts again."""
    old = _standing(w, reading_id, version, struck=True)
    if not old.struck:
        raise Refused("This reading is not struck out.")
    if old.parents:
        raise Refused("This value is calculated. Bring back the reading it follows from; it is worked out again.")
    why = clean_reason(reason)
    back = copy_of(w, old, struck=False, reason=why)
    back.role = _role(w.session, back)
    w.session.add(back)
    w.session.flush()
    opened = open_again(w, [back], _told(why))
    follow(w, old.visit)
    w.record(f"reading:{old.root_id}", {"brought back": old.value, "reason": why, "decisions opened": opened})
    return Mended(str(_newest_of(w.session, back).id), tuple(opened))


@writes("visit.move", Mended)
def move_visit(w: Write, *, visit_id: str, site_id: str, reason: str) -> Mended:
    """A visit that was written to the wrong site: its readings are worked out anew at the right one, as new versions.

    The visit itself stays where it was written and names the one that took its place. Refused while something waits on it.
    """
    to = site_of(w.session, site_id)
    _queue_up(w, of_visit(w.session, visit_of(w.session, visit_id).id))
    old = locked(w, visit_id)
    if old.source == "imported":
        raise Refused(
            "This visit was brought in from a table. Take the import back, and bring it in at the right site."
        )
    if old.site_id == to.id:
        raise InputError("site", "It is a visit to this site already.")
    whole = sheet_of_visit(w.session, visit_id, w.now)
    if whole.waiting:
        raise Refused("Something on this sheet is not recorded yet. Record it or strike it out first.")
    why = clean_reason(reason)
    opened = open_again(w, whole.kept, _told(why))
    new = _visit_at(w, old, to.id, why)
    at_new = sheet_of_visit(w.session, new.id, w.now)
    for row in of_visit(w.session, old.id):
        _carry_over(w, row, at_new, why)
    w.session.flush()
    follow(w, new)
    moved = {"from": old.site.name, "to": to.name, "visit": str(new.id), "reason": why, "decisions opened": opened}
    w.record(f"visit:{old.id}", moved)
    return Mended(str(new.id), tuple(opened))


def _visit_at(w: Write, old: Visit, site_id: uuid.UUID, why: str) -> Visit:
    """A visit like another at the right site, with its probes, notes and photos."""
    new = Visit(
        id=uuid.uuid4(),
        site_id=site_id,
        operator_id=old.operator_id,
        outing_id=old.outing_id,
        source=old.source,
        at=old.at,
    )
    w.session.add(new)
    w.session.flush()
    for carried in old.carried:
        w.session.add(VisitProbe(visit_id=new.id, probe_id=carried.probe_id, place=carried.place, role=carried.role))
    for table in (VisitNote, Photo):
        for one in w.session.scalars(select(table).where(table.visit_id == old.id)):
            values = {c.key: getattr(one, c.key) for c in table.__table__.columns}
            w.session.add(table(**values | {"id": uuid.uuid4(), "visit_id": new.id}))
    w.session.add(VisitMove(visit_id=old.id, moved_to_id=new.id, reason=why, at=w.now, by_id=w.actor.id))
    w.session.flush()
    w.session.refresh(new)
    return new


def _kept_answers(old: Reading) -> Answers:
    """What was said of an older version; why it is mended is no answer to what is odd about it."""
    return Answers().and_kept(old.quantity, old.findings)


def _carry_over(w: Write, row: Reading, to: Sheet, why: str) -> None:
    """A reading's next version at the right site, with what its altitude, water, limits and history make of it."""
    visit, site = to.visit, to.visit.site
    if row.probe is None and not row.parents:
        as_it_was = Correction(why, row.depth_m, raw=row.raw, at=row.at)
        w.session.add(_hand_row(w, row, _Place(visit, site), as_it_was, why))
        return
    value = None
    if row.probe is not None and row.quantity == row.probe.reads:
        past = past_values(w.session, site, before=row.at, depth_m=row.depth_m)
        value = rework(w.session, row, to, ReadAgain.as_it_was(row), past)
    if value is not None:
        next_version(w, row, row_of(w, visit, value, row.settling, _kept_answers(row), why))
        return
    outcome, words = limited(site, row.quantity, row.value, row.expanded_uncertainty, row.unit)
    w.session.add(
        copy_of(w, row, visit_id=visit.id, site_id=site.id, outcome=outcome.value, outcome_words=words, reason=why)
    )


def _told(why: str) -> str:
    return f"A reading it rested on was mended: {why}"


def open_again(w: Write, rows: Iterable[Reading], why: str) -> list[int]:
    """Take back the decisions that stand about these readings, or about the span of time they lie in; their numbers."""
    opened = []
    for decision in _resting_on(w.session, list(rows)):
        lock_subject(w, decision.subject)
        newest = decision_of(w.session, decision.subject)
        if newest is not None and newest.id == decision.id:
            take_back(w, decision, SignedDecision(decision.decision, why[:500], w.actor.name))
            opened.append(decision.number)
    return opened


def _resting_on(session: Session, rows: Sequence[Reading]) -> list[Decision]:
    """Decisions that made these versions, and those about the closing check that ends the span of an open one."""
    found = {r.decision_id for r in rows if r.decision_id is not None}
    decisions = list(session.scalars(select(Decision).where(Decision.id.in_(found)))) if found else []
    for row in rows:
        if row.backing != "open" or row.calibration_id is None or row.probe is None or row.quantity != row.probe.reads:
            continue
        closes = select(func.min(Closing.at)).where(
            Closing.calibration_id == row.calibration_id, Closing.probe_id == row.probe_id, Closing.at >= row.at
        )
        check = session.scalar(
            select(Closing).where(Closing.calibration_id == row.calibration_id, Closing.at == closes.scalar_subquery())
        )
        ruled = decision_of(session, check.id) if check else None
        if ruled is not None and ruled not in decisions:
            decisions.append(ruled)
    return decisions
