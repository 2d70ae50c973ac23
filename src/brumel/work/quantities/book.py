"""The quantities, in the order of a whole meter's calibration session."""

from __future__ import annotations

from brumel.methods import ORDER
from brumel.work.quantities.base import Quantity
from brumel.work.quantities.conductivity import Conductivity
from brumel.work.quantities.others import Chlorine, Ion, Redox, Temperature
from brumel.work.quantities.oxygen import Oxygen
from brumel.work.quantities.ph import Ph

_ALL: tuple[Quantity, ...] = (
    Temperature(),
    Ph(),
    Conductivity(),
    Redox(),
    Oxygen(),
    Ion("nitrate"),
    Ion("ammonium"),
    Chlorine(),
)


QUANTITIES: dict[str, Quantity] = {t.quantity: t for t in sorted(_ALL, key=lambda t: ORDER.index(t.quantity))}


WORDS = {
    "temperature": "temperature",
    "ph": "pH",
    "conductivity": "conductivity",
    "redox": "ORP",
    "oxygen": "oxygen",
    "nitrate": "nitrate",
    "ammonium": "ammonium",
    "chlorine": "chlorine",
}


def quantity_of(quantity: str) -> Quantity:
    """The trade of a quantity."""
    return QUANTITIES[quantity]
