"""What every table shares."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import Any

from sqlalchemy import String
from sqlalchemy.dialects.postgresql import JSONB, TIMESTAMP
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

Json = dict[str, Any]
Uuid = uuid.UUID


class Base(DeclarativeBase):
    """Shared type choices: UTC time stamps with zone, JSON as JSONB."""

    type_annotation_map = {datetime: TIMESTAMP(timezone=True), Json: JSONB, list[Any]: JSONB, str: String}


def uuid_key() -> Mapped[Uuid]:
    """A key made here, so that a client may make it too."""
    return mapped_column(primary_key=True, default=uuid.uuid4)
