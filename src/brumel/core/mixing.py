"""Mixing and dilution: what a spike of standard, or what is left of the last cup, does to a cup."""

from __future__ import annotations

from brumel.core.checking import Door
from brumel.core.errors import InputError
from brumel.core.working import Ladder, StepResult, Worked


def mixed(value: float, volume_ml: float, added_value: float, added_ml: float) -> Worked:
    """What two portions make together, by volume, with its working [any concentration, mL].

    Holds for concentrations, and nearly for conductivity of dilute solutions of one salt; not for pH. Volumes are taken to
    add up. Raises all faults at once. Source: balance of mass.
    """
    door = Door()
    c = door.number("value", value, 0, 1e7)
    v = door.number("volume_ml", volume_ml, 0.01, 1e6)
    a = door.number("added_value", added_value, 0, 1e7)
    w = door.number("added_ml", added_ml, 0.0, 1e6)
    door.close()
    result = (c * v + a * w) / (v + w)
    ladder = Ladder("Two portions mixed")
    ladder.step(
        "c",
        "the mixture",
        "(c1 · V1 + c2 · V2) / (V1 + V2)",
        StepResult(result, "", digits=4),
        "balance of mass",
        ("c1", "in the cup", c, ""),
        ("V1", "volume of the cup", v, "mL"),
        ("c2", "what is added", a, ""),
        ("V2", "volume added", w, "mL"),
    )
    return Worked(result, "", ladder.done())


def recovery_percent(value: float, volume_ml: float, added_value: float, added_ml: float, read_value: float) -> float:
    """How much of a spike is found again: rise over the rise it should make [%]. Raises all faults at once.

    Reads 100 where the probe is right in this very water; less or more shows what the water does to it. Source: SM4020
    (laboratory-fortified sample), from memory.
    """
    should = mixed(value, volume_ml, added_value, added_ml).value
    door = Door()
    read = door.number("read_value", read_value, 0, 1e7)
    door.close()
    unspiked = value * volume_ml / (volume_ml + added_ml)
    if should - unspiked <= 0:
        raise InputError("added_value", "This spike adds nothing. Give its value and its volume.", value=added_value)
    return 100 * (read - unspiked) / (should - unspiked)
