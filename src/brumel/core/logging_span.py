"""How long a logger runs before its memory is full."""

from __future__ import annotations

from brumel.core.checking import Door


def days_until_full(records: float, interval_min: float) -> float:
    """Days a memory of so many records lasts at one record an interval [records, min] -> [d].

    Raises NotANumber, OutOfRange. Source: arithmetic; 2 400 records at 5 min fill in 8.3 days.
    """
    door = Door()
    n = door.number("records", records, 1, 1e9)
    m = door.number("interval_min", interval_min, 0.01, 10_080)
    door.close()
    return n * m / 1440
