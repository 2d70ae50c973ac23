"""Checking input at the door of a core function: all faults are gathered, then raised at once."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.errors import InputError, InputErrors, NotANumber, OutOfRange, UnknownName, WrongShape
from brumel.core.quantities import label, sentence_label

Floats = float | NDArray[np.float64]


class Door:
    """Collects the faults of one call. Use the values it hands back only after `close()`."""

    def __init__(self) -> None:
        self.faults: list[InputError] = []

    def floats(self, field: str, value: Any, low: float, high: float, why: str = "") -> NDArray[np.float64]:
        """`value` as float64 array of its own shape (0-d for a scalar), finite and within [low, high]."""
        if type(value) is float and low <= value <= high:
            return np.array(value)  # the common case; NaN compares false
        try:
            array = np.asarray(value, dtype=np.float64)
        except (TypeError, ValueError):
            self.faults.append(NotANumber(field, value))
            return np.array(np.nan)
        if array.size == 0:
            self.faults.append(WrongShape(field, f"{sentence_label(field)} has no values.", value=value))
            return array
        lowest, highest = float(np.min(array)), float(np.max(array))
        if not (np.isfinite(lowest) and np.isfinite(highest)):
            bad = array.ravel()[~np.isfinite(array.ravel())]
            self.faults.append(NotANumber(field, float(bad[0])))
        elif lowest < low or highest > high:
            self.faults.append(OutOfRange(field, lowest if lowest < low else highest, low, high, why=why))
        return array

    def number(self, field: str, value: Any, low: float, high: float, why: str = "") -> float:
        """One finite number within [low, high]."""
        if type(value) in (float, int) and low <= value <= high:
            return float(value)  # the common case, without an array for it; NaN compares false
        array = self.floats(field, value, low, high, why)
        if array.ndim:
            self.faults.append(WrongShape(field, f"{sentence_label(field)} must be one number.", value=value))
            return float("nan")
        return float(array)

    def name(self, field: str, value: Any, known: Iterable[str]) -> str:
        """One of the known names."""
        names = list(known)
        if value not in names:
            self.faults.append(UnknownName(field, value, names))
        return str(value)

    def same_length(self, **arrays: NDArray[np.float64]) -> None:
        """All named arrays broadcast together; scalars go with everything."""
        if not any(a.ndim for a in arrays.values()):
            return
        try:
            np.broadcast_shapes(*(a.shape for a in arrays.values()))
        except ValueError:
            sizes = ", ".join(f"{label(n)} {a.shape[0] if a.ndim else 1}" for n, a in arrays.items())
            self.faults.append(WrongShape(next(iter(arrays)), f"The lengths do not match: {sizes}."))

    def add(self, fault: InputError) -> None:
        self.faults.append(fault)

    def close(self) -> None:
        """Raise what was found: the fault itself when there is one, InputErrors when there are more."""
        if len(self.faults) == 1:
            raise self.faults[0]
        if self.faults:
            raise InputErrors(self.faults)


def plain(array: NDArray[np.float64]) -> Floats:
    """A 0-d result as a Python float, anything else as it is."""
    return float(array) if np.ndim(array) == 0 else array


def shape_of(value: Any) -> NDArray[np.float64]:
    """Zeros of the value's shape, for comparing lengths before the value itself is checked elsewhere."""
    try:
        return np.zeros(np.shape(value))
    except ValueError:
        return np.zeros(())  # ragged: the check of the value itself says so
