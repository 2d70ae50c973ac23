"""The tables of what is handed over: the practice's letterhead, issued documents, and their release to clients."""

from __future__ import annotations

import uuid
from datetime import datetime

from sqlalchemy import ForeignKey, Identity, Index
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid
from brumel.store.kit import User
from brumel.store.sites import Client


class Letterhead(Base):
    """How the practice's documents are headed and written; the newest row stands.

    `picture` is a PNG, drawn afresh on upload; `units` {what: unit} as a person's own units. `zone` is the clock of the
    practice's pages, empty for that of the server; `first_day` begins its week.
    """

    __tablename__ = "letterheads"
    version: Mapped[int] = mapped_column(Identity(start=1), primary_key=True)
    name: Mapped[str]
    address: Mapped[str]
    prefix: Mapped[str]
    paper: Mapped[str]
    dates: Mapped[str]
    units: Mapped[Json]
    zone: Mapped[str] = mapped_column(default="")
    first_day: Mapped[str] = mapped_column(default="MO")
    picture: Mapped[bytes | None] = mapped_column(deferred=True)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class Document(Base):
    """A document as it was issued. `subject` is what it was made of ({visit}, {client, since, until} ...)."""

    __tablename__ = "documents"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    number: Mapped[int] = mapped_column(Identity(start=1), unique=True)
    kind: Mapped[str]
    title: Mapped[str]
    label: Mapped[str]
    client_id: Mapped[Uuid | None] = mapped_column(ForeignKey("clients.id"), index=True)
    subject: Mapped[Json]
    pages: Mapped[int]
    sha256: Mapped[str]
    body: Mapped[bytes] = mapped_column(deferred=True)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    client: Mapped[Client | None] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")
    __table_args__ = (Index("documents_by_time", "at"),)


class Release(Base):
    """A document released to its client: by a link until it runs out, and to the client's people until it is taken back."""

    __tablename__ = "releases"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    document_id: Mapped[Uuid] = mapped_column(ForeignKey("documents.id"), index=True)
    token_hash: Mapped[str] = mapped_column(unique=True)
    expires_at: Mapped[datetime]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    document: Mapped[Document] = relationship(lazy="joined")
    by: Mapped[User] = relationship(lazy="joined")
    ended: Mapped[ReleaseEnd | None] = relationship(lazy="joined", viewonly=True)


class ReleaseEnd(Base):
    """A release that was taken back."""

    __tablename__ = "release_ends"
    release_id: Mapped[Uuid] = mapped_column(ForeignKey("releases.id"), primary_key=True)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))


class Invitation(Base):
    """A link by which a person chooses their first password; used once, until it runs out."""

    __tablename__ = "invitations"
    token_hash: Mapped[str] = mapped_column(primary_key=True)
    user_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"), index=True)
    expires_at: Mapped[datetime]
    used_at: Mapped[datetime | None]
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
