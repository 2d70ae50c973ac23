"""A channel's record corrected interval by interval for fouling and drift, with grade and uncertainty [USGS-TM1D3]."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from brumel.core.deployed.service import NO_ERROR, ErrorLine
from brumel.core.drift import GRADES, DriftCriteria
from brumel.core.errors import InputError

Array = NDArray[np.float64]
Course = Literal["none", "linear", "step", "doubt", "leave_out"]
#: The grade of what is reported as recorded though nobody can say that it held; it comes after GRADES.
DOUBTFUL = len(GRADES)
GRADES_SHOWN = (*GRADES, "doubtful")
#: In words of the trade, as they are offered.
COURSES: dict[str, str] = {
    "none": "as recorded: the check held",
    "linear": "corrected, growing evenly",
    "step": "corrected, the whole error at once",
    "doubt": "as recorded, but doubtful",
    "leave_out": "not reported",
}
#: What is reported without taking anything off.
_AS_IT_IS = ("none", "doubt")


@dataclass(frozen=True)
class Interval:
    """From one service to the next [s], what was wrong at its ends, and how it is put right.

    fouling : at the end [unit, % where relative]; opening, closing : drift after the last reset and at the end
    course : evenly from the start, or from `from_s` on; or the whole error at `from_s` at once
    """

    starts_s: float
    ends_s: float
    course: Course
    fouling: float = 0.0
    opening: ErrorLine = NO_ERROR
    closing: ErrorLine = NO_ERROR
    from_s: float | None = None

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return {
            "starts_s": self.starts_s,
            "ends_s": self.ends_s,
            "course": self.course,
            "fouling": self.fouling,
            "opening": [self.opening.offset, self.opening.slope, self.opening.known],
            "closing": [self.closing.offset, self.closing.slope, self.closing.known],
            "from_s": self.from_s,
        }

    @classmethod
    def restored(cls, body: dict[str, Any]) -> Interval:
        """The inverse of `as_dict`."""
        lines = {name: ErrorLine(*body[name]) for name in ("opening", "closing")}
        return cls(**{**body, **lines})


@dataclass(frozen=True)
class CheckUncertainty:
    """Standard uncertainties of what the checks rest on [unit, % of the value where relative].

    reading : a reading of the logger or the checking instrument in the water; standard : a standard with its reading
    value : what a single logged value scatters by, and what its calibration left
    """

    reading: float
    standard: float
    value: float


@dataclass(frozen=True)
class Corrected:
    """A record after its correction, one element a value: NaN where it is not reported.

    fouling, drift : what each step took off [unit]; grade : index into GRADES, DOUBTFUL, −1 where nothing is reported
    u : expanded uncertainty, k = 2 [unit]
    """

    values: Array
    fouling: Array
    drift: Array
    grade: NDArray[np.int8]
    u: Array


def correct(
    values: Any, times_s: Any, intervals: Sequence[Interval], criteria: DriftCriteria, u: CheckUncertainty
) -> Corrected:
    """Take fouling, then drift off each value by the interval its time lies in; beyond the most, nothing is reported.

    Fouling grows from nothing, drift from what the last reset left; the grade and the limit go by the sizes of both
    together. A value in no interval has been checked by nobody and is not reported. Values that are NaN stay so.
    Raises InputError where intervals overlap or do not rise. Source: USGS-TM1D3, formulas from memory.
    """
    v = np.array(values, dtype=np.float64, ndmin=1)
    t = np.array(times_s, dtype=np.float64, ndmin=1)
    _in_order(intervals)
    out = np.full(v.shape, np.nan)
    by_fouling, by_drift, wide = np.zeros(v.shape), np.zeros(v.shape), np.full(v.shape, np.nan)
    doubtful = np.zeros(v.shape, dtype=bool)
    for i in intervals:
        if i.course == "leave_out":
            continue
        # The moment of a visit belongs to what lies before it.
        here = (t > i.starts_s) & (t <= i.ends_s) if i is not intervals[0] else (t >= i.starts_s) & (t <= i.ends_s)
        if not here.any():
            continue
        s, opened = _shares(t[here], i)
        clean, wrong_f = _without_fouling(v[here], s, i, criteria.relative)
        error = opened * i.opening.at(clean) + s * i.closing.at(clean)
        if i.course in _AS_IT_IS:
            clean, wrong_f, error = v[here], np.zeros(s.shape), np.zeros(s.shape)
        out[here] = clean - error
        by_fouling[here], by_drift[here] = wrong_f, error
        wide[here] = _expanded(out[here], s, opened, i, criteria.relative, u)
        doubtful[here] = i.course == "doubt"
    grade = np.where(doubtful & np.isfinite(out), DOUBTFUL, _grades(out, by_fouling, by_drift, criteria)).astype(
        np.int8
    )
    out[grade < 0] = np.nan
    wide[grade < 0] = np.nan
    return Corrected(out, by_fouling, by_drift, grade, wide)


def _in_order(intervals: Sequence[Interval]) -> None:
    for i in intervals:
        if not i.ends_s > i.starts_s:
            raise InputError("interval", "A service interval must end after it began.")
        if i.from_s is not None and not i.starts_s <= i.from_s < i.ends_s:
            raise InputError("from", "The moment from when on it was wrong must lie in its interval.")
    for before, after in zip(intervals, intervals[1:], strict=False):
        if after.starts_s < before.ends_s:
            raise InputError("interval", "The service intervals overlap.")


def _shares(t: Array, i: Interval) -> tuple[Array, Array]:
    """Of the closing error, and of the opening one, at each time."""
    since = i.starts_s if i.from_s is None else i.from_s
    evenly = np.clip((t - since) / (i.ends_s - since), 0.0, 1.0)
    s = (t >= since).astype(float) if i.course == "step" else evenly
    return s, 1.0 - s


def _without_fouling(v: Array, s: Array, i: Interval, relative: bool) -> tuple[Array, Array]:
    clean = v / (1 + s * i.fouling / 100) if relative else v - s * i.fouling
    return clean, v - clean


def _expanded(right: Array, s: Array, opened: Array, i: Interval, relative: bool, u: CheckUncertainty) -> Array:
    """k = 2. Two readings of the logger and two beside it make fouling; that the course was even is a guess of its own.

    The course may lie off the line by up to |E|·s·(1 − s) (rectangular), a quarter of the error midway: chosen.
    """
    scale = np.abs(right) / 100 if relative else np.ones(right.shape)
    size = np.abs(i.fouling) * scale + np.abs(i.closing.at(right) - i.opening.at(right))
    course = size * s * (1 - s) / np.sqrt(3) if i.course == "linear" else np.zeros(s.shape)
    fouling = 2 * u.reading * scale * s
    drift = u.standard * scale * np.hypot(s, opened)
    corrected = i.course not in _AS_IT_IS
    return np.asarray(2 * np.sqrt((u.value * scale) ** 2 + corrected * (fouling**2 + drift**2 + course**2)))


def _grades(right: Array, fouling: Array, drift: Array, criteria: DriftCriteria) -> NDArray[np.int8]:
    size = np.abs(fouling) + np.abs(drift)
    if criteria.relative:
        size = 100 * size / np.maximum(np.abs(right), 1e-12)
    edges = np.array([*criteria.grades, criteria.most])
    place = np.searchsorted(edges, np.round(size, 9), side="left").astype(np.int8)
    return np.where(np.isnan(right) | (place >= len(GRADES)), -1, place).astype(np.int8)
