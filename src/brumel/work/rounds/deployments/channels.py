"""What a deployed logger may record: the quantities of a site, and what is logged beside them without checks of its own."""

from __future__ import annotations

from collections.abc import Sequence

from brumel.core.drift import DriftCriteria
from brumel.core.errors import InputError
from brumel.core.units import UNITS, convert
from brumel.methods.checks import load_checks
from brumel.methods.deployments import load_deployments
from brumel.methods.field import load_field
from brumel.work.quantities import names as quantity_names

#: The kind of unit each channel's values may come in, by the table of units.
_KINDS = {
    "temperature": "temperature",
    "conductivity": "conductivity",
    "redox": "potential",
    "battery": "potential",
    "oxygen": "mass per volume",
    "chlorine": "mass per volume",
    "nitrate": "nitrate",
    "ammonium": "ammonium",
    "air_pressure": "pressure",
    "water_level": "length",
}
#: What a unit is called in a file, beside the names of the table.
_SAME = {"ppm": "mg/L", "C": "°C", "F": "°F", "mg/L": "mg/L as N"}


def known() -> list[str]:
    """Every quantity a channel may have, those with checks first."""
    spec = load_deployments()
    return [*spec.quantities, *spec.beside]


def title(quantity: str) -> str:
    """What a channel is called at the head of a column or a drawing."""
    beside = load_deployments().beside.get(quantity)
    return beside.title if beside else quantity_names.title(quantity)


def words(quantity: str) -> str:
    """What a channel is called within a sentence."""
    beside = load_deployments().beside.get(quantity)
    return beside.title.lower() if beside else quantity_names.name(quantity)


def unit(quantity: str) -> str:
    """The unit its record is kept in."""
    beside = load_deployments().beside.get(quantity)
    return beside.unit if beside else load_field()[quantity].unit


def digits(quantity: str) -> int:
    """Decimals of a value of its record."""
    return 2 if quantity in load_deployments().beside else quantity_names.digits(quantity)


def criteria(quantity: str) -> DriftCriteria | None:
    """When its check holds and how its correction is graded; None for what has no checks of its own."""
    found = load_checks().closing.get(quantity)
    return found.criteria() if found and quantity in load_deployments().quantities else None


def span(quantity: str) -> tuple[float, float]:
    """What its instrument can show at all [unit]."""
    beside = load_deployments().beside.get(quantity)
    return (beside.low, beside.high) if beside else load_field()[quantity].instrument


def least_spread(quantity: str, usual: float) -> float:
    """What it moves by anywhere [unit]."""
    beside = load_deployments().beside.get(quantity)
    return (beside.high - beside.low) / 1000 if beside else load_field()[quantity].least_spread(usual)


def units(quantity: str) -> Sequence[str]:
    """The units a file may have it in, the record's own first."""
    own = unit(quantity)
    kind = _KINDS.get(quantity)
    return [own, *(u for u in UNITS[kind] if u != own)] if kind else [own]


def scale(quantity: str, written: str) -> tuple[float, float]:
    """Factor and offset that bring values in `written` to the record's unit. Raises InputError for another."""
    own = unit(quantity)
    if written == own or quantity not in _KINDS:
        if written not in (own, "", "pH", "psu", "ppt"):
            raise InputError("unit", f"{title(quantity)} cannot be in “{written[:20]}”.", value=written)
        return 1.0, 0.0
    if not written:
        raise InputError("unit", f"{title(quantity)}: say which unit its column is in.")
    kind = _KINDS[quantity]
    own_of_kind = own if own in UNITS[kind] else next(iter(UNITS[kind]))
    named = _SAME.get(written, written) if written not in UNITS[kind] else written
    zero = convert("unit", 0.0, named, own_of_kind, kind)
    return convert("unit", 1.0, named, own_of_kind, kind) - zero, zero
