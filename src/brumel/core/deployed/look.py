"""Figures of a long record: percentiles, time beyond a limit, the course of the day and of the year, degree-hours."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
#: A value stands for the time until the next one, but never for more than so many intervals: a gap is not bridged.
LONGEST_STEP = 1.5
PERCENTILES = (5, 25, 50, 75, 95)


@dataclass(frozen=True)
class Envelope:
    """The least, tenth, middle, ninetieth percentile and greatest of each part of a day or year; NaN where none was read."""

    parts: tuple[int, ...]
    low: Array
    p10: Array
    median: Array
    p90: Array
    high: Array
    counts: NDArray[np.int64]


def durations_s(times_s: Array, interval_s: float) -> Array:
    """What time each value stands for [s]: until the next one, the interval itself before a gap and at the end."""
    steps = np.append(np.diff(times_s), interval_s)
    return np.where(steps > LONGEST_STEP * interval_s, interval_s, steps)


def percentiles(values: Array) -> dict[int, float]:
    """By PERCENTILES, of what was read; empty where nothing was."""
    v = values[np.isfinite(values)]
    return dict(zip(PERCENTILES, np.percentile(v, PERCENTILES).tolist(), strict=True)) if v.size else {}


def beyond_s(values: Array, durations: Array, low: float | None, high: float | None) -> tuple[float, float]:
    """Time below the low and above the high limit [s]; at a limit is within it."""
    with np.errstate(invalid="ignore"):
        below = float(durations[values < low].sum()) if low is not None else 0.0
        above = float(durations[values > high].sum()) if high is not None else 0.0
    return below, above


def degree_hours(temperature_c: Array, durations: Array, base_c: float) -> float:
    """Σ (T − base)·Δt where T is above the base [°C·h]."""
    over = np.where(np.isfinite(temperature_c), np.maximum(temperature_c - base_c, 0.0), 0.0)
    return float((over * durations).sum() / 3600)


def envelope(values: Array, part: NDArray[np.int64], parts: tuple[int, ...]) -> Envelope:
    """The spread of values by the part of the day or year each belongs to."""
    is_there = np.isfinite(values)
    v, p = values[is_there], part[is_there]
    order = np.argsort(p, kind="stable")
    v, p = v[order], p[order]
    edges = np.searchsorted(p, [*parts, parts[-1] + 1])
    rows, counts = [], []
    for first, last in zip(edges[:-1], edges[1:], strict=True):
        of = v[first:last]
        counts.append(of.size)
        rows.append(np.percentile(of, (0, 10, 50, 90, 100)) if of.size else np.full(5, np.nan))
    low, p10, median, p90, high = np.array(rows).T
    return Envelope(parts, low, p10, median, p90, high, np.array(counts))


def day_swings(values: Array, day: NDArray[np.int64], least: int) -> tuple[NDArray[np.int64], Array]:
    """Greatest less least of each day that has `least` values or more."""
    is_there = np.isfinite(values)
    v, d = values[is_there], day[is_there]
    if not v.size:
        return np.array([], dtype=np.int64), np.array([])
    order = np.argsort(d, kind="stable")
    v, d = v[order], d[order]
    days, first = np.unique(d, return_index=True)
    highs, lows = np.maximum.reduceat(v, first), np.minimum.reduceat(v, first)
    counts = np.diff(np.append(first, v.size))
    enough = counts >= least
    return days[enough], (highs - lows)[enough]
