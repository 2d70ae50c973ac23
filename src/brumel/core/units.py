"""Units, converted once at the edge: what the trade writes on one side, core's canonical units on the other."""

from __future__ import annotations

import functools
import math
import re
from collections.abc import Collection, Sequence
from typing import Any

from brumel.core.constants.measured import AMMONIA_G_MOL, AMMONIUM_G_MOL, NITRATE_G_MOL, NITROGEN_G_MOL
from brumel.core.errors import InputError, NotANumber
from brumel.core.quantities import sentence_label

#: Per dimension: the canonical unit first, then what people may write, each with its name for pint, or, where a unit is
#: of the trade alone, with what one of it is in the canonical unit.
UNITS: dict[str, dict[str, str | float]] = {
    "temperature": {"°C": "degC", "°F": "degF", "K": "kelvin"},
    "pressure": {"hPa": "hPa", "kPa": "kPa", "mmHg": "mmHg", "inHg": "inHg", "mbar": "mbar", "atm": "atm"},
    "length": {"m": "meter", "cm": "centimeter", "ft": "foot"},
    "conductivity": {"µS/cm": "uS/cm", "mS/cm": "mS/cm", "S/m": "S/m", "mS/m": "mS/m"},
    "potential": {"mV": "mV", "V": "V"},
    "mass per volume": {"mg/L": "mg/L", "g/L": "g/L", "µg/L": "ug/L"},
    "nitrate": {
        "mg/L as N": "mg/L",
        "mg/L as NO3": NITROGEN_G_MOL / NITRATE_G_MOL,
        "µg/L as N": 1e-3,
        "mmol/L": NITROGEN_G_MOL,
    },
    "ammonium": {
        "mg/L as N": "mg/L",
        "mg/L as NH4": NITROGEN_G_MOL / AMMONIUM_G_MOL,
        "mg/L as NH3": NITROGEN_G_MOL / AMMONIA_G_MOL,
        "µg/L as N": 1e-3,
        "mmol/L": NITROGEN_G_MOL,
    },
    "dissolved solids": {"mg/L": "mg/L", "ppm": 1.0, "g/L": "g/L", "ppt": 1000.0},
    "hardness": {"mg/L as CaCO3": "mg/L", "°dH": 17.848, "mmol/L": 100.087},
    "time": {"min": "minute", "h": "hour", "s": "second", "d": "day"},
}
_ALIASES = {
    "c": "°C",
    "degc": "°C",
    "f": "°F",
    "degf": "°F",
    "us/cm": "µS/cm",
    "μs/cm": "µS/cm",
    "us": "µS/cm",
    "µs": "µS/cm",
    "ms": "mS/cm",
    "ms/cm": "mS/cm",
    "mv": "mV",
    "ph": "pH",
    "mg/l": "mg/L",
    "g/l": "g/L",
    "ug/l": "µg/L",
    "torr": "mmHg",
    "in hg": "inHg",
    "mm hg": "mmHg",
    "mg/l n": "mg/L as N",
    "mg/l as n": "mg/L as N",
    "mg/l no3-n": "mg/L as N",
    "mg/l nh4-n": "mg/L as N",
    "mg/l no3": "mg/L as NO3",
    "mg/l as no3": "mg/L as NO3",
    "mg/l nh4": "mg/L as NH4",
    "mg/l as nh4": "mg/L as NH4",
    "mg/l nh3": "mg/L as NH3",
    "mg/l as nh3": "mg/L as NH3",
    "ug/l n": "µg/L as N",
    "ug/l as n": "µg/L as N",
    "mmol": "mmol/L",
    "mg/l as caco3": "mg/L as CaCO3",
    "mg/l caco3": "mg/L as CaCO3",
}

#: What counts dissolved solids by a factor on conductivity; without that factor it says nothing [mg/L].
SOLIDS = {"ppm": 1.0, "mg/L TDS": 1.0, "ppt": 1000.0, "g/L TDS": 1000.0}


@functools.cache
def _registry() -> Any:
    from pint import UnitRegistry  # heavy to import; only the edge pays for it

    return UnitRegistry(autoconvert_offset_to_baseunit=True)


def _name(unit: str) -> str:
    text = unit.strip()
    if text.lower() in ("ppm", "ppt"):
        raise InputError(
            "unit",
            f"“{text}” does not say what it counts. Write mg/L for a mass, or give TDS with its factor.",
            value=unit,
        )
    return _ALIASES.get(text.lower(), text)


def to_canonical(field: str, value: float, unit: str, dimension: str) -> float:
    """`value` in `unit` as the canonical unit of its dimension. Raises NotANumber, UnknownName, and for a wrong kind."""
    return convert(field, value, unit, next(iter(UNITS[dimension])), dimension)


def convert(field: str, value: float, unit: str, into: str, dimension: str) -> float:
    """`value` from one unit of a dimension into another [unit] -> [into]."""
    if not isinstance(value, (int, float)) or not math.isfinite(value):
        raise NotANumber(field, value)
    known = UNITS[dimension]
    text = unit if unit in known else _name(unit)
    if text not in known:
        raise InputError(
            field,
            f"{sentence_label(field)} is a {dimension}; “{unit[:20]}” is not one of {', '.join(known)}.",
            value=unit,
        )
    if text == into:
        return float(value)
    here, there = known[text], known[into]
    if isinstance(here, float) or isinstance(there, float):
        return float(value) * (here if isinstance(here, float) else 1.0) / (there if isinstance(there, float) else 1.0)
    return float(_registry().Quantity(value, here).to(there).magnitude)


_WITH_UNIT = re.compile(r"^([+\-−]?[\d.,]*\d[.,]?(?:[eE][+-]?\d{1,3})?)\s*([^\d\s].*)?$")


def apart(text: str, known: Collection[str] = ("ppm",)) -> tuple[str, str]:
    """What was typed as number and unit, "12.8 mS" as ("12.8", "mS/cm"), each still text; no unit where none was typed.

    known : what counts solids and is understood here, because its factor is at hand

    Text that is no number with something behind it comes back whole, for whoever reads numbers to refuse.
    """
    found = _WITH_UNIT.match(text.strip().replace("\u00a0", " "))
    if found is None:
        return text, ""
    unit = (found[2] or "").strip()
    return found[1], unit.lower() if unit.lower() in known else _name(unit)


def choices(dimension: str) -> Sequence[str]:
    """The units people may choose from, the canonical one first."""
    return list(UNITS[dimension])
