"""Which slip would make an odd value: a lost digit, a wrong unit or basis, two fields swapped, a compensation left out.

A slip is named only where the value it would have been is what the site's past (or its usual range) makes expect.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from brumel.core.believability import Shown
from brumel.core.conductivity import to_reference
from brumel.core.constants.measured import AMMONIUM_G_MOL, NITRATE_G_MOL, NITROGEN_G_MOL
from brumel.core.errors import InputError
from brumel.core.expectation import Expected
from brumel.core.oxygen import saturation_mg_l
from brumel.core.sentence import Amount, say

#: Concentrations and conductivities: of these a digit or a thousand may be lost.
_DIGITS = frozenset({"conductivity", "nitrate", "ammonium", "chlorine", "total_chlorine", "oxygen"})
#: 1 mg/L as N is so many mg/L as the ion.
_AS_ION = {"nitrate": NITRATE_G_MOL / NITROGEN_G_MOL, "ammonium": AMMONIUM_G_MOL / NITROGEN_G_MOL}
_ION_NAMES = {"nitrate": "NO₃", "ammonium": "NH₄"}
#: Below this share a compensation that was left out cannot be told from the water: chosen.
_LEAST_COMPENSATION = 0.05


@dataclass(frozen=True)
class Sight:
    """What else is known where a value is odd: what is expected of the others, and what was read beside.

    expected, read : by quantity [unit]; names : how they are called
    """

    expected: Mapping[str, Expected] = field(default_factory=dict)
    read: Mapping[str, float] = field(default_factory=dict)
    names: Mapping[str, str] = field(default_factory=dict)
    temperature_c: float | None = None
    salinity: float = 0.0
    pressure_hpa: float = 1013.25
    tds_factor: float | None = None


class Slip(NamedTuple):
    """A slip that would explain a value: its key, its sentence, and the other quantity where two are swapped."""

    key: str
    sentence: str
    partner: str = ""


class _Meant(NamedTuple):
    """What may have been meant: the value it would be [unit], and the question."""

    key: str
    value: float
    words: str


#: From so many values on, all as at the visit before, a sheet is asked whether it was copied: chosen.
COPIED = 3


def repeats(typed: Mapping[str, float], before: Mapping[str, float]) -> bool:
    """Whether a typed sheet repeats what was typed at the visit before, every value to the digit."""
    return len(typed) >= COPIED and all(before.get(quantity) == value for quantity, value in typed.items())


def slip_of(quantity: str, shown: Shown, value: float, sight: Sight) -> Slip | None:
    """The slip that explains an odd value best; None where the value is not odd, or none does [unit]."""
    here = sight.expected.get(quantity)
    if here is None or here.low <= value <= here.high:
        return None
    swapped = _swapped(quantity, shown, value, sight)
    if swapped is not None:
        return swapped
    meant = [m for m in _meant(quantity, value, sight) if here.low <= m.value <= here.high]
    if not meant:
        return None
    best = min(meant, key=lambda m: abs(m.value - here.middle))
    words = say(
        "{name} {value} is not what this site reads, {span}: {meant} would fit. {words}",
        name=shown.name,
        value=shown.amount(value),
        span=shown.span(here.low, here.high),
        meant=shown.amount(best.value),
        words=best.words,
    )
    return Slip(best.key, words)


def _swapped(quantity: str, shown: Shown, value: float, sight: Sight) -> Slip | None:
    """Another field's value that would fit here, as this one would fit there."""
    here = sight.expected[quantity]
    for other, read in sight.read.items():
        there = sight.expected.get(other)
        if other == quantity or there is None or there.low <= read <= there.high:
            continue
        if here.low <= read <= here.high and there.low <= value <= there.high:
            words = say(
                "{name} {value} and {other} {read} would fit the other way round. Were the two swapped?",
                name=shown.name,
                value=Amount(value, "", ".6g"),
                other=sight.names.get(other, other),
                read=Amount(read, "", ".6g"),
            )
            return Slip("swapped", words, other)
    return None


def _meant(quantity: str, value: float, sight: Sight) -> Iterator[_Meant]:
    at_c = sight.temperature_c
    if quantity == "conductivity":
        yield _Meant("thousand", value * 1000, "Was mS/cm taken for µS/cm?")
        yield _Meant("thousand", value / 1000, "Was µS/cm taken for mS/cm?")
        if at_c is not None and 0 <= at_c <= 35:
            factor = float(to_reference(1.0, at_c, kind="natural"))
            if abs(factor - 1) >= _LEAST_COMPENSATION:
                yield _Meant("uncompensated", value * factor, "Was the value not compensated, and typed as if it were?")
        if sight.tds_factor:
            yield _Meant("solids", value / sight.tds_factor, "Was TDS typed for conductivity?")
    if quantity in _AS_ION:
        yield _Meant("basis", value / _AS_ION[quantity], f"Was it as {_ION_NAMES[quantity]}, not as N?")
    if quantity == "temperature":
        yield _Meant("fahrenheit", (value - 32) / 1.8, "Was it °F?")
    if quantity == "oxygen" and at_c is not None:
        yield from _percent(value, at_c, sight)
    if quantity == "redox":
        yield _Meant("sign", -value, "Was the sign lost?")
    if quantity in _DIGITS:
        yield _Meant("ten", value * 10, "Was a digit lost, or the point misplaced?")
        yield _Meant("ten", value / 10, "Was the point left out?")
        if quantity != "conductivity":
            yield _Meant("thousand", value / 1000, "Was it µg/L?")
            yield _Meant("thousand", value * 1000, "Was the point misplaced?")


def _percent(value: float, at_c: float, sight: Sight) -> Iterator[_Meant]:
    """The oxygen field's two units taken for one another."""
    try:
        full = float(saturation_mg_l(at_c, sight.salinity, sight.pressure_hpa))
    except InputError:
        return
    yield _Meant("percent", value * full / 100, "Was % typed for mg/L?")
    yield _Meant("percent", value * 100 / full, "Was mg/L typed for %?")
