"""Dissolved oxygen: what air-saturated water holds, and what a reading means.

Benson and Krause 1984 as the U.S. Geological Survey uses it [BK84], with salinity term and pressure function; Garcia and
Gordon 1992 [GG92] as the alternative.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door, Floats, plain, shape_of
from brumel.core.constants.defined import STANDARD_PRESSURE_HPA, ZERO_CELSIUS_K
from brumel.core.errors import OutOfRange
from brumel.core.sentence import Amount, say
from brumel.core.working import Ladder, StepResult, Worked

T_RANGE = (0.0, 40.0)
S_RANGE = (0.0, 42.0)
P_RANGE = (500.0, 1100.0)
ALTITUDE_RANGE = (-430.0, 9000.0)
Array = NDArray[np.float64]


def _enter(temperature_c: Any, salinity: Any, pressure_hpa: Any) -> tuple[Array, Array, Array]:
    door = Door()
    t = door.floats("temperature_c", temperature_c, *T_RANGE, "The formula is fitted there.")
    s = door.floats("salinity", salinity, *S_RANGE)
    p = door.floats("pressure_hpa", pressure_hpa, *P_RANGE, "Station pressure is meant, in hPa.")
    door.same_length(temperature_c=t, salinity=s, pressure_hpa=p)
    door.close()
    return t, s, p


def _shapes(temperature_c: Any, salinity: Any, pressure_hpa: Any) -> dict[str, Array]:
    """The other inputs as arrays, for comparing lengths only; their values are checked by `saturation_mg_l`."""
    given = {"temperature_c": temperature_c, "salinity": salinity, "pressure_hpa": pressure_hpa}
    return {name: shape_of(value) for name, value in given.items()}


def saturation_mg_l(
    temperature_c: Floats, salinity: Floats = 0.0, pressure_hpa: Floats = STANDARD_PRESSURE_HPA
) -> Floats:
    """What water in balance with water-saturated air holds; Benson and Krause 1984.

    Parameters
    ----------
    temperature_c : scalar or array, 0 to 40 [°C]
    salinity : practical salinity, 0 to 42 (fitted to 40)
    pressure_hpa : station pressure, 500 to 1100 [hPa]

    Returns mg/L, shapes broadcast. Raises NotANumber, OutOfRange, WrongShape, all at once.
    Source: BK84, eq. 22 and 24 in the mass-per-volume form of the U.S. Geological Survey.
    """
    t, s, p = _enter(temperature_c, salinity, pressure_hpa)
    return plain(_bk84(t, s) * _pressure_factor(t, p))


def _bk84(t: Array, s: Array) -> Array:
    x = 1.0 / (t + ZERO_CELSIUS_K)
    # ln DO = -139.34411 + 1.575701e5/T - 6.642308e7/T2 + 1.243800e10/T3 - 8.621949e11/T4, by Horner's rule
    exponent = (((-8.621949e11 * x + 1.243800e10) * x - 6.642308e7) * x + 1.575701e5) * x - 139.34411
    if np.any(s):
        # ln Fs = -S (0.017674 - 10.754/T + 2140.7/T2)
        exponent = exponent - s * ((2140.7 * x - 10.754) * x + 0.017674)
    return np.asarray(np.exp(exponent))


def _pressure_factor(t: Array, p_hpa: Array) -> Array:
    """Share of the saturation at one atmosphere: (P - Pwv)(1 - theta P) / ((1 - Pwv)(1 - theta)) [BK84, eq. 24]."""
    if p_hpa.ndim == 0 and float(p_hpa) == STANDARD_PRESSURE_HPA:
        return np.array(1.0)
    p = p_hpa / STANDARD_PRESSURE_HPA
    vapour = vapour_pressure_atm(t)
    theta = (6.436e-8 * t - 1.426e-5) * t + 0.000975
    return np.asarray((p - vapour) * (1 - theta * p) / ((1 - vapour) * (1 - theta)))


def vapour_pressure_atm(temperature_c: Any) -> Array:
    """Vapour pressure of water as BK84 takes it, eq. 23 [°C] -> [atm]. Inside the checked functions only."""
    x = 1.0 / (np.asarray(temperature_c, dtype=np.float64) + ZERO_CELSIUS_K)
    return np.asarray(np.exp((-216961.0 * x - 3840.70) * x + 11.8571))


_GG = (2.00907, 3.22014, 4.05010, 4.94457, -0.256847, 3.88767)
_GG_B = (-6.24523e-3, -7.37614e-3, -1.03410e-2, -8.17083e-3)
_GG_C = -4.88682e-7
_MG_PER_ML = 1.42905


def saturation_mg_l_gg92(temperature_c: Floats, salinity: Floats = 0.0) -> Floats:
    """The alternative at 1013.25 hPa: Garcia and Gordon 1992, eq. 8, Benson and Krause coefficients [°C] -> [mg/L]."""
    t, s, _ = _enter(temperature_c, salinity, STANDARD_PRESSURE_HPA)
    ts = np.log((298.15 - t) / (ZERO_CELSIUS_K + t))
    log_c = np.polynomial.polynomial.polyval(ts, _GG)
    log_c = log_c + s * np.polynomial.polynomial.polyval(ts, _GG_B) + _GG_C * s * s
    return plain(np.asarray(np.exp(log_c) * _MG_PER_ML))


def station_pressure_hpa(altitude_m: Floats) -> Floats:
    """Pressure of the standard atmosphere at an altitude, -430 to 9000 m [m] -> [hPa]. Source: ISA."""
    door = Door()
    h = door.floats("altitude_m", altitude_m, *ALTITUDE_RANGE)
    door.close()
    return plain(np.asarray(STANDARD_PRESSURE_HPA * (1 - 2.25577e-5 * h) ** 5.25588))


def station_from_sea_level_hpa(sea_level_hpa: Floats, altitude_m: Floats) -> Floats:
    """Station pressure from a weather report's pressure, which is reduced to sea level [hPa, m] -> [hPa]. Source: ISA."""
    door = Door()
    p = door.floats("sea_level_hpa", sea_level_hpa, 870, 1090)
    h = door.floats("altitude_m", altitude_m, *ALTITUDE_RANGE)
    door.same_length(sea_level_hpa=p, altitude_m=h)
    door.close()
    return plain(np.asarray(p * (1 - 2.25577e-5 * h) ** 5.25588))


def looks_like_sea_level(pressure_hpa: float, altitude_m: float, *, within_hpa: float = 40.0) -> str:
    """A sentence when a pressure given for a site looks reduced to sea level, empty otherwise [hPa, m].

    Weather moves station pressure by up to about 40 hPa (common practice, no source).
    """
    door = Door()
    p = door.number("pressure_hpa", pressure_hpa, *P_RANGE)
    door.number("altitude_m", altitude_m, *ALTITUDE_RANGE)
    door.close()
    usual = float(station_pressure_hpa(altitude_m))
    if p - usual > within_hpa and abs(p - STANDARD_PRESSURE_HPA) < abs(p - usual):
        return say(
            "{p} looks like a weather report's pressure, reduced to sea level; at {altitude} about {usual} "
            "is usual. Enter the station pressure.",
            p=Amount(p, "hPa", ".0f"),
            altitude=Amount(altitude_m, "m", ".0f"),
            usual=Amount(usual, "hPa", ".0f"),
        )
    return ""


def may_be_sea_level(pressure_hpa: float, altitude_m: float) -> str:
    """A question where a station pressure is as high as a weather report's, above 100 m; empty otherwise [hPa, m].

    Asked where the two differ by over 1.5 %, which is about what oxygen is known to, and the typed one lies nearer to the
    report's. Weather alone moves a station's pressure by some 10 hPa (SD): common practice, no source.
    """
    door = Door()
    p = door.number("pressure_hpa", pressure_hpa, *P_RANGE)
    h = door.number("altitude_m", altitude_m, *ALTITUDE_RANGE)
    door.close()
    usual = float(station_pressure_hpa(altitude_m))
    if h <= 100 or p - usual < 0.015 * usual or abs(p - STANDARD_PRESSURE_HPA) > p - usual:
        return ""
    return say(
        "{p} is high for {altitude}, where about {usual} is usual. Is it a weather report's, reduced to sea level?",
        p=Amount(p, "hPa", ".0f"),
        altitude=Amount(altitude_m, "m", ".0f"),
        usual=Amount(usual, "hPa", ".0f"),
    )


def percent_saturation(
    oxygen_mg_l: Floats,
    temperature_c: Floats,
    salinity: Floats = 0.0,
    pressure_hpa: Floats = STANDARD_PRESSURE_HPA,
    *,
    relative_to: str = "local",
) -> Floats:
    """Percent of saturation [mg/L, °C, hPa] -> [%].

    relative_to : "local" counts against the saturation at the station's pressure, "standard" against 1013.25 hPa.
    Both are in use: label which.
    """
    door = Door()
    c = door.floats("oxygen_mg_l", oxygen_mg_l, 0, 100)
    door.same_length(oxygen_mg_l=c, **_shapes(temperature_c, salinity, pressure_hpa))
    door.name("relative_to", relative_to, ("local", "standard"))
    door.close()
    full = saturation_mg_l(temperature_c, salinity, pressure_hpa if relative_to == "local" else STANDARD_PRESSURE_HPA)
    return plain(np.asarray(100.0 * c / full))


def recompute_mg_l(
    oxygen_mg_l: Floats,
    temperature_c: Floats,
    *,
    salinity: Floats,
    pressure_hpa: Floats,
    preset_salinity: float = 0.0,
    preset_pressure_hpa: float = STANDARD_PRESSURE_HPA,
) -> Floats:
    """What a meter's mg/L would be with the real salinity and pressure in place of its preset ones.

    c · sat(T, S, P) / sat(T, S0, P0): the sensor's partial pressure stays, the solubility is put right [mg/L].
    """
    door = Door()
    c = door.floats("oxygen_mg_l", oxygen_mg_l, 0, 100)
    door.same_length(oxygen_mg_l=c, **_shapes(temperature_c, salinity, pressure_hpa))
    door.close()
    real = saturation_mg_l(temperature_c, salinity, pressure_hpa)
    preset = saturation_mg_l(temperature_c, preset_salinity, preset_pressure_hpa)
    return plain(np.asarray(c * real / preset))


@dataclass(frozen=True)
class Target:
    """What an oxygen probe should read: mg/L to 0.01, percent against local and against standard pressure."""

    oxygen_mg_l: float
    percent_local: float
    percent_standard: float
    pressure_hpa: float
    worked: Worked


def target(
    temperature_c: float, salinity: float = 0.0, pressure_hpa: float = STANDARD_PRESSURE_HPA, share: float = 1.0
) -> Target:
    """What should be read in air-saturated water, or in water-saturated air, here and now, with its working.

    share : 1 for saturated, 0 for zero solution. Source: BK84.
    """
    if not 0 <= share <= 1:
        raise OutOfRange("share", share, 0, 1)
    full = float(saturation_mg_l(temperature_c, salinity, pressure_hpa))
    t, s, p = (np.asarray(v, dtype=float) for v in (temperature_c, salinity, pressure_hpa))
    fresh, salted = float(_bk84(t, np.array(0.0))), float(_bk84(t, s))
    factor = float(_pressure_factor(t, p))
    ladder = Ladder("Oxygen that should be here")
    ladder.step(
        "C0",
        "saturation in fresh water at 1013.25 hPa",
        "ln C0 = −139.34411 + 1.575701·10⁵/T − 6.642308·10⁷/T² + 1.2438·10¹⁰/T³ − 8.621949·10¹¹/T⁴",
        StepResult(fresh, "mg/L"),
        "BK84",
        ("T", "temperature", temperature_c, "°C"),
    )
    ladder.step(
        "Fs",
        "share left by salt",
        "ln Fs = −S·(0.017674 − 10.754/T + 2140.7/T²)",
        StepResult(salted / fresh, "", digits=4),
        "BK84",
        ("S", "salinity", salinity, ""),
    )
    ladder.step(
        "Fp",
        "share of the pressure",
        "Fp = (P − u)(1 − θP) / ((1 − u)(1 − θ))",
        StepResult(factor, "", digits=4),
        "BK84",
        ("P", "station pressure", pressure_hpa, "hPa"),
    )
    ladder.step("C", "oxygen at saturation here", "C = C0 · Fs · Fp", StepResult(full, "mg/L", digits=2), "BK84")
    if share != 1:
        ladder.step(
            "C·x",
            "target",
            "share of saturation",
            StepResult(share * full, "mg/L", digits=2),
            "",
            ("x", "share", share, ""),
        )
    return Target(
        round(share * full, 2),
        100 * share,
        100 * share * full / salted,
        pressure_hpa,
        Worked(share * full, "mg/L", ladder.done()),
    )
