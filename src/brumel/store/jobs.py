"""The tables of long work: what was asked for, how far it has come, and the file that came of it."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import ForeignKey, Index, text
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid, uuid_key
from brumel.store.kit import User


class Job(Base):
    """A piece of work too long for a page to wait for. Whoever does it says now and then that it is still there."""

    __tablename__ = "jobs"
    __table_args__ = (Index("ix_jobs_open", "asked_at", postgresql_where=text("state in ('waiting', 'running')")),)
    id: Mapped[Uuid] = uuid_key()
    kind: Mapped[str]
    asked: Mapped[Json]
    title: Mapped[str]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"), index=True)
    asked_at: Mapped[datetime]
    state: Mapped[str] = mapped_column(default="waiting")
    tries: Mapped[int] = mapped_column(default=0)
    done: Mapped[int] = mapped_column(default=0)
    of: Mapped[int] = mapped_column(default=0)
    seen_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    fault: Mapped[str] = mapped_column(default="")
    by: Mapped[User] = relationship(lazy="joined")


class JobFile(Base):
    """What a job made, kept apart so that looking at the job does not carry it."""

    __tablename__ = "job_files"
    job_id: Mapped[Uuid] = mapped_column(ForeignKey("jobs.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str]
    kind: Mapped[str]
    body: Mapped[bytes]
