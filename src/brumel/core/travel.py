"""How long a day out takes: minutes at the sites, the ways between them by distance and speed, the way there and home."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from brumel.core.checking import Door
from brumel.core.geodesy import distance_m
from brumel.core.sentence import Amount, say

#: How much longer a way is than the straight line. Common practice, no source.
ROAD = 1.3

#: Minutes of a way whose ends are not both known. Common practice, no source.
UNKNOWN_WAY_MIN = 10.0

#: Two sites nearer than this are walked between within the time at the site [m].
BESIDE_M = 150.0


@dataclass(frozen=True)
class Pace:
    """How a round is gone: minutes at a site, km/h between sites, minutes to the first and home from the last together.

    between_min : all ways between the sites, where somebody knows better than distance and speed
    """

    site_min: float = 20.0
    speed_kmh: float = 40.0
    way_min: float = 20.0
    between_min: float | None = None


#: What each part of a pace may be.
BOUNDS = {"site_min": (1.0, 480.0), "speed_kmh": (1.0, 130.0), "way_min": (0.0, 900.0), "between_min": (0.0, 900.0)}


@dataclass(frozen=True)
class DayOut:
    """How long it takes [min], and how that comes about."""

    minutes: float
    words: str


def checked(pace: Pace) -> Pace:
    """The same with every fault at once. Raises InputError."""
    door = Door()
    for name, (low, high) in BOUNDS.items():
        value = getattr(pace, name)
        if value is not None or name != "between_min":
            door.number(name, value, low, high)
    door.close()
    return pace


def day_out(places: Sequence[tuple[float, float] | None], pace: Pace) -> DayOut:
    """How long a round of these places takes (latitude, longitude in degrees; None where it is not known)."""
    ways = list(zip(places, places[1:], strict=False))
    known = [distance_m(a, b) for a, b in ways if a is not None and b is not None]
    km = ROAD * sum(d for d in known if d > BESIDE_M) / 1000
    between = 60 * km / pace.speed_kmh + UNKNOWN_WAY_MIN * (len(ways) - len(known))
    if pace.between_min is not None:
        between, how = pace.between_min, say("{between} between them", between=Amount(pace.between_min, "min", ".0f"))
    else:
        how = say(
            "{km} between them at {speed}", km=Amount(km, "km", ".0f"), speed=Amount(pace.speed_kmh, "km/h", ".0f")
        )
        if len(ways) > len(known):
            unknown = Amount(UNKNOWN_WAY_MIN, "min", ".0f")
            how = say("{how}, {unknown} for each way that is not known", how=how, unknown=unknown)
    minutes = pace.way_min + pace.site_min * len(places) + between
    words = say(
        "{count} at {site}, {how}, {way} there and home",
        count=f"{len(places)} {'site' if len(places) == 1 else 'sites'}",
        site=Amount(pace.site_min, "min", ".0f"),
        how=how,
        way=Amount(pace.way_min, "min", ".0f"),
    )
    return DayOut(minutes, words)
