"""Values typed from a display: when they count as settled, and the slips that fingers make."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.errors import WrongShape
from brumel.core.remaining import UNSURE, Remaining, agreed
from brumel.core.sentence import Amount, say
from brumel.core.settling import Settling, State


@dataclass(frozen=True)
class TypedRule:
    """When typed values count as settled.

    readings : how many values settle; one says nothing of drift, two bound it
    spacing_s : how far apart the last two must stand [s]
    shortest_s, longest_s : the waits since the probe went in [s]
    drift_per_min : how fast the last two may differ [unit/min, or % of the value where relative]
    step : what one step of the display is worth [unit]; two values cannot agree better than that
    """

    unit: str
    readings: int
    spacing_s: float
    shortest_s: float
    longest_s: float
    drift_per_min: float
    step: float
    relative: bool = False
    source: str = "common practice, no source"

    @property
    def first_s(self) -> float:
        """From when on a first value counts [s]: so early that the last one, its spacing later, ends the shortest wait."""
        return max(self.shortest_s - self.spacing_s * (self.readings - 1), 0.0)


def judge_typed(times_s: Any, values: Any, rule: TypedRule) -> Settling:
    """Judge values typed one by one, at the last of them.

    Parameters
    ----------
    times_s : 1-d, seconds since the probe went in, in the order they were typed [s]
    values : 1-d, same length, in the rule's unit

    Of the result, `noise` is how far the last two lie apart and `noise_limit` how far they may; `seconds_to_go` is when,
    after the last value, the next one can settle. Raises WrongShape where the columns do not match.
    Source: common practice, no source; two readings that agree are the least of any stabilization rule.
    """
    t, y = np.atleast_1d(np.asarray(times_s, dtype=float)), np.atleast_1d(np.asarray(values, dtype=float))
    if t.shape != y.shape or t.ndim != 1:
        raise WrongShape("values", f"Time has {t.size} values, readings have {y.size}; they must match.")
    if not t.size:
        return Settling(State.WAITING, "No value was typed yet.", drift_limit=rule.drift_per_min)
    elapsed, value = float(t[-1]), float(y[-1])
    scale = max(abs(value), 1e-9) / 100 if rule.relative else 1.0
    unit = "%" if rule.relative else rule.unit
    shown: dict[str, Any] = {"value": value, "elapsed_s": elapsed, "drift_limit": rule.drift_per_min}
    too_early = rule.shortest_s - elapsed
    earlier = np.flatnonzero(t[:-1] <= elapsed - rule.spacing_s + 1e-9)
    if not earlier.size:
        if t.size >= rule.readings and rule.readings == 1 and too_early <= 0:
            words = say("One value after {elapsed}; of drift it says nothing.", elapsed=Amount(elapsed, "s", ".0f"))
            return Settling(State.SETTLED, words, forecast=value, seconds_to_go=0.0, **shown)
        wait = max(too_early, 0.0 if rule.readings == 1 else float(t[0]) + rule.spacing_s - elapsed)
        return _wait(wait, shown)
    pairs = [_pair(t, y, int(before), rule, scale) for before in earlier[::-1]]
    best = min(pairs, key=lambda pair: (pair.apart > pair.allowed, pair.over))
    shown |= {
        "noise": best.apart,
        "noise_limit": best.allowed,
        "drift_per_min": (value - best.before) / scale * 60 / best.between_s,
    }
    if t.size < rule.readings or too_early > 0:
        return _wait(max(too_early, rule.spacing_s), shown)
    agree = best.apart <= best.allowed * (1 + 1e-9)
    words = say(
        "Two values {between} apart differ by {apart} (limit {allowed}).",
        apart=Amount(best.apart, unit, ".2g", difference=True),
        between=Amount(best.between_s, "s", ".0f"),
        allowed=Amount(best.allowed, unit, ".2g", difference=True),
    )
    if agree and best.over <= UNSURE:
        shown |= {"remaining": best.left.mean, "remaining_u": best.left.u}
        return Settling(State.SETTLED, words, forecast=value, seconds_to_go=0.0, **shown)
    if agree:
        words = say(
            "The display's step of {step} hides what may still come; type it again later.",
            step=Amount(rule.step / scale, unit, ".2g", difference=True),
        )
    state = State.DRIFTING if elapsed > rule.longest_s else State.SETTLING
    return Settling(state, words, seconds_to_go=rule.spacing_s, **shown)


@dataclass(frozen=True)
class _Pair:
    """The last value held against an earlier one: how far apart, how far it may be, and what is still to come."""

    before: float
    between_s: float
    apart: float
    allowed: float
    left: Remaining
    over: float


def _pair(t: NDArray[np.float64], y: NDArray[np.float64], before: int, rule: TypedRule, scale: float) -> _Pair:
    between = float(t[-1] - t[before])
    change = abs(float(y[-1] - y[before]))
    left = agreed(between, change, rule.spacing_s, rule.step)
    return _Pair(
        before=float(y[before]),
        between_s=between,
        apart=change / scale,
        allowed=max(rule.drift_per_min * between / 60, rule.step / scale),
        left=left,
        over=left.chance_over(rule.drift_per_min * scale),
    )


def _wait(wait_s: float, shown: dict[str, Any]) -> Settling:
    words = "Type the next reading."
    if wait_s > 0:
        words = say("Type the next reading in {wait}.", wait=Amount(wait_s, "s", ".0f"))
    return Settling(State.WAITING, words, seconds_to_go=max(wait_s, 0.0), **shown)


#: What a finger does to a number, in words, and the factor that undoes it.
SLIPS: tuple[tuple[str, float], ...] = (
    ("the minus sign seems lost or one too many", -1),
    ("it seems ten times too large", 0.1),
    ("it seems ten times too small", 10),
    ("it seems a thousand times too large, as in another unit", 0.001),
    ("it seems a thousand times too small, as in another unit", 1000),
)


def slip(shown: float, near: Callable[[float], bool]) -> tuple[str, float] | None:
    """The one slip that explains a typed value, in words and with the value that was meant; None where none does.

    shown : what was typed
    near : whether a value in that unit could be of this cup
    A value that fits as it stands is no slip, and neither is one that several slips explain.
    """
    if shown == 0 or near(shown):
        return None
    meant = [(words, shown * factor) for words, factor in SLIPS if near(shown * factor)]
    return meant[0] if len(meant) == 1 else None
