"""A verdict is data: rows of criterion, value, limit, outcome and source; the worst row decides."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, replace
from enum import StrEnum
from typing import Any

from brumel.core.sentence import Amount, Span, say


class Outcome(StrEnum):
    """How a row or a whole verdict comes out."""

    FIT = "fit"
    CARE = "care"
    NOT = "not"
    UNKNOWN = "unknown"

    @property
    def words(self) -> str:
        return {"fit": "fit for use", "care": "use with care", "not": "do not use", "unknown": "not judged"}[self.value]


_RANK = {Outcome.UNKNOWN: 0, Outcome.FIT: 1, Outcome.CARE: 2, Outcome.NOT: 3}


@dataclass(frozen=True)
class CriterionRow:
    """One criterion: what was measured, against which limit, with what result, by whose word."""

    key: str
    criterion: str
    value: float | None
    unit: str
    limit: str
    outcome: Outcome
    source: str
    note: str = ""
    digits: int = 1


@dataclass(frozen=True)
class Band:
    """A limit with two widths: inside `fit` is fit, inside `care` is with care, beyond is not [unit of the value]."""

    fit_low: float
    fit_high: float
    care_low: float
    care_high: float
    source: str = "common practice, no source"

    def judge(self, value: float) -> Outcome:
        if self.fit_low <= value <= self.fit_high:
            return Outcome.FIT
        if self.care_low <= value <= self.care_high:
            return Outcome.CARE
        return Outcome.NOT

    def row(
        self, key: str, criterion: str, value: float, unit: str, *, digits: int = 1, note: str = ""
    ) -> CriterionRow:
        fit, care = Span(self.fit_low, self.fit_high, unit), Span(self.care_low, self.care_high, unit)
        limit = say("{fit} fit, {care} with care", fit=fit, care=care)
        return CriterionRow(key, criterion, value, unit, limit, self.judge(value), self.source, note, digits)


@dataclass(frozen=True)
class Tolerance:
    """One number a criterion is held to, with its unit and source."""

    value: float
    unit: str = ""
    source: str = "common practice, no source"
    beyond: Outcome = Outcome.NOT
    care: float = 1.0
    signed: bool = True

    def graded(self, *, beyond: Outcome = Outcome.NOT, care: float = 1.0, signed: bool = True) -> Tolerance:
        """The same, held less or more strictly: with care up to `care` times it, then `beyond`; `signed` if both ways."""
        return replace(self, beyond=beyond, care=care, signed=signed)

    def row(self, key: str, criterion: str, value: float, *, digits: int = 2, note: str = "") -> CriterionRow:
        """Fit within the tolerance, with care up to `care` times it, else `beyond`."""
        size = round(abs(value), 9)
        outcome = Outcome.FIT if size <= self.value else Outcome.CARE if size <= self.care * self.value else self.beyond
        limit = say(
            "within ±{value}" if self.signed else "up to {value}", value=Amount(self.value, self.unit, difference=True)
        )
        return CriterionRow(key, criterion, value, self.unit, limit, outcome, self.source, note, digits)


Limits = Mapping[str, Band | Tolerance]


@dataclass(frozen=True)
class Verdict:
    """All rows and the word they add up to."""

    rows: tuple[CriterionRow, ...]

    @property
    def outcome(self) -> Outcome:
        return worst(row.outcome for row in self.rows)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing, pages and exports."""
        return {"outcome": self.outcome.value, "rows": [asdict(row) for row in self.rows]}

    @classmethod
    def from_dict(cls, data: dict[str, Any]) -> Verdict:
        """The inverse of `as_dict`."""
        return cls(tuple(CriterionRow(**{**row, "outcome": Outcome(row["outcome"])}) for row in data["rows"]))


def worst(outcomes: Iterable[Outcome]) -> Outcome:
    """The gravest of the outcomes; UNKNOWN for none."""
    return max(outcomes, key=_RANK.__getitem__, default=Outcome.UNKNOWN)
