"""What is still to come of a trace: the end it tends to, against the value it shows now, with its own doubt."""

from __future__ import annotations

import math
import statistics
from dataclasses import dataclass
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

Column = NDArray[np.float64]

#: Time constants that are thought of [s]; what is slower cannot be told from a drift within a wait.
_FASTEST, _SLOWEST = 0.7, 200.0
_STEPS, _SLOW_STEPS = 16, 5
#: A second, slow term is at least this much slower than the first, and about this share of it.
_APART, _SLOW_SHARE = 2.0, 0.15
#: How much of a steady drift counts as still to come [s]: one minute, as the limits of drift are stated.
_DRIFT_S = 60.0
#: How likely it is, before the trace is looked at, that it has a slow second term, or drifts for good.
_CHANCE_SLOW, _CHANCE_DRIFT = 0.4, 0.08
#: A change this many times the limit is thought possible even where the trace has shown less.
_LEAST_SPAN = 6.0
_MOST = 80  # samples; a longer trace is thinned
_FEWEST = 4
_HAIR = 1e-13  # what the diagonal of scaled equations is raised by: 64-bit numbers tell terms apart no finer
_KEPT, _KEPT_ALONE = 4, 2  # cells of two terms and of one that are looked at more closely, at each level
_LEVELS = 5
#: Shares of the trace that are tried, longest first: the first one that follows an approach is used.
_SHARES = (1.0, 0.75, 0.55, 0.4, 0.28)
UNSURE = 0.05  # the chance of more to come at which a wait is over
#: So much more where a slow second term explains the trace: it asks for three times the wait, and is rarer. Chosen by
#: simulation, against 15 % of such traces settled falsely and a delay of half its time constant.
_SLOW_UNSURE = 0.07
_FITS = 2.0  # residual variance over that of the noise, up to which a trace follows an approach
_ABOUT = 1.35  # and so much over the least of its ends, where it does not


@dataclass(frozen=True)
class Remaining:
    """What is to come after the last sample.

    now : what the trace has come to at its last sample, its noise smoothed [unit]
    end : where the trace tends to [unit]
    mean, u : what is still to come and its standard uncertainty [unit]
    over : the probability that more than the limit is to come
    tau_s : the time constant that explains the trace best [s]
    seconds_to_go : until the limit is kept with confidence [s]; None where the models that explain the trace do not agree
    slow : the probability that a slow second term is at work
    most_to_go : hardly longer than that, by nine tenths of what explains the trace [s]; None where that cannot be said
    """

    now: float
    end: float
    mean: float
    u: float
    over: float
    tau_s: float
    seconds_to_go: float | None
    most_to_go: float | None = None
    slow: float = 0.0

    @property
    def is_little(self) -> bool:
        """Whether a wait is over: with enough confidence, no more than the limit is to come."""
        return self.over <= UNSURE + _SLOW_UNSURE * self.slow**2

    def chance_over(self, limit: float) -> float:
        """The probability that more than another limit is to come, as of a normal variable."""
        return float(_beyond(np.array([self.mean]), np.array([max(self.u, 1e-12)]), limit)[0])

    @property
    def most(self) -> float:
        """What hardly more than is to come, at a confidence of 95 % [unit]."""
        return abs(self.mean) + 1.64 * self.u


_THIRDS = np.array([-2.0, 0.0, 2.0]) / 3


@dataclass(frozen=True)
class _Cells:
    """Parts of the plane of time constants, a column each: the middle of the first and half the width of its logarithm, the
    same of the second, and how likely the part is.

    A cell without a second term has slow = inf; one of a steady drift has fast = inf.
    """

    of: Column

    @property
    def fast(self) -> Column:
        return cast(Column, self.of[0])

    @property
    def fast_half(self) -> Column:
        return cast(Column, self.of[1])

    @property
    def slow(self) -> Column:
        return cast(Column, self.of[2])

    @property
    def slow_half(self) -> Column:
        return cast(Column, self.of[3])

    @property
    def log_chance(self) -> Column:
        return cast(Column, self.of[4])

    def __len__(self) -> int:
        return int(self.of.shape[1])

    def take(self, which: NDArray[Any]) -> _Cells:
        return _Cells(self.of[:, which])

    def with_(self, other: _Cells) -> _Cells:
        return _Cells(np.concatenate([self.of, other.of], axis=1))

    def split(self) -> _Cells:
        """Each cell in three along the first, and along the second where there is one."""
        has_second = np.isfinite(self.slow)
        one = np.repeat(self.of[:, None, ~has_second], 3, axis=1)
        two = np.repeat(self.of[:, None, has_second], 9, axis=1)
        one[0] *= np.exp(_THIRDS[:, None] * one[1])
        two[0] *= np.exp(np.repeat(_THIRDS, 3)[:, None] * two[1])
        two[2] *= np.exp(np.tile(_THIRDS, 3)[:, None] * two[3])
        one[4] -= math.log(3)
        two[4] -= math.log(9)
        parts = np.concatenate([one.reshape(5, -1), two.reshape(5, -1)], axis=1)
        parts[[1, 3]] /= 3
        return _Cells(parts)


def _all_cells() -> _Cells:
    edges = np.linspace(math.log(_FASTEST), math.log(_SLOWEST), _STEPS + 1)
    fast, half = np.exp((edges[1:] + edges[:-1]) / 2), (edges[1] - edges[0]) / 2
    edges = np.linspace(math.log(8.0), math.log(_SLOWEST), _SLOW_STEPS + 1)
    slow, slow_half = np.exp((edges[1:] + edges[:-1]) / 2), (edges[1] - edges[0]) / 2
    pairs = [(a, b) for a in fast for b in slow if b >= _APART * a]
    one = 1 - _CHANCE_SLOW - _CHANCE_DRIFT
    n, m = fast.size, len(pairs)
    return _Cells(
        np.array(
            [
                [*fast, *(a for a, _ in pairs), math.inf],
                [half] * (n + m + 1),
                [math.inf] * n + [b for _, b in pairs] + [math.inf],
                [slow_half] * (n + m + 1),
                np.log([one / n] * n + [_CHANCE_SLOW / m] * m + [_CHANCE_DRIFT]),
            ]
        )
    )


_CELLS = _all_cells()


def known(tau_s: float, slow_s: float = math.inf) -> _Cells:
    """The one cell of an observer who knows the time constants [s]: what a judgement without that knowledge is held to."""
    return _Cells(np.array([[tau_s], [1e-4], [slow_s], [1e-4], [0.0]]))


def display_step(values: Column) -> float:
    """The step of the display the values were rounded to [unit]; 0 where they show none.

    A grid is seen where values repeat; with one value alone its last decimal is the step.
    """
    levels = np.unique(np.round(values, 9))
    if levels.size > 0.7 * values.size:
        return 0.0
    if levels.size == 1:
        decimals = next((d for d in range(7) if abs(round(levels[0], d) - levels[0]) < 1e-9), None)
        return 0.0 if decimals is None or not levels[0] else 10.0**-decimals
    apart = np.diff(levels)
    least = float(apart.min())
    off = np.abs(apart / least - np.round(apart / least))
    return least if float(off.max()) < 0.02 else 0.0


def median_of(values: Column) -> float:
    """The median of a few values; numpy's own takes several times as long for so few. Raises StatisticsError for none."""
    middle: float = statistics.median(values.tolist())
    return middle


def noise_of(times_s: Column, values: Column) -> float:
    """SD of the values about the line between their neighbours [unit], robust; 0 for fewer than four."""
    if values.size < 4:
        return 0.0
    t, y = times_s, values
    share = (t[1:-1] - t[:-2]) / (t[2:] - t[:-2])
    off = (y[1:-1] - y[:-2] - share * (y[2:] - y[:-2])) / np.sqrt(1 + share**2 + (1 - share) ** 2)
    late = off[-max(40, off.size // 2) :]  # a fast approach bends between three samples; its end does not
    middle = 1.4826 * median_of(np.abs(late))
    # The median says which are outliers; the mean square of the rest is the steadier figure.
    return float(np.sqrt(np.mean(np.minimum(np.abs(late), 4 * middle) ** 2))) if middle else float(np.std(late))


def _crossings(t: Column, y: Column, step: float, noise: float) -> tuple[Column, Column, Column]:
    """What a coarse display tells: the moments it goes from one level to the next, and the first and last level itself.

    Between two levels the value is their middle, as sure as the moment is; a level that is skipped into, and the last one
    shown, are known to within half a step. Times, values, and the SD of each.
    """
    turns = np.flatnonzero(np.diff(y) != 0)
    by_one = np.abs(np.diff(y)[turns]) < 1.5 * step
    when = (t[turns] + t[turns + 1]) / 2
    between = (y[turns] + y[turns + 1]) / 2
    near = np.diff(np.r_[t[0], when, t[-1]])
    dwell = np.maximum(np.minimum(near[:-1], near[1:]), 1e-9)
    gap = np.minimum((t[turns + 1] - t[turns]) / dwell, 1.0)
    sure = np.hypot(max(noise, 0.06 * step), step * gap / math.sqrt(12))
    half = step / math.sqrt(12)
    into = turns[~by_one] + 1
    ends = np.unique(np.r_[0, into, t.size - 1])
    times = np.r_[when[by_one], t[ends]]
    order = np.argsort(times, kind="stable")
    values = np.r_[between[by_one], y[ends]]
    sd = np.r_[sure[by_one], np.full(ends.size, math.hypot(half, noise))]
    return times[order], values[order], sd[order]


@dataclass(frozen=True)
class _Meant:
    """What each sample that stands for several stands for: how many, when their first was, how far apart they are [s]."""

    count: Column
    first: Column
    apart: Column


def _thinned(t: Column, y: Column) -> tuple[Column, Column, _Meant]:
    """At most so many samples: the newest as they are, older ones as means of neighbours; times and values."""
    if t.size <= _MOST:
        return t, y, _Meant(np.ones_like(t), t, np.zeros_like(t))
    newest = _MOST // 3
    old = t[:-newest]
    parts = _MOST - newest
    each = np.full(parts, old.size // parts)
    each[: old.size % parts] += 1
    starts = np.cumsum(each) - each
    last = old[starts + each - 1]
    sums = [np.add.reduceat(column[:-newest], starts) / each for column in (t, y)]
    meant = _Meant(
        np.r_[each.astype(float), np.ones(newest)],
        np.r_[old[starts], t[-newest:]],
        np.r_[(last - old[starts]) / np.maximum(each - 1, 1), np.zeros(newest)],
    )
    return np.r_[sums[0], t[-newest:]], np.r_[sums[1], y[-newest:]], meant


def remaining(
    times_s: Any, values: Any, limit: float, *, step: float = 0.0, cells: _Cells = _CELLS
) -> Remaining | None:
    """What is still to come of a trace at its last sample; None for fewer than four samples.

    Parameters
    ----------
    times_s : 1-d, rising [s]
    values : 1-d, the same length, free of NaN [unit]
    limit : what may still come [unit]
    step : step of the display [unit]; seen from the values where it is 0

    An approach in one exponential, one with a slow second term of some tenth of it, and a steady drift are fitted for time
    constants from 1 to 200 s; each counts by how well it explains the trace (Bayesian model averaging over linear models
    with normal priors, in closed form; the plane of time constants is divided more finely where the trace asks for it).
    A coarse display counts by the moments it goes from one level to the next, see `_crossings`.
    Source: common practice, no source for the choice of models; the algebra is that of any text on linear models.
    """
    t, y = np.asarray(times_s, dtype=np.float64), np.asarray(values, dtype=np.float64)
    if t.size < _FEWEST:
        return None
    step = max(step, display_step(y))
    tried: list[tuple[Remaining, float]] = []
    for share in _SHARES:
        part = t >= t[-1] - share * (t[-1] - t[0])
        if share < 1 and part.sum() < 8:
            break
        tried.append(_judged(t[part], y[part], limit, step, cells))
        if share == 1 and tried[-1][1] <= _FITS:
            return tried[-1][0]
    # The whole does not follow an approach as well as the noise lets one expect: the longest end that does so about the best.
    least = min(misfit for _, misfit in tried)
    return next(found for found, misfit in tried if misfit <= _ABOUT * least)


def agreed(apart_s: float, change: float, slowest_s: float, step: float) -> Remaining:
    """What is to come after two values typed so far apart, where nothing slower than `slowest_s` is at work.

    An exponential that moves by `change` in that time has change / (exp(apart / tau) - 1) to go; each value is known to
    within half a step of its display [s, unit, s, unit]. Source: algebra of the exponential.
    """
    ratio = math.expm1(min(apart_s / slowest_s, 50.0)) if slowest_s > 0 else math.inf
    mean, u = change / ratio, step / math.sqrt(6) / ratio
    return Remaining(0.0, mean, mean, u, 0.0, slowest_s, None)


def _dying(at: Column, meant: _Meant | None, tau: Column) -> Column:
    """exp(-t / tau) for each time constant at each time; or its mean over the samples that are meant by that time."""
    if meant is None:
        return np.exp(-at[None, :] / tau[:, None])
    share = np.maximum(meant.apart, 1e-9)[None, :] / tau[:, None]
    whole = np.expm1(-meant.count * share) / np.expm1(-share) / meant.count
    return np.exp(-meant.first[None, :] / tau[:, None]) * whole


_FOUR, _FIVE = np.arange(1, 5), np.arange(5)


class _Stretch:
    """One stretch of a trace, ready to be held against cells."""

    def __init__(self, t: Column, y: Column, limit: float, step: float) -> None:
        noise = noise_of(t, y)
        self.is_coarse = noise < 0.6 * step
        if self.is_coarse:
            t, y, sd = _crossings(t, y, step, noise)
            t, y, sd = t[-_MOST:], y[-_MOST:], sd[-_MOST:]
            self.weight, self.meant = 1 / sd**2, None
            self.since = t - t[0]
        else:
            # Time begins at the first sample, not at the first mean: before it, an approach is larger than numbers go.
            t, y, meant = _thinned(t - t[0], y)
            sd = np.full_like(t, max(noise, 1e-5 * limit))
            self.weight, self.meant = meant.count / sd**2, meant if meant.apart.any() else None
            self.since = t
        self.span = max(float(np.ptp(y)), _LEAST_SPAN * limit)
        self.centre = float(y.mean())
        self.y = y - self.centre
        self.noise = median_of(sd)

    def terms(self, cells: _Cells) -> Column:
        """The terms of each cell at all samples: where it ends, which counts for every cell, its approach, its slow one, and
        beside each what a shift of its time constant does.

        The last sample is always one of its own, so that the last column is what they are at the end.
        """
        at = self.since
        meant = self.meant
        out = np.zeros((len(cells), 5, at.size))
        out[:, 0] = 1.0
        fast = np.where(np.isfinite(cells.fast), cells.fast, 1.0)
        out[:, 1] = _dying(at, meant, fast)
        out[:, 2] = at / fast[:, None] * out[:, 1]
        drifts = ~np.isfinite(cells.fast)
        if drifts.any():
            out[drifts, 1] = (at - at[-1]) / _DRIFT_S
            out[drifts, 2] = 0.0
        slow = np.flatnonzero(np.isfinite(cells.slow))
        if slow.size:
            slow_s = cells.slow[slow]
            dying = _dying(at, meant, slow_s)
            out[slow, 3] = dying
            out[slow, 4] = at / slow_s[:, None] * dying
        return out

    def held(self, cells: _Cells) -> tuple[Column, Column, Column, Column]:
        """Log evidence of each cell, what it says is to come with its variance, and its fitted terms."""
        base = self.terms(cells)
        size = np.empty((len(cells), 4))
        size[:, 0], size[:, 1] = self.span, cells.fast_half / math.sqrt(3) * self.span
        size[:, 2], size[:, 3] = _SLOW_SHARE * self.span, cells.slow_half / math.sqrt(3) * _SLOW_SHARE * self.span
        gram = np.matmul(base * self.weight, base.transpose(0, 2, 1))
        gram[:, _FOUR, _FOUR] += 1 / size**2
        pull = np.matmul(base, self.weight * self.y)
        # What is to come is where the cell ends without what is left of its terms; a drift goes on for its minute.
        full = -base[:, :, -1]
        full[:, 0] = 0.0
        full[~np.isfinite(cells.fast), 1] = 1.0
        # By its own diagonal and a hair more: terms as alike as two can be are told apart by what was thought before.
        scale = 1 / np.sqrt(gram[:, _FIVE, _FIVE])
        gram *= scale[:, :, None] * scale[:, None, :]
        gram[:, _FIVE, _FIVE] += _HAIR
        solved = np.linalg.solve(gram, np.stack([pull * scale, full * scale], axis=2)) * scale[:, :, None]
        fitted, turned = solved[:, :, 0], solved[:, :, 1]
        spread = np.linalg.slogdet(gram)[1] - 2 * np.log(scale).sum(axis=1)
        evidence = 0.5 * (pull * fitted).sum(axis=1) - 0.5 * spread - np.log(size).sum(axis=1) + cells.log_chance
        return evidence, (full * fitted).sum(axis=1), np.maximum((full * turned).sum(axis=1), 1e-24), fitted

    def off(self, cell: _Cells, fitted: Column) -> Column:
        """How far each sample lies from a fit, in its own SD."""
        return (self.y - fitted @ self.terms(cell)[0]) * np.sqrt(self.weight)

    def now(self, cell: _Cells, fitted: Column) -> float:
        """What a fit says the trace has come to."""
        return self.centre + float(fitted @ self.terms(cell)[0, :, -1])


def _judged(t: Column, y: Column, limit: float, step: float, cells: _Cells) -> tuple[Remaining, float]:
    stretch = _Stretch(t, y, limit, step)
    looked_at, held = cells, stretch.held(cells)
    for level in range(_LEVELS):
        evidence = held[0]
        best = int(np.argmax(evidence))
        if level and stretch.span * float(looked_at.fast_half[best]) ** 2 / 4 < 0.2 * stretch.noise:
            break
        # The best of each sort: a cell that is still coarse fits badly, and one with two terms less so, whatever is true.
        order = np.argsort(-evidence)
        two = np.isfinite(looked_at.slow[order])
        near = np.r_[order[two][:_KEPT], order[~two & np.isfinite(looked_at.fast[order])][:_KEPT_ALONE]]
        rest = np.ones(len(looked_at), dtype=bool)
        rest[near] = False
        finer = looked_at.take(near).split()
        new = stretch.held(finer)
        looked_at = looked_at.take(rest).with_(finer)
        joined = [np.concatenate([old[rest], fresh]) for old, fresh in zip(held, new, strict=True)]
        held = (joined[0], joined[1], joined[2], joined[3])
    best = int(np.argmax(held[0]))
    one = looked_at.take(np.array([best]))
    off = stretch.off(one, held[3][best])
    misfit = float((off**2).sum() / max(off.size - 3, 1))
    is_long = off.size > 12 and not stretch.is_coarse
    alike = float((off[1:] * off[:-1]).sum() / max((off**2).sum(), 1e-30)) if is_long else 0.0
    alike = min(max(alike - 2 / math.sqrt(off.size), 0.0), 0.9)
    wider = max(misfit, 1.0) * (1 + alike) / (1 - alike)
    if wider > 1.2:
        stretch.weight /= wider
        held = stretch.held(looked_at)
        best = int(np.argmax(held[0]))
    evidence, mean, variance, fitted = held
    chance = np.exp(evidence - evidence.max())
    chance /= chance.sum()
    u = np.sqrt(variance)
    counts = chance > 1e-5
    over = float(chance[counts] @ _beyond(mean[counts], u[counts], limit))
    to_come = float(chance @ mean)
    doubt = math.sqrt(max(float(chance @ (variance + mean**2)) - to_come**2, 0.0))
    one = looked_at.take(np.array([best]))
    shown = stretch.now(one, fitted[best])
    tau = float(one.slow[0] if np.isfinite(one.slow[0]) else one.fast[0])
    to_go, most = _to_go(looked_at, evidence, mean, u, limit) if over > UNSURE else (0.0, 0.0)
    slow = float(chance[np.isfinite(looked_at.slow)].sum())
    return Remaining(shown, shown + to_come, to_come, doubt, over, min(tau, _SLOWEST), to_go, most, slow), misfit


#: The wait is told where the middle four fifths of the models agree on it up to this factor, or this many seconds: chosen so
#: that what is told is within half in 90 %, see `benchmarks/judging/settling.py`. What dies away later is not foreseen [s].
_AGREE, _AGREE_S, _FORESEEN_S = 1.6, 3.0, 1200.0
_COARSE_S = 5.0  # what a wait hardly exceeds is said in such steps [s]: it is known no finer
_SLACK = 1.15  # what the confidence asks for beyond the model's own wait, chosen


def _to_go(cells: _Cells, evidence: Column, mean: Column, u: Column, limit: float) -> tuple[float | None, float | None]:
    """How long until no more than the limit is to come, and hardly longer than how long; None where it cannot be said.

    What each model has to come, with its doubt, dies away by its own slowest time constant; a drift never does.
    """
    tau = np.where(np.isfinite(cells.slow), cells.slow, cells.fast)
    near = evidence >= evidence.max() - 6
    chance = np.exp(evidence[near] - evidence[near].max())
    dies = np.isfinite(tau[near])
    over = np.log(np.maximum((np.abs(mean[near]) + 1.64 * u[near]) / limit, 1.0))
    wait = np.where(dies, np.where(dies, tau[near], 0.0) * over, math.inf)
    order = np.argsort(wait)
    share = np.cumsum(chance[order]) / chance.sum()
    soonest, middle, latest = (float(wait[order][int(np.searchsorted(share, part))]) for part in (0.1, 0.5, 0.9))
    most = None if latest > _FORESEEN_S else _COARSE_S * math.ceil((_SLACK * latest + _AGREE_S) / _COARSE_S)
    agree = latest <= max(_AGREE * soonest, soonest + _AGREE_S)
    return (max(middle, 1.0) if agree and most is not None else None), most


def _beyond(mean: Column, u: Column, limit: float) -> Column:
    """Probability that a normal variable lies beyond ± limit."""
    return _tail((limit - mean) / u) + _tail((limit + mean) / u)


def _tail(z: Column) -> Column:
    """Probability that a standard normal variable lies above z. Source: Abramowitz and Stegun 26.2.17, error under 1e-7."""
    x = np.abs(z)
    t = 1 / (1 + 0.2316419 * x)
    poly = t * (0.319381530 + t * (-0.356563782 + t * (1.781477937 + t * (-1.821255978 + t * 1.330274429))))
    upper = np.exp(-(np.minimum(x, 30) ** 2) / 2) / math.sqrt(2 * math.pi) * poly
    return np.where(z >= 0, upper, 1 - upper)
