"""The air's pressure where one stands, however it is known; on Bench and at a site alike."""

from __future__ import annotations

from brumel.core.errors import InputError
from brumel.core.oxygen import looks_like_sea_level, station_from_sea_level_hpa

#: How a pressure that was read somewhere may be known.
READ_AS = {"station": "station pressure, as measured", "report": "from a weather report"}


def station_pressure(read_as: str, pressure_hpa: float, altitude_m: float | None) -> float:
    """The station's pressure [hPa, m] -> [hPa]; a weather report's is brought up from sea level.

    Raises InputError where one that is said to be the station's looks reduced to sea level.
    """
    if read_as == "report":
        return float(station_from_sea_level_hpa(pressure_hpa, altitude_m or 0.0))
    if altitude_m is not None and (odd := looks_like_sea_level(pressure_hpa, altitude_m)):
        raise InputError("pressure_hpa", odd, value=pressure_hpa)
    return pressure_hpa
