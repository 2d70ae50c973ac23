"""Logged series of known truth: how many healthy samples and series are flagged, and how many planted faults are not.

The error model, common practice where no source is named: a daily course, weather as a random walk that is drawn back, noise
of the sensor, a display of 0.01 or 0.1; a sensor stuck for three days with a jitter of a display's step, and single spikes of
three to ten times what the quantity moves by anywhere.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from brumel.core import believability as belief
from brumel.core.believability import Flag
from brumel.methods.field import load_field

#: By quantity: middle, half of the daily course, weather's SD, noise, displays.
KINDS = {
    "temperature": (14.0, (0.3, 2.0), 1.5, 0.02, (0.01, 0.1)),
    "ph": (8.0, (0.05, 0.4), 0.1, 0.01, (0.01, 0.1)),
    "oxygen": (9.0, (0.3, 2.0), 0.5, 0.03, (0.01, 0.1)),
    "conductivity": (800.0, (10, 60), 40.0, 2.0, (1.0, 1.0)),
}
DAYS = 14
#: Time between samples [s].
INTERVALS = (600, 1800, 3600)


def healthy(quantity: str, random: np.random.Generator, every_s: int) -> np.ndarray:
    """Two weeks of a healthy sensor."""
    middle, course, weather, noise, displays = KINDS[quantity]
    n = DAYS * 86400 // every_s
    t = np.arange(n) * every_s / 86400
    day = random.uniform(*course) * np.sin(2 * math.pi * (t + random.random()))
    slow = np.zeros(n)
    back = math.exp(-every_s / (2 * 86400))
    kicks = random.normal(0, weather * math.sqrt(1 - back**2), n)
    for i in range(1, n):
        slow[i] = slow[i - 1] * back + kicks[i]
    # What weather does within ten minutes is smooth: its kicks are spread over an hour.
    slow = np.convolve(np.pad(slow, 6, mode="edge"), np.ones(13) / 13, mode="valid")
    display = float(random.choice(displays))
    return np.asarray(np.round((middle + day + slow + random.normal(0, noise, n)) / display) * display)


@dataclass(frozen=True)
class Flagged:
    """False: healthy samples flagged [%], and healthy series with any failed sample [%]; missed: faults not flagged [%]."""

    samples: float
    series: float
    stuck_missed: float
    spikes_missed: float


def row(quantity: str, count: int, every_s: int = 600, seed: int = 11) -> Flagged:
    """One row of the table."""
    random = np.random.default_rng(seed)
    spec = load_field()[quantity]
    odd = failed = stuck_missed = spikes_missed = spikes = samples = 0
    for _ in range(count):
        v = healthy(quantity, random, every_s)
        least = spec.least_spread(float(np.median(v)))
        flags = _flags(v, every_s, least, spec.instrument)
        odd += int((flags > Flag.NOT_EVALUATED).sum())
        failed += bool((flags == Flag.FAIL).any())
        samples += v.size
        stuck = v.copy()
        start, days = v.size // 3, 3 * 86400 // every_s
        display = np.diff(np.unique(v)).min()
        stuck[start : start + days] = v[start] + display * random.choice([0, 0, 0, 1], days)
        seen = _flags(stuck, every_s, least, spec.instrument)
        stuck_missed += not (seen[start : start + days] > Flag.NOT_EVALUATED).any()
        for at in random.choice(np.arange(10, v.size - 10), 5, replace=False):
            spiked = v.copy()
            size = float(random.uniform(3, 10)) * least
            spiked[at] += size * float(random.choice([-1, 1]))
            spikes += 1
            spikes_missed += _flags(spiked, every_s, least, spec.instrument)[at] <= Flag.NOT_EVALUATED
    return Flagged(
        100 * odd / samples, 100 * failed / count, 100 * stuck_missed / count, 100 * spikes_missed / max(spikes, 1)
    )


def _flags(v: np.ndarray, every_s: int, least_spread: float, gross: tuple[float, float]) -> np.ndarray:
    limits = belief.series_limits(v, every_s, least_spread)
    return belief.flag_series(v, gross=gross, spike=limits.spike, flat=limits.flat)
