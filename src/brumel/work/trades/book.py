"""The trades by quantity, in the order of a whole meter's sitting."""

from __future__ import annotations

from brumel.methods import ORDER
from brumel.work.trades.base import Trade
from brumel.work.trades.conductivity import Conductivity
from brumel.work.trades.others import Chlorine, Ion, Redox, Temperature
from brumel.work.trades.oxygen import Oxygen
from brumel.work.trades.ph import Ph

_ALL: tuple[Trade, ...] = (
    Temperature(), Ph(), Conductivity(), Redox(), Oxygen(), Ion("nitrate"), Ion("ammonium"), Chlorine(),
)  # fmt: skip
TRADES: dict[str, Trade] = {t.quantity: t for t in sorted(_ALL, key=lambda t: ORDER.index(t.quantity))}
WORDS = {
    "temperature": "temperature", "ph": "pH", "conductivity": "conductivity", "redox": "ORP", "oxygen": "oxygen",
    "nitrate": "nitrate", "ammonium": "ammonium", "chlorine": "chlorine",
}  # fmt: skip


def trade(quantity: str) -> Trade:
    """The trade of a quantity."""
    return TRADES[quantity]
