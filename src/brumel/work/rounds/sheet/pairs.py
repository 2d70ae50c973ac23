"""Second instruments, repeats and second methods beside the first reading of a visit."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from brumel.core.agreement import Agreement, Measured, compare
from brumel.store.tables import Reading


@dataclass(frozen=True)
class ReadingPair:
    """A reading and another of the same water; how they agree, where both state an uncertainty."""

    first: Reading
    other: Reading
    agreement: Agreement | None


def pairs(kept: Sequence[Reading]) -> list[ReadingPair]:
    """Every further reading of a quantity and depth beside the first one, by their normalised error."""
    firsts = {(r.quantity, r.depth_m): r for r in reversed(kept) if r.role == "first"}
    paired = []
    for other in kept:
        first = firsts.get((other.quantity, other.depth_m))
        if other.role == "first" or first is None or other.parents:
            continue
        agreement = None
        if first.expanded_uncertainty and other.expanded_uncertainty:
            agreement = compare(
                Measured(first.value, first.expanded_uncertainty, first.unit),
                Measured(other.value, other.expanded_uncertainty, other.unit),
            )
        paired.append(ReadingPair(first, other, agreement))
    return paired
