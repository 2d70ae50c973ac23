"""When is a reading final? Drift, noise, a forecast of the end value, and a state with a number behind it."""

from __future__ import annotations

import functools
import math
from dataclasses import dataclass, replace
from enum import StrEnum
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.errors import WrongShape
from brumel.core.remaining import UNSURE, Remaining, agreed, display_step, median_of, noise_of, remaining
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
    what the instrument can show [unit]; step is the jump that counts as one [unit]; resolution is the step of the
    display the values were rounded to [unit], seen from the values where it is 0.
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
    resolution: float = 0.0

    @property
    def limit(self) -> float:
        """What may still come when a reading counts as final: one minute of the drift allowed [unit, or %]."""
        return self.drift_per_min


@dataclass(frozen=True)
class Settling:
    """The judgement: state, its numbers with their limits, the forecast, and a sentence.

    value is what the trace has come to; forecast the end it tends to, None where none can be foreseen; remaining what is
    still to come and remaining_u its standard uncertainty, None where it cannot be said; seconds_to_go is
    None where it cannot be said, 0 when settled; most_to_go is what it hardly exceeds [s]. skipped counts samples that
    could not be used.
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
    remaining: float | None = None
    remaining_u: float | None = None
    most_to_go: float | None = None

    @property
    def settled(self) -> bool:
        return self.state is State.SETTLED

    @property
    def unsettled_u(self) -> float:
        """What is left to come as a standard uncertainty of the value: its mean and its own doubt [unit]."""
        return math.hypot(self.remaining or 0.0, self.remaining_u or 0.0)


_MOST_IN_WINDOW = 160  # Theil-Sen is quadratic; a denser window is thinned to medians of equal bins


def judge(times_s: Any, values: Any, criteria: SettlingCriteria) -> Settling:
    """Judge a trace at its last sample.

    Parameters
    ----------
    times_s : 1-d, seconds since the probe went in; any order, gaps and repeats allowed [s]
    values : 1-d, same length, unit of the criteria; NaN and out-of-range samples are left out and counted
    criteria : limits of the quantity, from the method

    Settled means: with a confidence of 95 %, no more is to come than one minute of the drift allowed (`remaining`), and
    the noise is within its limit, or within what the display's step makes of it. Drift is the Theil-Sen slope over the
    window, noise the robust SD about it (1.4826 MAD). Raises WrongShape and NotANumber for input that is not
    two columns of numbers. Source: criteria's own; method common practice, no source.
    """
    t, y, skipped, last_t = _clean(times_s, values, criteria)
    limits: dict[str, Any] = {"drift_limit": criteria.drift_per_min, "noise_limit": criteria.noise, "skipped": skipped}
    if t.size == 0:
        return Settling(State.WAITING, "No usable reading yet.", **limits)
    t, y, since = _after_last_step(t, y, criteria)
    elapsed = float(t[-1])
    value = median_of(y[-5:] if criteria.min_samples > 2 else y[-1:])
    scale = max(abs(value), 1e-9) / 100 if criteria.relative else 1.0
    shown: dict[str, Any] = {"value": value, "elapsed_s": elapsed, **limits}

    if since is not None and elapsed - since < criteria.window_s / 2:
        return Settling(
            State.STEPPING,
            say("The reading jumped at {since}: bubble, bumped probe or swapped cup?", since=Amount(since, "s", ".0f")),
            **shown,
        )
    started = since or 0.0
    wait = criteria.shortest_s - (elapsed - started)
    if wait > 0 or t.size < criteria.min_samples:
        reason = (
            say("{wait} of the shortest wait to go.", wait=Amount(wait, "s", ".0f"))
            if wait > 0
            else "Too few readings yet."
        )
        return Settling(State.WAITING, reason, seconds_to_go=max(wait, 0.0) or None, **shown)

    left = _steady(t, y, criteria.limit * scale, criteria.resolution)
    recent = t >= min(t[-1] - criteria.window_s, t[-criteria.min_samples])
    drift, noise = _drift_and_noise(t[recent], y[recent])
    # About a line the end of an approach bends; about the neighbours it does not.
    bent = noise_of(t[recent], y[recent]) if recent.sum() >= 8 else noise
    drift, noise = drift / scale, min(noise, bent) / scale
    shown |= {"drift_per_min": drift, "noise": noise}
    noise_limit = max(criteria.noise, 0.6 * max(criteria.resolution, display_step(y[recent])) / scale)
    if noise > noise_limit and abs(drift) <= max(criteria.drift_per_min, 6 * noise * 60 / criteria.window_s / 10):
        return Settling(
            State.NOISY,
            say(
                "Noise {noise} is over its limit of {limit}.",
                noise=_amount(noise, criteria, ".2f"),
                limit=_amount(criteria.noise, criteria, ""),
            ),
            **shown,
        )
    if left is None:
        return Settling(State.WAITING, "Too few readings yet.", **shown)
    shown |= {"value": left.now, "remaining": left.mean, "remaining_u": left.u, "forecast": left.end}
    still = _still_to_come(left, left.is_little, scale, criteria.limit, criteria)
    if left.is_little and noise <= noise_limit:
        return Settling(State.SETTLED, still, seconds_to_go=0.0, **shown)
    if elapsed - started > criteria.longest_s:
        return Settling(
            State.DRIFTING,
            say(
                "Still moving {drift}/min after {longest}.",
                drift=_amount(drift, criteria, "+.2f"),
                longest=Amount(criteria.longest_s / 60, "min", ".3g"),
            ),
            seconds_to_go=left.seconds_to_go,
            most_to_go=left.most_to_go,
            **shown,
        )
    return Settling(State.SETTLING, still, seconds_to_go=left.seconds_to_go, most_to_go=left.most_to_go, **shown)


#: A trace that was settled a moment ago stays so up to this chance of more to come: no verdict that comes and goes.
_STAYS, _MOMENTS_S = 0.3, (0.6, 1.1, 4.0)


def _steady(t: NDArray[np.float64], y: NDArray[np.float64], limit: float, resolution: float) -> Remaining | None:
    """What remains; where it wavers about the limit of confidence, and was within it a moment ago, it counts as within."""
    now = remaining(t, y, limit, step=resolution)
    if now is None or now.is_little or now.over > _STAYS:
        return now
    for moment_s in _MOMENTS_S:
        earlier = t <= t[-1] - moment_s
        before = remaining(t[earlier], y[earlier], limit, step=resolution)
        if before is not None and before.is_little:
            return replace(now, over=UNSURE)
    return now


def _amount(value: float, criteria: SettlingCriteria | FieldCriteria, form: str) -> Amount:
    return Amount(value, "%" if criteria.relative else criteria.unit, form or ".3g", difference=True)


def _still_to_come(
    left: Remaining, little: bool, scale: float, limit: float, criteria: SettlingCriteria | FieldCriteria
) -> str:
    """What is still to come, in words: so much where it is known, or that it cannot be told well enough yet."""
    most = left.most / scale
    if little and most < limit / 20:
        return say("Next to nothing still to come (limit {limit}).", limit=_amount(limit, criteria, ""))
    if little:
        words, said = "At most {most} still to come (limit {limit}).", min(most, limit)
    elif abs(left.mean) > max(2 * left.u, limit * scale):
        words, said = "About {most} still to come (limit {limit}).", abs(left.mean) / scale
    else:
        words, said = "Up to {most} may still come (limit {limit}).", max(most, limit)
    return say(words, most=_amount(said, criteria, ".2g"), limit=_amount(limit, criteria, ""))


@dataclass(frozen=True)
class FieldCriteria:
    """Field rule: the last `count` readings lie within ± tolerance of their median [unit, or % where relative].

    The readings are `spacing_s` apart [s]; typed ones at least that. Up to `low_up_to` another tolerance holds, the source's
    for dilute water. resolution is the step of the display [unit], seen from the values where it is 0.
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
    low_up_to: float = 0.0
    low_tolerance: float = 0.0
    typed: bool = False
    resolution: float = 0.0

    def limit_at(self, value: float) -> float:
        """The tolerance at a value [unit, or %]."""
        return self.low_tolerance if self.low_up_to and abs(value) <= self.low_up_to else self.tolerance


def judge_by_readings(times_s: Any, values: Any, criteria: FieldCriteria) -> Settling:
    """Judge a site trace by the field rule, at its last sample.

    Parameters and errors as `judge`. Settled means that the readings compared agree, and that with a confidence of 95 % no
    more than the tolerance is still to come. `noise` of the result is the largest distance from the median of the readings
    compared, `noise_limit` the tolerance; the drift is shown for information. Of typed readings so low that the tolerance is
    less than half a step of the display, those a step apart agree, and all is told in the unit.
    Source: USGS-A6.0, table of stabilization criteria; what is still to come, and the spacing, are Brumel's own choice.
    """
    t, y, skipped, _ = _clean(times_s, values, criteria)
    limits: dict[str, Any] = {"noise_limit": criteria.tolerance, "skipped": skipped}
    if t.size == 0:
        return Settling(State.WAITING, "No usable reading yet.", **limits)
    chosen = _compared(t, criteria)
    elapsed = float(t[-1])
    middle = median_of(y[chosen])
    limit = criteria.limit_at(middle)
    if criteria.typed and criteria.relative and limit * abs(middle) / 100 < criteria.resolution / 2:
        # A share of hardly anything is less than a display tells: one step apart is then the same.
        limit = criteria.resolution / 2
        criteria = replace(criteria, relative=False)
    shown: dict[str, Any] = {"value": median_of(y[chosen][-3:]), "elapsed_s": elapsed, **limits}
    shown["noise_limit"] = limit
    far = criteria.spacing_s * (criteria.count - 1)
    wait = max(criteria.shortest_s - elapsed, far - float(t[-1] - t[0]))
    if chosen.size < criteria.count or wait > 0:
        return Settling(
            State.WAITING,
            f"{chosen.size} of {criteria.count} readings"
            + (say(", {spacing} apart.", spacing=Amount(criteria.spacing_s, "s")) if criteria.spacing_s > 0 else "."),
            seconds_to_go=max(wait, 0.0) or None,
            **shown,
        )
    spread = float(np.max(np.abs(y[chosen] - middle)))
    drift, _ = _drift_and_noise(t[chosen], y[chosen])
    scale = max(abs(middle) / 100, 1e-9) if criteria.relative else 1.0
    shown |= {"drift_per_min": drift, "noise": spread / scale}
    state = State.DRIFTING if elapsed > criteria.longest_s else State.SETTLING
    if spread > limit * scale + 1e-12:
        words = say(
            "The last {count} readings lie within ±{stated} (limit ±{tolerance}).",
            count=criteria.count,
            stated=_over(spread / scale, limit, criteria),
            tolerance=_amount(limit, criteria, ""),
        )
        return Settling(state, words, **shown)
    if criteria.typed:
        apart_s = float(t[-1] - t[chosen[0]])
        found: Remaining | None = agreed(apart_s, spread * 2, criteria.spacing_s, criteria.resolution)
    else:
        found = _steady(t, y, limit * scale, criteria.resolution)
    if found is None:
        return Settling(State.WAITING, f"{t.size} readings; too few.", **shown)
    left = found
    shown |= {"forecast": left.end, "remaining": left.mean, "remaining_u": left.u}
    if not criteria.typed:
        shown["value"] = left.now
    settles = left.chance_over(limit * scale) <= UNSURE if criteria.typed else left.is_little
    words = say(
        "The last {count} readings lie within ±{stated}. {still}",
        count=criteria.count,
        stated=_amount(spread / scale, criteria, ".2g"),
        still=_still_to_come(left, settles, scale, limit, criteria),
    )
    if settles:
        return Settling(State.SETTLED, words, seconds_to_go=0.0, **shown)
    return Settling(state, words, seconds_to_go=left.seconds_to_go, most_to_go=left.most_to_go, **shown)


def _compared(t: NDArray[np.float64], criteria: FieldCriteria) -> NDArray[np.intp]:
    """Which readings the field rule compares: the newest, and those its spacing before it."""
    if criteria.typed:
        early = np.flatnonzero(t <= t[-1] - criteria.spacing_s + 1e-9)[1 - criteria.count :]
        return np.append(early, t.size - 1)
    if criteria.spacing_s > 0:
        wanted = t[-1] - criteria.spacing_s * np.arange(criteria.count - 1, -1, -1)
        # A link that is slower than the spacing has no reading at each of the moments: its newest ones are taken.
        at = np.clip(np.searchsorted(t, wanted - 1e-9), 0, t.size - 1)
        if np.unique(at).size == criteria.count:
            return at
    return np.arange(max(t.size - criteria.count, 0), t.size)


def _over(value: float, limit: float, criteria: FieldCriteria) -> Amount:
    """A value over its limit, with figures enough to be seen as over it."""
    digits = next((d for d in (2, 3, 4, 5) if float(f"{value:.{d}g}") > limit), 6)
    return _amount(value, criteria, f".{digits}g")


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
    if t.size < 4:
        return t, y, None
    jumps = np.abs(np.diff(y))
    rate = jumps / np.diff(t)
    size = criteria.step * (max(abs(median_of(y)), 1e-9) / 100 if criteria.relative else 1.0)
    size = max(size, 8 * noise_of(t, y))
    arrived = t[0] + criteria.shortest_s / 3  # what comes before belongs to the probe's going in
    for i in np.flatnonzero((jumps > size) & (t[:-1] >= arrived))[::-1]:
        before, after = rate[max(0, i - 4) : i], rate[i + 1 : i + 5]
        # An approach only slows down: a change that is much faster than those before and after it is none.
        if before.size >= 2 and all(rate[i] > 6 * median_of(near) for near in (before, after) if near.size):
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
    noise = 1.4826 * median_of(np.abs(rest - median_of(rest)))
    # MAD is blind to a display that flips between two digits; the SD is not.
    if noise == 0.0 and t.size > 2:
        noise = float(np.std(rest))
    return slope * 60.0, noise
