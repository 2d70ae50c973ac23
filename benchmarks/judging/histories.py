"""Sites of known truth: how many healthy readings are questioned after ten visits, and how many planted slips are not.

The error model, common practice where no source is named: a year's wave and a day's, each with a size of the site's own;
weather that is drawn back within days; rain that dilutes and fades within a week (streams); a tide of 12.42 h between two
waters (lagoons); a dose that lapses and a filling that is renewed (pools); the instrument's noise and display. Visits come
every day, week, fortnight or month, never quite on time and at any hour of the day. Oxygen follows the temperature [BK84].
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from brumel.core.believability import Flag
from brumel.core.conductivity import to_reference
from brumel.core.oxygen import may_be_sea_level, saturation_mg_l, station_pressure_hpa
from brumel.core.sheet import Water
from brumel.core.slips import repeats
from brumel.store.tables import Site as Place
from brumel.work.rounds.sheet.plausibility import findings, sight, slip_finding
from brumel.work.rounds.sites import Earlier, Past

Floats = NDArray[np.float64]
#: A site that nobody has said anything of: only its past speaks.
PLACE = Place(ranges={}, water={})
START = datetime(2024, 1, 1, tzinfo=UTC)
#: From how many of the site's own spreads on a slip has to be caught.
LARGE = 4.5
CADENCES = (1.0, 7.0, 14.0, 30.0)
VISITS = 60


@dataclass(frozen=True)
class Wave:
    """One quantity of a water: level, amplitudes of year and day, SD of weather, noise, display; `shares`: in log."""

    level: float
    year: float
    day: float
    weather: float
    noise: float
    display: float
    shares: bool = False


#: By water and quantity.
WATERS: dict[str, dict[str, Wave]] = {
    "pond": {
        "temperature": Wave(12, 9, 1.5, 1.2, 0.1, 0.1),
        "ph": Wave(8.2, 0.3, 0.25, 0.15, 0.03, 0.01),
        "conductivity": Wave(450, 0.08, 0, 0.05, 0.01, 1, True),
        "saturation": Wave(95, 8, 15, 8, 1, 0.1),
        "nitrate": Wave(1.0, 0.6, 0, 0.3, 0.08, 0.01, True),
        "ammonium": Wave(0.2, 0.3, 0, 0.4, 0.1, 0.01, True),
    },
    "raceway": {
        "temperature": Wave(7, 5, 0.5, 0.8, 0.1, 0.1),
        "ph": Wave(7.1, 0.05, 0.03, 0.08, 0.03, 0.01),
        "conductivity": Wave(90, 0.1, 0, 0.06, 0.01, 0.1, True),
        "saturation": Wave(92, 2, 2, 3, 1, 0.1),
        "ammonium": Wave(0.3, 0.1, 0, 0.3, 0.1, 0.01, True),
    },
    "stream": {
        "temperature": Wave(8, 6, 1.2, 1.0, 0.1, 0.1),
        "ph": Wave(7.5, 0.1, 0.05, 0.12, 0.03, 0.01),
        "conductivity": Wave(180, 0.12, 0, 0.05, 0.01, 1, True),
        "saturation": Wave(98, 2, 3, 3, 1, 0.1),
        "nitrate": Wave(2.2, 0.35, 0, 0.2, 0.08, 0.01, True),
        "redox": Wave(250, 20, 0, 35, 5, 1),
    },
    "well": {
        "temperature": Wave(9, 0.4, 0, 0.1, 0.1, 0.1),
        "ph": Wave(7.3, 0.02, 0, 0.05, 0.03, 0.01),
        "conductivity": Wave(620, 0.01, 0, 0.02, 0.01, 1, True),
        "saturation": Wave(40, 3, 0, 5, 1, 0.1),
        "nitrate": Wave(6.0, 0.1, 0, 0.08, 0.08, 0.01, True),
    },
    "lagoon": {
        "temperature": Wave(11, 9, 1.0, 1.2, 0.1, 0.1),
        "ph": Wave(8.0, 0.1, 0.1, 0.08, 0.03, 0.01),
        "conductivity": Wave(24000, 0.1, 0, 0.1, 0.01, 10, True),
        "saturation": Wave(98, 4, 10, 6, 1, 0.1),
    },
    "pool": {
        "temperature": Wave(27, 0.3, 0.3, 0.4, 0.1, 0.1),
        "ph": Wave(7.4, 0, 0, 0.12, 0.03, 0.01),
        "conductivity": Wave(1600, 0, 0, 0.04, 0.01, 1, True),
        "chlorine": Wave(1.8, 0, 0, 0.3, 0.05, 0.01, True),
        "redox": Wave(720, 0, 0, 22, 5, 1),
    },
}
#: How the hour of a visit and the weather's memory go.
_HOURS, _WEATHER_DAYS, _TIDE_H = (7.0, 17.0), 5.0, 12.42


@dataclass(frozen=True)
class Site:
    """A site's visits: days [d], oldest first, and by quantity what was read; and what changes from visit to visit (SD)."""

    water: str
    days: Floats
    values: dict[str, Floats]
    spread: dict[str, float]


def site(water: str, random: np.random.Generator) -> Site:
    """A healthy site over up to sixty visits."""
    every = float(random.choice(CADENCES))
    n = VISITS if every < 30 else 36
    days = np.floor(np.cumsum(every * random.uniform(0.8, 1.2, n)) + random.uniform(0, 365))
    days = np.sort(days + random.uniform(*_HOURS, n) / 24)
    values, spread = {}, {}
    rain = _rain(days, random) if water in ("stream", "raceway") else np.zeros(n)
    for quantity, wave in WATERS[water].items():
        size = random.uniform(0.7, 1.3)
        year = wave.year * size * np.sin(2 * math.pi * (days - 110) / 365.25)
        day = wave.day * size * np.sin(2 * math.pi * (days % 1 - 0.375))
        moves = day + size * _weather(days, wave.weather, random) + random.normal(0, wave.noise, n)
        if quantity == "conductivity":
            moves = moves - 0.35 * rain
            if water == "lagoon":
                moves = moves + 0.5 * np.sin(2 * math.pi * (days * 24 / _TIDE_H + random.random()))
            if water == "pool":
                moves = moves + 0.0015 * ((days + random.uniform(0, 90)) % 90) - 0.07
        if quantity == "chlorine":
            moves = np.where(random.random(n) < 0.03, moves - 0.9, moves)
        off = moves + year
        v = wave.level * np.exp(off) if wave.shares else wave.level + off
        v = np.maximum(v, 0.0)  # below it there is ice
        values[quantity] = np.round(v / wave.display) * wave.display
        still = v - (wave.level * np.exp(year) if wave.shares else wave.level + year)
        spread[quantity] = float(np.std(still))
    if "saturation" in values:
        salt = 15.0 if water == "lagoon" else 0.0
        full = np.asarray(saturation_mg_l(values["temperature"], salt, 1013.25))
        values["oxygen"] = np.round(values["saturation"] * full / 100, 2)
        spread["oxygen"] = float(np.std((values["saturation"] - values["saturation"].mean()) * full / 100))
        values["saturation"] = np.round(100 * values["oxygen"] / full, 1)
    return Site(water, days, values, spread)


def _weather(days: Floats, sd: float, random: np.random.Generator) -> Floats:
    """A random walk that is drawn back within days, at the moments of the visits."""
    state, found = random.normal(0, sd), []
    for gap in np.diff(days, prepend=days[0]):
        back = math.exp(-gap / _WEATHER_DAYS)
        state = state * back + random.normal(0, sd * math.sqrt(1 - back**2))
        found.append(state)
    return np.asarray(found)


def _rain(days: Floats, random: np.random.Generator) -> Floats:
    """How much rain is in the water, 0 to 1: storms about every three weeks, gone within days."""
    storms = np.cumsum(random.exponential(20.0, 200)) + days[0] - 30
    size = random.uniform(0.2, 1.0, storms.size)
    since = days[:, None] - storms[None, :]
    return np.asarray((np.where(since >= 0, size, 0.0) * np.exp(-np.maximum(since, 0.0) / 3.0)).max(axis=1))


def _sheet(here: Site, k: int, quantities: list[str]) -> tuple[Past, datetime]:
    """What was read before visit k, as a site's past, and when visit k is."""
    at = [START + timedelta(days=float(d)) for d in here.days[: k + 1]]
    past = {
        q: [Earlier(float(v), t, float(v)) for v, t in zip(here.values[q][:k][::-1], at[:k][::-1], strict=True)]
        for q in quantities
    }
    return past, at[k]


def _questioned(past: Past, now: datetime, read: Mapping[str, float]) -> dict[str, list[str]]:
    """What is asked of each value of a sheet: the codes of its odd findings."""
    seen = sight(PLACE, past, now, read, Water(salinity=0.0))
    asked = {}
    for quantity, value in read.items():
        slip = slip_finding(quantity, value, None, seen)
        found = [*([slip] if slip else []), *findings(PLACE, past, quantity, value, now)]
        asked[quantity] = [f"{f.key}:{f.sentence}" for f in found if f.flag in (Flag.SUSPECT, Flag.FAIL)]
    return asked


def plants(
    read: Mapping[str, float], spread: Mapping[str, float], random: np.random.Generator
) -> dict[str, dict[str, float]]:
    """Every slip that can be made on a healthy sheet: the quantities it touches, with what they become."""
    found: dict[str, dict[str, float]] = {}
    up = bool(random.random() < 0.5)
    digits = [q for q in ("conductivity", "nitrate", "ammonium", "chlorine") if q in read]
    if digits:
        q = str(random.choice(digits))
        found["a factor of 10"] = {q: read[q] * (10 if up else 0.1)}
    found["a factor of 1000"] = {"conductivity": read["conductivity"] * (1000 if up else 0.001)}
    pairs = [p for p in (("ph", "oxygen"), ("ph", "temperature"), ("temperature", "oxygen")) if set(p) <= set(read)]
    a, b = pairs[int(random.integers(len(pairs)))]
    found["two fields swapped"] = {a: read[b], b: read[a]}
    found["+5 °C"] = {"temperature": read["temperature"] + 5}
    if "oxygen" in read:
        found["oxygen -30 %"] = {q: 0.7 * read[q] for q in ("oxygen", "saturation")}
        found["% typed for mg/L"] = {"oxygen": read["saturation"], "saturation": 10 * read["saturation"]}
    if "nitrate" in read:
        found["nitrate as NO3, typed as N"] = {"nitrate": read["nitrate"] * 4.427}
        found["nitrate, a tenth"] = {"nitrate": read["nitrate"] / 10}
    if 0 <= read["temperature"] <= 35:
        raw = read["conductivity"] / float(to_reference(1.0, read["temperature"], kind="natural"))
        found["not compensated, typed as compensated"] = {"conductivity": raw}
    found["+5 spreads"] = {q: read[q] + (5 if up else -5) * spread[q] for q in read if q != "saturation"}
    return found


class Asked(NamedTuple):
    """Of one healthy sheet: by quantity whether it was questioned; by slip whether it was, and whether it was large."""

    healthy: dict[str, bool]
    slips: list[tuple[str, bool, bool]]


def one(task: tuple[str, int]) -> list[Asked]:
    """One site of a water, judged at eight visits after the tenth."""
    water, seed = task
    random = np.random.default_rng(seed)
    here = site(water, random)
    quantities = list(here.values)
    judged = []
    for k in random.choice(np.arange(10, len(here.days)), 8, replace=False):
        past, now = _sheet(here, int(k), quantities)
        read = {q: float(here.values[q][k]) for q in quantities}
        healthy = {q: bool(asked) for q, asked in _questioned(past, now, read).items()}
        slips = []
        for name, changed in plants(read, here.spread, random).items():
            if name == "+5 spreads":
                for q, value in changed.items():
                    caught = bool(_questioned(past, now, {q: value})[q])
                    slips.append((name, caught, True))
                continue
            asked = _questioned(past, now, {**read, **changed})
            caught = any(asked[q] for q in changed)
            large = max(abs(v - read[q]) / max(here.spread[q], 1e-9) for q, v in changed.items()) > LARGE
            slips.append((name, caught, large))
        last = {q: past[q][0].raw for q in read}
        slips += [
            ("the last sheet copied", repeats(last, last), True),
            ("a healthy sheet taken for it", repeats(read, last), True),
        ]
        slips += [(f"sea-level pressure, {words}", *asked) for words, *asked in _pressures(random)]
        judged.append(Asked(healthy, slips))
    return judged


def _pressures(random: np.random.Generator) -> list[tuple[str, bool, bool]]:
    """A station's pressure, and the weather report's typed for it; large where it moves oxygen by over 1.5 %."""
    altitude = float(random.uniform(100, 2500))
    usual = float(station_pressure_hpa(altitude))
    weather = float(random.normal(0, 10))
    report = 1013.25 + weather * 1013.25 / usual
    return [
        ("typed for the station's", bool(may_be_sea_level(report, altitude)), report / (usual + weather) - 1 > 0.015),
        ("a station's own taken for it", bool(may_be_sea_level(usual + weather, altitude)), True),
    ]
