"""A value against a site's limit: met, near, exceeded, or not to be told."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.sentence import Amount, say
from brumel.core.uncertainty import digits_for


class LimitOutcome(StrEnum):
    """What a limit makes of a value."""

    NONE = ""
    MET = "met"
    NEAR = "near"
    EXCEEDED = "exceeded"
    CANNOT_TELL = "cannot tell"


@dataclass(frozen=True)
class LimitResult:
    """The outcome and its sentence."""

    outcome: LimitOutcome
    sentence: str


def against(
    value: float,
    expanded_uncertainty: float | None,
    low: float | None,
    high: float | None,
    unit: str = "",
    *,
    near: float = 0.1,
) -> LimitResult:
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
        raise InputError(
            "limits",
            say("The lower limit {low} lies above the upper {high}.", low=Amount(low), high=Amount(high)),
            value=low,
        )
    if low is None and high is None:
        return LimitResult(LimitOutcome.NONE, "")
    u = expanded_uncertainty or 0.0
    bare = "" if expanded_uncertainty is not None else " The reading has no stated uncertainty; it is compared bare."
    ends = [(low, -1, "lower"), (high, 1, "upper")]
    worst = LimitResult(LimitOutcome.MET, f"Within its limits by more than its uncertainty.{bare}")
    rank = {LimitOutcome.MET: 0, LimitOutcome.NEAR: 1, LimitOutcome.CANNOT_TELL: 2, LimitOutcome.EXCEEDED: 3}
    span = high - low if low is not None and high is not None else None
    for end, sign, name in ends:
        if end is None:
            continue
        over = sign * (v - end)
        by = Amount(over, unit, f".{digits_for(u)}f" if u > 0 else ".2g", difference=True)
        margin = near * (span if span is not None else abs(end))
        if over > u:
            outcome, words = (
                LimitOutcome.EXCEEDED,
                say("Beyond the {name} limit of {end} by {by}.", name=name, end=Amount(end, unit), by=by),
            )
        elif over > -u and u > 0:
            outcome, words = (
                LimitOutcome.CANNOT_TELL,
                say(
                    "Within ± {u} of the {name} limit of {end}.",
                    u=Amount(u, unit, ".2g", difference=True),
                    name=name,
                    end=Amount(end, unit),
                ),
            )
        elif over > -margin:
            outcome, words = (
                LimitOutcome.NEAR,
                say("Met, but near the {name} limit of {end}.", name=name, end=Amount(end, unit)),
            )
        else:
            continue
        if rank[outcome] > rank[worst.outcome]:
            worst = LimitResult(outcome, words + bare)
    return worst
