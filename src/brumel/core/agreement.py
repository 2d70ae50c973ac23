"""Two instruments, one water: difference, relative percent difference, and the normalised error [ISO13528]."""

from __future__ import annotations

import math
from dataclasses import dataclass

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.sentence import Amount, say
from brumel.core.working import Ladder, StepResult, Working


@dataclass(frozen=True)
class Measured:
    """A value with everything that must match before two may be compared."""

    value: float
    expanded_uncertainty: float
    unit: str
    reference: str = ""  # reference temperature, scale or "free"/"total", as its label says


@dataclass(frozen=True)
class Agreement:
    """difference [unit], relative [%] (None where the mean is 0), En, and whether they agree (|En| up to 1)."""

    difference: float
    relative_percent: float | None
    en: float
    agree: bool
    sentence: str
    working: Working


def compare(first: Measured, second: Measured) -> Agreement:
    """Compare like with like. Raises InputError where unit or reference differ, and for bad numbers, all at once.

    En = (a − b) / √(Ua² + Ub²), both U expanded with k = 2; the two agree when |En| is at most 1. Source: ISO13528.
    """
    door = Door()
    for each in (first, second):
        door.number("value", each.value, -1e9, 1e9)
        door.number("expanded_uncertainty", each.expanded_uncertainty, 0, 1e9)
    if first.unit != second.unit:
        door.add(
            InputError("unit", f"Units differ: {first.unit or 'none'} and {second.unit or 'none'}. Convert one first.")
        )
    if first.reference != second.reference:
        door.add(
            InputError(
                "reference",
                f"These are not the same thing: “{first.reference or 'not said'}” and “{second.reference or 'not said'}”.",
            )
        )
    door.close()
    joint = math.hypot(first.expanded_uncertainty, second.expanded_uncertainty)
    if joint == 0:
        raise InputError("expanded_uncertainty", "Expanded uncertainty must be above 0 for at least one of the two.")
    difference = first.value - second.value
    mean = (first.value + second.value) / 2
    relative = 100 * difference / mean if mean else None
    en = difference / joint
    agree = abs(en) <= 1
    words = "agree" if agree else "do not agree"
    sentence = say(
        "They {agree}: they differ by {difference}, {en} times their joint uncertainty of {joint} (limit 1).",
        agree=words,
        difference=Amount(difference, first.unit, "+.3g", difference=True),
        en=Amount(abs(en), "", ".2f"),
        joint=Amount(joint, first.unit, ".2g", difference=True),
    )
    ladder = Ladder("Do two instruments agree?")
    ladder.step(
        "d",
        "difference",
        "d = a − b",
        StepResult(difference, first.unit),
        "",
        ("a", "first", first.value, first.unit),
        ("b", "second", second.value, second.unit),
    )
    if relative is not None:
        ladder.step(
            "RPD",
            "relative percent difference",
            "100·d / mean",
            StepResult(relative, "%", digits=2),
            "common practice, no source",
        )
    ladder.step(
        "U",
        "joint expanded uncertainty",
        "√(Ua² + Ub²)",
        StepResult(joint, first.unit),
        "GUM",
        ("Ua", "of the first", first.expanded_uncertainty, first.unit),
        ("Ub", "of the second", second.expanded_uncertainty, second.unit),
    )
    ladder.step("En", "normalised error", "En = d / U", StepResult(en, "", digits=2), "ISO13528")
    return Agreement(difference, relative, en, agree, sentence, ladder.done())
