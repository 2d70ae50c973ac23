"""Affected results: what rests on a lot or a calibration that was found bad, and what becomes of it."""

from __future__ import annotations

import uuid
from collections.abc import Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.store.standing import is_standing
from brumel.store.tables import Calibration, Lot, Point, Reading
from brumel.work.desk import MovedOn, NotFound, Refused, Write, Written, clean_reason, lead_signs, object_id, writes
from brumel.work.records.decisions import (
    EffectOnReadings,
    SignedDecision,
    apply_effect,
    decision_of,
    follow_up,
    lock_subject,
    take_turns,
    write_decision,
)

#: What a bad lot or calibration may lead to: nothing can be corrected by it.
DISCOVERED = ("doubt", "reject")


def touched_by_lot(session: Session, lot_id: uuid.UUID) -> tuple[list[Calibration], list[Reading]]:
    """Every calibration made in a lot or in what was filled off from it, and every standing reading that rests on one."""
    of_it = select(Lot.id).where((Lot.id == lot_id) | (Lot.parent_id == lot_id))
    runs = select(Point.run_id).where(Point.lot_id.in_(of_it))
    query = select(Calibration).where(Calibration.run_id.in_(runs))
    calibrations = list(session.scalars(query.order_by(Calibration.at)))
    return calibrations, _resting(session, [c.id for c in calibrations])


def _resting(session: Session, ids: Sequence[uuid.UUID]) -> list[Reading]:
    query = select(Reading).where(Reading.calibration_id.in_(ids))
    return list(session.scalars(query.where(is_standing()).order_by(Reading.at)))


def touched(session: Session, kind: str, subject: uuid.UUID) -> tuple[list[Calibration], list[Reading]]:
    """What a lot or a calibration that was found bad touches. Raises NotFound where there is no such thing."""
    if kind == "lot" and session.get(Lot, subject) is not None:
        return touched_by_lot(session, subject)
    calibration = session.get(Calibration, subject) if kind == "calibration" else None
    if calibration is None:
        raise NotFound("There is no such lot or calibration.")
    return [calibration], _resting(session, [calibration.id])


@writes("decision.affected", Written)
def decide_affected(w: Write, *, kind: str, subject: str, decision: str, reason: str, name: str) -> Written:
    """A lot was bad, or a probe had failed: every reading that rests on it becomes doubtful, or is not reported."""
    lead_signs(w.actor, name)
    what = object_id(subject, kind)
    lock_subject(w, what)
    if decision not in DISCOVERED:
        raise Refused("What was found bad makes readings doubtful, or not reported; it cannot correct them.")
    if decision_of(w.session, what) is not None:
        raise MovedOn("This is decided about already. Open it again first, with a reason.")
    take_turns(w, touched(w.session, kind, what)[1])
    _, rows = touched(w.session, kind, what)
    why = clean_reason(reason)
    written = write_decision(w, kind, what, SignedDecision(decision, why, name))
    state = "doubtful" if decision == "doubt" else "not reported"
    words = "a lot found bad" if kind == "lot" else "a calibration found wrong"
    done = [
        apply_effect(w, EffectOnReadings(r, r.value, state, "", None, r.expanded_uncertainty), written, words)
        for r in rows
        if r.backing != "not reported"
    ]
    follow_up(w, done)
    w.record(f"{kind}:{what}", {"decision": decision, "readings": len(done)})
    return Written(str(written.id))


def subject_name(session: Session, kind: str, subject: uuid.UUID) -> str:
    """The lot or calibration that was found bad, by name."""
    if kind == "lot":
        return f"Lot {session.get_one(Lot, subject).code}"
    return f"Calibration {session.get_one(Calibration, subject).number}"
