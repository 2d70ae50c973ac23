"""What was written by an earlier version and would come out otherwise today: shown, and worked out anew where one says so.

Nothing is overwritten: each is a new version with its reason, unsigned, so that it comes back to review. Words of old
evidence stay as they were said.
"""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.sheet import Water
from brumel.core.uncertainty import digits_for, shown_u
from brumel.core.working import Working
from brumel.store.records import Closing, Decision, Signature
from brumel.store.tables import Reading, User, Visit
from brumel.work.desk import Desk, Write, clean_reason, lead_signs, writes
from brumel.work.records.decisions import effect_on, lock_subject, opens
from brumel.work.rounds.sheet.judging import judge_sheet
from brumel.work.rounds.sheet.model import Backing, Sheet, SheetLine
from brumel.work.rounds.sheet.plausibility import limited
from brumel.work.rounds.sheet.rows import ReadAgain, copy_of, follow, locked, rework
from brumel.work.rounds.sheet.sheet import conditions, of_visit

#: From which share of its uncertainty on a value has changed, and from which share on an uncertainty has. Chosen.
VALUE_SHARE, VALUE_ALONE, U_SHARE = 0.1, 0.002, 0.05


@dataclass(frozen=True)
class Reworked:
    """One reading that comes out otherwise: where and when it was read, what it was, what it is now."""

    site: str
    at: datetime
    quantity: str
    unit: str
    before: float
    after: float
    u_before: float | None
    u_after: float | None
    signed: bool

    @property
    def old_words(self) -> str:
        """What it was, with its uncertainty."""
        return _with_u(self.before, self.u_before, self.unit)

    @property
    def new_words(self) -> str:
        """What it is now, with its uncertainty."""
        return _with_u(self.after, self.u_after, self.unit)


def _with_u(value: float, u: float | None, unit: str) -> str:
    if u is None:
        return f"{value:.4g} {unit}".strip()
    digits = digits_for(u)
    return f"{value:.{digits}f} ± {shown_u(u, digits):.{digits}f} {unit}".replace("-", "−").strip()


@dataclass(frozen=True)
class VisitReworked:
    """How many readings of a visit got a new version."""

    readings: int


@dataclass(frozen=True)
class _Fresh:
    """A reading as it comes out today."""

    value: float
    expanded_uncertainty: float | None
    working: Working
    grade: str = ""


def visits(session: Session) -> list[uuid.UUID]:
    """Every visit with readings, oldest first."""
    return list(session.scalars(select(Visit.id).where(Visit.id.in_(select(Reading.visit_id))).order_by(Visit.at)))


def preview(desk: Desk, actor: User, *, uncertainties: bool = False) -> Iterator[Reworked]:
    """What would be worked out anew, visit by visit: done in full and taken back again, so that it is what would be written.

    uncertainties : also readings whose uncertainty alone comes out otherwise, and nothing was decided about
    """
    with desk.read() as session:
        wanted = visits(session)
    for visit_id in wanted:
        with desk.sessions() as session:
            now = desk.clock()
            w = Write(session, actor, now, uuid.uuid4(), "reading.rework", now)
            yield from _rework(w, visit_id, "looked at", uncertainties)
            session.rollback()


@writes("reading.rework", VisitReworked)
def apply(w: Write, *, visit_id: uuid.UUID, reason: str, name: str, uncertainties: bool = False) -> VisitReworked:
    """Work out anew what comes out otherwise in one visit, as new versions; the lead says why, by name."""
    lead_signs(w.actor, name)
    done = _rework(w, visit_id, clean_reason(reason), uncertainties)
    if done:
        w.record(f"visit:{visit_id}", {"reworked": [[r.quantity, r.before, r.after] for r in done], "reason": reason})
    return VisitReworked(len(done))


def _rework(w: Write, visit_id: uuid.UUID, why: str, uncertainties: bool) -> list[Reworked]:
    """The readings of a visit that come out otherwise, written as new versions."""
    visit = w.session.get_one(Visit, visit_id)
    before = of_visit(w.session, visit_id)
    for subject in sorted({str(r.calibration_id) for r in before if r.decision_id is not None and r.calibration_id}):
        lock_subject(w, uuid.UUID(subject))
    locked(w, str(visit_id))
    known = conditions(w.session, visit)
    for depth in {r.depth_m for r in before}:
        group = [r for r in before if r.depth_m == depth]
        lines = tuple(SheetLine(c.probe, c.role, Backing(None, None, "", "", 0.0)) for c in visit.carried)
        whole = judge_sheet(Sheet(visit, lines, Water(), known, tuple(group), depth), {}, w.now)
        for row in group:
            fresh = _fresh(w, whole, row)
            if fresh is not None and _differs(row, fresh, uncertainties or row.decision_id is not None):
                _written(w, row, fresh, why)
    follow(w, visit, why=why)  # also what rests on the salt, where conductivity comes out otherwise
    return _told(w.session, visit, before)


def _fresh(w: Write, whole: Sheet, row: Reading) -> _Fresh | None:
    """A probe's reading as it comes out today, a decision about it included; None where it cannot be worked out again."""
    if row.probe is None or row.parents or row.entered_as == "by hand" or row.quantity != row.probe.reads:
        return None
    if row.decision_id is None:
        value = rework(w.session, row, whole, ReadAgain.as_it_was(row), {})
        return None if value is None else _Fresh(value.value, value.expanded_uncertainty, value.working, row.grade)
    ruled = w.session.get_one(Decision, row.decision_id)
    base = _undecided(w.session, row)
    closing_check = w.session.get(Closing, ruled.subject) if ruled.kind == "closing" else None
    if base is None or closing_check is None:
        return None
    value = rework(w.session, base, whole, ReadAgain.as_it_was(base), {})
    if value is None:
        return None
    read = copy_of(w, base, value=value.value, expanded_uncertainty=value.expanded_uncertainty)
    effect = effect_on(closing_check, ruled.decision, read, opens(w.session, closing_check))
    steps = effect.working.steps if effect.working else ()
    working = Working(value.working.title, (*value.working.steps, *steps))
    return _Fresh(effect.after, effect.expanded_uncertainty, working, effect.grade)


def _undecided(session: Session, row: Reading) -> Reading | None:
    """The version a decision was made about."""
    query = select(Reading).where(Reading.root_id == row.root_id, Reading.version < row.version)
    query = query.where(Reading.decision_id.is_distinct_from(row.decision_id))
    return session.scalar(query.order_by(Reading.version.desc()).limit(1))


def _differs(row: Reading, fresh: _Fresh, uncertainty_too: bool) -> bool:
    u = fresh.expanded_uncertainty
    least = VALUE_SHARE * u if u else VALUE_ALONE * abs(row.value)
    if abs(fresh.value - row.value) > max(least, 1e-9):
        return True
    if not uncertainty_too or u is None or row.expanded_uncertainty is None:
        return False
    return abs(u - row.expanded_uncertainty) > U_SHARE * u


def _written(w: Write, row: Reading, fresh: _Fresh, why: str) -> Reading:
    outcome, words = limited(row.visit.site, row.quantity, fresh.value, fresh.expanded_uncertainty, row.unit)
    new = copy_of(
        w,
        row,
        value=fresh.value,
        expanded_uncertainty=fresh.expanded_uncertainty,
        working=fresh.working.as_dict(),
        grade=fresh.grade,
        outcome=outcome.value,
        outcome_words=words,
        reason=why,
    )
    w.session.add(new)
    w.session.flush()
    return new


def _told(session: Session, visit: Visit, before: Sequence[Reading]) -> list[Reworked]:
    """What stands otherwise than before, in words of old and new."""
    old = {r.root_id: r for r in before}
    now = [r for r in of_visit(session, visit.id) if r.root_id in old and r.version > old[r.root_id].version]
    signed = set(session.scalars(select(Signature.reading_id).where(Signature.reading_id.in_([r.id for r in before]))))
    return [
        Reworked(
            visit.site.name,
            row.at,
            row.quantity,
            row.unit,
            old[row.root_id].value,
            row.value,
            old[row.root_id].expanded_uncertainty,
            row.expanded_uncertainty,
            old[row.root_id].id in signed,
        )
        for row in now
    ]
