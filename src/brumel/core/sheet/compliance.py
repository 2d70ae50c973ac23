"""A value against a site's limit: met, near, exceeded, or not to be told."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from brumel.core.checking import Door
from brumel.core.errors import InputError


class Outcome(StrEnum):
    """What a limit makes of a value."""

    NONE = ""
    MET = "met"
    NEAR = "near"
    EXCEEDED = "exceeded"
    CANNOT_TELL = "cannot tell"


@dataclass(frozen=True)
class Ruled:
    """The outcome and its sentence."""

    outcome: Outcome
    sentence: str


def against(
    value: float, expanded: float | None, low: float | None, high: float | None, unit: str = "", *, near: float = 0.1
) -> Ruled:
    """Compare a value and its expanded uncertainty with a lower and an upper limit, either of which may be None.

    near : the share of the limit (or of the distance between two) within which a met limit is called near

    Where the uncertainty (k = 2) straddles a limit nobody can tell; without an uncertainty the bare value is compared,
    and said so. Source: GUM; the guard band is as JCGM 106:2012 has it, from memory.
    Raises InputError where the limits are swapped.
    """
    door = Door()
    v = door.number("value", value, -1e9, 1e9)
    door.close()
    if low is not None and high is not None and low >= high:
        raise InputError("limits", f"The lower limit {low:g} lies above the upper {high:g}.", value=low)
    if low is None and high is None:
        return Ruled(Outcome.NONE, "")
    u = expanded or 0.0
    tail = f" {unit}" if unit else ""
    bare = "" if expanded is not None else " The reading has no stated uncertainty; it is compared bare."
    ends = [(low, -1, "lower"), (high, 1, "upper")]
    worst = Ruled(Outcome.MET, f"Within its limits by more than its uncertainty.{bare}")
    rank = {Outcome.MET: 0, Outcome.NEAR: 1, Outcome.CANNOT_TELL: 2, Outcome.EXCEEDED: 3}
    span = high - low if low is not None and high is not None else None
    for end, sign, name in ends:
        if end is None:
            continue
        over = sign * (v - end)
        margin = near * (span if span is not None else abs(end))
        if over > u:
            outcome, words = Outcome.EXCEEDED, f"Beyond the {name} limit of {end:g}{tail} by {over:.3g}{tail}."
        elif over > -u and u > 0:
            outcome, words = Outcome.CANNOT_TELL, f"Within ± {u:.2g}{tail} of the {name} limit of {end:g}{tail}."
        elif over > -margin:
            outcome, words = Outcome.NEAR, f"Met, but near the {name} limit of {end:g}{tail}."
        else:
            continue
        if rank[outcome] > rank[worst.outcome]:
            worst = Ruled(outcome, words + bare)
    return worst
