"""The tables of Practice that stay with the people: scenarios, attempts, what was reached, who may work alone."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, Identity, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid, uuid_key
from brumel.store.kit import User


class PracticeScenario(Base):
    """A scenario as the lead wrote it; the newest version of a key stands, and is offered while it is in use."""

    __tablename__ = "practice_scenarios"
    id: Mapped[Uuid] = uuid_key()
    key: Mapped[str]
    version: Mapped[int]
    body: Mapped[Json]
    in_use: Mapped[bool]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    __table_args__ = (UniqueConstraint("key", "version", name="practice_scenarios_one_version"),)


class PracticeAttempt(Base):
    """A scenario as somebody began it: `told` is the scenario as it stood, `seed` draws its hidden truth anew."""

    __tablename__ = "practice_attempts"
    id: Mapped[Uuid] = uuid_key()
    person_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"), index=True)
    scenario: Mapped[str]
    told: Mapped[Json]
    seed: Mapped[int]
    source: Mapped[str]
    hints: Mapped[bool]
    at: Mapped[datetime]
    person: Mapped[User] = relationship(lazy="joined")


class PracticeResult(Base):
    """How an attempt went: the finding as it was given, each criterion, and the debrief as it was shown."""

    __tablename__ = "practice_results"
    attempt_id: Mapped[Uuid] = mapped_column(ForeignKey("practice_attempts.id"), primary_key=True)
    finding: Mapped[Json]
    criteria: Mapped[Json]
    debrief: Mapped[Json]
    passed: Mapped[bool]
    at: Mapped[datetime]
    attempt: Mapped[PracticeAttempt] = relationship(lazy="joined")


class PracticeAssignment(Base):
    """A scenario the lead gave somebody to do; done by the first attempt after it that passes."""

    __tablename__ = "practice_assignments"
    id: Mapped[Uuid] = uuid_key()
    person_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"), index=True)
    scenario: Mapped[str]
    words: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class SkillSigning(Base):
    """The lead's word that somebody may do a task of a quantity alone, until a day."""

    __tablename__ = "skill_signings"
    id: Mapped[Uuid] = uuid_key()
    person_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"), index=True)
    quantity: Mapped[str]
    task: Mapped[str]
    until: Mapped[datetime]
    words: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    person: Mapped[User] = relationship(lazy="joined", foreign_keys=person_id)
    by: Mapped[User] = relationship(lazy="joined", foreign_keys=by_id)


class SkillSigningEnd(Base):
    """A signing that was taken back, with its reason."""

    __tablename__ = "skill_signing_ends"
    signing_id: Mapped[Uuid] = mapped_column(ForeignKey("skill_signings.id"), primary_key=True)
    reason: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class SkillRule(Base):
    """Whether Bench asks for a signed skill: not at all, with a warning, or as a condition. The newest stands."""

    __tablename__ = "skill_rules"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    asks: Mapped[str]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
