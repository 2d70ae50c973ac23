"""A million rows through core, as ratios to the plain NumPy or gsw expression for the same numbers."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any

import gsw
import numpy as np

from brumel.core import believability as belief
from brumel.core import conductivity, oxygen, planning, salinity

ROWS = 1_000_000


def _pair(own: Callable[[], Any], plain: Callable[[], Any], repeats: int = 9) -> tuple[float, float]:
    """Medians of the two, run in turn, so that a noisy neighbour meets both."""
    own(), plain()
    a, b = [], []
    for _ in range(repeats):
        for do, times in ((own, a), (plain, b)):
            start = time.perf_counter()
            do()
            times.append(time.perf_counter() - start)
    return statistics.median(a), statistics.median(b)


def main() -> None:
    random = np.random.default_rng(3)
    t = random.uniform(0, 30, ROWS)
    c = random.uniform(200, 29_000, ROWS)
    s = random.uniform(0, 35, ROWS)
    p = random.uniform(900, 1040, ROWS)
    mg = random.uniform(4, 12, ROWS)

    def plain_oxygen() -> Any:
        k = t + 273.15
        fresh = -139.34411 + 1.575701e5 / k - 6.642308e7 / k**2 + 1.2438e10 / k**3 - 8.621949e11 / k**4
        base = np.exp(fresh - s * (0.017674 - 10.754 / k + 2140.7 / k**2))
        x = p / 1013.25
        u = np.exp(11.8571 - 3840.70 / k - 216961.0 / k**2)
        theta = 0.000975 - 1.426e-5 * t + 6.436e-8 * t**2
        return base * (x - u) * (1 - theta * x) / ((1 - u) * (1 - theta))

    def plain_flags() -> Any:
        flags = np.ones(ROWS, dtype=np.int8)
        flags[(mg < 5) | (mg > 11)] = 3
        off = np.abs(mg[1:-1] - (mg[:-2] + mg[2:]) / 2)
        flags[1:-1][off > 2] = 3
        flags[1:-1][off > 4] = 4
        flags[(mg < 0) | (mg > 20)] = 4
        flags[np.isnan(mg)] = 9
        return flags

    def ladder() -> Any:
        practical = salinity.practical_salinity(c, t)
        kappa = conductivity.to_reference(c, t)
        full = oxygen.saturation_mg_l(t, practical, p)
        percent = 100 * mg / np.asarray(full)
        return kappa, percent, belief.flag_series(mg, gross=(0, 20), usual=(5, 11), spike=(2, 4))

    def plain_ladder() -> Any:
        practical = gsw.SP_from_C(c / 1000, t, 0)
        kappa = c / (1 + 0.02 * (t - 25))
        k = t + 273.15
        fresh = -139.34411 + 1.575701e5 / k - 6.642308e7 / k**2 + 1.2438e10 / k**3 - 8.621949e11 / k**4
        base = np.exp(fresh - practical * (0.017674 - 10.754 / k + 2140.7 / k**2))
        return kappa, 100 * mg / (base * (p / 1013.25)), plain_flags()

    print(f"\nA million rows, against plain NumPy or gsw ({ROWS} rows)")
    for name, own, plain in (
        ("oxygen saturation with salinity and pressure", lambda: oxygen.saturation_mg_l(t, s, p), plain_oxygen),
        ("practical salinity", lambda: salinity.practical_salinity(c, t), lambda: gsw.SP_from_C(c / 1000, t, 0)),
        ("linear compensation", lambda: conductivity.to_reference(c, t), lambda: c / (1 + 0.02 * (t - 25.0))),
        (
            "believability flags",
            lambda: belief.flag_series(mg, gross=(0, 20), usual=(5, 11), spike=(2, 4)),
            plain_flags,
        ),
        ("full ladder without the working", ladder, plain_ladder),
    ):
        a, b = _pair(own, plain)
        print(f"{name:<58} {a / b:>10.2f} x  ({a * 1000:.0f} ms against {b * 1000:.0f} ms)")
    tasks = [
        planning.Task(f"{i}-{k}", 10, k % 2 == 1, (f"{i}-{k - 1}",) if k else ()) for i in range(40) for k in range(5)
    ]
    a, b = _pair(lambda: planning.plan(tasks), lambda: np.sort(random.random(ROWS)), 5)
    print(f"{'plan of 40 probes with 5 steps each':<58} {a * 1000:>9.1f} ms  ({a / b:.2f} x sorting a million numbers)")


if __name__ == "__main__":
    main()
