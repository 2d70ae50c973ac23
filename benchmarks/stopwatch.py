"""How long something takes: the median of repeats, after one that warms up."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any


def median_s(do: Callable[[], Any], repeats: int = 25) -> float:
    """Seconds."""
    do()
    times = []
    for _ in range(repeats):
        start = time.perf_counter()
        do()
        times.append(time.perf_counter() - start)
    return statistics.median(times)
