"""Is a site reading believable? Each test gives pass, suspect or fail with its sentence and QARTOD flag."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door
from brumel.core.errors import WrongShape
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


def history(
    shown: Shown, value: float, earlier: Sequence[float], *, smallest_spread: float, fewest: int = 5
) -> QualityFinding:
    """Robust z against the site's earlier values: over 3.5 suspect, over 6 fail [unit].

    z = |value - median| / max(1.4826 MAD, smallest_spread); limits after Iglewicz and Hoaglin's modified z,
    from memory. Fewer than `fewest` values: not evaluated.
    """
    door = Door()
    past = door.floats("values", earlier if len(earlier) else [0.0], -1e9, 1e9)
    door.close()
    key, test = "history", "site history"
    if len(earlier) < fewest:
        words = say(
            "{quantity} is not compared with history: {count} earlier readings, {fewest} are needed.",
            quantity=shown.name,
            count=len(earlier),
            fewest=fewest,
        )
        return QualityFinding(key, test, Flag.NOT_EVALUATED, words)
    middle, spread = _middle_and_spread(past, smallest_spread)
    z = abs(value - middle) / spread
    words = say(
        "{quantity} {value} lies {z} spreads from the median {middle} of the last {count} readings (questioned over 3.5).",
        quantity=shown.name,
        value=shown.amount(value),
        z=Amount(z, "", ".1f"),
        middle=shown.amount(middle),
        count=len(earlier),
    )
    return QualityFinding(key, test, Flag.FAIL if z > 6 else Flag.SUSPECT if z > 3.5 else Flag.PASS, words)


def _middle_and_spread(past: NDArray[np.float64], smallest_spread: float) -> tuple[float, float]:
    middle = float(np.median(past))
    return middle, max(1.4826 * float(np.median(np.abs(past - middle))), smallest_spread)


def history_band(earlier: Sequence[float], *, smallest_spread: float, fewest: int = 5) -> tuple[float, float] | None:
    """The values that `history` does not question [unit]; None where there is too little of it."""
    if len(earlier) < fewest:
        return None
    middle, spread = _middle_and_spread(np.asarray(earlier, dtype=np.float64), smallest_spread)
    return middle - 3.5 * spread, middle + 3.5 * spread


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


def flag_series(
    values: Any,
    *,
    gross: tuple[float, float],
    usual: tuple[float, float] | None = None,
    spike: tuple[float, float] | None = None,
    flat: tuple[int, int, float] | None = None,
) -> NDArray[np.int8]:
    """QARTOD flags of a logged series, 1-d; the worst of the tests stands [unit].

    gross, usual : outside gross fails, outside usual is suspect
    spike : (suspect, fail): distance of a sample from the mean of its neighbours
    flat : (suspect count, fail count, tolerance): so many samples in a row without moving more than the tolerance
    NaN is 9, missing, and never an error: a logger has gaps. Raises WrongShape for anything but one column of numbers.
    Source: QARTOD, tests 4, 5, 6 and 8.
    """
    try:
        v = np.asarray(values, dtype=np.float64)
    except (TypeError, ValueError) as error:
        raise WrongShape("values", "Readings must be one column of numbers.") from error
    if v.ndim != 1:
        raise WrongShape("values", "Readings must be one column of numbers.")
    flags = np.ones(v.shape, dtype=np.int8)
    if usual:
        flags[(v < usual[0]) | (v > usual[1])] = Flag.SUSPECT
    if spike and v.size > 2:
        off = np.abs(v[1:-1] - (v[:-2] + v[2:]) / 2)
        inner = flags[1:-1]
        inner[off > spike[0]] = Flag.SUSPECT
        inner[off > spike[1]] = Flag.FAIL
    if flat:
        runs = _flat_runs(v, flat[2])
        flags[(runs >= flat[0]) & (flags < Flag.SUSPECT)] = Flag.SUSPECT
        flags[runs >= flat[1]] = Flag.FAIL
    flags[(v < gross[0]) | (v > gross[1])] = Flag.FAIL
    flags[np.isnan(v)] = Flag.MISSING
    return flags


def _flat_runs(v: NDArray[np.float64], tolerance: float) -> NDArray[np.int64]:
    """How many samples up to this one have stayed within the tolerance of their forerunner."""
    if v.size == 0:
        return np.zeros(0, dtype=np.int64)
    index = np.arange(v.size)
    moved = np.ones(v.size, dtype=bool)
    moved[1:] = ~(np.abs(np.diff(v)) <= tolerance)
    return index - np.maximum.accumulate(np.where(moved, index, 0)) + 1


def worst_flag(findings: Sequence[QualityFinding]) -> Flag:
    """The flag of the whole: fail over suspect over pass; not evaluated when nothing was."""
    flags = {f.flag for f in findings}
    for flag in (Flag.FAIL, Flag.SUSPECT, Flag.PASS):
        if flag in flags:
            return flag
    return Flag.NOT_EVALUATED
