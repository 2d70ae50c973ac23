"""The tables of other programs that are told by themselves, and of what they are told."""

from __future__ import annotations

import uuid
from datetime import datetime

from sqlalchemy import ForeignKey, Index, UniqueConstraint, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid
from brumel.store.kit import User


class Webhook(Base):
    """An address that is told of events; `secret` signs what is sent, `events` are the words of what it is told of."""

    __tablename__ = "webhooks"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    url: Mapped[str]
    secret: Mapped[str]
    events: Mapped[list[str]] = mapped_column(JSONB)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    ended_at: Mapped[datetime | None]
    by: Mapped[User] = relationship(lazy="joined")


class Delivery(Base):
    """One event for one address: sent once, tried again until it is taken or given up. `next_at` is None once it is over."""

    __tablename__ = "deliveries"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    webhook_id: Mapped[Uuid] = mapped_column(ForeignKey("webhooks.id"))
    key: Mapped[str]
    event: Mapped[str]
    body: Mapped[Json]
    at: Mapped[datetime]
    next_at: Mapped[datetime | None]
    tries: Mapped[int] = mapped_column(default=0)
    delivered_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(default="")
    webhook: Mapped[Webhook] = relationship(lazy="joined")
    __table_args__ = (
        UniqueConstraint("webhook_id", "key"),
        Index("deliveries_waiting", "next_at", postgresql_where=text("next_at is not null")),
    )
