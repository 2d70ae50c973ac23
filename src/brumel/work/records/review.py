"""Review by visit and round: what waits, what is looked at first, and visits sent back with a question."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import cache
from typing import Any

from sqlalchemy import ColumnElement, Select, and_, case, func, or_, select
from sqlalchemy.exc import IntegrityError
from sqlalchemy.orm import Session, joinedload

from brumel.core.errors import InputError
from brumel.store.base import among
from brumel.store.records import Unsigned, VisitAnswer, VisitQuestion
from brumel.store.rounds import Outing
from brumel.store.tables import Reading, Visit
from brumel.work.desk import LONGEST_REASON, MovedOn, NotAllowed, NotFound, Write, Written, object_id, writes
from brumel.work.records.visits import in_a_row


@dataclass(frozen=True)
class WaitingVisit:
    """A visit with unsigned readings: how many, and how many of them are looked at first, by what speaks against them."""

    visit: Visit
    unsigned: int
    exceeded: int
    questioned: int
    doubtful: int
    mended: int

    @property
    def first(self) -> int:
        """By how much it comes before others."""
        return self.exceeded * 1000 + self.doubtful * 100 + self.questioned * 10 + self.mended


@dataclass(frozen=True)
class WaitingRound:
    """The waiting visits of one outing; `outing` is None for visits outside a round."""

    outing: Outing | None
    visits: list[WaitingVisit] = field(default_factory=list)

    @property
    def unsigned(self) -> int:
        return sum(v.unsigned for v in self.visits)


#: Visits that are listed as waiting.
MOST = 60


def waiting(session: Session) -> tuple[list[WaitingRound], int]:
    """What waits for a signature by round, what is most looked at first before the rest; and how many visits there are."""
    counted, weighed = _waiting()
    total = session.scalar(counted) or 0
    rounds: dict[uuid.UUID, WaitingRound] = {}
    for visit, _, unsigned, exceeded, questioned, doubtful, mended, _ in session.execute(weighed):
        key = visit.outing_id or visit.id
        of = rounds.setdefault(key, WaitingRound(visit.outing))
        of.visits.append(WaitingVisit(visit, unsigned, exceeded, questioned, doubtful, mended))
    return list(rounds.values()), total


@cache
def _waiting() -> tuple[Select[Any], Select[Any]]:
    """How many visits wait, and the first of them with what waits of each."""

    def count(condition: ColumnElement[bool]) -> ColumnElement[int]:
        return func.count(case((condition, 1)))

    counts = (
        select(
            Reading.visit_id,
            func.count().label("unsigned"),
            count(Reading.outcome == "exceeded").label("exceeded"),
            count(Reading.flag > 2).label("questioned"),
            count(Reading.backing.in_(("doubtful", "not reported", "unbacked"))).label("doubtful"),
            count(or_(Reading.backing == "corrected", and_(Reading.version > 1, Reading.decision_id.is_(None)))).label(
                "mended"
            ),
            func.max(Reading.at).label("last"),
        )
        .join(Unsigned, Unsigned.reading_id == Reading.id)
        .group_by(Reading.visit_id)
    ).subquery()
    weight = counts.c.exceeded * 1000 + counts.c.doubtful * 100 + counts.c.questioned * 10 + counts.c.mended
    weighed = (
        select(Visit, counts)
        .join(counts, counts.c.visit_id == Visit.id)
        .options(*in_a_row())
        .order_by((weight > 0).desc(), counts.c.last.desc())
        .limit(MOST)
    )
    return select(func.count()).select_from(counts), weighed


def outing_of(session: Session, outing_id: str) -> Outing:
    """A round that was gone, by the id in an address. Raises NotFound."""
    outing = session.get(Outing, object_id(outing_id, "round"))
    if outing is None:
        raise NotFound("There is no such round.")
    return outing


def visits_of(session: Session, outing: Outing) -> list[Visit]:
    """The visits of an outing in the order they were made."""
    query = select(Visit).where(Visit.outing_id == outing.id).options(*in_a_row(whole_site=True))
    return list(session.scalars(query.order_by(Visit.at, Visit.id)))


# -- questions


@dataclass(frozen=True)
class Asked:
    """A question about a visit, with its answer where there is one."""

    question: VisitQuestion
    answer: VisitAnswer | None
    visit: Visit


@writes("visit.ask", Written)
def ask(w: Write, *, visit_id: str, question: str) -> Written:
    """Send a visit back to whoever read it, with a question. Only the lead does."""
    if w.actor.role != "lead":
        raise NotAllowed("Sending a visit back is for the lead.")
    visit = _visit(w.session, visit_id)
    text = _clean("question", "Question", question)
    row = VisitQuestion(id=uuid.uuid4(), visit_id=visit.id, question=text, at=w.now, by_id=w.actor.id)
    w.session.add(row)
    w.record(f"visit:{visit.id}", {"question": text, "to": visit.operator.name})
    return Written(str(row.id))


@writes("visit.answer", Written)
def answer(w: Write, *, question_id: str, text: str) -> Written:
    """Answer a question about a visit: whoever read it, or the lead for them."""
    row = question_of(w.session, question_id)
    visit = w.session.get_one(Visit, row.visit_id)
    if w.actor.role != "lead" and visit.operator_id != w.actor.id:
        raise NotAllowed("This question is for whoever read the visit.")
    said = _clean("answer", "Answer", text)
    w.session.add(VisitAnswer(question_id=row.id, answer=said, at=w.now, by_id=w.actor.id))
    try:
        w.session.flush()
    except IntegrityError as error:
        raise MovedOn("This question is answered already.") from error
    w.record(f"visit:{visit.id}", {"question": str(row.id), "answer": said})
    return Written(str(visit.id))


def _clean(field: str, label: str, text: str) -> str:
    clean = " ".join(text.replace("\x00", "").split())
    if not clean:
        raise InputError(field, f"{label} must be filled in.")
    if len(clean) > LONGEST_REASON:
        raise InputError(field, f"{label} has {len(clean)} characters; {LONGEST_REASON} are allowed.")
    return clean


def _visit(session: Session, visit_id: str) -> Visit:
    visit = session.get(Visit, object_id(visit_id, "visit"))
    if visit is None:
        raise NotFound("There is no such visit.")
    return visit


def question_of(session: Session, question_id: str) -> VisitQuestion:
    """A question by the id in an address. Raises NotFound."""
    row = session.get(VisitQuestion, object_id(question_id, "question"))
    if row is None:
        raise NotFound("There is no such question.")
    return row


def questions(session: Session, visit_ids: Sequence[uuid.UUID]) -> dict[uuid.UUID, list[Asked]]:
    """The questions about these visits, oldest first, by visit."""
    found: dict[uuid.UUID, list[Asked]] = {}
    query = _asked().where(among(VisitQuestion.visit_id, visit_ids)).order_by(VisitQuestion.at)
    for row, answered, visit in session.execute(query):
        found.setdefault(row.visit_id, []).append(Asked(row, answered, visit))
    return found


@cache
def _asked() -> Select[VisitQuestion, VisitAnswer, Visit]:
    return (
        select(VisitQuestion, VisitAnswer, Visit)
        .join(Visit, Visit.id == VisitQuestion.visit_id)
        .outerjoin(VisitAnswer, VisitAnswer.question_id == VisitQuestion.id)
        .options(*in_a_row(), joinedload(VisitQuestion.by).lazyload("*"), joinedload(VisitAnswer.by).lazyload("*"))
    )
