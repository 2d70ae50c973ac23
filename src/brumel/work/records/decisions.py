"""Decisions: what becomes of the readings of a span, shown before it is applied, and opened again where it was wrong."""

from __future__ import annotations

import math
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core import drift
from brumel.core.working import Input, Step, Working
from brumel.store.records import Closing, Decision
from brumel.store.standing import is_standing
from brumel.store.tables import Reading, Visit
from brumel.work.bench import closing_checks
from brumel.work.desk import (
    MovedOn,
    NotFound,
    Refused,
    Write,
    Written,
    alone_with,
    clean_reason,
    lead_signs,
    object_id,
    writes,
)
from brumel.work.rounds.sheet.plausibility import limited
from brumel.work.rounds.sheet.rows import copy_of, follow, locked

DECISIONS = {
    "bracket": "bracketed: the check held",
    "correct": "corrected, linear in time between the two checks",
    "doubt": "doubtful",
    "reject": "not reported",
}


@dataclass(frozen=True)
class EffectOnReadings:
    """What a decision makes of one reading."""

    reading: Reading
    after: float
    state: str
    grade: str
    working: Working | None
    expanded_uncertainty: float | None


def span(session: Session, closing_check: Closing) -> list[Reading]:
    """The standing readings the closing check decides about: of this probe and calibration, since it last held."""
    opened = opens(session, closing_check)
    query = select(Reading).where(
        Reading.calibration_id == closing_check.calibration_id,
        Reading.probe_id == closing_check.probe_id,
        Reading.at >= opened,
        Reading.at <= closing_check.at,
        Reading.quantity == closing_check.probe.reads,
    )
    return list(session.scalars(query.where(is_standing()).order_by(Reading.at)))


def opens(session: Session, closing_check: Closing) -> datetime:
    """Where the span begins: at the calibration, or at the last check of it that held before."""
    before = session.scalar(
        select(func.max(Closing.at)).where(
            Closing.calibration_id == closing_check.calibration_id, Closing.at < closing_check.at, Closing.holds
        )
    )
    return before or closing_check.calibration.at


def effects(session: Session, closing_check: Closing, decision: str) -> list[EffectOnReadings]:
    """What a decision would make of every reading of the span; nothing is written."""
    # Only what the calibration stood behind: a reading that was unbacked, cleaned bulb or worn-out time, is not mended by it.
    rows = [r for r in span(session, closing_check) if r.decision_id is None and r.backing == "open"]
    start = opens(session, closing_check)
    return [effect_on(closing_check, decision, r, start) for r in rows]


def effect_on(closing_check: Closing, decision: str, r: Reading, start: datetime) -> EffectOnReadings:
    """What a decision makes of one reading of a span that began at `start`."""
    if decision in ("doubt", "reject"):
        state = "doubtful" if decision == "doubt" else "not reported"
        return EffectOnReadings(r, r.value, state, "", None, r.expanded_uncertainty)
    judged = closing_checks.criteria(closing_check.probe.quantity)
    at_s, end_s = (r.at - start).total_seconds(), (closing_check.at - start).total_seconds()
    checks = [drift.StandardCheck(end_s, c.read, c.expected) for c in closing_check.checks]
    check = drift.check_at(checks, r.value, gain=judged.gain)
    share = at_s / end_s if end_s > 0 else 1.0
    if decision == "bracket":
        u = drift.doubted_u(r.expanded_uncertainty, check.error, share, corrected=False)
        return EffectOnReadings(r, r.value, "bracketed", "", _known(r, check, u), u)
    u = drift.doubted_u(r.expanded_uncertainty, check.error, share, corrected=True)
    worked = drift.effect(judged, r.value, at_s, check, 0.0)
    working = _known(r, check, u)
    steps = worked.worked.working.steps + (working.steps if working else ())
    whole = Working(worked.worked.working.title, steps)
    return EffectOnReadings(r, worked.after, worked.state, worked.grade, whole, u)


def _known(r: Reading, check: drift.StandardCheck, u: float | None) -> Working | None:
    """How the check's error joins the uncertainty; None where the reading has none."""
    if u is None or r.expanded_uncertainty is None:
        return None
    given = (Input("U0", "before the decision", r.expanded_uncertainty, r.unit),)
    joins = math.sqrt(max(u**2 - r.expanded_uncertainty**2, 0.0))
    error = Input("d", "what the error found may still do, half of it at least", joins, r.unit)
    step = Step(
        "U", "expanded uncertainty, k = 2, after the decision", "√(U0² + d²)", (*given, error), u, r.unit, "GUM"
    )
    return Working("What the closing check does", (step,))


def error_counts_as(closing_check: Closing) -> str:
    """How the error found is carried over to the readings, in words for who decides."""
    checks = [drift.StandardCheck(0.0, c.read, c.expected) for c in closing_check.checks]
    if drift.is_gain(checks, gain=closing_checks.criteria(closing_check.probe.quantity).gain):
        return "The error is taken as a gain: the same share of every reading."
    if len(checks) > 1:
        return "The errors in the two standards make a line: each reading has the error of its own level."
    return "The error is taken as an offset: the same for every reading."


def suggested(closing_check: Closing) -> str:
    """What the check itself speaks for."""
    return "bracket" if closing_check.holds else "correct"


def decision_of(session: Session, subject: uuid.UUID) -> Decision | None:
    """The decision that stands about a subject, None where there is none or it was opened again."""
    newest = session.scalar(
        select(Decision).where(Decision.subject == subject).order_by(Decision.number.desc()).limit(1)
    )
    return None if newest is None or newest.kind == "reopened" else newest


def decisions_about(session: Session, subject: uuid.UUID) -> list[Decision]:
    """Every decision about a subject, oldest first."""
    return list(session.scalars(select(Decision).where(Decision.subject == subject).order_by(Decision.number)))


@writes("decision.closing", Written)
def decide(w: Write, *, closing_id: str, decision: str, reason: str, name: str) -> Written:
    """The lead decides about a closing check, with name: every reading of its span gets a new version."""
    lead_signs(w.actor, name)
    closing_check = closing_checks.closing(w.session, closing_id)
    lock_subject(w, closing_check.calibration_id)
    if decision not in DECISIONS:
        raise Refused("Decide: bracketed, corrected, doubtful, or not reported.")
    if decision == "bracket" and not closing_check.holds:
        raise Refused("The check did not hold; these readings cannot be called bracketed.")
    if decision == "correct" and closing_check.holds:
        raise Refused("The check held; there is nothing to correct.")
    if decision_of(w.session, closing_check.id) is not None:
        raise MovedOn("This check is decided about. Open it again first, with a reason.")
    why = clean_reason(reason, required=decision != "bracket")
    written = write_decision(w, "closing", closing_check.id, SignedDecision(decision, why, name))
    take_turns(w, [e.reading for e in effects(w.session, closing_check, decision)])
    touched = [
        apply_effect(w, e, written, f"closing check {closing_check.number}")
        for e in effects(w.session, closing_check, decision)
    ]
    follow_up(w, touched)
    w.record(f"closing:{closing_check.id}", {"decision": decision, "readings": len(touched)})
    return Written(str(written.id))


def lock_subject(w: Write, subject: uuid.UUID) -> None:
    alone_with(w.session, subject)


def take_turns(w: Write, rows: Sequence[Reading]) -> None:
    """Wait for whoever writes in these visits, always in the same order; then the rows are looked up once more."""
    for visit_id in sorted({str(r.visit_id) for r in rows}):
        locked(w, visit_id)
    w.session.expire_all()


@dataclass(frozen=True)
class SignedDecision:
    """What the lead decided, why, and the name it was signed with."""

    decision: str
    why: str
    name: str


def write_decision(
    w: Write, kind: str, subject: uuid.UUID, signed: SignedDecision, undoes: uuid.UUID | None = None
) -> Decision:
    new_decision = Decision(
        id=uuid.uuid4(),
        kind=kind,
        subject=subject,
        decision=signed.decision,
        reason=signed.why,
        signed_name=" ".join(signed.name.split()),
        undoes_id=undoes,
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(new_decision)
    w.session.flush()
    return new_decision


def apply_effect(w: Write, effect: EffectOnReadings, decision: Decision, by: str) -> Reading:
    old = effect.reading
    new = copy_of(w, old)
    new.decision_id, new.reason = decision.id, decision.reason or DECISIONS[decision.decision]
    new.value, new.backing, new.grade = effect.after, effect.state, effect.grade
    graded = f", {effect.grade}" if effect.grade and effect.state == "corrected" else ""
    new.backing_words = f"{effect.state}{graded}: {by}, decided by {w.actor.name}"
    if effect.working is not None:
        before = Working.from_dict(old.working)
        new.working = Working(before.title, (*before.steps, *effect.working.steps)).as_dict()
    new.expanded_uncertainty = effect.expanded_uncertainty
    outcome, words = limited(old.visit.site, old.quantity, new.value, new.expanded_uncertainty, new.unit)
    new.outcome, new.outcome_words = outcome.value, words
    w.session.add(new)
    w.session.flush()
    return new


def follow_up(w: Write, touched: Sequence[Reading]) -> None:
    """What rests on the readings follows them."""
    for visit_id in dict.fromkeys(r.visit_id for r in touched):
        follow(w, w.session.get_one(Visit, visit_id))


@writes("decision.reopen", Written)
def reopen(w: Write, *, decision_id: str, reason: str, name: str) -> Written:
    """Take a decision back: its readings become what they were before it, as new versions."""
    lead_signs(w.actor, name)
    old = w.session.get(Decision, object_id(decision_id, "decision"))
    if old is None:
        raise NotFound("There is no such decision.")
    lock_subject(w, old.subject)
    standing = decision_of(w.session, old.subject)
    if standing is None or standing.id != old.id:
        raise MovedOn("This decision does not stand any more.")
    why = clean_reason(reason)
    done = take_back(w, old, SignedDecision(old.decision, why, name))
    w.record(f"decision:{old.id}", {"readings": done, "reason": why})
    return Written(str(old.id))


def take_back(w: Write, old: Decision, signed: SignedDecision) -> int:
    """Open a decision again inside a write: its readings become what they were before it. Returns how many they were."""
    write_decision(w, "reopened", old.subject, signed, undoes=old.id)
    done = []
    query = select(Reading).where(Reading.decision_id == old.id)
    take_turns(w, list(w.session.scalars(query.where(is_standing()))))
    for row in list(w.session.scalars(query.where(is_standing()))):
        before = w.session.scalar(
            select(Reading)
            .where(Reading.root_id == row.root_id, Reading.version < row.version)
            .where(Reading.decision_id.is_distinct_from(old.id))
            .order_by(Reading.version.desc())
            .limit(1)
        )
        if before is None:
            continue
        new = copy_of(w, before)
        new.version, new.reason = row.version + 1, signed.why
        w.session.add(new)
        w.session.flush()
        done.append(new)
    follow_up(w, done)
    return len(done)


def subject_of(session: Session, decision_id: str | uuid.UUID) -> tuple[str, uuid.UUID]:
    """What a decision is about: kind and id."""
    decision = session.get(Decision, object_id(decision_id, "decision"))
    if decision is None:
        raise NotFound("There is no such decision.")
    return decision.kind, decision.subject


def decided_readings(session: Session, ruled: Decision) -> list[Reading]:
    """The versions a decision made."""
    return list(session.scalars(select(Reading).where(Reading.decision_id == ruled.id).order_by(Reading.at)))
