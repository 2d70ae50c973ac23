"""Rulings: what becomes of the readings of a span, shown before it is applied, and opened again where it was wrong."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session, aliased

from brumel.core import drift
from brumel.core.working import Working
from brumel.store.rounds import Closing, Ruling, Signature, Unsigned
from brumel.store.tables import Calibration, Lot, Point, Reading, User, Visit
from brumel.work import closings
from brumel.work.desk import Desk, MovedOn, NotAllowed, NotFound, Refused, Write, object_id
from brumel.work.reasons import clean_reason
from brumel.work.rounds.believable import limited
from brumel.work.rounds.rows import follow, locked

DECISIONS = {
    "bracket": "bracketed: the check held",
    "correct": "corrected, linear in time between the two checks",
    "doubt": "doubtful",
    "reject": "not reported",
}
#: What a discovery may lead to: nothing can be corrected by it.
DISCOVERED = ("doubt", "reject")


@dataclass(frozen=True)
class Effect:
    """What a decision makes of one reading."""

    reading: Reading
    after: float
    state: str
    grade: str
    working: Working | None


def _standing(query: Any) -> Any:
    newer = aliased(Reading)
    return query.where(
        ~select(newer.id).where(newer.root_id == Reading.root_id, newer.version > Reading.version).exists()
    )


def span(session: Session, found: Closing) -> list[Reading]:
    """The standing readings the closing check decides about: of this probe and calibration, since it last held."""
    opened = opens(session, found)
    query = select(Reading).where(
        Reading.calibration_id == found.calibration_id, Reading.probe_id == found.probe_id, Reading.at >= opened,
        Reading.at <= found.at, Reading.quantity == found.probe.quantity,
    )  # fmt: skip
    return list(session.scalars(_standing(query).order_by(Reading.at)))


def opens(session: Session, found: Closing) -> datetime:
    """Where the span begins: at the calibration, or at the last check of it that held before."""
    before = session.scalar(
        select(func.max(Closing.at)).where(
            Closing.calibration_id == found.calibration_id, Closing.at < found.at, Closing.holds
        )
    )
    return before or found.calibration.at


def effects(session: Session, found: Closing, decision: str) -> list[Effect]:
    """What a decision would make of every reading of the span; nothing is written."""
    # Only what the calibration stood behind: a reading that was unbacked, cleaned bulb or worn-out time, is not mended by it.
    rows = [r for r in span(session, found) if r.ruling_id is None and r.backing == "open"]
    return [_effect(session, found, decision, r) for r in rows]


def _effect(session: Session, found: Closing, decision: str, r: Reading) -> Effect:
    if decision == "bracket":
        return Effect(r, r.value, "bracketed", "", None)
    if decision in ("doubt", "reject"):
        return Effect(r, r.value, "doubtful" if decision == "doubt" else "not reported", "", None)
    judged = closings.criteria(found.probe.quantity)
    start = opens(session, found)
    at_s, end_s = (r.at - start).total_seconds(), (found.at - start).total_seconds()
    check = _at(found.checks, r.value, end_s, judged.relative)
    worked = drift.effect(judged, r.value, at_s, check, 0.0)
    return Effect(r, worked.after, worked.state, worked.grade, worked.worked.working)


def _at(checks: Sequence[dict[str, Any]], value: float, end_s: float, relative: bool) -> drift.Check:
    """The closing error at a reading's own level: proportional for relative scales, along the line between two cups."""
    pairs = sorted((float(c["expected"]), float(c["read"])) for c in checks)
    if relative:
        shares = [read / expected - 1 for expected, read in pairs if expected]
        share = sum(shares) / len(shares) if shares else 0.0
        return drift.Check(end_s, value, value / (1 + share))
    if len(pairs) == 1:
        return drift.Check(end_s, pairs[0][1], pairs[0][0])
    (e1, r1), (e2, r2) = pairs[0], pairs[-1]
    error = (r1 - e1) + (value - r1) / (r2 - r1) * ((r2 - e2) - (r1 - e1)) if r2 != r1 else r1 - e1
    return drift.Check(end_s, value, value - error)


def suggested(found: Closing) -> str:
    """What the check itself speaks for."""
    return "bracket" if found.holds else "correct"


def ruling_of(session: Session, subject: uuid.UUID) -> Ruling | None:
    """The ruling that stands about a subject, None where there is none or it was opened again."""
    newest = session.scalar(select(Ruling).where(Ruling.subject == subject).order_by(Ruling.number.desc()).limit(1))
    return None if newest is None or newest.kind == "reopened" else newest


def of_subject(session: Session, subject: uuid.UUID) -> list[Ruling]:
    """Every ruling about a subject, oldest first."""
    return list(session.scalars(select(Ruling).where(Ruling.subject == subject).order_by(Ruling.number)))


def rule(
    desk: Desk, actor: User, key: uuid.UUID, *, closing_id: str, decision: str, reason: str, name: str
) -> dict[str, Any]:
    """The lead decides about a closing check, with name: every reading of its span gets a new version."""
    with desk.write(actor, key, "ruling.closing") as w:
        if w.done:
            return w.done
        lead_signs(actor, name)
        found = closings.closing(w.session, closing_id)
        _lock(w, found.calibration_id)
        if decision not in DECISIONS:
            raise Refused("Decide: bracketed, corrected, doubtful, or not reported.")
        if decision == "bracket" and not found.holds:
            raise Refused("The check did not hold; these readings cannot be called bracketed.")
        if decision == "correct" and found.holds:
            raise Refused("The check held; there is nothing to correct.")
        if ruling_of(w.session, found.id) is not None:
            raise MovedOn("This check is decided about. Open it again first, with a reason.")
        why = clean_reason(reason, required=decision != "bracket")
        made = _ruling(w, "closing", found.id, decision, why, name)
        _turns(w, [e.reading for e in effects(w.session, found, decision)])
        touched = [_apply(w, e, made, f"closing check {found.number}") for e in effects(w.session, found, decision)]
        _follow(w, touched)
        return w.finish(f"closing:{found.id}", {"decision": decision, "readings": len(touched)}, ruling=made.id)


def lead_signs(actor: User, name: str) -> None:
    """Only the lead decides and signs, with their own name typed as it stands. Raises NotAllowed or Refused."""
    if actor.role != "lead":
        raise NotAllowed("Deciding about readings is for the lead.")
    if " ".join(name.split()).casefold() != " ".join(actor.name.split()).casefold():
        raise Refused(f"Sign with your own name as it stands above: {actor.name}.")


def _lock(w: Write, subject: uuid.UUID) -> None:
    w.session.execute(select(func.pg_advisory_xact_lock(func.hashtext(str(subject)))))


def _turns(w: Write, rows: Sequence[Reading]) -> None:
    """Wait for whoever writes in these visits, always in the same order; then the rows are looked up once more."""
    for visit_id in sorted({str(r.visit_id) for r in rows}):
        locked(w, visit_id)
    w.session.expire_all()


def _ruling(
    w: Write, kind: str, subject: uuid.UUID, decision: str, why: str, name: str, undoes: uuid.UUID | None = None
) -> Ruling:
    made = Ruling(
        id=uuid.uuid4(), kind=kind, subject=subject, decision=decision, reason=why, signed_name=" ".join(name.split()),
        undoes_id=undoes, at=w.now, by_id=w.actor.id,
    )  # fmt: skip
    w.session.add(made)
    w.session.flush()
    return made


def _copy(w: Write, old: Reading) -> Reading:
    """A new version of a reading, as it was."""
    skip = {"id", "version", "written_at", "by_id"}
    values = {c.key: getattr(old, c.key) for c in Reading.__table__.columns if c.key not in skip}
    return Reading(id=uuid.uuid4(), version=old.version + 1, written_at=w.now, by_id=w.actor.id, **values)


def _apply(w: Write, effect: Effect, made: Ruling, by: str) -> Reading:
    old = effect.reading
    new = _copy(w, old)
    new.ruling_id, new.reason = made.id, made.reason or DECISIONS[made.decision]
    new.value, new.backing, new.grade = effect.after, effect.state, effect.grade
    graded = f", {effect.grade}" if effect.grade and effect.state == "corrected" else ""
    new.backing_words = f"{effect.state}{graded}: {by}, decided by {w.actor.name}"
    if effect.working is not None:
        before = Working.from_dict(old.working)
        new.working = Working(before.title, (*before.steps, *effect.working.steps)).as_dict()
    outcome, words = limited(old.visit.site, old.quantity, new.value, new.expanded_uncertainty, new.unit)
    new.outcome, new.outcome_words = outcome.value, words
    w.session.add(new)
    w.session.flush()
    return new


def _follow(w: Write, touched: Sequence[Reading]) -> None:
    """What rests on the readings follows them."""
    for visit_id in dict.fromkeys(r.visit_id for r in touched):
        follow(w, w.session.get_one(Visit, visit_id))


# -- discoveries


def touched_by_lot(session: Session, lot_id: uuid.UUID) -> tuple[list[Calibration], list[Reading]]:
    """Every calibration made in a lot, and every standing reading that rests on one of them."""
    runs = select(Point.run_id).where(Point.lot_id == lot_id)
    query = select(Calibration).where(Calibration.run_id.in_(runs))
    made = list(session.scalars(query.order_by(Calibration.at)))
    return made, _resting(session, [c.id for c in made])


def _resting(session: Session, ids: Sequence[uuid.UUID]) -> list[Reading]:
    query = select(Reading).where(Reading.calibration_id.in_(ids))
    return list(session.scalars(_standing(query).order_by(Reading.at)))


def touched(session: Session, kind: str, subject: uuid.UUID) -> tuple[list[Calibration], list[Reading]]:
    """What a discovery about a lot or a calibration touches. Raises NotFound where there is no such thing."""
    if kind == "lot" and session.get(Lot, subject) is not None:
        return touched_by_lot(session, subject)
    found = session.get(Calibration, subject) if kind == "calibration" else None
    if found is None:
        raise NotFound("There is no such lot or calibration.")
    return [found], _resting(session, [found.id])


def discover(
    desk: Desk, actor: User, key: uuid.UUID, *, kind: str, subject: str, decision: str, reason: str, name: str
) -> dict[str, Any]:
    """A lot was bad, or a probe had failed: every reading that rests on it becomes doubtful, or is not reported."""
    with desk.write(actor, key, "ruling.discovery") as w:
        if w.done:
            return w.done
        lead_signs(actor, name)
        what = object_id(subject, kind)
        _lock(w, what)
        if decision not in DISCOVERED:
            raise Refused("A discovery makes readings doubtful, or not reported; it cannot correct them.")
        if ruling_of(w.session, what) is not None:
            raise MovedOn("This is decided about already. Open it again first, with a reason.")
        _turns(w, touched(w.session, kind, what)[1])
        _, rows = touched(w.session, kind, what)
        why = clean_reason(reason)
        made = _ruling(w, kind, what, decision, why, name)
        state = "doubtful" if decision == "doubt" else "not reported"
        words = "a lot found bad" if kind == "lot" else "a calibration found wrong"
        done = [
            _apply(w, Effect(r, r.value, state, "", None), made, words) for r in rows if r.backing != "not reported"
        ]
        _follow(w, done)
        return w.finish(f"{kind}:{what}", {"decision": decision, "readings": len(done)}, ruling=made.id)


def reopen(desk: Desk, actor: User, key: uuid.UUID, *, ruling_id: str, reason: str, name: str) -> dict[str, Any]:
    """Take a ruling back: its readings become what they were before it, as new versions."""
    with desk.write(actor, key, "ruling.reopen") as w:
        if w.done:
            return w.done
        lead_signs(actor, name)
        old = w.session.get(Ruling, object_id(ruling_id, "ruling"))
        if old is None:
            raise NotFound("There is no such ruling.")
        _lock(w, old.subject)
        standing = ruling_of(w.session, old.subject)
        if standing is None or standing.id != old.id:
            raise MovedOn("This ruling does not stand any more.")
        why = clean_reason(reason)
        _ruling(w, "reopened", old.subject, old.decision, why, name, undoes=old.id)
        done = []
        query = select(Reading).where(Reading.ruling_id == old.id)
        _turns(w, list(w.session.scalars(_standing(query))))
        for row in list(w.session.scalars(_standing(query))):
            before = w.session.scalar(
                select(Reading)
                .where(Reading.root_id == row.root_id, Reading.version < row.version)
                .where(Reading.ruling_id.is_distinct_from(old.id))
                .order_by(Reading.version.desc())
                .limit(1)
            )
            if before is None:
                continue
            new = _copy(w, before)
            new.version, new.reason = row.version + 1, why
            w.session.add(new)
            w.session.flush()
            done.append(new)
        _follow(w, done)
        return w.finish(f"ruling:{old.id}", {"readings": len(done), "reason": why})


def subject_of(session: Session, ruling_id: str | uuid.UUID) -> tuple[str, uuid.UUID]:
    """What a ruling is about: kind and id."""
    found = session.get(Ruling, object_id(ruling_id, "ruling"))
    if found is None:
        raise NotFound("There is no such ruling.")
    return found.kind, found.subject


def subject_name(session: Session, kind: str, subject: uuid.UUID) -> str:
    """The lot or calibration of a discovery by name."""
    if kind == "lot":
        return f"Lot {session.get_one(Lot, subject).code}"
    return f"Calibration {session.get_one(Calibration, subject).number}"


def ruled_readings(session: Session, ruled: Ruling) -> list[Reading]:
    """The versions a ruling made."""
    return list(session.scalars(select(Reading).where(Reading.ruling_id == ruled.id).order_by(Reading.at)))


# -- the lead's queue


@dataclass(frozen=True)
class Queue:
    """What waits for the lead: unsigned readings by kind, closing checks without a decision."""

    exceeded: list[Reading]
    odd: list[Reading]
    rest: list[Reading]
    unsigned: int
    closings: list[Closing]


MOST = 60


def queue(session: Session) -> Queue:
    """The lead's queue, newest first; each list is cut at `MOST`."""
    base = select(Reading).join(Unsigned, Unsigned.reading_id == Reading.id)
    odd = (Reading.flag > 2) | Reading.backing.in_(("doubtful", "not reported"))
    new = lambda query: list(session.scalars(query.order_by(Reading.at.desc()).limit(MOST)))  # noqa: E731
    exceeded = new(base.where(Reading.outcome == "exceeded"))
    strange = new(base.where(odd, Reading.outcome != "exceeded"))
    rest = new(base.where(~odd, Reading.outcome != "exceeded"))
    total = session.scalar(select(func.count()).select_from(Unsigned)) or 0
    later = aliased(Ruling)
    overtaken = select(later.id).where(later.subject == Ruling.subject, later.number > Ruling.number)
    # Decided about, and not opened again since: the newest ruling is no reopening.
    decided = select(Ruling.id).where(Ruling.subject == Closing.id, Ruling.kind != "reopened", ~overtaken.exists())
    open_ones = session.scalars(select(Closing).where(~decided.exists()).order_by(Closing.at.desc()).limit(MOST))
    return Queue(exceeded, strange, rest, total, list(open_ones))


def sign(desk: Desk, actor: User, key: uuid.UUID, *, readings: Sequence[str], name: str) -> dict[str, Any]:
    """Sign versions of readings with name and time. A version that was overtaken meanwhile is refused, all of them kept."""
    with desk.write(actor, key, "reading.sign") as w:
        if w.done:
            return w.done
        lead_signs(actor, name)
        ids = [object_id(r, "reading") for r in dict.fromkeys(readings)]
        if not ids:
            raise Refused("Nothing is ticked. Tick the readings you have looked at.")
        if len(ids) > 500:
            raise Refused("Sign 500 at once at most.")
        rows = list(w.session.scalars(_standing(select(Reading).where(Reading.id.in_(ids)))))
        if len(rows) != len(ids):
            raise MovedOn("One of these readings has a newer version. You now see it; nothing was signed.")
        have = set(w.session.scalars(select(Signature.reading_id).where(Signature.reading_id.in_(ids))))
        for row in rows:
            if row.id not in have:
                w.session.add(Signature(reading_id=row.id, name=" ".join(name.split()), at=w.now, by_id=actor.id))
        return w.finish(f"readings:{len(ids)}", {"signed": len(ids) - len(have)}, signed=len(ids) - len(have))


def signature(session: Session, reading_id: uuid.UUID) -> Signature | None:
    """The signature of a version, None where it is unsigned."""
    return session.get(Signature, reading_id)
