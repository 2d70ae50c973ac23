"""How the columns of a table are read: which is what, in which unit, by which clock; guessed by name, then chosen."""

from __future__ import annotations

import re
from collections.abc import Mapping as Mapped
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple
from zoneinfo import available_timezones

from brumel.core.errors import InputError
from brumel.core.quantity_table import ON_SHEET
from brumel.core.units import UNITS
from brumel.methods.field import load_field
from brumel.work.quantities import names as quantity_names


class ColumnOf(NamedTuple):
    """Something a column may hold: how it is called on the page, whether it must be there, what else its column is called."""

    label: str
    required: bool
    also: tuple[str, ...] = ()


READINGS = {
    "site": ColumnOf("Site, by its name", True, ("site", "station", "location", "place", "site name", "site_id")),
    "time": ColumnOf("When it was read", True, ("time", "time_utc", "timestamp", "datetime", "date_time", "date time", "at")),
    "clock": ColumnOf("Time of day, where it stands apart from the date", False, ("clock", "hour", "time of day")),
    "depth": ColumnOf("Depth", False, ("depth", "depth_m", "depth m")),
    "quantity": ColumnOf("Quantity, where each row is of one", False, ("quantity", "parameter", "variable")),
    "value": ColumnOf("Its value", False, ("value", "result", "reading")),
    "unit": ColumnOf("Its unit", False, ("unit", "units")),
    "temperature": ColumnOf("Temperature of the sample, °C", False, ("temperature_c",)),
    "flag": ColumnOf("QARTOD flag", False, ("qartod_flag", "flag", "quality")),
    "note": ColumnOf("Note", False, ("note", "notes", "comment", "remark", "reason")),
}  # fmt: skip
SITES = {
    "client": ColumnOf("Client", True, ("client", "owner", "customer")),
    "name": ColumnOf("Name", True, ("name", "site", "site name", "station")),
    "kind": ColumnOf("Kind", False, ("kind", "type")),
    "use": ColumnOf("Used for", False, ("use", "used for")),
    "zone": ColumnOf("Time zone", False, ("zone", "time zone", "timezone", "tz")),
    "altitude_m": ColumnOf("Altitude, m", True, ("altitude_m", "altitude", "elevation", "elevation_m")),
    "latitude": ColumnOf("Latitude, °", False, ("latitude", "lat")),
    "longitude": ColumnOf("Longitude, °", False, ("longitude", "lon", "lng", "long")),
    "depths": ColumnOf("Depths of a profile, m", False, ("depths", "depths_m")),
    "ranges": ColumnOf("What it usually reads", False, ("ranges",)),
    "limits": ColumnOf("Limits", False, ("limits",)),
    "note": ColumnOf("Note, with its dangers", False, ("note", "notes", "comment")),
}
PROBES = {
    "meter": ColumnOf("Meter", True, ("meter", "instrument")),
    "meter_serial": ColumnOf("Serial of the meter", True, ("meter_serial", "meter serial", "instrument serial")),
    "name": ColumnOf("Name of the probe", True, ("name", "probe", "sensor")),
    "serial": ColumnOf("Serial of the probe", True, ("serial", "probe_serial", "probe serial", "serial number")),
    "quantity": ColumnOf("What it measures", True, ("quantity", "measures", "parameter")),
    "kind": ColumnOf("Its kind", False, ("kind", "type")),
    "nominal": ColumnOf("Cell constant, 1/cm", False, ("nominal", "cell constant", "k")),
    "reference_electrode": ColumnOf("Reference electrode", False, ("reference_electrode", "reference electrode")),
    "note": ColumnOf("Note", False, ("note", "notes", "comment")),
}  # fmt: skip
LOTS = {
    "code": ColumnOf("Lot", True, ("code", "lot", "lot number", "batch")),
    "name": ColumnOf("Name", True, ("name", "solution", "standard")),
    "quantity": ColumnOf("Standard of", True, ("quantity", "standard of", "parameter")),
    "family": ColumnOf("Table it follows", False, ("family", "table")),
    "label": ColumnOf("Label, as 25: 1413; 20: 1278", False, ("label", "values", "value")),
    "unit": ColumnOf("Unit of the label", False, ("unit", "units")),
    "expanded_uncertainty": ColumnOf("Uncertainty, k = 2", True, ("expanded_uncertainty", "uncertainty", "u")),
    "basis": ColumnOf("Basis of an ion standard", False, ("basis",)),
    "against": ColumnOf("Electrode an ORP label is stated against", False, ("against",)),
    "container": ColumnOf("Container", False, ("container",)),
    "expires_on": ColumnOf("Expires on, as 2027-03-31", True, ("expires_on", "expiry", "expires", "expiry date", "use by")),
    "open_days": ColumnOf("Days it keeps once open", False, ("open_days", "open days")),
}  # fmt: skip
COLUMNS: dict[str, dict[str, ColumnOf]] = {"readings": READINGS, "sites": SITES, "probes": PROBES, "lots": LOTS}

#: How a date may be written; what is not ISO 8601 says nothing by itself, so it is chosen.
DATES = {"iso": "2026-11-27 08:15", "dmy": "27.11.2026 08:15 (day first)", "mdy": "11/27/2026 08:15 (month first)"}
DECIMALS = {"point": "7.31", "comma": "7,31"}

#: The dimension in which a quantity's values may be written in other units than its own.
DIMENSIONS = {
    "temperature": "temperature",
    "conductivity": "conductivity",
    "redox": "potential",
    "eh": "potential",
    "oxygen": "mass per volume",
    "nitrate": "nitrate",
    "ammonium": "ammonium",
    "chlorine": "mass per volume",
    "total_chlorine": "mass per volume",
    "combined_chlorine": "mass per volume",
    "hypochlorous": "mass per volume",
    "carbon_dioxide": "mass per volume",
    "solids": "mass per volume",
}


def own_unit(quantity: str) -> str:
    """The unit a quantity is kept in, as a table writes it."""
    spec = load_field().get(quantity)
    return {"ph": "pH", "salinity": "PSS-78"}.get(quantity) or (spec.unit if spec else "")


def units_of(quantity: str) -> list[str]:
    """The units a quantity's column may be in, its own first."""
    own, known = own_unit(quantity), UNITS.get(DIMENSIONS.get(quantity, ""), {})
    return [own, *(unit for unit in known if unit != own)]


@dataclass(frozen=True)
class Mapping:
    """How a table is read.

    columns : what is where, {field: column}; quantities : of a table with a column a quantity, {column: (quantity, unit)}
    dates, decimals : a key of DATES, of DECIMALS
    zone : the clock of times without an offset; empty for each site's own
    site_id : the one site of all rows, where no column says it; depth_unit : m or ft
    """

    columns: Mapped[str, str] = field(default_factory=dict)
    quantities: Mapped[str, tuple[str, str]] = field(default_factory=dict)
    dates: str = "iso"
    decimals: str = "point"
    zone: str = ""
    site_id: str = ""
    depth_unit: str = "m"

    def as_dict(self) -> dict[str, Any]:
        """Plain data for keeping."""
        return {
            "columns": dict(self.columns),
            "quantities": {column: list(pair) for column, pair in self.quantities.items()},
            "dates": self.dates,
            "decimals": self.decimals,
            "zone": self.zone,
            "site_id": self.site_id,
            "depth_unit": self.depth_unit,
        }

    @classmethod
    def from_dict(cls, kept: Mapped[str, Any]) -> Mapping:
        """The inverse of `as_dict`."""
        quantities = {column: (pair[0], pair[1]) for column, pair in kept.get("quantities", {}).items()}
        return cls(**{**kept, "quantities": quantities})


def check(kind: str, mapping: Mapping, columns: Sequence[str]) -> list[InputError]:
    """What is wrong with a mapping itself, before any row is read."""
    faults = []
    for key, column in mapping.columns.items():
        if key not in COLUMNS[kind] or column not in columns:
            faults.append(InputError(f"col_{key}"[:40], f"There is no column “{column[:40]}” in this file."))
    missing = [key for key, of in COLUMNS[kind].items() if of.required and key not in mapping.columns]
    if kind == "readings":
        missing = [key for key in missing if key != "site" or not mapping.site_id]
        faults += _of_readings(mapping, columns)
    faults += [
        InputError(f"col_{key}", f"{COLUMNS[kind][key].label}: choose the column that says it.") for key in missing
    ]
    if mapping.dates not in DATES or mapping.decimals not in DECIMALS or mapping.depth_unit not in ("m", "ft"):
        faults.append(InputError("dates", "Choose how dates, numbers and depths are written from the lists."))
    if mapping.zone and mapping.zone not in available_timezones():
        faults.append(InputError("zone", f"“{mapping.zone[:40]}” is not a time zone; write it as Europe/Oslo."))
    return faults


def _of_readings(mapping: Mapping, columns: Sequence[str]) -> list[InputError]:
    faults = []
    long = {"quantity", "value"} & set(mapping.columns)
    if mapping.quantities and long:
        faults.append(
            InputError("col_quantity", "Either each row is of one quantity, or each quantity has a column; not both.")
        )
    elif len(long) == 1 or (not mapping.quantities and not long):
        faults.append(
            InputError("col_quantity", "Say which columns are read: quantity and value, or a column for each quantity.")
        )
    for column, (quantity, unit) in mapping.quantities.items():
        if column not in columns or quantity not in ON_SHEET:
            faults.append(InputError("quantities", f"“{column[:40]}” cannot be read as “{quantity[:40]}”."))
        elif unit not in units_of(quantity):
            known = ", ".join(units_of(quantity))
            faults.append(InputError("quantities", f"{quantity_names.title(quantity)} is read in {known} here."))
    return faults


# -- guessing


def guess(kind: str, columns: Sequence[str]) -> Mapping:
    """What the names of the columns suggest; it is shown, and chosen by a person."""
    found: dict[str, str] = {}
    for key, of in COLUMNS[kind].items():
        named = (key, *of.also)
        match = next((column for name in named for column in columns if _plain(column) == _plain(name)), None)
        if match is not None and match not in found.values():
            found[key] = match
    quantities = {}
    if kind == "readings" and not {"quantity", "value"} <= set(found):
        for key in ("quantity", "value", "unit"):
            found.pop(key, None)
        for column in columns:
            if column not in found.values() and (pair := guess_quantity(column)):
                quantities[column] = pair
        if "temperature" in found and "temperature" not in {q for q, _ in quantities.values()}:
            quantities[found.pop("temperature")] = ("temperature", "°C")
    zone = "UTC" if _plain(found.get("time", "")).endswith("utc") else ""
    return Mapping(found, quantities, zone=zone)


def guess_quantity(column: str) -> tuple[str, str] | None:
    """The quantity and unit that a column's name says, as "Conductivity [mS/cm]" or "oxygen_mg_l"."""
    words, _, unit = re.sub(r"[\[(]", "|", column, count=1).partition("|")
    quantity = find_quantity(words)
    if quantity is None:
        return None
    wanted = unit.rstrip("])").strip()
    fitting = [each for each in units_of(quantity) if _plain(each) == _plain(wanted)]
    return quantity, (fitting or units_of(quantity))[0]


_ALSO = {
    "temp": "temperature",
    "water temperature": "temperature",
    "ec": "conductivity",
    "cond": "conductivity",
    "specific conductance": "conductivity",
    "conductivity 25": "conductivity",
    "orp": "redox",
    "do": "oxygen",
    "dissolved oxygen": "oxygen",
    "do mg l": "oxygen",
    "do percent": "saturation",
    "oxygen saturation": "saturation",
    "tds": "solids",
    "free chlorine": "chlorine",
    "no3 n": "nitrate",
    "nh4 n": "ammonium",
}


def find_quantity(words: str) -> str | None:
    """The key of a quantity as people write it; None where it is none that is known here."""
    plain = _plain(words)
    for key in ON_SHEET:
        if plain in (_plain(key), _plain(quantity_names.name(key)), _plain(quantity_names.column(key))):
            return key
        if plain == _plain(f"{key} {own_unit(key)}"):
            return key
    return _ALSO.get(plain)


def _plain(text: str) -> str:
    spelled = text.replace("°", "").replace("µ", "u").replace("%", " percent ")
    return " ".join(re.sub(r"[^0-9a-z]+", " ", spelled.lower()).split())
