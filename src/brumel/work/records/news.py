"""What Today tells of the records, by one query: the day's calibrations, and visits that were sent back."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import String, cast, literal, null, select, union_all
from sqlalchemy.orm import Session

from brumel.store.records import VisitAnswer, VisitQuestion
from brumel.store.tables import Calibration, Probe, Site, User, Visit


@dataclass(frozen=True)
class Made:
    """A calibration of the day."""

    at: datetime
    outcome: str
    number: int
    probe: str


@dataclass(frozen=True)
class SentBack:
    """A visit that came back with a question that is still open; `at` is when it was read."""

    visit_id: uuid.UUID
    at: datetime
    site: str
    zone: str
    question: str
    asked_by: str


@dataclass(frozen=True)
class News:
    """What is new for one person."""

    made: list[Made]
    sent_back: list[SentBack]


#: More than this is not listed on Today.
MOST = 50


def of_day(session: Session, since: datetime, user: User) -> News:
    """The calibrations made from a moment on, newest first, and the open questions about visits of this person."""
    made = (
        select(
            literal("made").label("kind"),
            Calibration.at.label("at"),
            Calibration.outcome.label("one"),
            Probe.name.label("two"),
            cast(Calibration.number, String).label("three"),
            literal("").label("four"),
            null().label("id"),
        )
        .join(Probe, Probe.id == Calibration.probe_id)
        .where(Calibration.at >= since)
        .order_by(Calibration.at.desc())
        .limit(MOST)
    )
    asked = (
        select(
            literal("asked"), Visit.at, Site.name, Site.zone, VisitQuestion.question, User.name, cast(Visit.id, String)
        )
        .join(Visit, Visit.id == VisitQuestion.visit_id)
        .join(Site, Site.id == Visit.site_id)
        .join(User, User.id == VisitQuestion.by_id)
        .outerjoin(VisitAnswer, VisitAnswer.question_id == VisitQuestion.id)
        .where(VisitAnswer.question_id.is_(None), Visit.operator_id == user.id)
        .order_by(VisitQuestion.at)
        .limit(MOST)
    )
    news = News([], [])
    rows: list[Any] = list(session.execute(union_all(made, asked)))
    for kind, at, one, two, three, four, visit_id in rows:
        if kind == "made":
            news.made.append(Made(at, one, int(three), two))
        else:
            news.sent_back.append(SentBack(uuid.UUID(visit_id), at, one, two, three, four))
    return news
