"""A long record thinned for a drawing: the least and greatest value of each column, gaps left open."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Thinned:
    """Columns with their first time [s], least and greatest value, how many values each holds, and where a gap begins."""

    times_s: Array
    low: Array
    high: Array
    gap_after: NDArray[np.bool_]
    is_single: bool


def thin(times_s: Array, low: Array, high: Array, span: tuple[float, float], columns: int, gap_s: float) -> Thinned:
    """At most `columns` columns of a record in time order; the record itself where it has no more values than that.

    low, high : the same array for single values, else of the parts they are the least and greatest of
    gap_s : times that are further apart are not joined
    """
    if not times_s.size:
        return Thinned(times_s, low, high, np.array([], dtype=bool), True)
    gap = np.append(np.diff(times_s) > gap_s, False)
    if times_s.size <= columns:
        return Thinned(times_s, low, high, gap, low is high)
    width = max(span[1] - span[0], 1e-9) / columns
    column = np.clip(((times_s - span[0]) / width).astype(np.int64), 0, columns - 1)
    first = np.flatnonzero(np.append(True, np.diff(column) > 0))
    # A column that a gap begins or lies in is not joined to the next one.
    gaps = np.logical_or.reduceat(gap, first)
    return Thinned(
        times_s[first],
        np.fmin.reduceat(low, first),
        np.fmax.reduceat(high, first),
        gaps & _lasting(times_s, first, width),
        False,
    )


def _lasting(times_s: Array, first: NDArray[np.int64], width: float) -> NDArray[np.bool_]:
    """Whether the next column's first value lies a whole column away: a gap inside a column is too small to be seen."""
    return np.append(np.diff(times_s[first]) > 1.5 * width, False)
