"""Taking values out of what was given; the form has already checked that they are there."""

from __future__ import annotations

from brumel.core.errors import NotANumber
from brumel.work.worksheet.model import Given


def number(given: Given, key: str) -> float:
    """The number of a field; NotANumber where it is empty."""
    value = given.get(key)
    if not isinstance(value, (int, float)):
        raise NotANumber(key, value)
    return float(value)


def maybe(given: Given, key: str) -> float | None:
    """The number of an optional field."""
    value = given.get(key)
    return float(value) if isinstance(value, (int, float)) else None


def choice(given: Given, key: str) -> str:
    """The chosen value of a list."""
    return str(given.get(key) or "")
