"""What was sent with a key, as a short text: the same key with other content is not the same write."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import fields, is_dataclass
from datetime import date, time, timedelta
from decimal import Decimal
from enum import Enum
from typing import Any
from uuid import UUID

from pydantic import BaseModel


def fingerprint(*sent: Any) -> str:
    """SHA-256 of what a use case was called with, in hex; equal content gives equal text in every process.

    Raises TypeError for what has no content of its own to compare, as an open file.
    """
    return hashlib.sha256(json.dumps(_plain(sent), sort_keys=True).encode()).hexdigest()


def _plain(value: Any) -> Any:
    match value:
        case Enum():
            return _plain(value.value)
        case None | bool() | int() | float() | str():
            return value
        case bytes() | bytearray():
            return hashlib.sha256(value).hexdigest()
        case UUID() | date() | time() | timedelta() | Decimal():
            return str(value)
        case BaseModel():
            return _plain(value.model_dump())
        case Mapping():
            return {str(_plain(key)): _plain(each) for key, each in value.items()}
        case set() | frozenset():
            return sorted((_plain(each) for each in value), key=json.dumps)
        case list() | tuple():
            return [_plain(each) for each in value]
        case _ if is_dataclass(value) and not isinstance(value, type):
            return {field.name: _plain(getattr(value, field.name)) for field in fields(value)}
        case _ if callable(value):  # how far it is told to somebody is no part of what was sent
            return None
    raise TypeError(f"{type(value).__name__} has no content that could be compared")
