"""Values of a long record packed some thousand at a time, with the least and greatest of every few beside them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

#: Values of a block, and of a part of it. A view of a drawing reads whole blocks, their parts, or their ends alone.
SIZE, PART = 4096, 64
_FAILED = 4

Times = NDArray[np.int64]
Values = NDArray[np.float64]
Flags = NDArray[np.int8]


@dataclass(frozen=True)
class Packed:
    """A block: its first and last time [µs], how many values, how many are odd, the least and greatest, and the bytes."""

    number: int
    starts_us: int
    ends_us: int
    count: int
    odd: int
    low: float | None
    high: float | None
    parts: bytes
    samples: bytes


def pack(times_us: Times, values: Values, flags: Flags) -> Iterator[Packed]:
    """The blocks of a channel, in time order. The three arrays have one length; a missing value is NaN."""
    shown = np.where(flags >= _FAILED, np.nan, values)
    for number, first in enumerate(range(0, times_us.size, SIZE)):
        here = slice(first, first + SIZE)
        t, seen = times_us[here], shown[here]
        starts = np.arange(0, t.size, PART)
        low, high = np.fmin.reduceat(seen, starts), np.fmax.reduceat(seen, starts)
        is_seen = bool(np.isfinite(low).any())
        yield Packed(
            number,
            int(t[0]),
            int(t[-1]),
            int(t.size),
            int((flags[here] > 2).sum()),
            float(np.nanmin(low)) if is_seen else None,
            float(np.nanmax(high)) if is_seen else None,
            t[starts].tobytes() + low.tobytes() + high.tobytes(),
            t.tobytes() + values[here].tobytes() + flags[here].tobytes(),
        )


def samples(packed: bytes) -> tuple[Times, Values, Flags]:
    """Times, values and flags of a block."""
    count = len(packed) // 17
    return (
        np.frombuffer(packed, np.int64, count),
        np.frombuffer(packed, np.float64, count, 8 * count),
        np.frombuffer(packed, np.int8, count, 16 * count),
    )


def parts(packed: bytes) -> tuple[Times, Values, Values]:
    """First times, least and greatest values of the parts of a block; NaN where all of a part failed."""
    count = len(packed) // 24
    return (
        np.frombuffer(packed, np.int64, count),
        np.frombuffer(packed, np.float64, count, 8 * count),
        np.frombuffer(packed, np.float64, count, 16 * count),
    )
