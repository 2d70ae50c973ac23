"""A logger's clock put right by comparing it with the time at visits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door, Floats
from brumel.core.errors import InputError
from brumel.core.working import Ladder, StepResult, Working

#: A clock that is off by more is not a clock that drifted but one that was set wrong, or read in another zone [s].
MOST_OFF_S = 6 * 3600.0


@dataclass(frozen=True)
class Comparison:
    """What the logger's clock showed at a true time [s from any one start]."""

    logger_s: float
    true_s: float

    @property
    def ahead_s(self) -> float:
        return self.logger_s - self.true_s


@dataclass(frozen=True)
class Clock:
    """How a logger's clock ran between its comparisons."""

    at_s: tuple[float, ...]
    ahead_s: tuple[float, ...]
    working: Working

    @property
    def per_day_s(self) -> float:
        """What it gains [s/d]; negative where it loses; nothing from a single comparison."""
        span = self.at_s[-1] - self.at_s[0]
        return 86_400 * (self.ahead_s[-1] - self.ahead_s[0]) / span if span > 0 else 0.0

    def right(self, logger_s: Floats) -> NDArray[np.float64]:
        """True times of times by the logger's clock [s]: linear between comparisons, its last error beyond them."""
        t = np.asarray(logger_s, dtype=np.float64)
        return np.asarray(t - np.interp(t, self.at_s, self.ahead_s))


def clock(comparisons: Sequence[Comparison]) -> Clock:
    """A clock known at one comparison or more, which must rise.

    One says by what it was off throughout, two or more that it ran evenly between them. Raises InputError where they do
    not rise, or where it was off by more than MOST_OFF_S. Source: linear drift, common practice, no source.
    """
    door = Door()
    if not comparisons:
        door.add(InputError("clock", "A clock is put right by one comparison with the time at least."))
        door.close()
    for c in comparisons:
        if not abs(door.number("clock", c.ahead_s, -1e10, 1e10)) <= MOST_OFF_S:
            door.add(
                InputError(
                    "clock",
                    f"The logger's clock would be {abs(c.ahead_s) / 3600:.1f} h {'ahead' if c.ahead_s > 0 else 'behind'}. "
                    "That is no drift; is its zone, or its day, right?",
                    value=c.ahead_s,
                )
            )
    for before, after in zip(comparisons, comparisons[1:], strict=False):
        if after.logger_s <= before.logger_s or after.true_s <= before.true_s:
            door.add(InputError("clock", "The comparisons of the clock do not follow one another."))
    door.close()
    ladder = Ladder("The logger's clock")
    for number, c in enumerate(comparisons, 1):
        ladder.step(
            f"c{number}",
            "ahead of the time",
            "c = logger − time",
            StepResult(c.ahead_s, "s", 0),
            "common practice, no source",
        )
    made = Clock(tuple(c.logger_s for c in comparisons), tuple(c.ahead_s for c in comparisons), ladder.done())
    if len(comparisons) > 1:
        days = (comparisons[-1].true_s - comparisons[0].true_s) / 86_400
        ladder.step(
            "r",
            "gained a day",
            "r = (c_last − c_first) / days",
            StepResult(made.per_day_s, "s/d", 1),
            "common practice, no source",
            ("d", "days between", days, "d"),
        )
    return Clock(made.at_s, made.ahead_s, ladder.done())
