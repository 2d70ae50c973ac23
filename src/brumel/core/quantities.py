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
    "before": Quantity("reading before cleaning", "", ""),
    "after": Quantity("reading after cleaning", "", ""),
    "beside_before": Quantity("second meter before cleaning", "", ""),
    "beside_after": Quantity("second meter after cleaning", "", ""),
    "standard_read": Quantity("reading in the standard", "", ""),
    "standard_value": Quantity("value of the standard", "", ""),
    "opening_read": Quantity("reading in the standard when set out", "", ""),
    "opening_value": Quantity("value of the standard when set out", "", ""),
    "level": Quantity("level of the series", "", ""),
    "time_share": Quantity("share of the time", "s", ""),
    "amount": Quantity("amount", "", ""),
    "expanded_uncertainty": Quantity("expanded uncertainty", "U", ""),
    "offset_mv": Quantity("offset", "E0", "mV"),
    "slope_percent": Quantity("slope", "s", "%"),
    "isopotential_ph": Quantity("isopotential pH", "pHiso", ""),
    "buffer": Quantity("buffer", "", ""),
    "points": Quantity("points", "", ""),
    "times_s": Quantity("time", "t", "s"),
    "values": Quantity("readings", "y", ""),
    "days": Quantity("days", "t", "d"),
    "reach_d": Quantity("how far ahead", "", "d"),
    "limit": Quantity("limit", "", ""),
    "elapsed_s": Quantity("time in the cup", "t", "s"),
    "conductivity_us_cm": Quantity("conductivity", "κ", "µS/cm"),
    "raw_us_cm": Quantity("conductivity at the sample's own temperature", "κ", "µS/cm"),
    "conductivity_25_us_cm": Quantity("specific conductance", "κ25", "µS/cm at 25 °C"),
    "reading_us_cm": Quantity("reading", "κ", "µS/cm"),
    "expected_us_cm": Quantity("expected conductivity", "κ", "µS/cm"),
    "full_scale_us_cm": Quantity("full scale", "κmax", "µS/cm"),
    "value_us_cm": Quantity("conductivity", "κ", "µS/cm"),
    "conductance_us": Quantity("conductance", "G", "µS"),
    "zero_us": Quantity("air zero", "G0", "µS"),
    "standard": Quantity("standard", "", ""),
    "coefficient_percent": Quantity("temperature coefficient", "a", "%/°C"),
    "reference_c": Quantity("reference temperature", "Tref", "°C"),
    "tds_factor": Quantity("TDS factor", "f", ""),
    "tds_mg_l": Quantity("total dissolved solids", "TDS", "mg/L"),
    "dissolved_mg_l": Quantity("dissolved solids", "TDS", "mg/L"),
    "percent_full_scale": Quantity("share of full scale", "", "%"),
    "salinity": Quantity("salinity", "S", ""),
    "pressure_hpa": Quantity("station pressure", "P", "hPa"),
    "preset_pressure_hpa": Quantity("preset pressure", "P0", "hPa"),
    "sea_level_hpa": Quantity("sea-level pressure", "P", "hPa"),
    "pressure_dbar": Quantity("pressure of the sea", "p", "dbar"),
    "altitude_m": Quantity("altitude", "h", "m"),
    "oxygen_mg_l": Quantity("oxygen", "C", "mg/L"),
    "saturation_percent": Quantity("saturation", "", "%"),
    "share": Quantity("share of saturation", "x", ""),
    "orp_mv": Quantity("ORP", "ORP", "mV"),
    "expected_mv": Quantity("expected potential", "E", "mV"),
    "standard_eh_mv": Quantity("standard's Eh", "Eh", "mV"),
    "tolerance_mv": Quantity("tolerance", "", "mV"),
    "noise_c": Quantity("noise", "", "°C"),
    "resolution_c": Quantity("resolution", "", "°C"),
    "within_hpa": Quantity("weather's reach", "", "hPa"),
    "tolerance_c": Quantity("tolerance", "", "°C"),
    "shown_c": Quantity("shown temperature", "T", "°C"),
    "electrode": Quantity("reference electrode", "", ""),
    "concentration_mg_l": Quantity("concentration", "c", "mg/L"),
    "total_mg_l_as_n": Quantity("total ammonia nitrogen", "TAN", "mg/L as N"),
    "unionised_mg_l": Quantity("un-ionised ammonia", "NH3", "mg/L as N"),
    "ammonium_mg_l": Quantity("ammonium", "NH4", "mg/L as NH4"),
    "ionic_strength_mol_l": Quantity("ionic strength", "I", "mol/L"),
    "charge": Quantity("charge", "z", ""),
    "gap_low_mv": Quantity("smallest gap", "", "mV"),
    "gap_high_mv": Quantity("largest gap", "", "mV"),
    "alone_c": Quantity("reach of a lone value", "", "°C"),
    "apart_c": Quantity("temperatures apart", "", "°C"),
    "total_mg_l": Quantity("total chlorine", "", "mg/L"),
    "free_mg_l": Quantity("free chlorine", "", "mg/L"),
    "total_u_mg_l": Quantity("uncertainty of the total", "U", "mg/L"),
    "free_u_mg_l": Quantity("uncertainty of the free", "U", "mg/L"),
    "calcium_mg_l": Quantity("calcium hardness", "Ca", "mg/L as CaCO3"),
    "alkalinity_mg_l": Quantity("total alkalinity", "alk", "mg/L as CaCO3"),
    "value": Quantity("value", "", ""),
    "correction": Quantity("correction", "", ""),
    "opened_s": Quantity("time of the calibration", "t0", "s"),
    "closed_s": Quantity("time of the closing check", "t1", "s"),
    "at_s": Quantity("time", "t", "s"),
    "minutes": Quantity("duration", "", "min"),
    "not_before_min": Quantity("earliest start", "", "min"),
    "done_min": Quantity("already run", "", "min"),
    "leave_min": Quantity("time to leave", "", "min"),
    "hours": Quantity("hours", "", "h"),
    "now_s": Quantity("time now", "t", "s"),
    "every_s": Quantity("time between samples", "", "s"),
    "air_c": Quantity("temperature of the air", "T", "°C"),
    "water_c": Quantity("temperature of the water", "T", "°C"),
    "seen_mg_l": Quantity("oxygen as read", "C", "mg/L"),
    "expected_mg_l": Quantity("oxygen that should be there", "C", "mg/L"),
    "task": Quantity("task", "", ""),
    "unit": Quantity("unit", "", ""),
    "reference": Quantity("reference", "", ""),
    "label": Quantity("label table", "", ""),
    "expected": Quantity("expected value", "", ""),
    "resolution": Quantity("resolution", "", ""),
    "kind": Quantity("kind", "", ""),
}


def label(field: str) -> str:
    """What people call a field; an unknown name is read out with its underscores as spaces."""
    known = QUANTITIES.get(field)
    return known.label if known else field.replace("_", " ")


def sentence_label(field: str) -> str:
    """The label as it starts a sentence; "pH" keeps its small p."""
    text = label(field)
    return text if text.startswith("pH") else text[:1].upper() + text[1:]


def unit_of(field: str) -> str:
    """The canonical unit of a field, empty where it has none."""
    known = QUANTITIES.get(field)
    return known.unit if known else ""
