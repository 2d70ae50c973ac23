"""Logged oxygen brought to the salinity and pressure that were logged beside it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from brumel.core.checking import Door, Floats
from brumel.core.oxygen import saturation_mg_l


def compensated_mg_l(
    oxygen_mg_l: Floats,
    temperature_c: Floats,
    *,
    salinity: Floats | None = None,
    preset_salinity: float = 0.0,
    pressure_hpa: Floats | None = None,
    preset_pressure_hpa: float = 1013.25,
) -> NDArray[np.float64]:
    """Oxygen a logger worked out with a fixed salinity, or a fixed pressure, with those that were logged [mg/L].

    The sensor sees a partial pressure; the concentration goes as the solubility at the salinity: c·s(T, S)/s(T, S_set).
    A logger that multiplies a share of saturation by the solubility at a fixed pressure is put right by
    s(T, S, p)/s(T, S, p_set) likewise. NaN where one of them is missing. Raises OutOfRange. Source: BK84.
    """
    door = Door()
    door.number("preset_salinity", preset_salinity, 0, 45)
    door.number("preset_pressure_hpa", preset_pressure_hpa, 500, 1100)
    door.close()
    c, t = np.broadcast_arrays(np.asarray(oxygen_mg_l, dtype=np.float64), np.asarray(temperature_c, dtype=np.float64))
    s = np.broadcast_to(np.asarray(preset_salinity if salinity is None else salinity, dtype=np.float64), c.shape)
    p = np.broadcast_to(
        np.asarray(preset_pressure_hpa if pressure_hpa is None else pressure_hpa, dtype=np.float64), c.shape
    )
    out = np.full(c.shape, np.nan)
    can = np.isfinite(c) & (t >= 0) & (t <= 40) & (s >= 0) & (s <= 42) & (p >= 500) & (p <= 1100)
    if can.any():
        right = np.asarray(saturation_mg_l(t[can], s[can], p[can]))
        as_set = np.asarray(saturation_mg_l(t[can], preset_salinity, preset_pressure_hpa))
        out[can] = c[can] * right / as_set
    return out
