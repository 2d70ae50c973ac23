"""What a site's past makes expect of its next value: by season, by the time since the last visits, and by its own spread."""

from __future__ import annotations

import functools
import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door

#: The share of healthy values that lie outside the band and are questioned; with this share on both sides: chosen.
QUESTIONED = 0.015
#: From how many earlier values on a past says anything of its own spread: chosen.
FEWEST = 5
#: How many of the newest values are looked at, and how many of those before, evenly: these tell the season. Chosen.
NEWEST, OLDER = 20, 20

#: What is believed of spread before any value was read: as if so many values had shown the least spread. Chosen.
_BELIEF = 1.0
#: Amplitude of the year and of what wanders, in units of what changes from visit to visit; how long it wanders for [days].
_YEAR = (0.0, 1.5, 4.0)
_WANDERING = (0.0, 1.0, 4.0)
_MEMORY_DAYS = (4.0, 40.0)
_DAYS_A_YEAR = 365.25
#: A past value so far from what the others say (deleted Student's t) is a slip that was kept, and teaches nothing: chosen.
_SLIP = 5.0


class _World(NamedTuple):
    """One way in which a site's values may come about: amplitudes of the year and of what wanders, and its memory [days]."""

    year: float
    wandering: float
    memory_days: float


_WORLDS = tuple(
    _World(year, wandering, memory)
    for year, wandering, memory in itertools.product(_YEAR, _WANDERING, _MEMORY_DAYS)
    if wandering or memory == _MEMORY_DAYS[0]
)


def _alike(apart_days: NDArray[np.float64]) -> NDArray[np.float64]:
    """Covariance of what two moments so far apart have in common, in units of what they do not; one row a world."""
    season = np.cos(2 * np.pi * apart_days / _DAYS_A_YEAR)
    wanders = {memory: np.exp(-np.abs(apart_days) / memory) for memory in {w.memory_days for w in _WORLDS}}
    return np.stack([w.year**2 * season + w.wandering**2 * wanders[w.memory_days] for w in _WORLDS])


@dataclass(frozen=True)
class Expected:
    """What the next value should be [unit]: a mixture of Student's t, one a world, some of them of logarithms.

    middle, low, high : its median, and the band that holds all but `QUESTIONED` of it
    count : of the earlier values behind it
    """

    middle: float
    low: float
    high: float
    count: int

    def questions(self, value: float) -> bool:
        return not self.low <= value <= self.high


class _Predicted(NamedTuple):
    """Of all worlds of one scale: log evidence, degrees of freedom, and middle and scale of the next value."""

    evidence: NDArray[np.float64]
    freedom: float
    middle: NDArray[np.float64]
    scale: NDArray[np.float64]


def expected(
    values: Sequence[float],
    days_ago: Sequence[float],
    *,
    least_spread: float,
    in_proportion: bool = False,
    within: tuple[float, float] = (-1e9, 1e9),
) -> Expected | None:
    """What a site's past makes expect now; None where there are fewer than five values.

    values [unit] were read `days_ago`; least_spread : what the quantity may move by anywhere [unit]
    in_proportion : it may move by shares rather than by amounts, as concentrations do; both are tried
    within : what can be at all, where the band ends

    A Gaussian process with a year's wave, something that wanders and something that is new at every visit; how much of each
    is averaged over by evidence, the spread is integrated out. Source: Rasmussen2006, ch. 2 and 5. Values that the
    others contradict are left out, up to a fifth of them. Raises InputError for what is no number.
    """
    door = Door()
    v = door.floats("values", list(values) or [0.0], -1e9, 1e9)
    t = door.floats("days_ago", list(days_ago) or [0.0], 0.0, 40_000.0)
    door.close()
    if len(values) < FEWEST or v.size != t.size:
        return None
    order = np.argsort(t)
    older = order[NEWEST:]
    looked_at = np.append(order[:NEWEST], older[:: max(-(-older.size // OLDER), 1)])
    found = _expected(tuple(v[looked_at]), tuple(np.round(t[looked_at], 2)), least_spread, in_proportion)
    return replace(found, low=max(found.low, within[0]), high=min(found.high, within[1]))


@functools.lru_cache(maxsize=2048)
def _expected(values: tuple[float, ...], days_ago: tuple[float, ...], least: float, in_proportion: bool) -> Expected:
    from scipy import optimize, special  # loaded with the first expectation: they take a fifth of every start

    v, t = np.asarray(values), np.asarray(days_ago)
    near_nothing = 2 * least  # below it, shares of a value mean nothing
    parts = [_predicted(v, t, least)]
    if in_proportion and v.min() > -near_nothing / 2:
        shares = np.log(v + near_nothing)
        typical = float(np.median(v)) + near_nothing
        part = _predicted(shares, t, least / typical)
        parts.append(part._replace(evidence=part.evidence - float(shares.sum())))
    weights = np.concatenate([part.evidence for part in parts])
    weights = np.exp(weights - weights.max())
    weights /= weights.sum()
    first = parts[0].middle.size

    def below(x: float) -> float:
        """How probable the next value is to be at most x."""
        total = float(weights[:first] @ special.stdtr(parts[0].freedom, (x - parts[0].middle) / parts[0].scale))
        if len(parts) > 1 and x > -near_nothing:
            z = (np.log(x + near_nothing) - parts[1].middle) / parts[1].scale
            total += float(weights[first:] @ special.stdtr(parts[1].freedom, z))
        return total

    reach = float(np.abs(v).max()) + 10 * least + 40 * float(parts[0].scale.max())

    def at(share: float) -> float:
        if below(3 * reach) <= share:
            return 3 * reach  # values over many powers of ten: what is beyond is not expected either way
        return float(optimize.brentq(lambda x: below(x) - share, -reach, 3 * reach, xtol=least / 1000))

    return Expected(at(0.5), at(QUESTIONED / 2), at(1 - QUESTIONED / 2), v.size)


def _predicted(v: NDArray[np.float64], t: NDArray[np.float64], least: float) -> _Predicted:
    """The next value in every world, without the past values that the others contradict."""
    keep = np.ones(v.size, dtype=bool)
    for _ in range(v.size // 5 + 1):
        done, odd = _fitted(v[keep], t[keep], least)
        if odd is None or keep.sum() <= v.size - v.size // 5:
            break
        keep[np.flatnonzero(keep)[odd]] = False
    return done


def _fitted(v: NDArray[np.float64], t: NDArray[np.float64], least: float) -> tuple[_Predicted, int | None]:
    """Every world on these values, and the one value that the best world contradicts, if there is any."""
    n, middle = v.size, float(np.median(v))
    y = v - middle
    apart = t[:, None] - t[None, :]
    k = _alike(apart) + np.eye(n)
    to_now = _alike(t)
    at_once = _alike(np.zeros(1))[:, 0] + 1.0
    inverse = np.linalg.inv(k)
    ones = np.ones(n)
    # A level that nobody knows before: its flat prior is integrated out.
    by_level = inverse @ ones
    level_precision = by_level @ ones
    level = (by_level @ y) / level_precision
    off = y[None, :] - level[:, None]
    pulled = np.einsum("wij,wj->wi", inverse, off)
    squares = np.einsum("wi,wi->w", pulled, off)
    freedom = _BELIEF + n - 1
    total = _BELIEF * least**2 + squares
    log_det = np.linalg.slogdet(k)[1]
    evidence = -0.5 * (log_det + np.log(level_precision)) - freedom / 2 * np.log(total)
    forecast = level + np.einsum("wi,wi->w", to_now, pulled)
    spent = np.einsum("wi,wij,wj->w", to_now, inverse, to_now)
    unsure_level = (1 - np.einsum("wi,wi->w", to_now, by_level)) ** 2 / level_precision
    variance = np.maximum(at_once - spent, 1.0) + unsure_level
    scale = np.maximum(np.sqrt(variance * total / freedom), least)
    best = int(np.argmax(evidence))
    # Deleted residuals (Cook & Weisberg 1982): what each value is off by where the others alone are known.
    p = inverse[best] - np.outer(by_level[best], by_level[best]) / level_precision[best]
    own = (p @ y) ** 2 / np.maximum(np.diag(p), 1e-12)
    t_deleted = np.sqrt(own / np.maximum((total[best] - own) / max(freedom - 1, 1.0), 1e-12))
    worst = int(np.argmax(t_deleted))
    odd = worst if t_deleted[worst] > _SLIP else None
    return _Predicted(evidence, freedom, forecast + middle, scale), odd
