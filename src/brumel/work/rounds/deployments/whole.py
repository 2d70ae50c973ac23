"""All that is known of one deployment, asked for once: what happened, visits, files, marks and corrections."""

from __future__ import annotations

import uuid
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.deployed.clock import Comparison
from brumel.store.deployments import (
    Correction,
    Deployment,
    DeploymentStep,
    FeedRecord,
    FileEnd,
    FileIntake,
    LoggerFile,
    Mark,
    MarkEnd,
    Service,
)
from brumel.work.rounds.deployments.plan import state_of
from brumel.work.rounds.deployments.visits import back_at, services_of, stops_at

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def us(at: datetime) -> int:
    """A moment as microseconds since 1970."""
    return (at - EPOCH) // timedelta(microseconds=1)


def moment(at_us: float) -> datetime:
    """The inverse of `us`."""
    return EPOCH + timedelta(microseconds=int(at_us))


@dataclass(frozen=True)
class FileState:
    """A file with how it was read, and its withdrawal; both None while it waits to be mapped."""

    file: LoggerFile
    intake: FileIntake | None
    end: FileEnd | None

    @property
    def stands(self) -> bool:
        return self.intake is not None and self.end is None


@dataclass(frozen=True)
class Whole:
    """A deployment and everything about it that is small."""

    deployment: Deployment
    steps: dict[str, DeploymentStep]
    services: list[Service]
    files: list[FileState]
    marks: dict[uuid.UUID, list[Mark]]
    corrections: dict[uuid.UUID, list[Correction]]
    fed: tuple[datetime, datetime, int] | None = field(default=None)
    #: what was read of its values already, so that its channels ask once
    held: dict[Any, Any] = field(default_factory=dict, compare=False, repr=False)

    @property
    def state(self) -> str:
        return state_of(self.steps)

    @property
    def standing_files(self) -> list[FileState]:
        return [f for f in self.files if f.stands]

    @property
    def stops_at(self) -> datetime | None:
        """When its memory is full or its battery flat, counted from when it was started, read out or given new batteries."""
        started = self.steps.get("started")
        return stops_at(self.deployment, started.at, self.services) if started else None

    def span(self) -> tuple[datetime, datetime] | None:
        """From the first record to the last, of files that stand and of the feed; None where there is none."""
        ends = [(f.intake.starts, f.intake.ends) for f in self.files if f.stands and f.intake]
        ends += [self.fed[:2]] if self.fed else []
        return (min(a for a, _ in ends), max(b for _, b in ends)) if ends else None

    def out_of_water(self) -> list[tuple[datetime, datetime]]:
        """The times in which it was serviced and its records are not of the water."""
        return [(s.at, back_at(s)) for s in self.services if back_at(s) > s.at]


def whole_of(session: Session, d: Deployment) -> Whole:
    """Everything small about a deployment, in a handful of queries."""
    files = session.execute(
        select(LoggerFile, FileIntake, FileEnd)
        .outerjoin(FileIntake, FileIntake.file_id == LoggerFile.id)
        .outerjoin(FileEnd, FileEnd.file_id == LoggerFile.id)
        .where(LoggerFile.deployment_id == d.id)
        .order_by(FileIntake.starts, LoggerFile.at, LoggerFile.id)
    )
    ids = [c.id for c in d.channels]
    marks: dict[uuid.UUID, list[Mark]] = {i: [] for i in ids}
    taken_off = select(MarkEnd.mark_id)
    for mark in session.scalars(
        select(Mark).where(Mark.channel_id.in_(ids), Mark.id.not_in(taken_off)).order_by(Mark.at)
    ):
        marks[mark.channel_id].append(mark)
    corrections: dict[uuid.UUID, list[Correction]] = {i: [] for i in ids}
    for c in session.scalars(
        select(Correction).where(Correction.channel_id.in_(ids)).order_by(Correction.version.desc())
    ):
        corrections[c.channel_id].append(c)
    steps, fed = _steps_and_feed(session, d)
    return Whole(d, steps, services_of(session, [d.id]), [FileState(*row) for row in files], marks, corrections, fed)


def _steps_and_feed(
    session: Session, d: Deployment
) -> tuple[dict[str, DeploymentStep], tuple[datetime, datetime, int] | None]:
    """What has happened to it, and the first, the last and the number of records it sent, by one query."""
    sent = (
        select(func.min(FeedRecord.at).label("first"), func.max(FeedRecord.at).label("last"), func.count().label("n"))
        .where(FeedRecord.deployment_id == d.id)
        .subquery()
    )
    query = select(sent.c.first, sent.c.last, sent.c.n, DeploymentStep)
    rows = session.execute(query.outerjoin(DeploymentStep, DeploymentStep.deployment_id == d.id)).all()
    first, last, count, _ = rows[0]
    steps = {step.kind: step for *_, step in rows if step is not None}
    return steps, (first, last, count) if count else None


def told_of_clock(whole: Whole) -> list[tuple[Comparison, bool]]:
    """What was compared of the logger's clock when it was configured and at visits, and whether it was set then."""
    told = list[tuple[Comparison, bool]]()
    set_up = whole.steps.get("configured")
    if set_up is not None and set_up.body.get("ahead_s") is not None:
        true_s = set_up.at.timestamp()
        told.append((Comparison(true_s + set_up.body["ahead_s"], true_s), False))
    for service in whole.services:
        clock = service.body.get("clock")
        if clock:
            pair = [datetime.fromisoformat(clock[k]).timestamp() for k in ("logger", "true")]
            told.append((Comparison(*pair), bool(clock.get("set"))))
    return told


def comparisons(whole: Whole, at: datetime) -> list[Comparison]:
    """What is known of the logger's clock around a time, between the moments in which it was set."""
    run = list[Comparison]()
    for comparison, was_set in told_of_clock(whole):
        run.append(comparison)
        if was_set:
            if at.timestamp() <= comparison.logger_s:
                return run
            run = [Comparison(comparison.true_s, comparison.true_s)]
    return run
