"""Which version of a reading stands. The database points at it, in the transaction that writes a version."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

from sqlalchemy import ColumnElement, ForeignKey, select
from sqlalchemy.orm import Mapped, mapped_column

from brumel.store.tables import Base, Reading, Uuid


class StandingReading(Base):
    """The newest version of a reading; written by a trigger alone."""

    __tablename__ = "standing_readings"
    reading_id: Mapped[Uuid] = mapped_column(ForeignKey("readings.id"), primary_key=True)
    root_id: Mapped[Uuid] = mapped_column(unique=True)
    version: Mapped[int]


@lru_cache(maxsize=16)
def is_standing(reading: Any = Reading) -> ColumnElement[bool]:
    """Where a reading's row (or an alias of it) is its newest version."""
    return select(StandingReading.reading_id).where(StandingReading.reading_id == reading.id).exists()
