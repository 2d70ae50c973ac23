"""The bench table of Practice: bottles, cups, where each probe truly stands, and everything that is done with hands.

What a probe shows follows from where it stood and when, by the sensors' own laws, so that a live page, a drawn display and
the debrief tell the same story. Shares that stay on a wet probe, and what an act takes, are chosen (common practice, no
source).
"""

from __future__ import annotations

import math
import random
import uuid
import zlib
from bisect import bisect_right
from collections.abc import Sequence
from dataclasses import asdict
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from pydantic import BaseModel, Field
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.oxygen import saturation_mg_l
from brumel.core.quantity_table import IONS
from brumel.meters.sensors import SAMPLES_PER_S, Liquid, Start, sensor
from brumel.store.tables import Dip, Lot, Probe
from brumel.work import simulator
from brumel.work.desk import Refused
from brumel.work.quantities import standards

SUBJECT = "table"
#: The share of the last solution that a probe carries on: as it is, after blotting only, and of the rinse itself.
CARRIED, BLOTTED, RINSED = 0.04, 0.008, 0.012
#: A wet probe takes part in what it is told next from here on.
WET = 0.005
CUP_ML = 50.0
#: How long an act takes [s].
TAKES_S = {
    "pour": 20,
    "lower": 5,
    "rinse": 10,
    "blot": 5,
    "wipe": 3,
    "stir": 3,
    "lift": 10,
    "shake": 5,
    "inspect": 30,
    "label": 15,
    "thermometer": 20,
    "test_kit": 180,
    "clean": 900,
    "electrolyte": 600,
    "membrane": 900,
    "dry_plug": 600,
    "soak": 12 * 3600,
    "hydrate": 24 * 3600,
    "wait": 0,
    "set": 10,
    "walk": 300,
}
#: A membrane that was renewed so long ago has polarised, but for a share that fades with this time [min].
POLARISES_MIN = 30.0
LONGEST_WAIT_S = 48 * 3600
#: What is done to a probe wherever it stands, and what it takes away at most.
CARE = ("clean", "electrolyte", "membrane", "dry_plug", "soak", "hydrate")
#: Where a probe can stand besides a cup.
PLACES = {
    "holder": "in its holder, in air",
    "moist_air": "in the jar of moist air",
    "aired_water": "in air-saturated water",
    "ice": "in the ice bath",
    "bath": "in the bath at room temperature",
    "water": "in the site's water",
}

#: The ways of typing a display has, by quantity; the first is the large one.
ON_DISPLAY = {
    "ph": ("ph", "mv"),
    "conductivity": ("us_cm_ref", "us_cm", "ppm"),
    "oxygen": ("mg_l", "percent"),
    "redox": ("mv",),
    "nitrate": ("mv", "mg_l_n"),
    "ammonium": ("mv", "mg_l_n"),
    "temperature": ("c",),
    "chlorine": ("mg_l",),
}


def on_display(quantity: str, truly: dict[str, Any]) -> tuple[str, ...]:
    """The ways a display has as its meter is truly set: conductivity is shown in mS/cm where that was chosen."""
    ways = ON_DISPLAY[quantity]
    if quantity == "conductivity" and truly.get("conductivity_unit") == "mS/cm":
        return tuple(way.replace("us_cm", "ms_cm") for way in ways)
    return ways


class Stand(BaseModel):
    """Where a probe stands from a moment on, what is around it, and what signal and thermistor were then."""

    at: datetime
    number: int
    place: str
    liquid: dict[str, Any] = Field(default_factory=dict)
    signal: float = 0.0
    temperature_c: float = 20.0
    faults: tuple[str, ...] = ()
    kick: float = 0.0
    body: dict[str, Any] = Field(default_factory=dict)


class OnTable(BaseModel):
    """A probe as it lies on the table; `film` is what still hangs on it."""

    key: str
    name: str
    quantity: str
    body: dict[str, Any]
    seen: str
    mended: dict[str, tuple[str, ...]] = Field(default_factory=dict)
    stands: list[Stand] = Field(default_factory=list)
    film: dict[str, Any] = Field(default_factory=dict)
    film_share: float = 0.0
    rinsed: bool = True
    membrane_at: datetime | None = None
    #: what its display showed before and what it was set to there, the last two times
    settings: list[tuple[float, float]] = Field(default_factory=list)

    def set_to_show(self, value: float) -> float:
        """What the display shows of a value, as the meter was set: by an offset, then by an offset and a slope."""
        if not self.settings:
            return value
        (x0, y0), (x1, y1) = self.settings[0], self.settings[-1]
        slope = (y1 - y0) / (x1 - x0) if abs(x1 - x0) > 1e-6 and len(self.settings) > 1 else 1.0
        return y1 + slope * (value - x1)

    @property
    def stand(self) -> Stand:
        """Where it stands now."""
        return self.stands[-1]


class OnShelf(BaseModel):
    """A bottle: its lot by the label, the lot whose content it has, and how that is off."""

    key: str
    lot: uuid.UUID
    holds: uuid.UUID
    name: str
    code: str
    seen: str
    shift: float = 0.0
    strength: float = 1.0
    temperature_c: float = 20.0


class Cup(BaseModel):
    """A cup that was poured; `liquids` holds what it truly is for each quantity."""

    letter: str
    bottle: str
    at: datetime
    liquids: dict[str, dict[str, Any]]


class Act(BaseModel):
    """What was done, when, with what, and what was seen."""

    at: datetime
    act: str
    probe: str = ""
    what: str = ""
    words: str = ""
    slip: str = ""


class Table(BaseModel):
    """Everything on the table."""

    seed: int
    room_c: float
    pressure_hpa: float
    ice_c: float = 0.0
    probes: dict[uuid.UUID, OnTable] = Field(default_factory=dict)
    bottles: dict[str, OnShelf] = Field(default_factory=dict)
    cups: list[Cup] = Field(default_factory=list)
    water: dict[str, Any] = Field(default_factory=dict)
    test_kit_off: float = 0.0
    truly: dict[str, Any] = Field(default_factory=dict)
    acts: list[Act] = Field(default_factory=list)
    poured_ml: float = 0.0
    #: whether Brumel can be reached from here
    signal: bool = True

    def cup(self, letter: str) -> Cup:
        """A cup by its letter. Raises InputError."""
        for cup in self.cups:
            if cup.letter == letter:
                return cup
        raise InputError("place", f"There is no cup {letter[:3]} on the table.", value=letter)

    def named(self, probe: str) -> OnTable:
        """A probe by its id, or the only one. Raises InputError."""
        if not probe and len(self.probes) == 1:
            return next(iter(self.probes.values()))
        for known, on_table in self.probes.items():
            if str(known) == probe:
                return on_table
        raise InputError("probe", "Choose a probe that lies on the table.", value=probe[:40])


def load(session: Session) -> Table:
    """The table as it stands."""
    return Table.model_validate(simulator.truth(session, SUBJECT))


def keep(session: Session, table: Table) -> None:
    """Keep the table as it now stands."""
    simulator.set_truth(session, SUBJECT, table.model_dump(mode="json"))


def is_laid(session: Session) -> bool:
    """Whether there is a table at all."""
    return bool(simulator.truth(session, SUBJECT))


# -- what is where


def put(
    session: Session, table: Table, probe: OnTable, place: str, at: datetime, depth_m: float | None = None
) -> Stand:
    """Move a probe to a place: what hangs on it comes along. Raises InputError for a place that is not there."""
    liquid = _around(session, table, probe, place, depth_m)
    extra: list[str] = []
    share = probe.film_share
    if place not in ("holder", "moist_air"):
        liquid = _mixed(liquid, probe.film, share)
        if place in [c.letter for c in table.cups]:
            cup = table.cup(place)
            cup.liquids[probe.quantity] = {**cup.liquids.get(probe.quantity, {}), **liquid}
    if place == "moist_air" and share > WET:
        extra += ["wet_tip"] if probe.quantity == "oxygen" else []
    if place in ("holder", "moist_air") and probe.quantity == "conductivity" and share > WET:
        extra.append("wet_contacts")
    if (
        probe.quantity == "conductivity"
        and place not in ("holder", "moist_air")
        and _chance(table, probe, "bubble") < 0.35
    ):
        extra.append("bubble")
    stand = _stand(probe, place, liquid, at, tuple(extra))
    if place not in ("holder", "moist_air"):
        probe.film, probe.film_share, probe.rinsed = dict(liquid), CARRIED, False
    return stand


def again(probe: OnTable, at: datetime, **changed: Any) -> Stand:
    """The same place, with something changed there: stirred, without its bubble, mended."""
    here = probe.stand
    liquid = {**here.liquid, **changed.pop("liquid", {})}
    return _stand(probe, here.place, liquid, at, changed.get("faults", here.faults), changed.get("kick", 0.0))


def _stand(
    probe: OnTable, place: str, liquid: dict[str, Any], at: datetime, faults: tuple[str, ...], kick: float = 0.0
) -> Stand:
    signal, temperature_c = (0.0, float(liquid.get("temperature_c", 20.0)))
    if probe.stands:
        values = shows(probe, [at])
        signal, temperature_c = float(values[0][0]), float(values[1][0])
    stand = Stand(
        at=at,
        number=len(probe.stands) + 1,
        place=place,
        liquid=liquid,
        signal=signal,
        temperature_c=temperature_c,
        faults=faults,
        kick=kick,
        body=_body_at(probe, at),
    )
    probe.stands.append(stand)
    return stand


def _body_at(probe: OnTable, at: datetime) -> dict[str, Any]:
    """A probe's truth at a moment: a membrane that was renewed a while ago has polarised by so much."""
    body = dict(probe.body)
    if probe.membrane_at is None:
        return body
    minutes = max(0.0, (at - probe.membrane_at).total_seconds() / 60)
    left = math.exp(-minutes / POLARISES_MIN)
    faults = [f for f in body.get("faults", ()) if f != "not_polarised"]
    if left > 0.02:
        return {**body, "faults": [*faults, "not_polarised"], "severity": left}
    return {**body, "faults": faults}


def _around(session: Session, table: Table, probe: OnTable, place: str, depth_m: float | None) -> dict[str, Any]:
    saturated = 100 * share_of_standard(table.pressure_hpa, table.room_c)
    if place == "holder":
        wet = {name: probe.film[name] for name in ("ph", "redox_mv", "ion_mg_l") if name in probe.film}
        return wet | {
            "temperature_c": table.room_c,
            "vessel": "air",
            "oxygen_percent": saturated * 0.99,
            "stirred": True,
        }
    if place == "moist_air":
        return {"temperature_c": table.room_c, "vessel": "saturated_air", "oxygen_percent": saturated, "stirred": True}
    if place == "aired_water":
        return {
            "temperature_c": table.room_c,
            "oxygen_percent": saturated,
            "stirred": False,
            "conductivity_us_cm": 200.0,
        }
    if place == "ice":
        return {"temperature_c": table.ice_c, "vessel": "reference"}
    if place == "bath":
        return {"temperature_c": table.room_c, "vessel": "reference"}
    if place == "water":
        if not table.water:
            raise InputError("place", "There is no site in this scenario; stay at the table.", value=place)
        return asdict(simulator.site_water(table.water, probe.quantity, depth_m))
    return dict(table.cup(place).liquids.get(probe.quantity, {"temperature_c": table.room_c}))


def share_of_standard(pressure_hpa: float, temperature_c: float) -> float:
    """What saturated air holds at a pressure, as a share of that at 1013.25 hPa."""
    return float(saturation_mg_l(temperature_c, 0.0, pressure_hpa)) / float(saturation_mg_l(temperature_c))


#: What mixes by its share; pH of a buffer does so near enough for a drop of another.
_MIXES = ("ph", "conductivity_us_cm", "oxygen_percent", "redox_mv", "ion_mg_l", "chlorine_mg_l")


def _mixed(into: dict[str, Any], film: dict[str, Any], share: float) -> dict[str, Any]:
    if share <= 0 or not film:
        return into
    mixed = dict(into)
    for name in _MIXES:
        if name in into and name in film:
            mixed[name] = into[name] + share * (film[name] - into[name])
    return mixed


def pour(session: Session, table: Table, bottle: str, at: datetime) -> Cup:
    """A fresh cup of a bottle, beside those that stand there."""
    shelf = table.bottles.get(bottle)
    if shelf is None:
        raise InputError("bottle", "Choose a bottle that stands on the table.", value=bottle[:40])
    if len(table.cups) >= 20:
        raise Refused("Twenty cups stand on the table; use one of them.")
    liquids = {p.quantity: _content(session, table, shelf, p.quantity, known) for known, p in table.probes.items()}
    cup = Cup(letter=chr(65 + len(table.cups)), bottle=bottle, at=at, liquids=liquids)
    table.cups.append(cup)
    table.poured_ml += CUP_ML
    return cup


def _content(session: Session, table: Table, shelf: OnShelf, quantity: str, probe_id: uuid.UUID) -> dict[str, Any]:
    """What a bottle truly holds, for a quantity."""
    lot, at = session.get_one(Lot, shelf.holds), shelf.temperature_c
    liquid: dict[str, Any] = {"temperature_c": at}
    if standards.measure(lot, quantity) is None:
        return liquid
    value = standards.value(lot, quantity, at, session.get_one(Probe, probe_id))
    if quantity == "ph":
        liquid["ph"] = value + shelf.shift
    elif quantity == "conductivity":
        liquid["conductivity_us_cm"] = value * shelf.strength
    elif quantity == "oxygen":
        liquid |= {"oxygen_percent": 0.3 + shelf.shift, "vessel": "zero"}
    elif quantity == "redox":
        liquid["redox_mv"] = value + shelf.shift
    elif quantity in IONS:
        liquid["ion_mg_l"] = value * shelf.strength
    return liquid


def _chance(table: Table, probe: OnTable, of: str) -> float:
    """A number from 0 to 1 that is the same whenever it is asked of this stand."""
    return random.Random(zlib.crc32(f"{table.seed}:{probe.key}:{len(probe.stands)}:{of}".encode())).random()  # noqa: S311


# -- what is shown


def shows(probe: OnTable, when: Sequence[datetime]) -> tuple[np.ndarray, np.ndarray]:
    """Signal and temperature [°C] of a probe at these moments, in order, wherever it stood then."""
    signal, temperature_c = np.zeros(len(when)), np.zeros(len(when))
    begins = [s.at for s in probe.stands]
    which = np.array([max(0, bisect_right(begins, at) - 1) for at in when])
    for number in sorted(set(which.tolist())):
        stand, mask = probe.stands[number], which == number
        t = np.array([max(0.0, (at - stand.at).total_seconds()) for at, here in zip(when, mask, strict=True) if here])
        t = np.round(t * SAMPLES_PER_S) / SAMPLES_PER_S
        of_body = {**stand.body, "faults": [*stand.body.get("faults", ()), *stand.faults]}
        known = {k: v for k, v in stand.liquid.items() if k in Liquid.__dataclass_fields__}
        y, c = sensor(probe.quantity, of_body).sense(
            Liquid(**known), t, Start(stand.signal, stand.temperature_c), stand.number
        )
        signal[mask] = y + (np.round(stand.kick * np.exp(-t / 70.0), 1) if stand.kick else 0.0)
        temperature_c[mask] = c
    return signal, temperature_c


def samples_of(
    probe: OnTable, dip: Dip, first: int, upto: datetime, most: int
) -> list[tuple[int, float, float, float, None]]:
    """What is stored of a live dip from sample `first` on up to a moment."""
    last = min(int((upto - dip.started_at).total_seconds() * SAMPLES_PER_S), first + most - 1)
    if last < first:
        return []
    seconds = [n / SAMPLES_PER_S for n in range(first, last + 1)]
    y, c = shows(probe, [dip.started_at + timedelta(seconds=s) for s in seconds])
    return [(n, s, float(a), float(b), None) for n, s, a, b in zip(range(first, last + 1), seconds, y, c, strict=True)]
