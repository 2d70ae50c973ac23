"""How a probe ages: control chart with run rules, and when a trend will cross its limit.

Chart of individuals: each value against those before it, so that a few first values are not taken for the truth: a value
speaks beyond what Student's t lets a next one be [Quesenberry1991], runs as in [ISO7870] but longer. The
lengths and the share are chosen so that at most one steady probe in twenty alarms within 52 calibrations.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from brumel.core.checking import Door
from brumel.core.errors import InputError, WrongShape
from brumel.core.sentence import Amount, say

#: How seldom a next value of a steady probe lies beyond; runs on one side of the centre, and of rises or falls. Chosen.
BEYOND, ONE_SIDE, RISES = 3e-4, 13, 7


@dataclass(frozen=True)
class Signal:
    """A run rule that spoke: its key, the index of the value that completed it, and a sentence."""

    rule: str
    index: int
    sentence: str


@dataclass(frozen=True)
class ControlChart:
    """A control chart: centre and spread of the baseline, what a next value may be, and the rules that spoke."""

    centre: float
    sigma: float
    baseline: int
    reach: float
    signals: tuple[Signal, ...]

    @property
    def limits(self) -> tuple[float, float]:
        return self.centre - self.reach, self.centre + self.reach


def control_chart(values: Sequence[float], *, baseline: int = 20, smallest_sigma: float = 0.0) -> ControlChart | None:
    """Chart of single values in the order of time [any unit]; None with fewer than five.

    baseline : how many of the first values a value is held against at most
    smallest_sigma : below it differences do not matter to the trade, so that a very steady start raises no alarm
    """
    if len(values) < 5:
        return None
    door = Door()
    v = door.floats("values", values, -1e9, 1e9)
    door.number("smallest_sigma", smallest_sigma, 0, 1e9)
    door.close()
    if v.ndim != 1:
        raise WrongShape("values", "Values must be one column of numbers.")
    signals: list[Signal] = []
    for i in range(5, v.size):
        centre, sigma, reach = next_of(v[: min(i, baseline)], smallest_sigma)
        if abs(v[i] - centre) > reach:
            words = say("A value lies {v} sigma from the centre.", v=Amount(abs(v[i] - centre) / sigma, "", ".1f"))
            signals.append(Signal("beyond", i, words))
    base = v[:baseline]
    centre, sigma, reach = next_of(base, smallest_sigma)
    complete = _first_run(np.sign(np.round(v - centre, 9)), ONE_SIDE)
    if complete is not None:
        signals.append(Signal("one_side", complete, f"{ONE_SIDE} in a row lie on one side of the centre."))
    complete = _first_run(np.sign(np.diff(v)), RISES)
    if complete is not None:
        way = "rising" if v[complete + 1] > v[complete] else "falling"
        signals.append(Signal("trend", complete + 1, f"{RISES + 1} in a row are {way}."))
    return ControlChart(centre, sigma, int(base.size), reach, tuple(sorted(signals, key=lambda s: s.index)))


def next_of(before: Sequence[float] | np.ndarray, smallest_sigma: float) -> tuple[float, float, float]:
    """Centre and spread of the values before, two at least, and how far from the centre a next one may lie."""
    from scipy.special import ndtri, stdtrit  # loaded where something is foreseen: it takes an eighth of every start

    before = np.asarray(before, dtype=np.float64)
    n = before.size
    own = max(float(before.std(ddof=1)), 1e-12)
    # Student's t for the spread that few values show; none for the one the trade knows.
    reach = max(float(stdtrit(n - 1, 1 - BEYOND / 2)) * own, float(ndtri(1 - BEYOND / 2)) * smallest_sigma)
    return float(before.mean()), max(own, smallest_sigma), reach * float(np.sqrt(1 + 1 / n))


def _first_run(signs: np.ndarray, length: int) -> int | None:
    """Index at which `length` equal, non-zero signs in a row are complete."""
    run = 0
    for i, sign in enumerate(signs):
        run = run + 1 if sign != 0 and i > 0 and sign == signs[i - 1] else int(sign != 0)
        if run >= length:
            return i
    return None


@dataclass(frozen=True)
class Forecast:
    """When a trend crosses a limit, in days from the last value; `earliest` and `latest` hold 90 %, None beyond `reach`.

    slope per day and intercept at the first value describe the line; `points` is how many values it rests on.
    """

    crosses_d: float
    earliest_d: float | None
    latest_d: float | None
    slope_per_d: float
    intercept: float
    points: int
    sentence: str


def forecast(
    days: Sequence[float], values: Sequence[float], limit: float, *, reach_d: float = 730.0, what: str = "The value"
) -> Forecast | None:
    """When a straight trend will cross `limit` [d, any unit]; None with fewer than five values, or where none is in sight.

    The line is least squares; the span is where the 90 % confidence band of the line crosses the limit (two-sided t, GUM
    8.2 for straight lines). None too where the trend is not plainly towards the limit (one-sided p over 0.05) or crosses
    only beyond `reach_d`.
    """
    from scipy.special import stdtr, stdtrit

    if len(values) < 5:
        return None
    door = Door()
    x = door.floats("days", days, -1e6, 1e6)
    y = door.floats("values", values, -1e9, 1e9)
    door.number("limit", limit, -1e9, 1e9)
    door.same_length(days=x, values=y)
    door.close()
    if float(np.ptp(x)) <= 0:
        raise InputError("days", "All values have the same time.")
    n, spread = x.size, float((x - x.mean()) @ (x - x.mean()))
    slope = float((x - x.mean()) @ (y - y.mean())) / spread
    intercept = float(y.mean() - slope * x.mean())
    rest = y - (intercept + slope * x)
    s = float(np.sqrt((rest @ rest) / (n - 2)))
    last = float(x.max())
    now = intercept + slope * last
    towards = np.sign(limit - now)
    # One-sided p of the slope by Student's t; no scatter about the line leaves no doubt.
    p = float(stdtr(n - 2, -abs(slope) / (s / np.sqrt(spread)))) if s > 0 else 0.0
    if slope == 0 or np.sign(slope) != towards or p > 0.05:
        return None
    crosses = (limit - intercept) / slope - last
    if crosses > reach_d:
        return None
    t = float(stdtrit(n - 2, 0.95))
    ahead = np.linspace(0.0, reach_d, 4001)
    at = last + ahead
    band = t * s * np.sqrt(1 / n + (at - x.mean()) ** 2 / spread)
    middle = intercept + slope * at
    near, far = (middle + towards * band - limit) * towards, (middle - towards * band - limit) * towards
    earliest = float(ahead[np.argmax(near >= 0)]) if np.any(near >= 0) else None
    latest = float(ahead[np.argmax(far >= 0)]) if np.any(far >= 0) else None
    span = f"{_days(earliest)} to {_days(latest)}" if latest is not None else f"{_days(earliest)} or later"
    return Forecast(
        max(float(crosses), 0.0),
        earliest,
        latest,
        slope,
        intercept,
        int(n),
        f"{what} will cross {_signed(limit)} in about {_days(max(crosses, 0.0))} ({span}; 90 %), "
        f"by the last {n} calibrations.",
    )


def _signed(limit: float) -> str:
    return f"{limit:g}".replace("-", "−")


def _days(days: float | None) -> str:
    if days is None:
        return "now"
    return f"{days:.0f} days" if days < 90 else f"{days / 30.4:.0f} months"
