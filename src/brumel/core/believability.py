"""Is a site reading believable? Each test gives pass, suspect or fail with its sentence and QARTOD flag."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import IntEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door
from brumel.core.errors import WrongShape


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


def instrument_range(
    quantity: str, value: float, low: float, high: float, unit: str, digits: int | None = None
) -> QualityFinding:
    """Can the instrument show this at all? [unit]. `digits` are the decimals the value is known to."""
    inside = low <= value <= high
    return QualityFinding(
        "instrument",
        "instrument range",
        Flag.PASS if inside else Flag.FAIL,
        f"{quantity} {_n(value, digits)}{_u(unit)} is {'inside' if inside else 'outside'} what the instrument can show, "
        f"{low:g} to {high:g}{_u(unit)}.",
    )


def site_range(
    quantity: str,
    value: float,
    usual: tuple[float, float] | None,
    gross: tuple[float, float] | None,
    unit: str,
    digits: int | None = None,
) -> QualityFinding:
    """Against the site's own ranges: outside gross fails, outside usual is suspect [unit]."""
    if gross and not gross[0] <= value <= gross[1]:
        flag, where = Flag.FAIL, f"outside what this site can be, {gross[0]:g} to {gross[1]:g}{_u(unit)}"
    elif usual and not usual[0] <= value <= usual[1]:
        flag, where = Flag.SUSPECT, f"outside this site's usual {usual[0]:g} to {usual[1]:g}{_u(unit)}"
    elif usual or gross:
        flag, where = Flag.PASS, "inside this site's ranges"
    else:
        flag, where = Flag.NOT_EVALUATED, "not compared: this site has no range yet"
    return QualityFinding("site_range", "site range", flag, f"{quantity} {_n(value, digits)}{_u(unit)} is {where}.")


def history(
    quantity: str,
    value: float,
    earlier: Sequence[float],
    unit: str,
    *,
    smallest_spread: float,
    fewest: int = 5,
    digits: int | None = None,
) -> QualityFinding:
    """Robust z against the site's earlier values: over 3.5 suspect, over 6 fail [unit].

    z = |value - median| / max(1.4826 MAD, smallest_spread); limits after Iglewicz and Hoaglin's modified z,
    from memory. Fewer than `fewest` values: not evaluated.
    """
    door = Door()
    past = door.floats("values", earlier if len(earlier) else [0.0], -1e9, 1e9)
    door.close()
    if len(earlier) < fewest:
        return QualityFinding(
            "history",
            "site history",
            Flag.NOT_EVALUATED,
            f"{quantity} is not compared with history: {len(earlier)} earlier readings, {fewest} are needed.",
        )
    middle = float(np.median(past))
    spread = max(1.4826 * float(np.median(np.abs(past - middle))), smallest_spread)
    z = abs(value - middle) / spread
    flag = Flag.FAIL if z > 6 else Flag.SUSPECT if z > 3.5 else Flag.PASS
    return QualityFinding(
        "history",
        "site history",
        flag,
        f"{quantity} {_n(value, digits)}{_u(unit)} lies {z:.1f} spreads from the median {_n(middle, digits)}{_u(unit)} of "
        f"the last {len(earlier)} readings (questioned over 3.5).",
    )


def rate_since(
    quantity: str,
    value: float,
    last: tuple[float, float] | None,
    unit: str,
    *,
    per_day: float,
    floor: float,
    digits: int | None = None,
) -> QualityFinding:
    """Change since the last visit: `last` is (value, days ago); allowed is floor + per_day x days [unit]."""
    if last is None or last[1] < 0:
        return QualityFinding(
            "rate", "change since last visit", Flag.NOT_EVALUATED, f"{quantity} has no earlier visit here."
        )
    change, allowed = value - last[0], floor + per_day * last[1]
    flag = Flag.SUSPECT if abs(change) > allowed else Flag.PASS
    return QualityFinding(
        "rate",
        "change since last visit",
        flag,
        f"{quantity} changed by {_n(change, digits, '+')}{_u(unit)} in {last[1]:.1f} days (questioned over "
        f"{_n(allowed, digits)}{_u(unit)}).",
    )


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


def spike(
    quantity: str, value: float, before: float, after: float, unit: str, *, suspect: float, fail: float
) -> QualityFinding:
    """One sample against the mean of its neighbours [unit]. Source: QARTOD, test 6."""
    off = abs(value - (before + after) / 2)
    flag = Flag.FAIL if off > fail else Flag.SUSPECT if off > suspect else Flag.PASS
    return QualityFinding(
        "spike",
        "spike",
        flag,
        f"{quantity} {value:.4g}{_u(unit)} stands {off:.3g}{_u(unit)} from its neighbours' mean "
        f"(questioned over {suspect:g}).",
    )


def worst_flag(findings: Sequence[QualityFinding]) -> Flag:
    """The flag of the whole: fail over suspect over pass; not evaluated when nothing was."""
    flags = {f.flag for f in findings}
    for flag in (Flag.FAIL, Flag.SUSPECT, Flag.PASS):
        if flag in flags:
            return flag
    return Flag.NOT_EVALUATED


def _n(value: float, digits: int | None, sign: str = "") -> str:
    """A figure in a sentence: as many decimals as it is known to, else four figures."""
    text = f"{value:{sign}.4g}" if digits is None else f"{value:{sign}z.{digits}f}"
    return text.replace("-", "−")


def _u(unit: str) -> str:
    return f" {unit}" if unit else ""
