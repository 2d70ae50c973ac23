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


class Way(NamedTuple):
    """How a value may have come about: what was meant is factor · value + offset, with a question.

    by : what the factor goes with besides: "natural", what brings a conductivity to 25 °C; "full" and "per_full", what
    saturation makes of % and of mg/L
    """

    key: str
    words: str
    factor: float = 1.0
    offset: float = 0.0
    by: str = ""


def ways(quantity: str, tds_factor: float | None = None) -> list[Way]:
    """The slips a value of this quantity may be of, by its own figures alone; a page judges by the same ones."""
    found: list[Way] = []
    if quantity == "conductivity":
        found += [
            Way("thousand", "Was mS/cm taken for µS/cm?", 1000.0),
            Way("thousand", "Was µS/cm taken for mS/cm?", 0.001),
            Way("uncompensated", "Was the value not compensated, and typed as if it were?", by="natural"),
        ]
        if tds_factor:
            found.append(Way("solids", "Was TDS typed for conductivity?", 1 / tds_factor))
    if quantity in _AS_ION:
        found.append(Way("basis", f"Was it as {_ION_NAMES[quantity]}, not as N?", 1 / _AS_ION[quantity]))
    if quantity == "temperature":
        found.append(Way("fahrenheit", "Was it °F?", 1 / 1.8, -32 / 1.8))
    if quantity == "oxygen":
        found += [
            Way("percent", "Was % typed for mg/L?", 0.01, by="full"),
            Way("percent", "Was mg/L typed for %?", 100.0, by="per_full"),
        ]
    if quantity == "redox":
        found.append(Way("sign", "Was the sign lost?", -1.0))
    if quantity in _DIGITS:
        found += [
            Way("ten", "Was a digit lost, or the point misplaced?", 10.0),
            Way("ten", "Was the point left out?", 0.1),
        ]
        if quantity != "conductivity":
            found += [Way("thousand", "Was it µg/L?", 0.001), Way("thousand", "Was the point misplaced?", 1000.0)]
    return found


def natural_factor(temperature_c: float) -> float | None:
    """What brings a conductivity of natural water to 25 °C; None where a slip of it could not be told from the water."""
    if not 0 <= temperature_c <= 35:
        return None
    factor = float(to_reference(1.0, temperature_c, kind="natural"))
    return factor if abs(factor - 1) >= _LEAST_COMPENSATION else None


def _meant(quantity: str, value: float, sight: Sight) -> Iterator[_Meant]:
    for way in ways(quantity, sight.tds_factor):
        by = _by(way.by, sight)
        if by is not None:
            yield _Meant(way.key, way.factor * by * value + way.offset, way.words)


def _by(what: str, sight: Sight) -> float | None:
    """The part of a way's factor that goes with the water's temperature; None where that is not known."""
    if not what:
        return 1.0
    if sight.temperature_c is None:
        return None
    if what == "natural":
        return natural_factor(sight.temperature_c)
    try:
        full = float(saturation_mg_l(sight.temperature_c, sight.salinity, sight.pressure_hpa))
    except InputError:
        return None
    return full if what == "full" else 1 / full
