"""The closing check and what it does to a span's readings [USGS-TM1D3]."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from brumel.core.checking import Door, Floats, plain
from brumel.core.errors import InputError
from brumel.core.working import Ladder, StepResult, Worked

GRADES = ("excellent", "good", "fair", "poor")


@dataclass(frozen=True)
class DriftCriteria:
    """When a closing check holds and how a correction is graded.

    holds : largest error that counts as no drift [unit]; holds_percent the same relative, the greater of the two counts
    grades : upper ends of excellent, good and fair [unit, or % where relative]; most : beyond it nothing is reported
    gain : an error is a share of the reading, the same everywhere; else it is an offset
    """

    holds: float
    holds_percent: float
    grades: tuple[float, float, float]
    most: float
    relative: bool
    unit: str
    source: str = "USGS-TM1D3"
    gain: bool = False


@dataclass(frozen=True)
class StandardCheck:
    """A check in a standard: when [s from any start], what was read, what it should be."""

    at_s: float
    value: float
    expected: float

    @property
    def error(self) -> float:
        return self.value - self.expected


def holds(check: StandardCheck, criteria: DriftCriteria) -> bool:
    """Whether the probe held: the error is within the criterion, the absolute or the relative one, whichever is greater."""
    allowed = max(criteria.holds, abs(check.expected) * criteria.holds_percent / 100)
    return abs(check.error) <= allowed + 1e-9


def correct_one_point(values: Floats, times_s: Floats, closing: StandardCheck, opened_s: float) -> Floats:
    """Spread the closing error evenly over the time since the calibration and take it off [unit, s].

    v − e·(t − t0)/(t1 − t0): nothing at the calibration, all of it at the check. Source: USGS-TM1D3.
    """
    v, t = _enter(values, times_s, opened_s, closing.at_s)
    return plain(np.asarray(v - closing.error * (t - opened_s) / (closing.at_s - opened_s)))


#: A standard of less than this share of the other's value is a check of the zero.
_ZERO_SHARE = 0.05


def is_gain(checks: Sequence[StandardCheck], *, gain: bool) -> bool:
    """Whether the error of such checks is a share of every reading: where the quantity's is, and none is of the zero."""
    levels = sorted(abs(check.expected) for check in checks)
    return gain and not (len(levels) > 1 and levels[0] < _ZERO_SHARE * levels[-1])


def check_at(checks: Sequence[StandardCheck], value: float, *, gain: bool) -> StandardCheck:
    """What a closing check in one standard or two says at a reading's own level [unit].

    gain : the error is a share of the reading, the same everywhere, unless one of two checks is of the zero
    Otherwise one standard's error counts as it is, and between two the error runs along a line, as the slope of the
    electrode does. Source: USGS-TM1D3; a gain for oxygen and conductivity common practice, no source.
    """
    at_s = max(check.at_s for check in checks)
    by_level = sorted(checks, key=lambda check: (check.expected, check.value))
    if is_gain(checks, gain=gain):
        shares = [check.value / check.expected - 1 for check in by_level if check.expected]
        share = sum(shares) / len(shares) if shares else 0.0
        return StandardCheck(at_s, value, value / (1 + share))
    low, high = by_level[0], by_level[-1]
    if len(by_level) == 1:
        return StandardCheck(at_s, low.value, low.expected)
    error = low.error
    if high.value != low.value:
        error += (value - low.value) / (high.value - low.value) * (high.error - low.error)
    return StandardCheck(at_s, value, value - error)


def _enter(values: Any, times: Any, opened_s: float, closed_s: float) -> tuple[np.ndarray, np.ndarray]:
    door = Door()
    v = door.floats("values", values, -1e9, 1e9)
    if not closed_s > opened_s:
        door.add(InputError("times_s", "The closing check must come after the calibration."))
        door.close()
    t = door.floats("times_s", times, opened_s, closed_s, "Readings must lie between the two checks.")
    door.same_length(values=v, times_s=t)
    door.close()
    return v, t


def grade(correction: Floats, criteria: DriftCriteria, value: Floats | None = None) -> Any:
    """Grade by the size of the correction: excellent, good, fair, poor; "not reported" beyond the most.

    correction : what was taken off [unit]; value : the corrected value, for relative criteria [unit]
    """
    door = Door()
    size = np.abs(door.floats("correction", correction, -1e9, 1e9))
    if criteria.relative:
        v = door.floats("value", value if value is not None else np.nan, -1e9, 1e9)
        door.close()
        size = 100 * size / np.maximum(np.abs(v), 1e-12)
    door.close()
    edges = np.array([*criteria.grades, criteria.most])
    grades = np.array([*GRADES, "not reported"])[np.searchsorted(edges, np.round(size, 9), side="left")]
    return str(grades) if grades.ndim == 0 else grades


@dataclass(frozen=True)
class DriftEffect:
    """What a closing check does to one reading."""

    state: str
    before: float
    after: float
    grade: str
    worked: Worked


def effect(criteria: DriftCriteria, value: float, at_s: float, closing: StandardCheck, opened_s: float) -> DriftEffect:
    """Bracketed where the probe held, else corrected in time, graded, or not reported; with the working [unit, s]."""
    unit = criteria.unit
    ladder = Ladder("What the closing check does")
    ladder.step(
        "e",
        "error at the closing check",
        "e = read − expected",
        StepResult(closing.error, unit),
        "USGS-TM1D3",
        ("read", "read in the standard", closing.value, unit),
        ("exp", "standard", closing.expected, unit),
    )
    if holds(closing, criteria):
        ladder.step("v", "value stands", "the probe held", StepResult(value, unit), "USGS-TM1D3")
        return DriftEffect("bracketed", value, value, "excellent", Worked(value, unit, ladder.done()))
    after = float(correct_one_point(value, at_s, closing, opened_s))
    share = (at_s - opened_s) / (closing.at_s - opened_s)
    ladder.step(
        "v",
        "corrected, linear in time",
        "v' = v − e·(t − t0)/(t1 − t0)",
        StepResult(after, unit),
        "USGS-TM1D3",
        ("v", "as read", value, unit),
        ("share", "share of the time", share, ""),
    )
    graded = str(grade(value - after, criteria, after))
    state = "not reported" if graded == "not reported" else "corrected"
    return DriftEffect(state, value, after, graded, Worked(after, unit, ladder.done()))


def doubt_share(share: float, *, corrected: bool) -> float:
    """How much of a closing error joins U (k = 2) at a share of the span: half of it at least.

    When the error came about is not known. A value that stands carries the more of it the later it was read; one that was
    corrected in a straight line is missed by most in the middle, where the error came at once. Source: the simulation of
    `benchmarks/judgement.py`, over errors that came linearly, at once, fast at first, and late.
    """
    return max(0.5, 1.7 * math.sqrt(share * (1 - share))) if corrected else max(0.9, 1.6 * math.sqrt(share))


def doubted_u(
    expanded_uncertainty: float | None, closing_error: float, share: float, *, corrected: bool
) -> float | None:
    """U of a reading after a decision, with what the error found may still do at its share of the span [unit]."""
    if expanded_uncertainty is None:
        return None
    return math.hypot(expanded_uncertainty, doubt_share(share, corrected=corrected) * closing_error)
