"""The tables of what was brought in: the file as it came, how its columns were read, and which line became which thing."""

from __future__ import annotations

import uuid
from datetime import datetime

from sqlalchemy import ForeignKey, Identity
from sqlalchemy.orm import Mapped, mapped_column, relationship

from brumel.store.base import Base, Json, Uuid
from brumel.store.kit import User


class Import(Base):
    """A file that is to be brought in, or was. `state` is "open", "written", "taken back" or "dropped".

    kind : "readings", "sites", "probes" or "lots"
    mapping : how its columns are read; counts : {rows} of the file, and {made, left_out} once it is written
    """

    __tablename__ = "imports"
    id: Mapped[Uuid] = mapped_column(primary_key=True, default=uuid.uuid4)
    number: Mapped[int] = mapped_column(Identity(start=1), unique=True)
    kind: Mapped[str]
    file_name: Mapped[str]
    sha256: Mapped[str]
    body: Mapped[bytes] = mapped_column(deferred=True)
    mapping: Mapped[Json] = mapped_column(default=dict)
    state: Mapped[str] = mapped_column(default="open")
    counts: Mapped[Json] = mapped_column(default=dict)
    at: Mapped[datetime]
    by_id: Mapped[Uuid] = mapped_column(ForeignKey("users.id"))
    written_at: Mapped[datetime | None]
    taken_back_at: Mapped[datetime | None]
    reason: Mapped[str] = mapped_column(default="")
    by: Mapped[User] = relationship(lazy="joined")


class ImportedRow(Base):
    """A line of a file, and the thing that it became: a reading (by its root), site, meter, probe or lot."""

    __tablename__ = "imported_rows"
    import_id: Mapped[Uuid] = mapped_column(ForeignKey("imports.id"), primary_key=True)
    thing_id: Mapped[Uuid] = mapped_column(primary_key=True)
    thing: Mapped[str]
    line: Mapped[int]
