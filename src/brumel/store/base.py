"""What every table shares."""

from __future__ import annotations

import uuid
from collections.abc import Iterable
from datetime import datetime
from typing import Any

from sqlalchemy import ARRAY, ColumnElement, String, any_, bindparam, literal
from sqlalchemy import Uuid as SqlUuid
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP
from sqlalchemy.orm import DeclarativeBase, InstrumentedAttribute, Mapped, mapped_column

Json = dict[str, Any]
Uuid = uuid.UUID


class Base(DeclarativeBase):
    """Shared type choices: UTC time stamps with zone, JSON as JSONB."""

    type_annotation_map = {datetime: TIMESTAMP(timezone=True), Json: JSONB, list[Any]: JSONB, str: String}


def among(column: InstrumentedAttribute[Any], ids: Iterable[uuid.UUID] | str) -> ColumnElement[bool]:
    """Where a column is one of these ids: one statement however many they are, which the database has planned before.

    ids : themselves, or what they are called among the values that a statement made once is sent with
    """
    kind = ARRAY(SqlUuid)
    return column == any_(bindparam(ids, type_=kind) if isinstance(ids, str) else literal(list(ids), kind))


def uuid_key() -> Mapped[Uuid]:
    """A key made here, so that a client may make it too."""
    return mapped_column(primary_key=True, default=uuid.uuid4)
