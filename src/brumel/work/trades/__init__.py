"""How each quantity is worked on Bench: its signal, what may be typed, what its cups should read, what is suspicious."""

from brumel.work.trades.base import Case, Earlier, Entry, Seen, Trade
from brumel.work.trades.book import TRADES, trade

__all__ = ["TRADES", "Case", "Earlier", "Entry", "Seen", "Trade", "trade"]
