"""What Today tells of the records, by one query: the day's calibrations, visits sent back, what loggers want."""

from __future__ import annotations

import json
import uuid
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from typing import Any

from sqlalchemy import CompoundSelect, String, bindparam, cast, literal, null, select, union_all
from sqlalchemy.orm import Session

from brumel.store.deployments import Alarm, Deployment
from brumel.store.kept_words import from_data
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
class OfLogger:
    """What a logger wants soon, or what a live one's watch has noticed; `words` is the whole sentence.

    state : of its deployment, "" for what was noticed
    """

    deployment_id: uuid.UUID
    at: datetime
    name: str
    zone: str
    words: str
    state: str


@dataclass(frozen=True)
class News:
    """What is new for one person, and of the loggers for everybody."""

    made: list[Made]
    sent_back: list[SentBack]
    noticed: list[OfLogger]
    loggers: list[OfLogger]


#: More than this is not listed on Today.
MOST = 50
#: A logger is told of so long before it is to be set out, visited or lifted.
SOON = timedelta(days=3)


def of_day(session: Session, since: datetime, now: datetime, user: User) -> News:
    """The calibrations made from a moment on, newest first, open questions about visits of this person, and of loggers."""
    news = News([], [], [], [])
    asked = {"since": since, "person": user.id, "until": now + SOON}
    rows: list[Any] = list(session.execute(_told_of_a_day(), asked))
    for kind, at, one, two, three, four, visit_id in rows:
        if kind == "made":
            news.made.append(Made(at, one, int(three), two))
        elif kind in ("noticed", "logger"):
            of = OfLogger(uuid.UUID(visit_id), at, one, two, from_data(json.loads(three)), four)
            (news.loggers if kind == "logger" else news.noticed).append(of)
        else:
            news.sent_back.append(SentBack(uuid.UUID(visit_id), at, one, two, three, four))
    return news


@cache
def _told_of_a_day() -> CompoundSelect[Any]:
    """Made once: putting it together takes longer than what it asks for."""
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
        .where(Calibration.at >= bindparam("since"))
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
        .where(VisitAnswer.question_id.is_(None), Visit.operator_id == bindparam("person"))
        .order_by(VisitQuestion.at)
        .limit(MOST)
    )
    noticed = (
        select(
            literal("noticed"), Alarm.at, Deployment.name, Site.zone, cast(Alarm.words, String), literal(""),
            cast(Deployment.id, String),
        )
        .join(Deployment, Deployment.id == Alarm.deployment_id)
        .join(Site, Site.id == Deployment.site_id)
        .where(Alarm.ended_at.is_(None), Alarm.seen_at.is_(None))
        .order_by(Alarm.at.desc())
        .limit(MOST)
    )  # fmt: skip
    loggers = (
        select(
            literal("logger"), Deployment.next_at, Deployment.name, Site.zone, cast(Deployment.next_words, String),
            Deployment.state, cast(Deployment.id, String),
        )
        .join(Site, Site.id == Deployment.site_id)
        .where(Deployment.next_at <= bindparam("until"))
        .order_by(Deployment.next_at)
        .limit(MOST)
    )  # fmt: skip
    return union_all(made, asked, noticed, loggers)
