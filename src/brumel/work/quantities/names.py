"""How the quantities of a sheet are called and written."""

from __future__ import annotations

from brumel.core.quantity_table import MEASURED, ON_SHEET

#: what stands behind a reading, in the order it is listed
BACKING_WORDS = {
    "open": "closing check pending",
    "bracketed": "bracketed",
    "corrected": "corrected",
    "doubtful": "doubtful",
    "not reported": "not reported",
    "unbacked": "no valid calibration",
    "by hand": "second method",
}
BACKINGS = ("open", "bracketed", "corrected", "doubtful", "not reported", "unbacked", "by hand")


#: How a quantity is called at the head of a narrow column; its full name stands in the column's title.
COLUMN_WORDS = {
    "temperature": "temp.",
    "conductivity": "cond.",
    "oxygen": "oxygen",
    "saturation": "sat.",
    "nitrate": "nitrate",
    "ammonium": "ammon.",
    "ammonia": "un-ion.",
    "chlorine": "free Cl",
    "total_chlorine": "total Cl",
    "combined_chlorine": "comb. Cl",
    "hypochlorous": "HOCl",
    "carbon_dioxide": "free CO₂",
}


ORDER = {quantity: i for i, quantity in enumerate(ON_SHEET)}


def name(quantity: str) -> str:
    """The quantity as it stands in a sentence."""
    return ON_SHEET[quantity].on_sheet if quantity in ON_SHEET else quantity


def column(quantity: str) -> str:
    """The quantity at the head of a narrow column."""
    return COLUMN_WORDS.get(quantity) or name(quantity)


def short(quantity: str) -> str:
    """The quantity as a probe or a run is called by it."""
    return MEASURED[quantity].words if quantity in MEASURED else name(quantity)


def backing(state: str) -> str:
    """What stands behind a reading, as people say it; the record keeps its short key."""
    return BACKING_WORDS.get(state, state)


def title(quantity: str) -> str:
    """The quantity at the head of a sentence."""
    words = name(quantity)
    return words if words.startswith("pH") else words[0].upper() + words[1:]


def digits(quantity: str) -> int:
    """Decimals of a value on the sheet."""
    return ON_SHEET[quantity].digits if quantity in ON_SHEET else 2
