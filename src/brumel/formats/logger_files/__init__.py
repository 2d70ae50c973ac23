"""A logger's file of any shape: seen through, shown, mapped, read."""

from brumel.formats.logger_files.reading import MOST_BYTES, LoggedTable, read
from brumel.formats.logger_files.shape import FIXED, ORDERS, Guess, Shape, ShapeColumn
from brumel.formats.logger_files.sniffing import sniff

__all__ = ["FIXED", "MOST_BYTES", "ORDERS", "Guess", "LoggedTable", "Shape", "ShapeColumn", "read", "sniff"]
