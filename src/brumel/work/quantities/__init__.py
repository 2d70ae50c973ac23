"""What each quantity is: its signal, what may be typed, what its standards read, what is suspicious, and its words."""

from brumel.work.quantities.base import CupReading, Earlier, Quantity, RunContext, SignalEntry
from brumel.work.quantities.book import QUANTITIES, quantity_of

__all__ = ["QUANTITIES", "CupReading", "Earlier", "Quantity", "RunContext", "SignalEntry", "quantity_of"]
