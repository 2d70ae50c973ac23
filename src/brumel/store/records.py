"""The tables of what became of readings: closing checks, decisions, signatures, and what still waits for one."""

from __future__ import annotations

import uuid
from datetime import datetime

from sqlalchemy import ForeignKey, Identity, Index
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.tables import Base, Calibration, Probe, Run, User, Uuid
from brumel.store.typed_json import CheckedCup, TypedJson


class Closing(Base):
    """A closing check: what the calibration in force read in a standard at the end of the span it backs."""

    __tablename__ = "closings"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    number: Mapped[int] = mapped_column(Identity(start=1), unique=True)
    run_id: Mapped[Uuid] = mapped_column(ForeignKey("runs.id"), unique=True)
    probe_id: Mapped[Uuid] = mapped_column(ForeignKey("probes.id"))
    calibration_id: Mapped[Uuid] = mapped_column(ForeignKey("calibrations.id"), index=True)
    at: Mapped[datetime]
    checks: Mapped[tuple[CheckedCup, ...]] = mapped_column(TypedJson(tuple[CheckedCup, ...]))
    holds: Mapped[bool]
    sentence: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    probe: Mapped[Probe] = relationship(lazy="joined")
    calibration: Mapped[Calibration] = relationship(lazy="joined")
    run: Mapped[Run] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("closings_by_probe", "probe_id", "at"),)


class Decision(Base):
    """A lead's decision about the readings of a span: after a closing check, or after a lot or calibration was found bad.

    `kind` is "closing", "lot", "calibration" or "reopened"; `subject` the id of what it is about. Evidence: it is never
    changed; opening it again is another decision that names it in `undoes_id`.
    """

    __tablename__ = "decisions"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    number: Mapped[int] = mapped_column(Identity(start=1), unique=True)
    kind: Mapped[str]
    subject: Mapped[Uuid]
    decision: Mapped[str]
    reason: Mapped[str]
    signed_name: Mapped[str]
    undoes_id: Mapped[Uuid | None] = mapped_column(ForeignKey("decisions.id"))
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("decisions_by_subject", "subject", "at"),)


class Signature(Base):
    """One version of a reading, signed with name and time. A new version is unsigned until it is signed itself."""

    __tablename__ = "signatures"
    reading_id: Mapped[Uuid] = mapped_column(ForeignKey("readings.id"), primary_key=True)
    name: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    signing_id: Mapped[Uuid | None] = mapped_column(ForeignKey("signings.id"), index=True)
    by: Mapped[User] = relationship(lazy="joined")


class Signing(Base):
    """Versions that were signed at once. `kind` is "visit", "round" or "readings"; `subject` the visit or the outing."""

    __tablename__ = "signings"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    number: Mapped[int] = mapped_column(Identity(start=1), unique=True)
    kind: Mapped[str]
    subject: Mapped[Uuid | None]
    name: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")


class VisitQuestion(Base):
    """A visit sent back by the lead with a question to whoever read it."""

    __tablename__ = "visit_questions"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    visit_id: Mapped[Uuid] = mapped_column(ForeignKey("visits.id"), index=True)
    question: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")


class VisitAnswer(Base):
    """The answer to a question about a visit; one row at most, so that two windows cannot answer it twice."""

    __tablename__ = "visit_answers"
    question_id: Mapped[Uuid] = mapped_column(ForeignKey("visit_questions.id"), primary_key=True)
    answer: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    by: Mapped[User] = relationship(lazy="joined")


class Unsigned(Base):
    """The newest versions that are not signed; kept by triggers of the database, only read here."""

    __tablename__ = "unsigned"
    reading_id: Mapped[Uuid] = mapped_column(ForeignKey("readings.id"), primary_key=True)
