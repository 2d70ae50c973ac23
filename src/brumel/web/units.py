"""The units a reader has chosen for their pages. Records, exports and printed certificates keep the canonical ones."""

from __future__ import annotations

import functools
import re
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from flask import g, has_request_context
from flask_login import current_user

from brumel.core.quantity_table import ON_SHEET
from brumel.core.uncertainty import digits_for, shown_u
from brumel.core.units import convert
from brumel.work.people import UNIT_CHOICES

#: Whose unit, as records keep it, a choice of the reader stands for; and the dimension that converts it.
_CHOICE_OF = {
    "°C": ("temperature", "temperature"),
    "µS/cm": ("conductivity", "conductivity"),
    "hPa": ("pressure", "pressure"),
    "m": ("depth", "length"),
}
#: Decimals a unit needs more than the canonical one for the same resolution.
_MORE_DIGITS = {"mS/cm": 3, "kPa": 1, "inHg": 2, "ft": 0}
_FIXED = re.compile(r"^(\+?)\.(\d+)f$")


@dataclass(frozen=True)
class Scale:
    """From a canonical unit to the reader's: value × factor + shift; `digits` are the decimals it needs more."""

    unit: str
    factor: float = 1.0
    shift: float = 0.0
    digits: int = 0

    def __call__(self, value: float) -> float:
        return value * self.factor + self.shift

    def step(self, value: float) -> float:
        """A difference or an uncertainty, which has no zero to shift."""
        return value * self.factor

    def form(self, form: str) -> str:
        """The form of digits, ".1f", with as many more as the unit needs."""
        fixed = _FIXED.match(form)
        return f"{fixed[1]}.{int(fixed[2]) + self.digits}f" if fixed and self.digits else form


@functools.lru_cache(maxsize=64)
def scale_to(unit: str, chosen: str) -> Scale:
    """The scale from a canonical unit to the one that was chosen."""
    if unit == chosen or unit not in _CHOICE_OF:
        return Scale(unit)
    dimension = _CHOICE_OF[unit][1]
    shift = convert("value", 0.0, unit, chosen, dimension)
    return Scale(chosen, convert("value", 1.0, unit, chosen, dimension) - shift, shift, _MORE_DIGITS.get(chosen, 0))


def scale(unit: str, chosen: Mapping[str, Any] | None = None) -> Scale:
    """The scale from a canonical unit to the reader's."""
    if unit not in _CHOICE_OF:
        return scale_to(unit, unit)
    units = readers_units() if chosen is None else chosen
    wanted = units.get(_CHOICE_OF[unit][0], unit)
    return scale_to(unit, wanted if wanted in UNIT_CHOICES[_CHOICE_OF[unit][0]] else unit)


def scale_of(quantity: str, chosen: Mapping[str, Any] | None = None) -> Scale:
    """The scale of a quantity's readings."""
    return scale(getattr(ON_SHEET.get(quantity), "unit", ""), chosen)


def readers_units() -> Mapping[str, Any]:
    """What the signed-in person has chosen; nothing where nobody is, or where a record is written."""
    if not has_request_context():
        return {}
    known = g.get  # asked for each number of a page, and dear to look up
    if (of_document := known("units_of_document")) is not None:
        chosen: Mapping[str, Any] = of_document
        return chosen
    if known("units_of_record"):
        return {}
    units: Mapping[str, Any] | None = known("units_of_reader")
    if units is None:
        units = g.units_of_reader = current_user.user.units if current_user.is_authenticated else {}
    return units


@contextmanager
def units_of_document(units: Mapping[str, Any]) -> Iterator[None]:
    """Whatever is rendered meanwhile is a document of the practice, in the units it chose, whoever asks."""
    g.units_of_document = units
    try:
        yield
    finally:
        g.units_of_document = None


@contextmanager
def units_of_record() -> Iterator[None]:
    """Whatever is rendered meanwhile is a record: canonical units, whoever asks."""
    g.units_of_record = True
    try:
        yield
    finally:
        g.units_of_record = False


#: Of a live event: what is a place on the scale of the quantity, and what is a difference on it.
_PLACES, _STEPS = ("value", "forecast", "reported"), ("drift", "noise", "drift_limit", "noise_limit", "expanded")


def live_numbers(numbers: dict[str, Any], unit: str, units: Mapping[str, Any]) -> dict[str, Any]:
    """The numbers of a live event in the reader's units; `unit` is the canonical one of what is looked at."""
    of_value, of_temperature = scale(unit, units), scale("°C", units)
    shown = dict(numbers)
    for key in _PLACES:
        if shown.get(key) is not None:
            shown[key] = of_value(shown[key])
    for key in _STEPS:
        if shown.get(key) is not None:
            shown[key] = float(f"{of_value.step(shown[key]):.4g}")
    if shown.get("expanded"):
        shown["u_digits"] = digits_for(shown["expanded"])
        shown["expanded"] = shown_u(shown["expanded"], shown["u_digits"])
    if "y" in shown:
        shown["y"] = [of_value(y) for y in shown["y"]]
    if shown.get("temperature") is not None:
        shown["temperature"] = of_temperature(shown["temperature"])
    if "lines" in shown:
        shown["lines"] = [_line(line, units) for line in shown["lines"]]
    return shown


def _line(line: Mapping[str, Any], units: Mapping[str, Any]) -> dict[str, Any]:
    if line.get("value") is None:
        return dict(line)
    return {**line, "value": scale_of(line["quantity"], units)(line["value"])}
