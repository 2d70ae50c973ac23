"""Law of propagation of uncertainty for any function of named inputs [GUM, eq. 10 and 13]."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass


@dataclass(frozen=True)
class Contribution:
    """What one input adds: its standard uncertainty, sensitivity dy/dx, and their product."""

    name: str
    standard_uncertainty: float
    sensitivity: float

    @property
    def amount(self) -> float:
        return abs(self.sensitivity * self.standard_uncertainty)


@dataclass(frozen=True)
class Budget:
    """A value with its uncertainty budget; `expanded` is k = 2 [unit of the value]."""

    value: float
    contributions: tuple[Contribution, ...]
    coverage: float = 2.0

    @property
    def standard(self) -> float:
        return math.sqrt(sum(c.amount**2 for c in self.contributions))

    @property
    def expanded_uncertainty(self) -> float:
        return self.coverage * self.standard


def propagate(function: Callable[[Mapping[str, float]], float], inputs: Mapping[str, tuple[float, float]]) -> Budget:
    """Combine independent inputs given as name -> (value, standard uncertainty).

    Sensitivities are central differences one standard uncertainty wide [GUM, 5.1.3 note 2]. Correlated inputs
    enter as one shared input (a thermometer's error common to all cups is one name).
    """
    centre = {name: value for name, (value, _) in inputs.items()}
    contributions = []
    for name, (value, u) in inputs.items():
        if u <= 0:
            continue
        up, down = function({**centre, name: value + u}), function({**centre, name: value - u})
        contributions.append(Contribution(name, u, (up - down) / (2 * u)))
    return Budget(function(centre), tuple(contributions))


def rectangular(half_width: float) -> float:
    """Standard uncertainty of a value known only to lie within ± half_width [GUM, eq. 7]."""
    return half_width / math.sqrt(3)


#: How much of U may be lost by rounding it down as it is shown; beyond that it is rounded up.
_LOST = 0.05


def digits_for(expanded_uncertainty: float, most: int = 4) -> int:
    """Decimals to show beside U: two figures of it where its first is 1 or 2, one elsewhere; at least 0.

    So the last digit is worth about a thirtieth to a third of U. Source: common practice after GUM, 7.2.6.
    """
    if not (math.isfinite(expanded_uncertainty) and expanded_uncertainty > 0):
        return 2
    place = math.floor(math.log10(expanded_uncertainty))
    first = expanded_uncertainty / 10.0**place
    return max(0, min(most, -place + (1 if first < 2.95 else 0)))


def shown_u(expanded_uncertainty: float, digits: int) -> float:
    """U as it is shown with so many decimals: rounded, but up where rounding down would lose over 5 % of it."""
    rounded = round(expanded_uncertainty, digits)
    if rounded >= (1 - _LOST) * expanded_uncertainty:
        return rounded
    return math.ceil(expanded_uncertainty * 10**digits) / 10**digits
