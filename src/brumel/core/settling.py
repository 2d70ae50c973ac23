"""When is a reading final? Drift, noise, a forecast of the end value, and a state with a number behind it."""

from __future__ import annotations

import functools
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.errors import WrongShape
from brumel.core.sentence import Amount, say


class State(StrEnum):
    """What a trace is doing."""

    WAITING = "waiting"
    SETTLING = "settling"
    SETTLED = "settled"
    DRIFTING = "drifting"
    NOISY = "noisy"
    STEPPING = "stepping"


@dataclass(frozen=True)
class SettlingCriteria:
    """When a quantity counts as settled. `relative` limits are percent of the present value.

    window_s, shortest_s, longest_s [s]; drift_per_min and noise [unit, or % where relative]; low and high are
    what the instrument can show [unit]; step is the jump that counts as one [unit].
    """

    quantity: str
    unit: str
    window_s: float
    drift_per_min: float
    noise: float
    shortest_s: float
    longest_s: float
    low: float
    high: float
    step: float
    relative: bool = False
    min_samples: int = 5
    source: str = "common practice, no source"


@dataclass(frozen=True)
class Settling:
    """The judgement: state, its numbers with their limits, the forecast, and a sentence.

    value is the median of the window; forecast is None where no end value can be foreseen; seconds_to_go is
    None where it cannot be said, 0 when settled. skipped counts samples that could not be used.
    """

    state: State
    sentence: str
    value: float | None = None
    drift_per_min: float | None = None
    noise: float | None = None
    drift_limit: float = 0.0
    noise_limit: float = 0.0
    elapsed_s: float = 0.0
    forecast: float | None = None
    seconds_to_go: float | None = None
    skipped: int = 0

    @property
    def settled(self) -> bool:
        return self.state is State.SETTLED


_MOST_IN_WINDOW = 160  # Theil-Sen is quadratic; a denser window is thinned to medians of equal bins


def judge(times_s: Any, values: Any, criteria: SettlingCriteria) -> Settling:
    """Judge a trace at its last sample.

    Parameters
    ----------
    times_s : 1-d, seconds since the probe went in; any order, gaps and repeats allowed [s]
    values : 1-d, same length, unit of the criteria; NaN and out-of-range samples are left out and counted
    criteria : limits of the quantity, from the method

    Drift is the Theil-Sen slope over the window, noise the robust SD about it (1.4826 MAD), the forecast an
    exponential approach fitted by variable projection. Raises WrongShape and NotANumber for input that is not
    two columns of numbers. Source: criteria's own; method common practice, no source.
    """
    t, y, skipped, last_t = _clean(times_s, values, criteria)
    limits: dict[str, Any] = {"drift_limit": criteria.drift_per_min, "noise_limit": criteria.noise, "skipped": skipped}
    if t.size == 0:
        return Settling(State.WAITING, "No usable reading yet.", **limits)
    t, y, since = _after_last_step(t, y, criteria)
    elapsed = float(t[-1])
    recent = t >= t[-1] - criteria.window_s
    tw, yw = t[recent], y[recent]
    value = float(np.median(yw[-5:] if criteria.min_samples > 2 else yw[-1:]))
    scale = max(abs(value), 1e-9) / 100 if criteria.relative else 1.0
    shown: dict[str, Any] = {"value": value, "elapsed_s": elapsed, **limits}
    unit = "%" if criteria.relative else criteria.unit

    if since is not None and elapsed - since < criteria.window_s / 2:
        return Settling(
            State.STEPPING,
            say("The reading jumped at {since}: bubble, bumped probe or swapped cup?", since=Amount(since, "s", ".0f")),
            **shown,
        )
    started = since or 0.0
    wait = criteria.shortest_s - (elapsed - started)
    if wait > 0 or tw.size < criteria.min_samples:
        reason = (
            say("{wait} of the shortest wait to go.", wait=Amount(wait, "s", ".0f"))
            if wait > 0
            else "Too few readings in the window."
        )
        return Settling(State.WAITING, reason, seconds_to_go=max(wait, 0.0) or None, **shown)

    drift, noise = _drift_and_noise(tw, yw)
    drift, noise = drift / scale, noise / scale
    shown |= {"drift_per_min": drift, "noise": noise}
    if abs(drift) <= criteria.drift_per_min and noise <= criteria.noise:
        return Settling(
            State.SETTLED,
            say(
                "Drift {drift}/min (limit {drift_limit}/min), noise {noise} (limit {noise_limit}).",
                drift=Amount(drift, unit, "+.2f", difference=True),
                drift_limit=Amount(criteria.drift_per_min, unit, difference=True),
                noise=Amount(noise, unit, ".2f", difference=True),
                noise_limit=Amount(criteria.noise, unit, difference=True),
            ),
            forecast=value,
            seconds_to_go=0.0,
            **shown,
        )
    end, to_go = _forecast(t, y, criteria.drift_per_min * scale)
    if to_go is not None:
        to_go += criteria.window_s / 2  # the drift shown is that of the window's middle
    late = elapsed - started > criteria.longest_s
    if noise > criteria.noise and abs(drift) <= max(criteria.drift_per_min, 6 * noise * 60 / criteria.window_s / 10):
        return Settling(
            State.NOISY,
            say(
                "Noise {noise} is over its limit of {limit}.",
                noise=Amount(noise, unit, ".2f", difference=True),
                limit=Amount(criteria.noise, unit, difference=True),
            ),
            **shown,
        )
    if late:
        return Settling(
            State.DRIFTING,
            say(
                "Still moving {drift}/min after {longest}.",
                drift=Amount(drift, unit, "+.2f", difference=True),
                longest=Amount(criteria.longest_s / 60, "min", ".3g"),
            ),
            forecast=end,
            seconds_to_go=to_go,
            **shown,
        )
    return Settling(
        State.SETTLING,
        say(
            "Moving {drift}/min (limit {drift_limit}/min).",
            drift=Amount(drift, unit, "+.2f", difference=True),
            drift_limit=Amount(criteria.drift_per_min, unit, difference=True),
        ),
        forecast=end,
        seconds_to_go=to_go,
        **shown,
    )


@dataclass(frozen=True)
class FieldCriteria:
    """Field rule: the last `count` readings lie within ± tolerance of their median [unit, or % where relative].

    The readings are `spacing_s` apart; 0 takes them as they were typed [s].
    """

    quantity: str
    unit: str
    tolerance: float
    count: int
    spacing_s: float
    shortest_s: float
    longest_s: float
    low: float
    high: float
    relative: bool = False
    source: str = "USGS-A6.0"


def judge_by_readings(times_s: Any, values: Any, criteria: FieldCriteria) -> Settling:
    """Judge a site trace by the field rule, at its last sample.

    Parameters and errors as `judge`. `noise` of the result is the largest distance from the median of the
    readings compared, `noise_limit` the tolerance; the drift is shown for information.
    Source: USGS-A6.0, table of stabilization criteria.
    """
    t, y, skipped, _ = _clean(times_s, values, criteria)
    limits: dict[str, Any] = {"noise_limit": criteria.tolerance, "skipped": skipped}
    if t.size == 0:
        return Settling(State.WAITING, "No usable reading yet.", **limits)
    if criteria.spacing_s > 0:
        wanted = t[-1] - criteria.spacing_s * np.arange(criteria.count - 1, -1, -1)
        picked = np.unique(np.clip(np.searchsorted(t, wanted - 1e-9), 0, t.size - 1))
    else:
        picked = np.arange(max(t.size - criteria.count, 0), t.size)
        wanted = t[picked]
    chosen = y[picked]
    elapsed = float(t[-1])
    shown: dict[str, Any] = {"value": float(np.median(chosen[-3:])), "elapsed_s": elapsed, **limits}
    wait = max(criteria.shortest_s - elapsed, -float(wanted[0]))
    if picked.size < criteria.count or wait > 0:
        return Settling(
            State.WAITING,
            f"{picked.size} of {criteria.count} readings"
            + (say(", {spacing} apart.", spacing=Amount(criteria.spacing_s, "s")) if criteria.spacing_s > 0 else "."),
            seconds_to_go=max(wait, 0.0) or None,
            **shown,
        )
    middle = float(np.median(chosen))
    spread = float(np.max(np.abs(chosen - middle)))
    drift, _ = _drift_and_noise(t[picked], chosen)
    band = abs(middle) * criteria.tolerance / 100 if criteria.relative else criteria.tolerance
    # A relative tolerance is a share of the reading, so the spread is stated as one too.
    stated = spread / max(abs(middle) / 100, 1e-9) if criteria.relative else spread
    shown |= {"drift_per_min": drift, "noise": stated}
    unit = "%" if criteria.relative else criteria.unit
    words = say(
        "The last {count} readings lie within ±{stated} (limit ±{tolerance}).",
        count=criteria.count,
        stated=Amount(stated, unit, ".2g", difference=True),
        tolerance=Amount(criteria.tolerance, unit, difference=True),
    )
    if spread <= band + 1e-12:
        return Settling(State.SETTLED, words, forecast=shown["value"], seconds_to_go=0.0, **shown)
    state = State.DRIFTING if elapsed > criteria.longest_s else State.SETTLING
    return Settling(state, words, **shown)


def settling_time_s(times_s: Any, values: Any, criteria: SettlingCriteria, final: float) -> float:
    """When the trace came within three noise limits of `final` and stayed there [s]; 0 for an empty trace."""
    t, y, _, _ = _clean(times_s, values, criteria)
    scale = max(abs(final), 1e-9) / 100 if criteria.relative else 1.0
    outside = np.flatnonzero(np.abs(y - final) > 3 * criteria.noise * scale)
    return float(t[outside[-1]]) if outside.size else 0.0


def jumps(times_s: Any, values: Any, criteria: SettlingCriteria) -> int:
    """How many jumps the trace has that its neighbours do not explain, counted from the end, at most 9."""
    t, y, _, _ = _clean(times_s, values, criteria)
    count = 0
    while count < 9:
        kept, _, since = _after_last_step(t, y, criteria)
        if since is None:
            break
        count, cut = count + 1, t.size - kept.size
        t, y = t[:cut], y[:cut]
    return count


def _clean(
    times_s: Any, values: Any, criteria: SettlingCriteria | FieldCriteria
) -> tuple[NDArray[Any], NDArray[Any], int, float]:
    try:
        t = np.atleast_1d(np.asarray(times_s, dtype=np.float64))
        y = np.atleast_1d(np.asarray(values, dtype=np.float64))
    except (TypeError, ValueError) as error:
        raise WrongShape("values", "Time and readings must be two columns of numbers.") from error
    if t.shape != y.shape or t.ndim != 1:
        raise WrongShape("values", f"Time has {t.size} values, readings have {y.size}; they must match.")
    good = np.isfinite(t) & np.isfinite(y) & (t >= 0) & (y >= criteria.low) & (y <= criteria.high)
    skipped = int(t.size - good.sum())
    t, y = t[good], y[good]
    order = np.argsort(t, kind="stable")
    t, y = t[order], y[order]
    if t.size > 1:
        # Identical time stamps: the last one stands, as on a display.
        keep = np.append(np.diff(t) > 0, True)
        skipped += int(t.size - keep.sum())
        t, y = t[keep], y[keep]
    return t, y, skipped, float(t[-1]) if t.size else 0.0


def _after_last_step(
    t: NDArray[np.float64], y: NDArray[np.float64], criteria: SettlingCriteria
) -> tuple[NDArray[np.float64], NDArray[np.float64], float | None]:
    """Cut the trace at the last jump that its neighbours do not explain; None where there was none."""
    if t.size < 8:
        return t, y, None
    jumps = np.abs(np.diff(y))
    rate = jumps / np.diff(t)
    size = criteria.step * (max(abs(float(np.median(y))), 1e-9) / 100 if criteria.relative else 1.0)
    for i in np.flatnonzero(jumps > size)[::-1]:
        near = np.r_[rate[max(0, i - 4) : i], rate[i + 1 : i + 5]]
        if near.size >= 4 and rate[i] > 6 * float(np.median(near)):
            return t[i + 1 :], y[i + 1 :], float(t[i + 1])
    return t, y, None


@functools.cache
def _pairs(n: int) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    return np.triu_indices(n, 1)


def theil_sen_slope(times_s: NDArray[np.float64], values: NDArray[np.float64]) -> float:
    """The median of all slopes between pairs of samples [unit per s]; 0 for fewer than two moments.

    The same as `scipy.stats.theilslopes`, held to it by a test; that package takes half of every start to load, and works
    out a confidence interval that is not needed twice a second.
    """
    first, second = _pairs(len(times_s))
    apart = times_s[second] - times_s[first]
    moved = apart > 0
    if not moved.any():
        return 0.0
    return float(np.median((values[second] - values[first])[moved] / apart[moved]))


def _drift_and_noise(t: NDArray[np.float64], y: NDArray[np.float64]) -> tuple[float, float]:
    if t.size > _MOST_IN_WINDOW:
        parts = np.array_split(np.arange(t.size), _MOST_IN_WINDOW)
        tt = np.array([t[p].mean() for p in parts])
        yy = np.array([np.median(y[p]) for p in parts])
    else:
        tt, yy = t, y
    slope = theil_sen_slope(tt, yy)
    rest = y - slope * t
    noise = float(1.4826 * np.median(np.abs(rest - np.median(rest))))
    # MAD is blind to a display that flips between two digits; the SD is not.
    if noise == 0.0 and t.size > 2:
        noise = float(np.std(rest))
    return slope * 60.0, noise


_TAUS = np.geomspace(1.0, 600.0, 60)


def _forecast(
    t: NDArray[np.float64], y: NDArray[np.float64], limit_per_min: float
) -> tuple[float | None, float | None]:
    """End value and seconds until the drift is under its limit, from y = a + b exp(-t/tau)."""
    if t.size < 6:
        return None, None
    if t.size > 240:
        pick = np.linspace(0, t.size - 1, 240).astype(int)
        t, y = t[pick], y[pick]
    t0 = t - t[0]
    # Variable projection: for each tau the best a and b are a straight-line fit on exp(-t/tau).
    basis = np.exp(-t0[None, :] / _TAUS[:, None])
    centred = basis - basis.mean(axis=1, keepdims=True)
    power = np.maximum((centred**2).sum(axis=1), 1e-12)
    b = (centred @ (y - y.mean())) / power
    left = ((y - y.mean()) ** 2).sum() - b**2 * power
    best = int(np.argmin(left))
    tau, amplitude = float(_TAUS[best]), float(b[best])
    end = float(y.mean() - amplitude * basis[best].mean())
    if best == len(_TAUS) - 1 or abs(end - y[-1]) > 4 * (float(np.ptp(y)) + 1e-9):
        return None, None
    rate_now = abs(amplitude) / tau * 60.0 * float(np.exp(-t0[-1] / tau))
    to_go = tau * float(np.log(rate_now / limit_per_min)) if rate_now > limit_per_min else 0.0
    return end, max(to_go, 0.0)
