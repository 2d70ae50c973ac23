"""Is a site reading believable? Each test gives pass, suspect or fail with its sentence and QARTOD flag."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.errors import WrongShape
from brumel.core.expectation import FEWEST, Expected
from brumel.core.remaining import display_step
from brumel.core.sentence import Amount, Span, say


class Flag(IntEnum):
    """QARTOD primary flags [QARTOD, table 1]."""

    PASS = 1
    NOT_EVALUATED = 2
    SUSPECT = 3
    FAIL = 4
    MISSING = 9

    @property
    def words(self) -> str:
        return {1: "passes", 2: "not evaluated", 3: "suspect", 4: "fails", 9: "missing"}[int(self)]


@dataclass(frozen=True)
class QualityFinding:
    """One test's result: key, what was tested, flag and sentence."""

    key: str
    test: str
    flag: Flag
    sentence: str


@dataclass(frozen=True)
class Shown:
    """How a quantity's values are written: its name, unit, and the decimals they are known to."""

    name: str
    unit: str = ""
    digits: int | None = None

    def amount(self, value: float, *, change: bool = False) -> Amount:
        form = ".4g" if self.digits is None else f".{self.digits}f"
        return Amount(value, self.unit, f"{'+' if change else ''}{form}", difference=change)

    def span(self, low: float, high: float) -> Span:
        return Span(low, high, self.unit, ".3g" if self.digits is None else f".{self.digits}f")


def instrument_range(shown: Shown, value: float, low: float, high: float) -> QualityFinding:
    """Can the instrument show this at all? [unit]."""
    inside = low <= value <= high
    words = say(
        "{quantity} {value} is {inside} what the instrument can show, {span}.",
        quantity=shown.name,
        value=shown.amount(value),
        inside="inside" if inside else "outside",
        span=Span(low, high, shown.unit),
    )
    return QualityFinding("instrument", "instrument range", Flag.PASS if inside else Flag.FAIL, words)


def site_range(
    shown: Shown, value: float, usual: tuple[float, float] | None, gross: tuple[float, float] | None
) -> QualityFinding:
    """Against the site's own ranges: outside gross fails, outside usual is suspect [unit]."""
    if gross and not gross[0] <= value <= gross[1]:
        flag, where = Flag.FAIL, say("outside what this site can be, {span}", span=Span(*gross, shown.unit))
    elif usual and not usual[0] <= value <= usual[1]:
        flag, where = Flag.SUSPECT, say("outside this site's usual {span}", span=Span(*usual, shown.unit))
    elif usual or gross:
        flag, where = Flag.PASS, say("inside this site's ranges")
    else:
        flag, where = Flag.NOT_EVALUATED, say("not compared: this site has no range yet")
    words = say("{quantity} {value} is {where}.", quantity=shown.name, value=shown.amount(value), where=where)
    return QualityFinding("site_range", "site range", flag, words)


def history(shown: Shown, value: float, past: Expected | None, count: int) -> QualityFinding:
    """Against what the site's past makes expect now [unit]; None, with fewer than five values, is not evaluated.

    A past makes a value odd, never impossible: it is suspect at most, so that a water that changed is learnt.
    """
    key, test = "history", "site history"
    if past is None:
        words = say(
            "{quantity} is not compared with history: {count} earlier readings, {fewest} are needed.",
            quantity=shown.name,
            count=count,
            fewest=FEWEST,
        )
        return QualityFinding(key, test, Flag.NOT_EVALUATED, words)
    odd = past.questions(value)
    words = say(
        "{quantity} {value} is {usual} here: by {count} earlier readings and the season, {span} is likely now.",
        quantity=shown.name,
        value=shown.amount(value),
        usual="unusual" if odd else "usual",
        span=shown.span(past.low, past.high),
        count=past.count,
    )
    return QualityFinding(key, test, Flag.SUSPECT if odd else Flag.PASS, words)


def rate_band(last: tuple[float, float] | None, *, per_day: float, floor: float) -> tuple[float, float] | None:
    """The values that `rate_since` does not question [unit]; None without an earlier visit."""
    if last is None or last[1] < 0:
        return None
    allowed = floor + per_day * last[1]
    return last[0] - allowed, last[0] + allowed


def rate_since(
    shown: Shown, value: float, last: tuple[float, float] | None, *, per_day: float, floor: float
) -> QualityFinding:
    """Change since the last visit: `last` is (value, days ago); allowed is floor + per_day x days [unit]."""
    key, test = "rate", "change since last visit"
    if last is None or last[1] < 0:
        return QualityFinding(
            key, test, Flag.NOT_EVALUATED, say("{quantity} has no earlier visit here.", quantity=shown.name)
        )
    change, allowed = value - last[0], floor + per_day * last[1]
    words = say(
        "{quantity} changed by {change} in {days} (questioned over {allowed}).",
        quantity=shown.name,
        change=shown.amount(change, change=True),
        days=Amount(last[1], "days", ".1f"),
        allowed=replace(shown.amount(allowed), difference=True),
    )
    return QualityFinding(key, test, Flag.SUSPECT if abs(change) > allowed else Flag.PASS, words)


# -- series: one flag a sample, vectorised


def series_tests(
    values: Any,
    *,
    gross: tuple[float, float],
    usual: tuple[float, float] | None = None,
    spike: tuple[float, float] | None = None,
    flat: tuple[int, int, float] | None = None,
    after_gap: Any = None,
) -> dict[str, NDArray[np.int8]]:
    """QARTOD flags of a logged series, 1-d, test by test: "gross range", "spike", "flat line" [unit].

    gross, usual : outside gross fails, outside usual is suspect (test 4)
    spike : (suspect, fail): distance of a sample from the mean of its neighbours; 2, not evaluated, at the ends and where a
        neighbour is missing (test 6)
    flat : (suspect count, fail count, tolerance): so many earlier samples in a row that all lie within the tolerance of the
        present one (test 8); 2, not evaluated, while there are not so many
    after_gap : true for a sample with time missing before it; a spike is not judged across it, and a flat line begins anew
    NaN is 9, missing, and never an error: a logger has gaps. Raises WrongShape for anything but one column of numbers.
    Source: QARTOD, tests 4, 6 and 8.
    """
    try:
        v = np.asarray(values, dtype=np.float64)
    except (TypeError, ValueError) as error:
        raise WrongShape("values", "Readings must be one column of numbers.") from error
    if v.ndim != 1:
        raise WrongShape("values", "Readings must be one column of numbers.")
    broken = np.zeros(v.size, dtype=bool) if after_gap is None else np.asarray(after_gap, dtype=bool)
    if broken.shape != v.shape:
        raise WrongShape("after_gap", f"There are {v.size} readings and {broken.size} marks of gaps; they must match.")
    ranges = np.ones(v.shape, dtype=np.int8)
    if usual:
        ranges[(v < usual[0]) | (v > usual[1])] = Flag.SUSPECT
    ranges[(v < gross[0]) | (v > gross[1])] = Flag.FAIL
    tests = {"gross range": ranges}
    if spike:
        tests["spike"] = _spikes(v, spike, broken)
    if flat:
        tests["flat line"] = _flat_line(v, flat, broken)
    for flags in tests.values():
        flags[np.isnan(v)] = Flag.MISSING
    return tests


def flag_series(
    values: Any,
    *,
    gross: tuple[float, float],
    usual: tuple[float, float] | None = None,
    spike: tuple[float, float] | None = None,
    flat: tuple[int, int, float] | None = None,
    after_gap: Any = None,
) -> NDArray[np.int8]:
    """One flag a sample: the worst of `series_tests`; one that passes what was evaluated passes. Parameters as there."""
    tests = series_tests(values, gross=gross, usual=usual, spike=spike, flat=flat, after_gap=after_gap)
    stacked = np.stack(list(tests.values()))
    return np.where(stacked == Flag.NOT_EVALUATED, Flag.PASS, stacked).max(axis=0).astype(np.int8)


@dataclass(frozen=True)
class SeriesLimits:
    """Limits of a series' own: (suspect, fail) of a spike [unit]; (suspect count, fail count, tolerance) of a flat line."""

    spike: tuple[float, float]
    flat: tuple[int, int, float]


#: From when on water that does not move is questioned, and fails [h]: chosen; a day's course moves every open water.
FLAT_SUSPECT_H, FLAT_FAIL_H = 12.0, 24.0
#: How far a spike stands out of what its neighbours are apart as a rule (robust SD), and how much more fails: chosen.
_SPIKE, _SPIKE_FAIL = 8.0, 2.5
#: How many times that where values are restless, and where the display hides what the water does (a middle half within so
#: many steps): chosen.
_FINE, _COARSE, _COARSE_STEPS = 0.25, 4.0, 4.0
_LIVELY_STEPS = 2.5  # a day's range from which on a display shows that the sensor lives, chosen
_SELDOM = math.log(1e-4)  # how seldom chance alone may make a flat line, chosen


def series_limits(values: Any, every_s: float, least_spread: float) -> SeriesLimits:
    """What is a spike and a flat line in this series: by its own restlessness, its display's step and its interval.

    every_s : time between samples [s]; least_spread : what the quantity moves by anywhere [unit]
    """
    v = np.asarray(values, dtype=np.float64)
    v = v[np.isfinite(v)]
    step = display_step(v) if v.size else 0.0
    off = np.abs(v[1:-1] - (v[:-2] + v[2:]) / 2) if v.size > 2 else np.zeros(1)
    low = max(_SPIKE * 1.4826 * float(np.median(off)), 4 * step, least_spread)
    hours = max(every_s, 1.0) / 3600
    # Restless values show more than their display's step from one to the next, so that none can stand for hours; where the
    # display is coarser than that, a level stands for longer, and for longest where it hides what the water does at all.
    restless = float(np.median(np.abs(np.diff(v)))) if v.size > 1 else 0.0
    is_coarse = bool(v.size) and 0 < float(np.subtract(*np.percentile(v, [75, 25]))) <= _COARSE_STEPS * step
    longer = _FINE if restless >= step else _COARSE if is_coarse else 1.0
    least = _by_chance(v, 1.01 * step) if restless >= step > 0 else (5, 10)
    counts = (max(round(longer * FLAT_SUSPECT_H / hours), least[0]), max(round(longer * FLAT_FAIL_H / hours), least[1]))
    # One step up or down is what a sensor that stands still may show, unless the water itself shows no more in a day;
    # where no step is seen, a hundredth of the spread.
    hides = is_coarse and _daily_range(v, hours) < _LIVELY_STEPS * step
    still = (0.5 if hides else 1.01) * step if step else least_spread / 100
    return SeriesLimits((low, _SPIKE_FAIL * low), (*counts, still))


def _daily_range(v: NDArray[np.float64], hours: float) -> float:
    """How far the values lie apart within a day, as a rule; 0 for less than three days."""
    each = round(24 / hours)
    days = v.size // each if each > 1 else 0
    return float(np.median(np.ptp(v[: days * each].reshape(days, each), axis=1))) if days >= 3 else 0.0


def _by_chance(v: NDArray[np.float64], still: float) -> tuple[int, int]:
    """How many values in a row a sensor that works hardly ever shows within a step of the present one: once in ten thousand,
    and in a million, by how often two neighbours lie so close."""
    near = float(np.mean(np.abs(np.diff(v)) <= still))
    each = math.log(min(max(near, 0.05), 0.9))
    return max(math.ceil(_SELDOM / each) + 1, 5), max(math.ceil(1.5 * _SELDOM / each) + 1, 10)


def _spikes(v: NDArray[np.float64], limits: tuple[float, float], broken: NDArray[np.bool_]) -> NDArray[np.int8]:
    flags = np.full(v.shape, Flag.NOT_EVALUATED, dtype=np.int8)
    if v.size < 3:
        return flags
    off = np.abs(v[1:-1] - (v[:-2] + v[2:]) / 2)
    inner = np.where(off > limits[1], Flag.FAIL, np.where(off > limits[0], Flag.SUSPECT, Flag.PASS))
    known = np.isfinite(off) & ~broken[1:-1] & ~broken[2:]
    flags[1:-1] = np.where(known, inner, Flag.NOT_EVALUATED)
    return flags


def _flat_line(v: NDArray[np.float64], limits: tuple[int, int, float], broken: NDArray[np.bool_]) -> NDArray[np.int8]:
    """How many earlier samples in a row lie within the tolerance of the present one decides, not how little each moved."""
    suspect, fail, tolerance = limits
    runs = np.zeros(v.size, dtype=np.int64)
    goes_on = np.ones(v.size, dtype=bool)
    whole = np.ones(v.size, dtype=bool)
    for back in range(1, min(fail, v.size - 1) + 1):
        goes_on[:back] = False
        # A gap anywhere between the two ends the line.
        whole[back:] &= ~broken[1 : v.size - back + 1]
        goes_on[back:] &= (np.abs(v[back:] - v[:-back]) <= tolerance) & whole[back:]
        if not goes_on.any():
            break
        runs += goes_on
    flags = np.where(runs >= fail, Flag.FAIL, np.where(runs >= suspect, Flag.SUSPECT, Flag.PASS)).astype(np.int8)
    flags[: min(suspect, v.size)] = Flag.NOT_EVALUATED
    return flags


def worst_flag(findings: Sequence[QualityFinding]) -> Flag:
    """The flag of the whole: fail over suspect over pass; not evaluated when nothing was."""
    flags = {f.flag for f in findings}
    for flag in (Flag.FAIL, Flag.SUSPECT, Flag.PASS):
        if flag in flags:
            return flag
    return Flag.NOT_EVALUATED
