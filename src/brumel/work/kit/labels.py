"""The label of a lot as it is printed: values by temperature in any unit of the trade, and whether its name agrees."""

from __future__ import annotations

import re
from collections.abc import Mapping

from brumel.core import units
from brumel.core.checking import Door
from brumel.core.constants.chosen import TDS_HIGH, TDS_LOW
from brumel.core.errors import InputError, OutOfRange, words_of
from brumel.core.lookup import label_rows
from brumel.core.sentence import Amount, say
from brumel.store.typed_json import LotMeasure
from brumel.work.quantities import standards
from brumel.work.quantities.book import quantity_of

#: The dimension a label of a quantity is stated in; pH has none.
DIMENSIONS = {
    "conductivity": "conductivity",
    "redox": "potential",
    "oxygen": "mass per volume",
    "nitrate": "nitrate",
    "ammonium": "ammonium",
}
_LINE = re.compile(
    r"^\s*(?P<t>[-−]?\d+(?:[.,]\d+)?\s*(?:°?\s*[CFcf])?)"
    r"\s*[:;=\t ]\s*(?P<value>[-−]?\d+(?:[.,]\d+)?(?:\s*[^\d\s].*)?)\s*$",
    re.ASCII,
)
MOST_LINES = 40


def label_units(quantity: str) -> tuple[str, ...]:
    """The units a label of this quantity may be printed in, the canonical one first."""
    if quantity not in DIMENSIONS:
        return (standards.LABELS[quantity].unit,)
    solids = tuple(u for u in units.SOLIDS if u in ("ppm", "ppt")) if quantity == "conductivity" else ()
    return (*units.choices(DIMENSIONS[quantity]), *solids)


def read_label(
    quantity: str, text: str, unit: str, factor: float | None, faults: list[InputError]
) -> dict[str, float] | None:
    """The lines of a label as {temperature [°C]: value in the quantity's unit}; None where nothing was typed.

    unit : of values that have none behind them; factor : of a label in ppm or ppt. Faults are added to the list.
    """
    lines = [line for line in text.replace("\r", "").split("\n") if line.strip()]
    if not lines:
        return None
    what, before = {"ph": "a pH"}.get(quantity, "a value"), len(faults)
    label: dict[float, float] = {}
    for number, line in enumerate(lines[:MOST_LINES], 1):
        match = _LINE.match(line)
        if not match:
            faults.append(InputError("label", f"Label, line {number}: “{line[:30]}” is not a temperature and {what}."))
            continue
        try:
            t, value = _temperature(match["t"]), _value(quantity, match["value"], unit, factor)
        except InputError as error:
            faults += [
                InputError(f.field, say("Label, line {number}: {words}", number=number, words=words_of(f)))
                for f in error.faults
            ]
            continue
        if t in label:
            faults.append(
                InputError("label", say("Label, line {number}: {t} stands twice.", number=number, t=Amount(t, "°C")))
            )
        label[t] = value
    if label and len(faults) == before:
        row = standards.LABELS[quantity]
        field = {"ph": "ph", "conductivity": "conductivity_us_cm"}.get(quantity, "value")
        try:
            label_rows(label, field, row.low, row.high, row.alone_c, Door())
        except InputError as error:
            faults += error.faults
    return {f"{t:g}": value for t, value in sorted(label.items())}


def _number(text: str) -> float:
    return float(text.replace(",", ".").replace("−", "-"))


def _temperature(text: str) -> float:
    number, unit = units.apart(text.replace(" ", ""))
    return round(units.to_canonical("temperature_c", _number(number), unit or "°C", "temperature"), 4)


def _value(quantity: str, text: str, unit: str, factor: float | None) -> float:
    number, written = units.apart(text.strip(), units.SOLIDS)
    value, unit = _number(number), written or unit or standards.LABELS[quantity].unit
    if quantity not in DIMENSIONS:
        if unit != standards.LABELS[quantity].unit:
            raise InputError("label", f"“{unit[:20]}” is no unit of this label.", value=unit)
        return value
    if quantity == "conductivity" and unit in units.SOLIDS:
        if factor is None:
            raise InputError("factor", f"{unit} means nothing without its factor; give the factor of the label.")
        if not TDS_LOW <= factor <= TDS_HIGH:
            raise OutOfRange("tds_factor", factor, TDS_LOW, TDS_HIGH)
        return value * units.SOLIDS[unit] / factor
    return units.to_canonical("label", value, unit, DIMENSIONS[quantity])


#: A number in a name that can only be meant as the value of a standard: "pH 7.01", "1413 µS/cm", "6.44 ppt".
_IN_NAME = re.compile(
    r"(?:(?P<ph>\bpH)\s*)?(?<![\w.,])(?P<number>\d+(?:[.,]\d+)?)\s*(?P<unit>[µμu]S|mS|mV|ppm|ppt)?(?![\w.,]*\d)", re.I
)
_UNIT_OF = {
    "us": ("conductivity", 1.0),
    "ms": ("conductivity", 1000.0),
    "mv": ("redox", 1.0),
    "ppm": ("conductivity", 1.0),
    "ppt": ("conductivity", 1.0),
}


def name_fault(name: str, measures: Mapping[str, LotMeasure], nominal: Mapping[str, float]) -> InputError | None:
    """A fault where the name gives a value that the label, or the table chosen, does not; None where they agree.

    nominal : the value at 25 °C of each quantity the lot is a standard of. A name agrees to its own last digit.
    """
    for found in _IN_NAME.finditer(name):
        number, unit = found["number"].replace(",", "."), re.sub("[μµ]", "u", (found["unit"] or "").lower())
        is_ph = bool(found["ph"]) or (not unit and "." in number and float(number) <= 14)  # "Buffer 7.01"
        quantity, scale = ("ph", 1.0) if is_ph else _UNIT_OF.get(unit, ("", 1.0))
        if quantity not in nominal:
            continue
        if unit in units.SOLIDS:
            if not (factor := measures[quantity].factor):
                continue
            scale = units.SOLIDS[unit] / factor
        step = 10.0 ** -len(number.partition(".")[2])
        if abs(float(number) * scale - nominal[quantity]) > 0.51 * step * scale:
            written = " ".join(found[0].split())
            stated = quantity_of(quantity).with_unit(nominal[quantity])
            words = "The name says {written}, its label or table {stated}. Put right which of them is wrong."
            return InputError("name", say(words, written=written, stated=stated))
    return None
