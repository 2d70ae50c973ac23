"""Salinity: PSS-78 with the low-salinity extension [PSS78, Hill1986], worked out by the `gsw` library."""

from __future__ import annotations

from typing import Any

import gsw
import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door, Floats, plain
from brumel.core.constants.chosen import SALINITY_HIGH
from brumel.core.constants.measured import NACL_CONDUCTANCE, NACL_G_MOL, NACL_MOLAR
from brumel.core.errors import OutOfRange
from brumel.core.working import Ladder, StepResult, Worked

T_RANGE = (-2.0, 35.0)
#: How far above the scale's range its equation is followed [°C], said where it is, and what that is worth (chosen).
WARMEST_C, BEYOND_U = 45.0, 0.1
#: Under this the fresh-water extension of the scale may have no value; where it has one, that is under 0.002 [µS/cm].
PURE_US_CM = 3.0
C_RANGE = (0.0, 120_000.0)
_NACL_MG_L = np.array(NACL_MOLAR) * NACL_G_MOL * 1000
_NACL_US_CM = np.array(NACL_MOLAR) * np.array(NACL_CONDUCTANCE) * 1000


def practical_salinity(conductivity_us_cm: Floats, temperature_c: Floats, pressure_dbar: Floats = 0.0) -> Floats:
    """Practical salinity from the conductivity at the sample's own temperature.

    Parameters
    ----------
    conductivity_us_cm : scalar or array, uncompensated [µS/cm]
    temperature_c : -2 to 35, where the scale is defined; its equation is followed to 45 [°C]
    pressure_dbar : of the sea above the cell, 0 at the surface [dbar]

    Returns PSS-78 salinity, unitless; 0 for water too pure for the scale. Raises OutOfRange beyond 42, where the scale is
    not defined; all faults of the input at once. Source: PSS78; below 2 Hill1986.
    """
    c, t, p = _enter(conductivity_us_cm, temperature_c, pressure_dbar)
    salinity = np.asarray(gsw.SP_from_C(c / 1000.0, t, p))
    # The extension for fresh water ends just above nothing; pure water has no salt the scale could tell.
    salinity = np.where(np.isnan(salinity) & (c < PURE_US_CM), 0.0, salinity)
    highest = float(np.max(salinity))
    if not highest <= SALINITY_HIGH:
        raise OutOfRange("salinity", highest, 0, SALINITY_HIGH, why="The practical salinity scale ends there.")
    return plain(salinity)


def _enter(conductivity: Any, temperature: Any, pressure: Any) -> tuple[NDArray[Any], NDArray[Any], NDArray[Any]]:
    door = Door()
    c = door.floats("conductivity_us_cm", conductivity, *C_RANGE)
    t = door.floats("temperature_c", temperature, T_RANGE[0], WARMEST_C, "The practical salinity scale ends at 35 °C.")
    p = door.floats("pressure_dbar", pressure, 0, 10_000)
    door.same_length(conductivity_us_cm=c, temperature_c=t, pressure_dbar=p)
    door.close()
    return c, t, p


def conductivity_of_us_cm(salinity: Floats, temperature_c: Floats) -> Floats:
    """Conductivity of sea water of a salinity at a temperature, at the surface; the inverse of the above [µS/cm]."""
    door = Door()
    s = door.floats("salinity", salinity, 0, SALINITY_HIGH)
    t = door.floats("temperature_c", temperature_c, T_RANGE[0], WARMEST_C)
    door.same_length(salinity=s, temperature_c=t)
    door.close()
    return plain(np.asarray(gsw.C_from_SP(s, t, 0.0)) * 1000.0)


def reference_salinity_g_kg(salinity: Floats) -> Floats:
    """Mass of salt in sea water of standard composition [g/kg]; the absolute salinity of TEOS-10 without a position."""
    door = Door()
    s = door.floats("salinity", salinity, 0, SALINITY_HIGH)
    door.close()
    return plain(np.asarray(gsw.SR_from_SP(s)))


def percent_of_sea_water(salinity: Floats) -> Floats:
    """Salinity as percent of sea water of salinity 35 [%]."""
    door = Door()
    s = door.floats("salinity", salinity, 0, SALINITY_HIGH)
    door.close()
    return plain(np.asarray(s / 35.0 * 100.0))


def nacl_mg_l(conductivity_25_us_cm: Floats) -> Floats:
    """Sodium chloride that would conduct as much at 25 °C, 62 to 85 760 µS/cm [µS/cm at 25 °C] -> [mg/L].

    Interpolated between logarithms of the handbook's equivalent conductances, from memory.
    """
    door = Door()
    low, high = float(_NACL_US_CM[0]), float(_NACL_US_CM[-1])
    c = door.floats("conductivity_25_us_cm", conductivity_25_us_cm, low, high)
    door.close()
    return plain(np.exp(np.interp(np.log(c), np.log(_NACL_US_CM), np.log(_NACL_MG_L))))


def explain(conductivity_us_cm: float, temperature_c: float) -> Worked:
    """Practical salinity with its working [µS/cm, °C]."""
    value = float(practical_salinity(conductivity_us_cm, temperature_c))
    at_35 = float(gsw.C_from_SP(35.0, temperature_c, 0.0)) * 1000
    ladder = Ladder("Practical salinity")
    ladder.step(
        "κ",
        "conductivity at the sample's temperature",
        "as read",
        StepResult(conductivity_us_cm, "µS/cm", digits=0),
        "reading",
    )
    ladder.step(
        "Rt",
        "ratio to sea water of salinity 35 at that temperature",
        "Rt = κ / κ(35, T)",
        StepResult(conductivity_us_cm / at_35, "", digits=5),
        "PSS78",
        ("κ35", "sea water of 35 there", at_35, "µS/cm"),
        ("T", "temperature", temperature_c, "°C"),
    )
    key = "PSS78" if value >= 2 else "Hill1986"
    ladder.step(
        "S",
        "practical salinity",
        "S = Σ aᵢ·Rt^(i/2) + ΔS(T)"
        + (" + low-salinity term" if value < 2 else "")
        + (", defined to 35 °C, followed on above it" if temperature_c > T_RANGE[1] else ""),
        StepResult(value, "", digits=3),
        key,
    )
    return Worked(value, "", ladder.done())
