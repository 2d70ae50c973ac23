"""Readings of known truth: how often their U covers it, and how wide it is against the errors that occur.

The error model, common practice where no source is named. A thermometer is off by 0.1 °C (SD), in the cups and in the water
alike. pH: buffers to 0.01, slope 97 %, isopotential point 7 ± 0.5, signals to 0.2 mV, a junction of 0.02 pH (in water of few
ions more, as 100 µS/cm over its conductance), a drift of 0.02 pH a root day. Conductivity: standards to 0.5 %, a composition
that moves the factor by 0.05 % a degree from 25. Oxygen: a membrane whose coefficient is off by 0.1 % a degree, a zero within
0.1 mg/L, 0.7 % a root day. Ions: a tip with 0.25 mV a degree of its own, 0.3 mV a root hour. ORP: a standard to 2.5 mV, 3 mV
between waters. Chlorine: a second method to 0.05 mg/L, 3 % a root day. A checked thermometer: a reference to 0.05 °C.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from brumel.core import conductivity, drift, ions, oxygen, ph
from brumel.core.doubts import Circumstances, doubts
from brumel.core.fitness.chlorine import ChlorineFit
from brumel.core.fitness.conductivity import CellFit
from brumel.core.fitness.ions import IonFit
from brumel.core.fitness.oxygen import OxygenFit, OxygenPoint
from brumel.core.fitness.ph import ElectrodeFit
from brumel.core.fitness.redox import OffsetFit
from brumel.core.fitness.temperature import ThermometerFit
from brumel.core.ph.electrode import BufferPoint, nernst_slope_mv
from brumel.core.sheet import Water, report
from brumel.core.sheet.ladders import ReadWith, doubted
from brumel.core.temperature import ReferencePoint
from brumel.methods.checks import load_checks
from brumel.methods.doubts import doubt_figures

#: The error of a reading and its U.
Case = tuple[float, float]
Random = np.random.Generator


def _read(
    quantity: str, fit: Any, signal: float, water: Water, of: Circumstances, u: float
) -> Case | tuple[float, float]:
    """The value that is reported and its U."""
    plain = report(quantity, ReadWith(fit, True, "", u), signal, of.temperature_c, water)
    of = Circumstances(plain.value, of.temperature_c, of.since_h, of.conductivity_25_us_cm, of.compensation)
    known = doubted(plain, doubts(quantity, fit, of, doubt_figures(quantity)))
    assert known.expanded_uncertainty is not None
    return known.value, known.expanded_uncertainty


def ph_case(random: Random, temperature_c: float, conductivity_25: float, hours: float, points: int = 2) -> Case:
    """One pH reading in such water, so long after a calibration near 20 °C; of one point, with a full one's slope."""
    slope, iso, e0 = random.normal(0.97, 0.01), random.normal(7, 0.5), random.normal(0, 10)
    off = random.normal(0, 0.1)

    def shown(value: float, t: float) -> float:
        return float(e0 - slope * nernst_slope_mv(t) * (value - iso) + random.normal(0, 0.2))

    buffers = []
    for nominal in (7.0, 10.0, 4.0)[:points]:
        t = random.uniform(18, 22)
        buffers.append(BufferPoint(shown(nominal + random.normal(0, 0.01), t), t + off, nominal))
    carried = ph.Carried(slope + random.normal(0, 0.006), "calibration 1012") if points == 1 else None
    fit = ElectrodeFit(ph.fit(buffers, carried=carried))
    truth = random.uniform(6.3, 9)
    junction = random.normal(0, 0.02 * min(max(100 / conductivity_25, 1), 8))
    aged = random.normal(0, 0.02 * math.sqrt(hours / 24))
    signal = shown(truth + junction + aged, temperature_c)
    of = Circumstances(0.0, temperature_c + off, hours, conductivity_25)
    value, u = _read("ph", fit, signal, Water(conductivity_25_us_cm=conductivity_25), of, 0.01)
    return value - truth, u


def conductivity_case(random: Random, temperature_c: float, hours: float, kind: Any = "natural") -> Case:
    """One specific conductance of natural water, or by a linear coefficient, which is named and has no doubt of its own."""
    off, constant = random.normal(0, 0.1), random.normal(1, 0.03)
    t = random.uniform(18, 25)
    true_standard = float(conductivity.standard_us_cm("1413", t)) * (1 + random.normal(0, 0.005))
    noise = 1 + random.normal(0, 0.0015)
    named = float(conductivity.standard_us_cm("1413", t + off))
    cell = conductivity.fit_cell([conductivity.CellPoint(true_standard / constant * noise, t + off, named)])
    fit = CellFit(cell.cell_constant_per_cm, 0.0, 1.0, "one standard", cell.points)
    truth = random.uniform(150, 1500)
    other = random.normal(0, 0.0005) * (temperature_c - 25) if kind == "natural" else 0.0
    raw = truth / float(conductivity.to_reference(1.0, temperature_c, kind=kind, coefficient_percent=2.0)) * (1 + other)
    aged = 1 + random.normal(0, 0.003 * math.sqrt(hours / 24))
    signal = raw / constant * aged * (1 + random.normal(0, 0.0015))
    of = Circumstances(0.0, temperature_c + off, hours, compensation=kind)
    value, u = _read("conductivity", fit, signal, Water(compensation=kind), of, 0.5)
    return value - truth, u


def oxygen_case(random: Random, temperature_c: float, percent: float, hours: float) -> Case:
    """One oxygen concentration in fresh water, by a probe set in saturated air."""
    off, air_c = random.normal(0, 0.1), random.uniform(16, 22)
    gain, zero = random.normal(100, 4), random.uniform(-1.1, 1.1)
    air_hpa = 1013.25 * (1 + random.normal(0, 0.001))
    full = float(oxygen.saturation_mg_l(air_c, 0.0, air_hpa)) / float(oxygen.saturation_mg_l(air_c))
    in_air = zero + gain * full * (1 + random.normal(0, 0.0015))
    should = float(oxygen.saturation_mg_l(air_c + off))
    own_gain = 100 * (in_air / 100) * float(oxygen.saturation_mg_l(air_c + off)) / should
    fit = OxygenFit(own_gain, 0.0, "air", (OxygenPoint(in_air, air_c + off, should),))
    membrane = 1 + random.normal(0, 0.001) * (temperature_c - air_c)
    aged = 1 + random.normal(0, 0.007 * math.sqrt(hours / 24))
    truth = percent / 100 * float(oxygen.saturation_mg_l(temperature_c))
    signal = (zero + gain * percent / 100 * membrane * aged) * (1 + random.normal(0, 0.0015))
    value, u = _read("oxygen", fit, signal, Water(), Circumstances(0.0, temperature_c + off, hours), 1.0)
    return value - truth, u


def nitrate_case(random: Random, temperature_c: float, hours: float) -> Case:
    """One nitrate concentration, by a pair of standards at room temperature."""
    off, e0 = random.normal(0, 0.1), random.normal(200, 20)
    efficiency, own = random.normal(0.95, 0.02), random.normal(0, 0.25)

    def shown(c: float, t: float) -> float:
        return float(e0 - efficiency * nernst_slope_mv(t) * math.log10(c) + own * (t - 20) + random.normal(0, 0.3))

    t = random.uniform(19, 21)
    pair = [ions.IonPoint(shown(c * (1 + random.normal(0, 0.005)), t), t + off, c) for c in (1.0, 10.0)]
    made = ions.fit(pair, ion="nitrate")
    fit = IonFit(made, 57.0, "pair")
    truth = float(np.exp(random.uniform(math.log(0.8), math.log(12))))
    signal = shown(truth, temperature_c) + random.normal(0, 0.3 * math.sqrt(hours))
    value, u = _read("nitrate", fit, signal, Water(), Circumstances(0.0, temperature_c + off, hours), 0.5)
    return value - truth, u


def redox_case(random: Random, hours: float, *, adjusted: bool) -> Case:
    """One ORP, by a probe whose offset was adjusted, or only checked within 15 mV and left."""
    own = random.normal(0, 6)
    found = own + random.normal(0, 2.5) + random.normal(0, 0.5)
    fit = OffsetFit(-found if adjusted else 0.0, found, "offset" if adjusted else "check")
    truth = random.uniform(100, 700)
    signal = truth + own + random.normal(0, 3) + random.normal(0, 0.3)
    value, u = _read("redox", fit, signal, Water(), Circumstances(0.0, 15.0, hours), 2.5)
    return value - truth, u


def chlorine_case(random: Random, hours: float, *, adjusted: bool) -> Case:
    """One free chlorine, by a tip adjusted to a second method, or only compared with it."""
    gain, there = random.normal(1, 0.06), random.uniform(1.0, 2.5)
    second = there + random.normal(0, 0.05)
    shown = there * gain + random.normal(0, 0.02)
    fit = ChlorineFit(second / shown, 0.0, "gain") if adjusted else ChlorineFit(1.0, shown - second, "check")
    truth = random.uniform(0.8, 2.5)
    signal = truth * gain * (1 + random.normal(0, 0.03 * math.sqrt(hours / 24))) + random.normal(0, 0.02)
    value, u = _read("chlorine", fit, signal, Water(), Circumstances(0.0, 28.0, hours), 0.05)
    return value - truth, u


def temperature_case(random: Random, *, corrected: bool) -> Case:
    """One temperature, by a thermometer checked at two points within 0.2 °C, or corrected by them."""
    off, bend = random.normal(0, 0.08), random.normal(0, 0.05)

    def shown(t: float) -> float:
        return float(t + off + bend * (t - 10) / 10 + random.normal(0, 0.01))

    points = tuple(ReferencePoint(shown(t), t + random.normal(0, 0.05), 0.1, "a reference") for t in (0.0, 20.0))
    fit = ThermometerFit(points, "corrected" if corrected else "check")
    truth = random.uniform(2, 22)
    value, u = _read("temperature", fit, shown(truth), Water(), Circumstances(0.0, truth), 0.05)
    return value - truth, u


#: How an error may come about between two checks: its share at a share of the time.
DRIFTS: dict[str, Callable[[float, float], float]] = {
    "linear": lambda share, _: share,
    "at once, some time": lambda share, when: float(share > when),
    "fast, then slower": lambda share, _: math.sqrt(share),
    "late": lambda share, _: share**4,
}


def decided_case(random: Random, quantity: str, way: str, *, held: bool) -> Case:
    """A reading after the decision about its span: bracketed where the check held, else corrected."""
    criteria = load_checks().closing[quantity].criteria()
    at = {"ph": 8.0, "oxygen": 8.0, "conductivity": 800.0}[quantity]
    limit = max(criteria.holds, at * criteria.holds_percent / 100)
    error = limit * (random.uniform(-1, 1) if held else random.uniform(1.05, 2.5) * random.choice([-1, 1]))
    share = random.uniform(0, 1)
    own = {"ph": 0.05, "oxygen": 0.15, "conductivity": 10.0}[quantity]  # U of the reading itself
    came = error * DRIFTS[way](share, random.uniform(0, 1))
    shown = at * (1 + came / at) if criteria.gain else at + came
    shown += random.normal(0, own / 2)
    check = drift.check_at([drift.StandardCheck(1.0, at + error, at)], shown, gain=criteria.gain)
    value = shown if held else drift.effect(criteria, shown, share, check, 0.0).after
    u = drift.doubted_u(own, check.error, share, corrected=not held)
    assert u is not None
    return value - at, u


#: Name of the row, and one case of it.
ROWS: dict[str, Callable[[Random], Case]] = {
    "pH at 20 °C, two points": lambda r: ph_case(r, 20, 600, 4),
    "pH at 5 °C, two points": lambda r: ph_case(r, 5, 600, 8),
    "pH at 30 °C, three points": lambda r: ph_case(r, 30, 900, 20, 3),
    "pH in water of 30 µS/cm": lambda r: ph_case(r, 12, 30, 4),
    "pH at 18 °C, one point": lambda r: ph_case(r, 18, 600, 4, 1),
    "conductivity at 4 °C": lambda r: conductivity_case(r, 4, 8),
    "conductivity at 4 °C, linear": lambda r: conductivity_case(r, 4, 8, "linear"),
    "conductivity at 24 °C": lambda r: conductivity_case(r, 24, 8),
    "oxygen near saturation, 8 °C": lambda r: oxygen_case(r, 8, 95, 6),
    "oxygen, 15 % at 18 °C": lambda r: oxygen_case(r, 18, 15, 6),
    "nitrate at 20 °C": lambda r: nitrate_case(r, 20, 3),
    "nitrate at 8 °C": lambda r: nitrate_case(r, 8, 3),
    "ORP, offset adjusted": lambda r: redox_case(r, 20, adjusted=True),
    "ORP, only checked": lambda r: redox_case(r, 20, adjusted=False),
    "chlorine, adjusted": lambda r: chlorine_case(r, 8, adjusted=True),
    "chlorine, only compared": lambda r: chlorine_case(r, 8, adjusted=False),
    "temperature, checked": lambda r: temperature_case(r, corrected=False),
    "temperature, corrected": lambda r: temperature_case(r, corrected=True),
    **{
        f"{quantity} {'bracketed' if held else 'corrected'}, drift {way}": (
            lambda r, quantity=quantity, way=way, held=held: decided_case(r, quantity, way, held=held)
        )
        for quantity in ("ph", "oxygen", "conductivity")
        for held in (True, False)
        for way in DRIFTS
    },
    # Nobody knows which of them it was: the one U there is has to serve all four.
    **{
        f"{quantity} {'bracketed' if held else 'corrected'}, any of the four": (
            lambda r, quantity=quantity, held=held: decided_case(r, quantity, str(r.choice(list(DRIFTS))), held=held)
        )
        for quantity in ("ph", "oxygen", "conductivity")
        for held in (True, False)
    },
}


@dataclass(frozen=True)
class Covered:
    """Coverage [%], and the middle U against the error that 95 % stay under."""

    coverage: float
    width: float


def row(name: str, count: int, seed: int = 7) -> Covered:
    """One row of the table."""
    random = np.random.default_rng(seed)
    cases = np.array([ROWS[name](random) for _ in range(count)])
    error, u = np.abs(cases[:, 0]), cases[:, 1]
    return Covered(float(100 * np.mean(error <= u)), float(np.median(u) / np.percentile(error, 95)))
