"""The samples of a dip as columns, in order."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Trace:
    """The samples of a dip in order: seq, seconds, the signal, °C, and the display where it was typed.

    `entered_as` names what came: the quantity's own signal, or the display in one of its units.
    """

    seq: NDArray[np.int64]
    t_s: NDArray[np.float64]
    signal: NDArray[np.float64]
    temperature_c: NDArray[np.float64]
    displayed: tuple[float | None, ...]
    entered_as: str

    @classmethod
    def none(cls) -> Trace:
        """A trace without a sample."""
        empty = np.array([])
        return cls(empty.astype(int), empty, empty, empty, (), "")

    def joined(self, new: Trace) -> Trace:
        """This trace with newer samples behind it."""
        return Trace(
            np.concatenate([self.seq, new.seq]),
            np.concatenate([self.t_s, new.t_s]),
            np.concatenate([self.signal, new.signal]),
            np.concatenate([self.temperature_c, new.temperature_c]),
            self.displayed + new.displayed,
            new.entered_as,
        )

    def temperature_drift(self, window_s: float = 10.0) -> float | None:
        """How fast the temperature moves over the last window [°C/min]; None while there is too little of it."""
        recent = self.t_s >= self.t_s[-1] - window_s if self.t_s.size else np.array([], dtype=bool)
        if recent.sum() < 5 or self.t_s[-1] - self.t_s[0] < window_s / 2:
            return None
        t, c = self.t_s[recent], self.temperature_c[recent]
        off = t - t.mean()
        return float(off @ c / (off @ off) * 60)

    def seen_until(self, seq: int | None) -> Trace:
        """The trace as far as a page had shown it; whole where the page did not say."""
        if seq is None or not self.seq.size or seq >= self.seq[-1]:
            return self
        n = int(np.searchsorted(self.seq, seq, side="right"))
        return Trace(
            self.seq[:n], self.t_s[:n], self.signal[:n], self.temperature_c[:n], self.displayed[:n], self.entered_as
        )

    def settled_temperature(self, window_s: float) -> float:
        """Median temperature over the last window [°C]."""
        recent = self.t_s >= self.t_s[-1] - window_s
        return float(np.median(self.temperature_c[recent]))
