"""The tables of writing itself: keys, audit, what the simulated meter knows, counters of the sign-in limit."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import BigInteger, CheckConstraint, FetchedValue, ForeignKey, Identity
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid, uuid_key
from brumel.store.kit import User


class WriteKey(Base):
    """An idempotency key that has been used, with the fingerprint of what was sent, and what came of it.

    `result` is filled once, in the transaction that wrote the key; `content` is empty for keys of before it was kept.
    """

    __tablename__ = "write_keys"
    key: Mapped[Uuid] = mapped_column(primary_key=True)
    user_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    action: Mapped[str]
    content: Mapped[str]
    at: Mapped[datetime]
    result: Mapped[Json | None]


class Audit(Base):
    """Who did what to which thing, written in the same transaction as the thing: a link of a chain without gaps.

    `changes` is what was before and after; `seq` and `hash` are set by the database, which chains each row to the last.
    """

    __tablename__ = "audit"
    id: Mapped[int] = mapped_column(Identity(), primary_key=True)
    at: Mapped[datetime] = mapped_column(index=True)
    user_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    action: Mapped[str]
    subject: Mapped[str] = mapped_column(index=True)
    detail: Mapped[Json]
    key: Mapped[Uuid]
    changes: Mapped[Json] = mapped_column(default=dict)
    seq: Mapped[int] = mapped_column(BigInteger, FetchedValue(), unique=True)
    hash: Mapped[str] = mapped_column(FetchedValue())
    user: Mapped[User] = relationship(lazy="joined")


class Truth(Base):
    """What the simulated meter knows and Brumel's judging never reads: probes, waters, its clock."""

    __tablename__ = "sim_truths"
    subject: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[Json]


class SignIn(Base):
    """One signed-in session. Its token is in the cookie alone; `stamp` is the person's when they signed in.

    `device` is "phone" or "computer", as the browser says.
    """

    __tablename__ = "sign_ins"
    token_hash: Mapped[str] = mapped_column(primary_key=True)
    user_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"), index=True)
    stamp: Mapped[str]
    device: Mapped[str] = mapped_column(default="")
    at: Mapped[datetime]
    seen_at: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    user: Mapped[User] = relationship(lazy="joined")


class RecoveryCode(Base):
    """A code that stands in once for a lost device; only its hash is kept."""

    __tablename__ = "recovery_codes"
    token_hash: Mapped[str] = mapped_column(primary_key=True)
    user_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"), index=True)
    used_at: Mapped[datetime | None]


class Token(Base):
    """What a program ("program") or a calendar ("calendar") shows instead of a sign-in; it acts as its person.

    Only its hash is kept. `scopes` are the words of what it may do.
    """

    __tablename__ = "tokens"
    id: Mapped[Uuid] = uuid_key()
    token_hash: Mapped[str] = mapped_column(unique=True)
    user_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"), index=True)
    kind: Mapped[str] = mapped_column(CheckConstraint("kind in ('program', 'calendar')", name="tokens_kind"))
    name: Mapped[str]
    scopes: Mapped[list[str]] = mapped_column(JSONB)
    expires_at: Mapped[datetime]
    at: Mapped[datetime]
    used_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    user: Mapped[User] = relationship(lazy="joined")


class RateLimit(Base):
    """Counters of the sign-in limit, shared by all web workers."""

    __tablename__ = "rate_limits"
    key: Mapped[str] = mapped_column(primary_key=True)
    count: Mapped[int]
    expires_at: Mapped[datetime]
