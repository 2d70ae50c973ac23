"""Limits of checks and of the closing check, from `data/checks.yaml`."""

from __future__ import annotations

import functools

from pydantic import Field

from brumel.core import drift
from brumel.methods.loader import DATA
from brumel.methods.model import Limit
from brumel.methods.strict import Strict, load_yaml


class ClosingCriteria(Strict):
    """Criteria of the closing check of one quantity."""

    holds: float = Field(gt=0)
    holds_percent: float = Field(ge=0)
    grades: tuple[float, float, float]
    most: float = Field(gt=0)
    relative: bool
    unit: str
    source: str = Field(min_length=3)
    gain: bool = False

    def criteria(self) -> drift.DriftCriteria:
        return drift.DriftCriteria(**self.model_dump())


class Checks(Strict):
    """All limits by quantity and name."""

    temperature: dict[str, Limit]
    redox: dict[str, Limit]
    ions: dict[str, Limit]
    conductivity: dict[str, Limit]
    oxygen: dict[str, Limit]
    closing: dict[str, ClosingCriteria]


@functools.cache
def load_checks() -> Checks:
    """The shipped limits."""
    return Checks.model_validate(load_yaml((DATA / "checks.yaml").read_text("utf-8")))
