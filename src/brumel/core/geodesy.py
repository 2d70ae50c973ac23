"""Distances on the Earth, as a sphere of its mean radius: right to half a percent, enough to plan a way by."""

from __future__ import annotations

import math

#: Mean radius of the Earth [m]. IUGG, R1.
EARTH_M = 6_371_008.8


def distance_m(a: tuple[float, float], b: tuple[float, float]) -> float:
    """The great-circle distance between two positions (latitude, longitude in degrees), by the haversine formula [m]."""
    lat_a, lat_b = math.radians(a[0]), math.radians(b[0])
    half = math.sin((lat_b - lat_a) / 2) ** 2
    half += math.cos(lat_a) * math.cos(lat_b) * math.sin(math.radians(b[1] - a[1]) / 2) ** 2
    return 2 * EARTH_M * math.asin(math.sqrt(min(half, 1.0)))
