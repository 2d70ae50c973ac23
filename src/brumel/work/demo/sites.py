"""The waters of the demo practice: three clients, ten sites, two rounds, and what the waters truly are."""

from __future__ import annotations

import math
import uuid
from datetime import date, datetime
from typing import Any

from sqlalchemy.orm import Session

from brumel.store.rounds import Round, RoundStop
from brumel.store.tables import Client, Site
from brumel.work import simulator

ZONE = "Europe/Oslo"


LOCAL = "starting point, common practice, no source; local codes rule"


FISH = {
    "oxygen": {"low": 7.0, "high": None, "source": LOCAL},
    "temperature": {"low": None, "high": 16.0, "source": LOCAL},
    "ph": {"low": 6.2, "high": 8.5, "source": LOCAL},
    "ammonia": {"low": None, "high": 0.02, "source": LOCAL},
}


POOL = {
    "ph": {"low": 7.2, "high": 7.6, "source": LOCAL},
    "chlorine": {"low": 1.0, "high": 3.0, "source": LOCAL},
    "combined_chlorine": {"low": None, "high": 0.4, "source": LOCAL},
}


NATURE = {"oxygen": {"low": 5.0, "high": None, "source": LOCAL}, "ph": {"low": 6.5, "high": 9.0, "source": LOCAL}}


#: client, name, kind, use, altitude, latitude, longitude, depths, limits, water, note
_FRESH = {"compensation": "natural", "tds_factor": 0.65}


_SALT = {"compensation": "sea", "usual_salinity": 9.0}


_POOL = {"compensation": "linear", "coefficient_percent": 2.0, "tds_factor": 0.5, "usual_salinity": 0.8}


PLACES: dict[str, tuple[Any, ...]] = {
    "raceway": (
        "Skarn Char Farm",
        "Raceway 3, inflow",
        "raceway",
        "char",
        612.0,
        61.4120,
        8.7310,
        [],
        FISH,
        _FRESH,
        "Mountain stream water; step over the pipe, wear the life jacket.",
    ),
    "raceway_out": (
        "Skarn Char Farm",
        "Raceway 3, outflow",
        "raceway",
        "char",
        610.0,
        61.4114,
        8.7324,
        [],
        FISH,
        {**_FRESH, "alkalinity_mg_l": 38.0},
        "Below the screens; the grating is slippery.",
    ),
    "hatchery": (
        "Skarn Char Farm",
        "Hatchery trough 1",
        "hatchery",
        "char fry",
        611.0,
        61.4117,
        8.7302,
        [],
        {**FISH, "temperature": {"low": None, "high": 10.0, "source": LOCAL}},
        _FRESH,
        "Quiet feet; fry at the surface.",
    ),
    "stream": (
        "Skarn Char Farm",
        "Stream below the farm",
        "stream",
        "discharge",
        596.0,
        61.4089,
        8.7371,
        [],
        NATURE,
        _FRESH,
        "Fast after rain; not alone.",
    ),
    "lagoon": (
        "Veldmere Lagoon Trust",
        "Creek mouth, north bank",
        "lagoon",
        "restoration",
        2.0,
        58.3312,
        8.9120,
        [],
        NATURE,
        _SALT,
        "Brackish; soft mud below half tide. Not alone.",
    ),
    "basin": (
        "Veldmere Lagoon Trust",
        "Basin, middle",
        "lagoon",
        "restoration",
        1.0,
        58.3326,
        8.9161,
        [0.3, 1.0, 2.0],
        NATURE,
        _SALT,
        "By boat, life jacket on; three depths.",
    ),
    "reed": (
        "Veldmere Lagoon Trust",
        "Reed channel",
        "lagoon",
        "restoration",
        1.0,
        58.3341,
        8.9137,
        [],
        NATURE,
        _SALT,
        "Reach with the pole; do not wade.",
    ),
    "lido": (
        "Oldgate Lido",
        "Warm pool, deep end",
        "pool",
        "bathing",
        88.0,
        61.3111,
        8.6020,
        [],
        POOL,
        _POOL,
        "Pool limits are set by local codes; report to the duty manager.",
    ),
    "lido_shallow": (
        "Oldgate Lido",
        "Warm pool, shallow end",
        "pool",
        "bathing",
        88.0,
        61.3113,
        8.6023,
        [],
        POOL,
        _POOL,
        "Pool limits are set by local codes; report to the duty manager.",
    ),
    "plunge": (
        "Oldgate Lido",
        "Plunge pool",
        "pool",
        "bathing",
        88.0,
        61.3109,
        8.6026,
        [],
        POOL,
        _POOL,
        "Keep mains equipment away from the edge.",
    ),
}


#: usual and gross ranges by kind
RANGES: dict[str, dict[str, tuple[float, float, float, float]]] = {
    "farm": {
        "ph": (6.8, 7.6, 5.5, 9.0),
        "temperature": (2, 13, 0, 25),
        "conductivity": (40, 160, 5, 3000),
        "oxygen": (8, 14, 0, 20),
        "redox": (150, 400, -300, 800),
        "nitrate": (0.2, 4, 0, 50),
        "ammonium": (0.02, 0.8, 0, 20),
    },
    "lagoon": {
        "ph": (7.6, 8.6, 6.5, 9.8),
        "temperature": (2, 24, -1, 32),
        "conductivity": (4000, 32000, 50, 60000),
        "oxygen": (5, 14, 0, 20),
        "redox": (100, 400, -400, 800),
    },
    "pool": {
        "ph": (7.2, 7.6, 6.5, 8.5),
        "temperature": (27, 32, 15, 40),
        "conductivity": (900, 2600, 50, 60000),
        "chlorine": (0.8, 3, 0, 10),
        "redox": (600, 800, 0, 1000),
    },
}


#: ph, its swing; °C, its swing; EC25, its swing; % oxygen, its swing; mV; nitrate; ammonium; free chlorine
TRUE: dict[str, tuple[float, ...]] = {
    "raceway": (7.18, 0.12, 7.0, 4.5, 92, 12, 99, 2, 240, 1.4, 0.08, 0),
    "raceway_out": (7.02, 0.10, 7.2, 4.6, 98, 12, 84, 4, 225, 1.7, 0.42, 0),
    "hatchery": (7.10, 0.08, 6.4, 2.0, 95, 8, 96, 2, 245, 1.5, 0.12, 0),
    "stream": (7.12, 0.14, 7.1, 4.8, 88, 14, 96, 3, 235, 1.3, 0.11, 0),
    "lagoon": (8.05, 0.25, 12.0, 8.0, 15500, 5200, 97, 12, 210, 0.5, 0.1, 0),
    "basin": (8.10, 0.25, 11.5, 7.8, 17400, 4200, 93, 12, 205, 0.4, 0.1, 0),
    "reed": (7.92, 0.20, 11.8, 7.9, 12100, 5000, 82, 14, 190, 0.6, 0.2, 0),
    "lido": (7.38, 0.02, 29.3, 0.3, 1650, 40, 92, 2, 712, 3, 0.1, 1.55),
    "lido_shallow": (7.41, 0.02, 29.5, 0.3, 1660, 40, 91, 2, 705, 3, 0.1, 1.42),
    "plunge": (7.33, 0.03, 27.9, 0.4, 1490, 40, 93, 2, 718, 2, 0.1, 1.71),
}


def group(kind: str) -> str:
    """Which ranges a kind of site starts with."""
    return {"lagoon": "lagoon", "pool": "pool", "spa": "pool"}.get(kind, "farm")


def make(session: Session) -> dict[str, Site]:
    """The clients and their sites, by short name."""
    clients: dict[str, Client] = {}
    sites = {}
    for key, (owner, name, kind, use, altitude, north, east, depths, limits, water, note) in PLACES.items():
        if owner not in clients:
            clients[owner] = Client(id=uuid.uuid4(), name=owner, note="")
            session.add(clients[owner])
        ranges = {q: {"usual": [a, b], "gross": [c, d]} for q, (a, b, c, d) in RANGES[group(kind)].items()}
        sites[key] = Site(
            id=uuid.uuid4(),
            client_id=clients[owner].id,
            owner=clients[owner],
            name=name,
            kind=kind,
            use=use,
            zone=ZONE,
            altitude_m=altitude,
            latitude=north,
            longitude=east,
            depths=depths,
            ranges=ranges,
            limits=limits,
            water=water,
            terms_version=1,
            note=note,
        )
    session.add_all(sites.values())
    return sites


def rounds(sites: dict[str, Site], starts: date) -> list[Round]:
    """The farm and the lido on Tuesdays, the lagoon every other Thursday."""
    saved_rounds = []
    for name, rule, leave, keys in (
        (
            "Farm and lido",
            "FREQ=WEEKLY;BYDAY=TU",
            "08:15",
            ("raceway", "raceway_out", "hatchery", "stream", "lido", "lido_shallow", "plunge"),
        ),
        ("Lagoon", "FREQ=WEEKLY;INTERVAL=2;BYDAY=TH", "07:30", ("lagoon", "reed", "basin")),
    ):
        one = Round(id=uuid.uuid4(), name=name, rule=rule, starts=starts, leave_at=leave, zone=ZONE, note="")
        one.stops = [RoundStop(place=i, site_id=sites[k].id) for i, k in enumerate(keys)]
        saved_rounds.append(one)
    return saved_rounds


def _layers(key: str, season: float) -> dict[str, float]:
    """What changes with each metre down: salt water lies under fresh, and in summer it is cold and breathes little."""
    if key != "basin":
        return {}
    warm = max(season + 0.4, 0.0)
    return {"temperature_c": -0.9 * warm, "conductivity_25_us_cm": 1900.0, "oxygen_percent": -4 - 7 * warm, "ph": -0.03}


def waters(session: Session, sites: dict[str, Site], when: datetime) -> None:
    """What the waters truly are at a time: a season and a little life of their own."""
    day = when.timetuple().tm_yday
    season = math.cos(2 * math.pi * (day - 205) / 365)  # +1 in late July
    week = when.timestamp() / (7 * 86400)
    for key, (ph, swing, t, dt, ec, dec, sat, dsat, mv, no3, nh4, free) in TRUE.items():
        wiggle = math.sin(week * 2.399 + len(key))
        other = math.cos(week * 1.7 + 2 * len(key))
        simulator.set_truth(
            session,
            f"site:{sites[key].id}",
            {
                "ph": round(ph + swing * season + 0.06 * wiggle * min(1, 8 * swing), 3),
                "temperature_c": round(t + dt * season + min(0.7, dt) * wiggle, 2),
                "conductivity_25_us_cm": round(ec + dec * (0.6 * season + 0.4 * other), 1),
                "oxygen_percent": round(sat + dsat * (0.5 * season + 0.5 * wiggle), 2),
                "redox_mv": round(mv + 8 * other, 1),
                "nitrate_mg_l": round(no3 * (1 + 0.12 * wiggle), 3),
                "ammonium_mg_l": round(nh4 * (1 + 0.15 * other), 4),
                "chlorine_mg_l": round(free * (1 + 0.08 * wiggle), 3),
                "layers": _layers(key, season),
            },
        )
