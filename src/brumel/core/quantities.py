"""The names of the trade: each parameter name of core with its label, symbol and canonical unit.

The glossary (docs/glossary.md) is held to this table by a test, so a synonym cannot slip in.
"""

from __future__ import annotations

from typing import NamedTuple


class NamedQuantity(NamedTuple):
    """A named quantity: label for people, symbol for formulas, canonical unit."""

    label: str
    symbol: str
    unit: str


QUANTITIES: dict[str, NamedQuantity] = {
    "temperature_c": NamedQuantity("temperature", "T", "°C"),
    "millivolts": NamedQuantity("electrode signal", "E", "mV"),
    "ph": NamedQuantity("pH", "pH", ""),
    "displayed_ph": NamedQuantity("displayed pH", "pH", ""),
    "expected_ph": NamedQuantity("expected pH", "pH", ""),
    "temperatures_c": NamedQuantity("temperatures", "T", "°C"),
    "before": NamedQuantity("reading before cleaning", "", ""),
    "after": NamedQuantity("reading after cleaning", "", ""),
    "beside_before": NamedQuantity("second meter before cleaning", "", ""),
    "beside_after": NamedQuantity("second meter after cleaning", "", ""),
    "standard_read": NamedQuantity("reading in the standard", "", ""),
    "standard_value": NamedQuantity("value of the standard", "", ""),
    "opening_read": NamedQuantity("reading in the standard when set out", "", ""),
    "opening_value": NamedQuantity("value of the standard when set out", "", ""),
    "level": NamedQuantity("level of the series", "", ""),
    "time_share": NamedQuantity("share of the time", "s", ""),
    "amount": NamedQuantity("amount", "", ""),
    "expanded_uncertainty": NamedQuantity("expanded uncertainty", "U", ""),
    "offset_mv": NamedQuantity("offset", "E0", "mV"),
    "slope_percent": NamedQuantity("slope", "s", "%"),
    "isopotential_ph": NamedQuantity("isopotential pH", "pHiso", ""),
    "buffer": NamedQuantity("buffer", "", ""),
    "points": NamedQuantity("points", "", ""),
    "times_s": NamedQuantity("time", "t", "s"),
    "values": NamedQuantity("readings", "y", ""),
    "days": NamedQuantity("days", "t", "d"),
    "reach_d": NamedQuantity("how far ahead", "", "d"),
    "limit": NamedQuantity("limit", "", ""),
    "elapsed_s": NamedQuantity("time in the cup", "t", "s"),
    "conductivity_us_cm": NamedQuantity("conductivity", "κ", "µS/cm"),
    "raw_us_cm": NamedQuantity("conductivity at the sample's own temperature", "κ", "µS/cm"),
    "conductivity_25_us_cm": NamedQuantity("specific conductance", "κ25", "µS/cm at 25 °C"),
    "reading_us_cm": NamedQuantity("reading", "κ", "µS/cm"),
    "expected_us_cm": NamedQuantity("expected conductivity", "κ", "µS/cm"),
    "full_scale_us_cm": NamedQuantity("full scale", "κmax", "µS/cm"),
    "value_us_cm": NamedQuantity("conductivity", "κ", "µS/cm"),
    "conductance_us": NamedQuantity("conductance", "G", "µS"),
    "zero_us": NamedQuantity("air zero", "G0", "µS"),
    "standard": NamedQuantity("standard", "", ""),
    "coefficient_percent": NamedQuantity("temperature coefficient", "a", "%/°C"),
    "reference_c": NamedQuantity("reference temperature", "Tref", "°C"),
    "tds_factor": NamedQuantity("TDS factor", "f", ""),
    "tds_mg_l": NamedQuantity("total dissolved solids", "TDS", "mg/L"),
    "dissolved_mg_l": NamedQuantity("TDS", "TDS", "mg/L"),
    "percent_full_scale": NamedQuantity("share of full scale", "", "%"),
    "salinity": NamedQuantity("salinity", "S", ""),
    "pressure_hpa": NamedQuantity("station pressure", "P", "hPa"),
    "interval_s": NamedQuantity("interval", "Δt", "s"),
    "base_c": NamedQuantity("base temperature", "Tb", "°C"),
    "gap_s": NamedQuantity("longest step that is no gap", "", "s"),
    "memory_records": NamedQuantity("memory in records", "n", ""),
    "battery_days": NamedQuantity("battery life", "", "d"),
    "planned_d": NamedQuantity("planned time", "", "d"),
    "preset_salinity": NamedQuantity("preset salinity", "S0", ""),
    "preset_pressure_hpa": NamedQuantity("preset pressure", "P0", "hPa"),
    "sea_level_hpa": NamedQuantity("sea-level pressure", "P", "hPa"),
    "pressure_dbar": NamedQuantity("pressure of the sea", "p", "dbar"),
    "site_min": NamedQuantity("minutes at a site", "", "min"),
    "speed_kmh": NamedQuantity("speed between sites", "", "km/h"),
    "way_min": NamedQuantity("minutes there and home", "", "min"),
    "between_min": NamedQuantity("minutes between all sites", "", "min"),
    "altitude_m": NamedQuantity("altitude", "h", "m"),
    "oxygen_mg_l": NamedQuantity("oxygen", "C", "mg/L"),
    "saturation_percent": NamedQuantity("saturation", "", "%"),
    "share": NamedQuantity("share of saturation", "x", ""),
    "orp_mv": NamedQuantity("ORP", "ORP", "mV"),
    "expected_mv": NamedQuantity("expected potential", "E", "mV"),
    "standard_eh_mv": NamedQuantity("standard's Eh", "Eh", "mV"),
    "tolerance_mv": NamedQuantity("tolerance", "", "mV"),
    "noise_c": NamedQuantity("noise", "", "°C"),
    "resolution_c": NamedQuantity("resolution", "", "°C"),
    "within_hpa": NamedQuantity("weather's reach", "", "hPa"),
    "tolerance_c": NamedQuantity("tolerance", "", "°C"),
    "shown_c": NamedQuantity("shown temperature", "T", "°C"),
    "electrode": NamedQuantity("reference electrode", "", ""),
    "concentration_mg_l": NamedQuantity("concentration", "c", "mg/L"),
    "total_mg_l_as_n": NamedQuantity("total ammonia nitrogen", "TAN", "mg/L as N"),
    "unionised_mg_l": NamedQuantity("un-ionised ammonia", "NH3", "mg/L as N"),
    "ammonium_mg_l": NamedQuantity("ammonium", "NH4", "mg/L as NH4"),
    "ionic_strength_mol_l": NamedQuantity("ionic strength", "I", "mol/L"),
    "charge": NamedQuantity("charge", "z", ""),
    "gap_low_mv": NamedQuantity("smallest gap", "", "mV"),
    "gap_high_mv": NamedQuantity("largest gap", "", "mV"),
    "alone_c": NamedQuantity("reach of a lone value", "", "°C"),
    "apart_c": NamedQuantity("temperatures apart", "", "°C"),
    "total_mg_l": NamedQuantity("total chlorine", "", "mg/L"),
    "free_mg_l": NamedQuantity("free chlorine", "", "mg/L"),
    "total_u_mg_l": NamedQuantity("uncertainty of the total", "U", "mg/L"),
    "free_u_mg_l": NamedQuantity("uncertainty of the free", "U", "mg/L"),
    "calcium_mg_l": NamedQuantity("calcium hardness", "Ca", "mg/L as CaCO3"),
    "alkalinity_mg_l": NamedQuantity("total alkalinity", "alk", "mg/L as CaCO3"),
    "sulfide_mg_l": NamedQuantity("total sulfide", "S", "mg/L as S"),
    "over_hpa": NamedQuantity("gas pressure over the air's", "ΔP", "hPa"),
    "cyanuric_mg_l": NamedQuantity("cyanuric acid", "CYA", "mg/L"),
    "chloride_mg_l": NamedQuantity("chloride", "Cl", "mg/L"),
    "potassium_mg_l": NamedQuantity("potassium", "K", "mg/L"),
    "other_mg_l": NamedQuantity("the other ion", "c", "mg/L"),
    "selectivity": NamedQuantity("selectivity of the tip", "K", ""),
    "volume_ml": NamedQuantity("volume of the cup", "V1", "mL"),
    "added_ml": NamedQuantity("volume added", "V2", "mL"),
    "added_value": NamedQuantity("value of what is added", "c2", ""),
    "read_value": NamedQuantity("value read after it", "c", ""),
    "from_mg_l": NamedQuantity("concentration before", "c1", "mg/L"),
    "to_mg_l": NamedQuantity("concentration after", "c2", "mg/L"),
    "solids_mg_l": NamedQuantity("TDS as displayed", "TDS", "mg/L"),
    "days_ago": NamedQuantity("days before now", "t", "d"),
    "battery_percent": NamedQuantity("battery", "", "%"),
    "nominal_per_cm": NamedQuantity("nominal cell constant", "K", "/cm"),
    "label_c": NamedQuantity("temperature of the label", "T", "°C"),
    "displayed_mg_l": NamedQuantity("displayed concentration", "c", "mg/L"),
    "value": NamedQuantity("value", "", ""),
    "correction": NamedQuantity("correction", "", ""),
    "opened_s": NamedQuantity("time of the calibration", "t0", "s"),
    "closed_s": NamedQuantity("time of the closing check", "t1", "s"),
    "at_s": NamedQuantity("time", "t", "s"),
    "minutes": NamedQuantity("duration", "", "min"),
    "not_before_min": NamedQuantity("earliest start", "", "min"),
    "done_min": NamedQuantity("already run", "", "min"),
    "leave_min": NamedQuantity("time to leave", "", "min"),
    "hours": NamedQuantity("hours", "", "h"),
    "now_s": NamedQuantity("time now", "t", "s"),
    "every_s": NamedQuantity("time between samples", "", "s"),
    "tau_s": NamedQuantity("time constant", "τ", "s"),
    "slow_s": NamedQuantity("slower time constant", "τ2", "s"),
    "slowest_s": NamedQuantity("slowest time constant", "τmax", "s"),
    "apart_s": NamedQuantity("time between two values", "Δt", "s"),
    "air_c": NamedQuantity("temperature of the air", "T", "°C"),
    "water_c": NamedQuantity("temperature of the water", "T", "°C"),
    "seen_mg_l": NamedQuantity("oxygen as read", "C", "mg/L"),
    "expected_mg_l": NamedQuantity("oxygen that should be there", "C", "mg/L"),
    "task": NamedQuantity("task", "", ""),
    "unit": NamedQuantity("unit", "", ""),
    "reference": NamedQuantity("reference", "", ""),
    "label": NamedQuantity("label table", "", ""),
    "expected": NamedQuantity("expected value", "", ""),
    "resolution": NamedQuantity("resolution", "", ""),
    "kind": NamedQuantity("kind", "", ""),
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
