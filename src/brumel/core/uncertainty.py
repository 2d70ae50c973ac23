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


def digits_for(expanded_uncertainty: float, most: int = 4) -> int:
    """Decimals to show so that the last digit is worth about a tenth to a half of U, at least 0."""
    if not (math.isfinite(expanded_uncertainty) and expanded_uncertainty > 0):
        return 2
    return max(0, min(most, -math.floor(math.log10(expanded_uncertainty))))
