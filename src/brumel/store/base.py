"""What every table shares."""

from __future__ import annotations

import uuid
from collections.abc import Iterable
from datetime import datetime
from typing import Any

from sqlalchemy import (
    ARRAY,
    ColumnElement,
    String,
    Subquery,
    any_,
    bindparam,
    cast,
    func,
    literal,
    literal_column,
    select,
)
from sqlalchemy import Uuid as SqlUuid
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP
from sqlalchemy.orm import DeclarativeBase, InstrumentedAttribute, Mapped, mapped_column
from sqlalchemy.types import TypeEngine

Json = dict[str, Any]
Uuid = uuid.UUID


class Base(DeclarativeBase):
    """Shared type choices: UTC time stamps with zone, JSON as JSONB."""

    type_annotation_map = {datetime: TIMESTAMP(timezone=True), Json: JSONB, list[Any]: JSONB, str: String}


def among(column: InstrumentedAttribute[Any], ids: Iterable[uuid.UUID] | str) -> ColumnElement[bool]:
    """Where a column is one of these ids: one statement however many they are, which the database has planned before.

    How many there are is kept from the planner: where it knows, it plans for that number anew each time it is asked.

    ids : themselves, or what they are called among the values that a statement made once is sent with
    """
    kind = ARRAY(SqlUuid())
    sent = bindparam(ids, type_=kind) if isinstance(ids, str) else literal(list(ids), kind)
    return column == any_(cast(select(sent).scalar_subquery(), kind))


def a_row_each(name: str, label: str, kind: TypeEngine[Any] | None = None) -> Subquery:
    """A row for each of the values that a statement is sent with under that name, in a column of that label; ids by default.

    As many as there are, it is planned once, as `among` is.
    """
    sent = bindparam(name, type_=ARRAY(kind or SqlUuid())).label("sent")
    hidden = select(sent).offset(literal_column("0")).subquery()
    return select(func.unnest(hidden.c.sent).label(label)).subquery()


def uuid_key() -> Mapped[Uuid]:
    """A key made here, so that a client may make it too."""
    return mapped_column(primary_key=True, default=uuid.uuid4)
