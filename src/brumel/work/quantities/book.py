"""The quantities, in the order of a whole meter's calibration session."""

from __future__ import annotations

from brumel.core.quantity_table import MEASURED
from brumel.work.quantities.base import Quantity
from brumel.work.quantities.conductivity import Conductivity
from brumel.work.quantities.others import Chlorine, Ion, Redox, Temperature
from brumel.work.quantities.oxygen import Oxygen
from brumel.work.quantities.ph import Ph

#: What the quantities of a family do on Bench.
_FAMILIES: dict[str, type[Quantity]] = {
    "temperature": Temperature,
    "ph": Ph,
    "conductivity": Conductivity,
    "redox": Redox,
    "oxygen": Oxygen,
    "ions": Ion,
    "chlorine": Chlorine,
}

QUANTITIES: dict[str, Quantity] = {key: _FAMILIES[row.family](row) for key, row in MEASURED.items()}


def quantity_of(quantity: str) -> Quantity:
    """What a quantity is on Bench."""
    return QUANTITIES[quantity]
