"""Checking a thermometer against a reference: everything else depends on it [USGS-A6.1]."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from brumel.core.checking import Door
from brumel.core.errors import WrongShape
from brumel.core.sentence import Amount, say
from brumel.core.uncertainty import Budget, propagate, rectangular
from brumel.core.verdict import CriterionRow, Outcome, Verdict


@dataclass(frozen=True)
class ReferencePoint:
    """The thermometer beside the reference: what each showed [°C], and the reference's expanded uncertainty [°C]."""

    shown_c: float
    reference_c: float
    expanded_uncertainty_c: float = 0.1
    name: str = ""


def verdict(points: Sequence[ReferencePoint], tolerance_c: float, source: str = "USGS-A6.1") -> Verdict:
    """One row a point: within ± tolerance fit, within twice it with care, else not [°C].

    Raises WrongShape without points and all faults of the points at once.
    """
    door = Door()
    if not 1 <= len(points) <= 5:
        door.add(WrongShape("points", f"A thermometer is checked at 1 to 5 points; there are {len(points)}."))
    for p in points:
        door.number("shown_c", p.shown_c, -30, 110)
        door.number("reference_c", p.reference_c, -30, 110)
    door.number("tolerance_c", tolerance_c, 0.001, 5)
    door.close()
    rows = []
    for p in points:
        error = p.shown_c - p.reference_c
        size = round(abs(error), 9)
        outcome = Outcome.FIT if size <= tolerance_c else Outcome.CARE if size <= 2 * tolerance_c else Outcome.NOT
        name = p.name or f"{p.reference_c:.1f} °C"
        rows.append(
            CriterionRow(
                "temperature",
                f"error at {name}",
                error,
                "°C",
                say("within ±{tolerance}", tolerance=Amount(tolerance_c, "°C", "g", difference=True)),
                outcome,
                source,
                "",
                2,
            )
        )
    return Verdict(tuple(rows))


def correction_c(points: Sequence[ReferencePoint], temperature_c: float) -> float:
    """What to add to a shown temperature: the mean error of one point, a straight line through several [°C]."""
    door = Door()
    door.number("temperature_c", temperature_c, -30, 110)
    if not points:
        door.add(WrongShape("points", "There is no point to correct by."))
    door.close()
    shown = np.array([p.shown_c for p in points])
    error = np.array([p.reference_c - p.shown_c for p in points])
    if len(points) == 1 or float(np.ptp(shown)) < 5:
        return float(error.mean())
    slope, offset = np.polyfit(shown, error, 1)
    return float(slope * temperature_c + offset)


def budget(
    temperature_c: float, reference: ReferencePoint, *, noise_c: float = 0.02, resolution_c: float = 0.1
) -> Budget:
    """Uncertainty of a temperature read with a checked thermometer [°C]. Source: GUM."""
    inputs = {
        "reading": (temperature_c, noise_c),
        "reference thermometer": (0.0, reference.expanded_uncertainty_c / 2),
        "rounding of the display": (0.0, rectangular(resolution_c / 2)),
    }
    return propagate(lambda x: sum(x.values()), inputs)
