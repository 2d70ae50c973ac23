"""The Worksheet's contents, and answering one of its sums from what was typed."""

from __future__ import annotations

from collections.abc import Mapping

from brumel.core.errors import InputError, InputErrors, UnknownName, words_of
from brumel.core.units import UNITS, to_canonical
from brumel.work.desk import NotFound
from brumel.work.worksheet import chemistry, electro, judged, water
from brumel.work.worksheet.model import Answer, QuestionField, Sum

_BY_KEY = {s.key: s for s in (*water.SUMS, *electro.SUMS, *judged.SUMS, *chemistry.SUMS)}


_ORDER = (
    "oxygen",
    "conductivity",
    "buffer",
    "ph",
    "orp",
    "pair",
    "ammonia",
    "chlorine",
    "index",
    "carbon",
    "sulfide",
    "gas",
    "interference",
    "mixing",
    "compare",
    "closing",
    "standard",
    "thermometer",
)


SUMS: tuple[Sum, ...] = tuple(_BY_KEY[k] for k in _ORDER)


def find(key: str) -> Sum:
    """The sum of that key; NotFound for anything else."""
    if key not in _BY_KEY:
        raise NotFound("There is no such sum on the Worksheet.")
    return _BY_KEY[key]


def answer(asked: Sum, numbers: Mapping[str, float | None], words: Mapping[str, str]) -> Answer:
    """The answer from typed numbers, and chosen values and units ("t" and "t_unit"). Raises all faults at once."""
    given: dict[str, float | str | None] = {}
    faults: list[InputError] = []
    for entry in asked.entries:
        try:
            given[entry.key] = _value(entry, numbers, words)
        except InputError as error:
            faults += [_named(entry, f) for f in error.faults]
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return asked.compute(given)


def _value(entry: QuestionField, numbers: Mapping[str, float | None], words: Mapping[str, str]) -> float | str | None:
    if entry.choices:
        chosen = words.get(entry.key, entry.default)
        if chosen not in dict(entry.choices):
            raise UnknownName(entry.label, chosen, dict(entry.choices))
        return chosen
    number = numbers.get(entry.key)
    if number is None or not entry.dimension:
        return number
    unit = words.get(f"{entry.key}_unit") or entry.unit
    return to_canonical(entry.label, number, unit, entry.dimension)


def _named(entry: QuestionField, fault: InputError) -> InputError:
    return InputError(entry.key, words_of(fault), value=fault.value, low=fault.low, high=fault.high, unit=fault.unit)


def units(entry: QuestionField) -> tuple[str, ...]:
    """The units a field may be typed in."""
    return tuple(UNITS[entry.dimension]) if entry.dimension else ()
