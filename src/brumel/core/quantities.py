"""The names of the trade: each parameter name of core with its label, symbol and canonical unit.

The glossary (docs/glossary.md) is held to this table by a test, so a synonym cannot slip in.
"""

from __future__ import annotations

from typing import NamedTuple


class Quantity(NamedTuple):
    """A named quantity: label for people, symbol for formulas, canonical unit."""

    label: str
    symbol: str
    unit: str


QUANTITIES: dict[str, Quantity] = {
    "temperature_c": Quantity("temperature", "T", "°C"),
    "millivolts": Quantity("electrode signal", "E", "mV"),
    "ph": Quantity("pH", "pH", ""),
    "displayed_ph": Quantity("displayed pH", "pH", ""),
    "expected_ph": Quantity("expected pH", "pH", ""),
    "temperatures_c": Quantity("temperatures", "T", "°C"),
    "expanded_uncertainty": Quantity("expanded uncertainty", "U", ""),
    "offset_mv": Quantity("offset", "E0", "mV"),
    "slope_percent": Quantity("slope", "s", "%"),
    "isopotential_ph": Quantity("isopotential pH", "pHiso", ""),
    "buffer": Quantity("buffer", "", ""),
    "points": Quantity("points", "", ""),
    "times_s": Quantity("time", "t", "s"),
    "values": Quantity("readings", "y", ""),
    "elapsed_s": Quantity("time in the cup", "t", "s"),
    "resolution": Quantity("resolution", "", ""),
    "kind": Quantity("kind", "", ""),
}


def label(field: str) -> str:
    """What people call a field; an unknown name is read out with its underscores as spaces."""
    known = QUANTITIES.get(field)
    return known.label if known else field.replace("_", " ")


def unit_of(field: str) -> str:
    """The canonical unit of a field, empty where it has none."""
    known = QUANTITIES.get(field)
    return known.unit if known else ""
