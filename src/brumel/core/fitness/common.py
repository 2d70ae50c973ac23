"""What every quantity's judgement shares: points, terms, the shape of a fit, and the rows that are always there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from brumel.core.sentence import Amount, say
from brumel.core.verdict import Band, CriterionRow, Limits, Outcome, Tolerance, Verdict

PRACTICE = "common practice, no source"


class Fitted(Protocol):
    """What every fit can do, whatever it measures."""

    @property
    def kind(self) -> str:
        """How it was made: "two points", "check" ..."""

    @property
    def figures(self) -> dict[str, float]:
        """The numbers that are followed over the probe's life."""

    @property
    def sentence(self) -> str:
        """The fit in one line."""

    def read(self, signal: float, temperature_c: float) -> float:
        """The quantity from the signal at the sample's own temperature [°C]."""

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""


def read_each(fit: Fitted, signals: NDArray[np.float64], temperatures_c: NDArray[np.float64]) -> NDArray[np.float64]:
    """What a fit reads of each signal at its temperature; 1-d arrays of one length [°C].

    A fit whose formula takes arrays has a `read_all`, for a trace of minutes is read on every look at a sheet.
    """
    if (read_all := getattr(fit, "read_all", None)) is not None:
        return np.atleast_1d(np.asarray(read_all(signals, temperatures_c), dtype=np.float64))
    return np.array([fit.read(float(s), float(c)) for s, c in zip(signals, temperatures_c, strict=True)])


@dataclass(frozen=True)
class CalibrationPoint:
    """A point that was taken: what for, the signal, the temperature [°C], and what the quantity is there.

    role : "zero", "adjust", "check" (read, not adjusted), "found" (before adjusting) or "left" (after it)
    shown : what the meter displayed, in the quantity's unit, where a display was typed
    """

    name: str
    role: str
    signal: float
    temperature_c: float
    expected: float
    key: str = ""
    shown: float | None = None
    expanded_uncertainty: float = 0.0


@dataclass(frozen=True)
class JudgingTerms:
    """What a run is judged with besides its points.

    before : the last good fit of this probe, None where there is none
    before_words : where it comes from, "calibration 1012 of 3 May 2026"
    carry : whether a one-point run may carry the slope of `before` over
    nominal_per_cm, first_gain_percent, water_c : of cells and oxygen probes [1/cm, %, °C]
    early, objections : points accepted unsettled; solutions with something against them
    missing, doubts : what had to come first and did not; what spoke against a point that was taken all the same
    """

    before: Fitted | None = None
    before_words: str = ""
    kind: str = ""
    nominal_per_cm: float = 1.0
    first_gain_percent: float | None = None
    water_c: float | None = None
    ion: str = "nitrate"
    expanded_uncertainty: float = 0.1
    early: int = 0
    objections: tuple[str, ...] = ()
    missing: tuple[str, ...] = ()
    doubts: tuple[str, ...] = ()
    numbers: Mapping[str, float] = field(default_factory=dict)


@dataclass(frozen=True)
class Fitness:
    """A fit with its verdict and the features the fault files weigh."""

    fit: Fitted
    verdict: Verdict
    features: dict[str, float]


def band(limits: Limits, key: str) -> Band:
    """The two-width limit of that name."""
    limit = limits[key]
    if not isinstance(limit, Band):
        raise TypeError(f"the limit “{key}” is one number, not a band")
    return limit


def tolerance(limits: Limits, key: str) -> Tolerance:
    """The one-number limit of that name."""
    limit = limits[key]
    if not isinstance(limit, Tolerance):
        raise TypeError(f"the limit “{key}” is a band, not one number")
    return limit


def of_role(points: Sequence[CalibrationPoint], *roles: str) -> list[CalibrationPoint]:
    """The points taken for one of these purposes, in order."""
    return [p for p in points if p.role in roles]


def as_found_rows(
    points: Sequence[CalibrationPoint], terms: JudgingTerms, limit: Tolerance, *, digits: int
) -> list[CriterionRow]:
    """Errors before adjusting; they do not decide whether the probe is fit now, but what the last span was worth."""
    rows = []
    for p in of_role(points, "found"):
        read = read_as_found(p, terms)
        if read is None:
            rows.append(
                CriterionRow(
                    "as_found",
                    f"as found in {p.name}",
                    None,
                    limit.unit,
                    say("within ±{value}", value=Amount(limit.value, limit.unit, difference=True)),
                    Outcome.UNKNOWN,
                    limit.source,
                    "no earlier calibration to read it with",
                    digits,
                )
            )
        else:
            note = "before adjusting" if p.shown is None else "as the display showed it, before adjusting"
            rows.append(
                limit.graded(beyond=Outcome.CARE).row(
                    "as_found", f"as found in {p.name}", read - p.expected, digits=digits, note=note
                )
            )
    return rows


def read_as_found(point: CalibrationPoint, terms: JudgingTerms) -> float | None:
    """What was read before adjusting: by the last good fit, else as displayed; None where neither is known."""
    if terms.before is not None:
        return terms.before.read(point.signal, point.temperature_c)
    return point.shown


def as_left_rows(
    points: Sequence[CalibrationPoint], fit: Fitted, limit: Tolerance, *, digits: int
) -> list[CriterionRow]:
    """Errors read once more after adjusting: by the new fit, or as the adjusted meter displays it."""
    return [
        limit.graded(care=2.0).row(
            "as_left",
            f"as left in {p.name}",
            (fit.read(p.signal, p.temperature_c) if p.shown is None else p.shown) - p.expected,
            digits=digits,
            note="read again after adjusting",
        )
        for p in of_role(points, "left")
    ]


def spread_row(points: Sequence[CalibrationPoint], limit: Tolerance) -> list[CriterionRow]:
    """Temperatures of the cups against each other."""
    temperatures = [p.temperature_c for p in points]
    if len(temperatures) < 2:
        return []
    spread = max(temperatures) - min(temperatures)
    return [
        limit.graded(beyond=Outcome.CARE, signed=False).row("cup_spread", "cup temperatures apart", spread, digits=1)
    ]


def common_rows(terms: JudgingTerms) -> list[CriterionRow]:
    """Rows any run may have: unsettled points, solutions with something against them, what was not there."""
    rows = []
    if terms.early:
        rows.append(
            CriterionRow(
                "early",
                "points accepted before settling",
                terms.early,
                "",
                "0",
                Outcome.CARE,
                PRACTICE,
                "recorded as early",
                0,
            )
        )
    rows += [
        CriterionRow("expired", f"{name} past its date", None, "", "in date", Outcome.CARE, "label of the lot", "", 0)
        for name in terms.objections
    ]
    rows += [
        CriterionRow(
            "doubt",
            "taken although something spoke against it",
            None,
            "",
            "nothing suspicious",
            Outcome.CARE,
            PRACTICE,
            sentence,
            0,
        )
        for sentence in terms.doubts
    ]
    rows += [
        CriterionRow("missing", what, None, "", "done first", Outcome.CARE, PRACTICE, "", 0) for what in terms.missing
    ]
    return rows
