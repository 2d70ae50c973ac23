"""The lead's queue, and signing."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, func, select
from sqlalchemy.orm import Session, aliased, joinedload, lazyload

from brumel.store.records import Closing, Decision, Signature, Unsigned
from brumel.store.standing import is_standing
from brumel.store.tables import Reading
from brumel.work.desk import MovedOn, Refused, Write, lead_signs, object_id, writes
from brumel.work.records.search import in_a_list

# -- the lead's queue


@dataclass(frozen=True)
class Signed:
    """How many readings a signature was new for."""

    signed: int


@dataclass(frozen=True)
class Queue:
    """What waits for the lead: unsigned readings by kind, closing checks without a decision."""

    exceeded: list[Reading]
    odd: list[Reading]
    rest: list[Reading]
    unsigned: int
    closings: list[Closing]


MOST = 60


def _undecided() -> ColumnElement[bool]:
    """Where a closing check is not decided about, or its decision was opened again since."""
    later = aliased(Decision)
    overtaken = select(later.id).where(later.subject == Decision.subject, later.number > Decision.number)
    decided = select(Decision.id).where(
        Decision.subject == Closing.id, Decision.kind != "reopened", ~overtaken.exists()
    )
    return ~decided.exists()


def queue(session: Session) -> Queue:
    """The lead's queue, newest first; each list is cut at `MOST`."""
    base = select(Reading).join(Unsigned, Unsigned.reading_id == Reading.id).options(*in_a_list(findings=True))
    odd = (Reading.flag > 2) | Reading.backing.in_(("doubtful", "not reported"))

    def new(query: Any) -> list[Reading]:
        return list(session.scalars(query.order_by(Reading.at.desc()).limit(MOST)))

    exceeded = new(base.where(Reading.outcome == "exceeded"))
    strange = new(base.where(odd, Reading.outcome != "exceeded"))
    rest = new(base.where(~odd, Reading.outcome != "exceeded"))
    total = session.scalar(select(func.count()).select_from(Unsigned)) or 0
    # Only what a line of the queue names: the run behind a closing check brings half the database with it.
    named = (joinedload(part).lazyload("*") for part in (Closing.probe, Closing.calibration))
    waiting = select(Closing).where(_undecided()).options(lazyload("*"), *named)
    open_ones = session.scalars(waiting.order_by(Closing.at.desc()).limit(MOST))
    return Queue(exceeded, strange, rest, total, list(open_ones))


@dataclass(frozen=True)
class Waiting:
    """How much waits for the lead: closing checks without a decision, unsigned readings, those beyond a limit among them."""

    closings: int
    unsigned: int
    exceeded: int


def counts(session: Session) -> Waiting:
    """The same in numbers, by one query."""
    waiting = select(func.count()).select_from(Closing).where(_undecided()).scalar_subquery()
    unsigned = select(func.count()).select_from(Unsigned)
    exceeded = unsigned.join(Reading, Reading.id == Unsigned.reading_id).where(Reading.outcome == "exceeded")
    return Waiting(*session.execute(select(waiting, unsigned.scalar_subquery(), exceeded.scalar_subquery())).one())


@writes("reading.sign", Signed)
def sign(w: Write, *, readings: Sequence[str], name: str) -> Signed:
    """Sign versions of readings with name and time. A version that was overtaken meanwhile is refused, all of them kept."""
    lead_signs(w.actor, name)
    ids = [object_id(r, "reading") for r in dict.fromkeys(readings)]
    if not ids:
        raise Refused("Nothing is ticked. Tick the readings you have looked at.")
    if len(ids) > 500:
        raise Refused("Sign 500 at once at most.")
    rows = list(w.session.scalars(select(Reading).where(Reading.id.in_(ids), is_standing())))
    if len(rows) != len(ids):
        raise MovedOn("One of these readings has a newer version. You now see it; nothing was signed.")
    have = set(w.session.scalars(select(Signature.reading_id).where(Signature.reading_id.in_(ids))))
    for row in rows:
        if row.id not in have:
            w.session.add(Signature(reading_id=row.id, name=" ".join(name.split()), at=w.now, by_id=w.actor.id))
    w.record(f"readings:{len(ids)}", {"signed": len(ids) - len(have)})
    return Signed(signed=len(ids) - len(have))


def signature(session: Session, reading_id: uuid.UUID) -> Signature | None:
    """The signature of a version, None where it is unsigned."""
    return session.get(Signature, reading_id)
