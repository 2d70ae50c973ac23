"""How the quantities of a sheet are called and written."""

from __future__ import annotations

#: {quantity: (name in a sentence, digits, order on a sheet)}
NAMES: dict[str, tuple[str, int]] = {
    "temperature": ("temperature", 1),
    "ph": ("pH", 2),
    "conductivity": ("conductivity at 25 °C", 0),
    "salinity": ("salinity", 2),
    "solids": ("TDS", 0),
    "oxygen": ("dissolved oxygen", 2),
    "saturation": ("oxygen saturation", 0),
    "redox": ("ORP", 0),
    "eh": ("Eh", 0),
    "nitrate": ("nitrate as N", 2),
    "ammonium": ("ammonium as N", 3),
    "ammonia": ("un-ionised ammonia as N", 4),
    "chlorine": ("free chlorine", 2),
    "total_chlorine": ("total chlorine", 2),
    "combined_chlorine": ("combined chlorine", 2),
    "hypochlorous": ("hypochlorous acid", 2),
}


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


ORDER = {quantity: i for i, quantity in enumerate(NAMES)}


def name(quantity: str) -> str:
    """The quantity as it stands in a sentence."""
    return NAMES[quantity][0] if quantity in NAMES else quantity


def backing(state: str) -> str:
    """What stands behind a reading, as people say it; the record keeps its short key."""
    return BACKING_WORDS.get(state, state)


def title(quantity: str) -> str:
    """The quantity at the head of a sentence."""
    words = name(quantity)
    return words if words.startswith("pH") else words[0].upper() + words[1:]


def digits(quantity: str) -> int:
    """Decimals of a value on the sheet."""
    return NAMES[quantity][1] if quantity in NAMES else 2
