"""Taking values out of what was given; the form has already checked that they are there."""

from __future__ import annotations

from brumel.core.errors import NotANumber
from brumel.work.worksheet.model import Given


def number(given: Given, key: str) -> float:
    """The number of a field; NotANumber where it is empty."""
    found = given.get(key)
    if not isinstance(found, (int, float)):
        raise NotANumber(key, found)
    return float(found)


def maybe(given: Given, key: str) -> float | None:
    """The number of a field that may stay empty."""
    found = given.get(key)
    return float(found) if isinstance(found, (int, float)) else None


def choice(given: Given, key: str) -> str:
    """The chosen value of a list."""
    return str(given.get(key) or "")
