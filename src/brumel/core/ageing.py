"""How a probe ages: control chart with run rules, and when a trend will cross its limit.

Individuals chart: centre and limits from the first values, sigma = mean moving range / 1.128; run rules after Nelson, all
from memory, common in process control (ISO7870).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.special import stdtr, stdtrit

from brumel.core.checking import Door
from brumel.core.errors import InputError, WrongShape
from brumel.core.sentence import Amount, say

MOVING_RANGE_D2 = 1.128  # mean range of two over sigma [ISO7870]


@dataclass(frozen=True)
class Signal:
    """A run rule that spoke: its key, the index of the value that completed it, and a sentence."""

    rule: str
    index: int
    sentence: str


@dataclass(frozen=True)
class ControlChart:
    """A control chart: centre and 3-sigma limits from the baseline, and the rules that spoke."""

    centre: float
    sigma: float
    baseline: int
    signals: tuple[Signal, ...]

    @property
    def limits(self) -> tuple[float, float]:
        return self.centre - 3 * self.sigma, self.centre + 3 * self.sigma


def control_chart(values: Sequence[float], *, baseline: int = 8, smallest_sigma: float = 0.0) -> ControlChart | None:
    """Chart of single values in the order of time [any unit]; None with fewer than five.

    baseline : how many of the first values set the centre and the limits (fewer where there are fewer)
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
    base = v[: max(min(baseline, v.size), 5)]
    sigma = max(float(np.mean(np.abs(np.diff(base)))) / MOVING_RANGE_D2, smallest_sigma, 1e-12)
    centre = float(np.mean(base))
    signals: list[Signal] = []
    for far in np.flatnonzero(np.abs(v - centre) > 3 * sigma):
        words = say("A value lies {v} sigma from the centre.", v=Amount(abs(v[far] - centre) / sigma, "", ".1f"))
        signals.append(Signal("beyond", int(far), words))
    complete = _first_run(np.sign(v - centre), 9)
    if complete is not None:
        signals.append(Signal("one_side", complete, "Nine in a row lie on one side of the centre."))
    complete = _first_run(np.sign(np.diff(v)), 6)
    if complete is not None:
        way = "rising" if v[complete + 1] > v[complete] else "falling"
        signals.append(Signal("trend", complete + 1, f"Seven in a row are {way}."))
    return ControlChart(centre, sigma, int(base.size), tuple(sorted(signals, key=lambda s: s.index)))


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
