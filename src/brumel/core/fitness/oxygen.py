"""An oxygen probe: zero and gain against water-saturated air or water, read in mg/L at the water's own conditions.

The signal is what the probe gives in percent of saturated air at 1013.25 hPa, before adjusting: it follows the partial
pressure of oxygen, so a calibration made on one altitude reads right on another.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from brumel.core.checking import Door, Floats, plain
from brumel.core.errors import CannotFit
from brumel.core.fitness.common import (
    CalibrationPoint,
    Fitness,
    JudgingTerms,
    as_found_rows,
    as_left_rows,
    band,
    common_rows,
    of_role,
    tolerance,
)
from brumel.core.oxygen import saturation_mg_l
from brumel.core.sentence import Amount, say
from brumel.core.verdict import Band, CriterionRow, Limits, Outcome, Verdict


@dataclass(frozen=True)
class OxygenPoint:
    """One point: signal [%], temperature [°C], what should be there [mg/L, in fresh water]."""

    signal: float
    temperature_c: float
    expected_mg_l: float


@dataclass(frozen=True)
class OxygenFit:
    """Gain and zero of a probe [%]; reads mg/L in fresh water at the sample's temperature."""

    gain_percent: float
    zero_percent: float
    kind: str
    points: tuple[OxygenPoint, ...] = ()

    @property
    def figures(self) -> dict[str, float]:
        """What is followed over the life: gain, and the zero in mg/L at 20 °C."""
        figures = {"gain_percent": self.gain_percent}
        if "zero" in self.kind:
            figures["zero_mg_l"] = self.zero_percent / 100 * float(saturation_mg_l(20.0))
        return figures

    @property
    def sentence(self) -> str:
        """The fit in one line."""
        zero = say(", zero {zero}", zero=Amount(self.zero_percent, "%", ".2f")) if self.zero_percent else ""
        how = " (carried over, not adjusted)" if self.kind == "check" else ""
        return say("Gain {gain}{zero}{how}.", gain=Amount(self.gain_percent, "%", ".1f"), zero=zero, how=how)

    def read(self, signal: float, temperature_c: float) -> float:
        """Oxygen from the signal [%, °C] -> [mg/L] in fresh water; salt is taken off at the sheet."""
        door = Door()
        s = door.number("saturation_percent", signal, -50, 1000)
        door.close()
        return (s - self.zero_percent) / self.gain_percent * float(saturation_mg_l(temperature_c))

    def read_all(self, signals: Floats, temperatures_c: Floats) -> Floats:
        """The same of many signals [%, °C] -> [mg/L]."""
        door = Door()
        s = door.floats("saturation_percent", signals, -50, 1000)
        door.close()
        return plain((s - self.zero_percent) / self.gain_percent * np.asarray(saturation_mg_l(temperatures_c)))

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return asdict(self)


def restore(data: dict[str, Any]) -> OxygenFit:
    """The inverse of `as_dict`."""
    return OxygenFit(**{**data, "points": tuple(OxygenPoint(**p) for p in data["points"])})


def share_percent(oxygen_mg_l: float, temperature_c: float) -> float:
    """Oxygen of fresh water as percent of saturated air at 1013.25 hPa [mg/L, °C]: what a perfect probe would signal."""
    return 100 * oxygen_mg_l / float(saturation_mg_l(temperature_c))


def assess(points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> Fitness:
    """Judge a run: gain against the membrane's first, zero, air against water, as found. Raises CannotFit without signal."""
    zeros, adjust = of_role(points, "zero"), of_role(points, "adjust")
    fitted = _fit(zeros, adjust, terms)
    rows: list[CriterionRow] = as_found_rows(points, terms, tolerance(limits, "as_found"), digits=2)
    if adjust:
        first = terms.first_gain_percent or 100.0
        about = "of the membrane's first" if terms.first_gain_percent else "of nominal; no first calibration on record"
        shown: Band = band(limits, "gain")
        rows.append(shown.row("gain", "gain", 100 * fitted.gain_percent / first, "%", note=about))
    for p in zeros:
        reads = (p.signal / fitted.gain_percent) * float(saturation_mg_l(p.temperature_c))
        rows.append(
            tolerance(limits, "zero")
            .graded(care=2.0, signed=False)
            .row("zero", f"reads in {p.name}", reads, digits=2, note="before the zero is taken off")
        )
    for p in of_role(points, "check"):
        error = fitted.read(p.signal, p.temperature_c) - p.expected
        rows.append(
            tolerance(limits, "as_found")
            .graded(care=2.0)
            .row("check", f"error in {p.name}", error, note="read, not adjusted")
        )
    rows += as_left_rows(points, fitted, tolerance(limits, "as_found"), digits=2)
    apart = _apart(points, terms)
    if apart is not None:
        rows.append(
            tolerance(limits, "air_water")
            .graded(beyond=Outcome.CARE, signed=False)
            .row("air_water", "air and water apart", apart, digits=1)
        )
    rows += common_rows(terms)
    return Fitness(fitted, Verdict(tuple(rows)), _features(points, fitted, terms, apart))


def _fit(zeros: Sequence[CalibrationPoint], adjust: Sequence[CalibrationPoint], terms: JudgingTerms) -> OxygenFit:
    before = terms.before
    if not adjust:
        if isinstance(before, OxygenFit):
            return OxygenFit(before.gain_percent, before.zero_percent, "check")
        return OxygenFit(100.0, 0.0, "check")
    zero = zeros[0].signal if zeros else 0.0
    gains = [100 * (p.signal - zero) / share_percent(p.expected, p.temperature_c) for p in adjust]
    gain = sum(gains) / len(gains)
    if gain < 5:
        raise CannotFit(
            "points",
            "In saturated air the probe gives hardly more than in zero. Is it powered, and its membrane whole?",
        )
    taken = tuple(OxygenPoint(p.signal, p.temperature_c, p.expected) for p in (*zeros, *adjust))
    return OxygenFit(gain, zero, "zero and saturated" if zeros else "saturated", taken)


def _apart(points: Sequence[CalibrationPoint], terms: JudgingTerms) -> float | None:
    adjust = of_role(points, "adjust", "check")
    if terms.water_c is None or not adjust:
        return None
    return abs(adjust[0].temperature_c - terms.water_c)


def _features(
    points: Sequence[CalibrationPoint], fitted: OxygenFit, terms: JudgingTerms, apart: float | None
) -> dict[str, float]:
    features: dict[str, float] = {}
    if of_role(points, "adjust"):
        usual = terms.before.gain_percent if isinstance(terms.before, OxygenFit) else terms.first_gain_percent or 100.0
        change = 100 * (fitted.gain_percent / usual - 1)
        features |= {"gain_change_percent": change, "gain_change_abs_percent": abs(change)}
    elif checks := of_role(points, "check"):  # what is only checked gives as much less as it reads low
        change = 100 * (sum(fitted.read(p.signal, p.temperature_c) / p.expected for p in checks) / len(checks) - 1)
        features |= {"gain_change_percent": change, "gain_change_abs_percent": abs(change)}
    for p in of_role(points, "zero"):
        features["zero_mg_l"] = max(0.0, p.signal / fitted.gain_percent * float(saturation_mg_l(p.temperature_c)))
    if apart is not None:
        features["air_water_c"] = apart
    return features
