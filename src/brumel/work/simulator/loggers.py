"""A simulated logger: a water that is known, and what a sensor shows of it that fouls and drifts between its cleanings."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Values = NDArray[np.float64]
DAY_S = 86_400.0

#: Level, half the swing of a day, half that of a fortnight, and the hour of the day that is greatest: chosen.
_COURSES = {
    "temperature": (12.0, 1.4, 1.8, 16.0),
    "oxygen": (9.4, 1.5, 0.5, 15.0),
    "ph": (7.9, 0.22, 0.1, 15.5),
    "conductivity": (1_450.0, 25.0, 120.0, 4.0),
    "salinity": (0.7, 0.01, 0.05, 4.0),
}


@dataclass(frozen=True)
class Sensor:
    """What is wrong with a sensor: fouling and drift a day [unit/d, %/d where relative], noise, display step [unit]."""

    fouling_per_day: float = 0.0
    drift_per_day: float = 0.0
    relative: bool = False
    noise: float = 0.0
    step: float = 0.0


def water(quantity: str, times_s: Values, seed: int, *, level: float | None = None, lively: float = 1.0) -> Values:
    """What the water truly is at times [s since 1970], the same whenever it is asked for [unit of the record].

    level : what it goes about; lively : how much of the usual courses of day and fortnight it has
    """
    usual, day, fortnight, hour = _COURSES[quantity]
    level, day, fortnight = usual if level is None else level, lively * day, lively * fortnight
    phase = np.random.default_rng(seed).uniform(0, 2 * np.pi, 3)
    course = day * np.cos(2 * np.pi * (times_s / DAY_S - hour / 24))
    slow = fortnight * np.sin(2 * np.pi * times_s / (14 * DAY_S) + phase[0])
    weather = 0.4 * day * np.sin(2 * np.pi * times_s / (2.7 * DAY_S) + phase[1])
    return np.asarray(level + course + slow + weather)


def shown(
    truth: Values, times_s: Values, sensor: Sensor, cleaned_s: Sequence[float], set_s: Sequence[float], seed: int
) -> Values:
    """What the sensor shows of a truth: fouling grows from each cleaning, drift from each calibration, evenly."""
    fouling = sensor.fouling_per_day * _since(times_s, cleaned_s) / DAY_S
    drift = sensor.drift_per_day * _since(times_s, set_s) / DAY_S
    wrong = truth * (1 + fouling / 100) * (1 + drift / 100) if sensor.relative else truth + fouling + drift
    # Each moment has a noise of its own, so that a value is the same whenever it is asked for.
    whole = times_s.astype(np.int64)
    hashed = (whole * 2_654_435_761 + seed * 40_503) % 1_000_003 / 1_000_003
    other = (whole * 40_499 + seed * 2_246_822_519) % 999_983 / 999_983
    noise = np.sqrt(-2 * np.log(np.clip(hashed, 1e-6, 1))) * np.cos(2 * np.pi * other)
    values = wrong + sensor.noise * noise
    return np.asarray(np.round(values / sensor.step) * sensor.step if sensor.step else values)


def _since(times_s: Values, moments_s: Sequence[float]) -> Values:
    """Time since the last of the moments that lie before each time [s]; nothing before the first."""
    if not moments_s:
        return np.zeros(times_s.shape)
    starts = np.array(sorted(moments_s), dtype=np.float64)
    place = np.searchsorted(starts, times_s, side="right") - 1
    return np.where(place >= 0, times_s - starts[np.maximum(place, 0)], 0.0)
