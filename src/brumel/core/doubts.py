"""What a reading suffers beside its calibration's own budget: junction, age, temperature away from the cups, composition.

Each is a standard uncertainty in the unit that is reported, with a name of the trade; the figures are data of the methods
(`doubts.yaml`), each with its source. The simulation in `benchmarks/judgement.py` holds the whole to its coverage.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from brumel.core.constants.defined import ZERO_CELSIUS_K
from brumel.core.fitness.adjusted import AdjustedFit
from brumel.core.fitness.chlorine import ChlorineFit
from brumel.core.fitness.conductivity import CellFit
from brumel.core.fitness.ions import IonFit
from brumel.core.fitness.oxygen import OxygenFit
from brumel.core.fitness.ph import ElectrodeFit
from brumel.core.fitness.redox import OffsetFit
from brumel.core.fitness.temperature import ThermometerFit
from brumel.core.ph.electrode import nernst_slope_mv
from brumel.core.quantity_table import IONS

DAY_H = 24.0


@dataclass(frozen=True)
class Doubt:
    """One more uncertainty: its name, and how large it is as a standard uncertainty [the reading's unit]."""

    name: str
    u: float


@dataclass(frozen=True)
class Circumstances:
    """How a reading was come by.

    value, temperature_c : what is reported, and the water's temperature [unit, °C]
    since_h : since the calibration; 0 where none stands behind it [h]
    conductivity_25_us_cm : of the water, None where it was not read [µS/cm at 25 °C]
    compensation : how conductivity was brought to 25 °C
    """

    value: float
    temperature_c: float
    since_h: float = 0.0
    conductivity_25_us_cm: float | None = None
    compensation: str = "natural"


def calibrated_c(fit: Any) -> float | None:
    """The mean temperature of the cups a fit was made in [°C]; None where it does not say."""
    if isinstance(fit, ElectrodeFit | IonFit):
        temperatures = [p.temperature_c for p in fit.calibration.points]
    elif isinstance(fit, CellFit | OxygenFit):
        temperatures = [p.temperature_c for p in fit.points]
    else:
        temperatures = []
    return sum(temperatures) / len(temperatures) if temperatures else None


def unadjusted_error(fit: Any) -> float:
    """The error a check found that adjusted nothing, in the quantity's unit; 0 where it was adjusted, or none was found."""
    if isinstance(fit, OffsetFit) and fit.kind == "check":
        return abs(fit.error_mv)
    if isinstance(fit, ChlorineFit) and fit.kind == "check":
        return abs(fit.error_mg_l)
    if isinstance(fit, ThermometerFit) and fit.kind == "check":
        return abs(fit.figures["error_c"])
    return 0.0


def doubts(quantity: str, fit: Any, of: Circumstances, figures: Mapping[str, float]) -> list[Doubt]:
    """Everything that makes a reading of this quantity less certain than its budget; nothing of no size.

    figures : by name, of this quantity; see `doubts.yaml`
    """
    display = fit.display if isinstance(fit, AdjustedFit) else fit
    there_c = calibrated_c(display)
    away_c = 0.0 if there_c is None else of.temperature_c - there_c
    days = max(of.since_h, 0.0) / DAY_H
    found = [Doubt("error found and not adjusted", unadjusted_error(display) / math.sqrt(3))]
    if quantity == "ph":
        found += _ph(of, there_c, days, figures)
    elif quantity in IONS:
        per_mv = of.value * math.log(10) / float(nernst_slope_mv(min(max(of.temperature_c, 0.0), 100.0)))
        found += [
            Doubt("tip away from its cups' temperature", per_mv * figures["mv_per_c"] * abs(away_c)),
            Doubt("drift since the calibration", per_mv * figures["mv_per_root_h"] * math.sqrt(max(of.since_h, 0.0))),
        ]
    else:
        share = of.value / 100
        found += [
            Doubt("drift since the calibration", share * figures.get("percent_per_root_day", 0.0) * math.sqrt(days)),
            Doubt("compensation away from its cups", share * figures.get("percent_per_c", 0.0) * abs(away_c)),
            Doubt("zero", figures.get("zero", 0.0)),
            Doubt("the probe itself, between waters", figures.get("between_waters", 0.0)),
        ]
        if quantity == "conductivity" and of.compensation == "natural":
            away = abs(of.temperature_c - 25.0)
            found.append(Doubt("composition of the water", share * figures["composition_percent_per_c"] * away))
    return [doubt for doubt in found if doubt.u > 0]


def _ph(of: Circumstances, there_c: float | None, days: float, figures: Mapping[str, float]) -> list[Doubt]:
    """Junction, isopotential point and age of an electrode [pH]."""
    pure = 1.0
    if of.conductivity_25_us_cm is not None:
        pure = min(max(figures["pure_below_us_cm"] / max(of.conductivity_25_us_cm, 1.0), 1.0), figures["pure_most"])
    kelvin = of.temperature_c + ZERO_CELSIUS_K
    turned = 0.0 if there_c is None else abs(1 - (there_c + ZERO_CELSIUS_K) / kelvin)
    return [
        Doubt("potential of the junction" + (", water of few ions" if pure > 1 else ""), figures["junction"] * pure),
        Doubt("isopotential point", figures["isopotential"] * turned),
        Doubt("drift since the calibration", figures["per_root_day"] * math.sqrt(days)),
    ]
