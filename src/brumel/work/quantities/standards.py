"""What a lot is a standard of, and what it should read at the cup's own temperature. A lot's own label wins."""

from __future__ import annotations

import math

import numpy as np

from brumel.core import conductivity, ions, redox
from brumel.core.checking import Door
from brumel.core.constants.measured import NITROGEN_G_MOL
from brumel.core.errors import InputError
from brumel.core.lookup import at_temperature, label_rows
from brumel.core.ph import BUFFERS, Buffer, buffer_ph, label_buffer
from brumel.core.ph.buffers import find_buffer
from brumel.core.quantity_table import IONS, MEASURED
from brumel.methods import StepSpec
from brumel.store.tables import Lot, Probe
from brumel.store.typed_json import LotMeasure

#: What the label of a standard says, for the quantities a solution can be a standard of.
LABELS = {key: row.label for key, row in MEASURED.items() if row.label is not None}


#: A solution that is a standard of two quantities at once, and of which.
COMBINED = "combined"
COMBINES = ("ph", "conductivity")


def parts_of(quantity: str) -> tuple[str, ...]:
    """The quantities a solution is a standard of; `quantity` is one of them, or COMBINED."""
    return COMBINES if quantity == COMBINED else (quantity,)


def families(quantity: str) -> dict[str, str]:
    """Tables a lot may follow where it has no label of its own, by key, with their names."""
    if quantity == "ph":
        return {b.key: b.name for b in BUFFERS.values()}
    if quantity == "conductivity":
        return {k: s.name for k, s in conductivity.STANDARDS.items()}
    if quantity == "redox":
        return {
            "zobell": "ferro/ferricyanide (Zobell)",
            "quinhydrone-4": "quinhydrone in pH 4.01",
            "quinhydrone-7": "quinhydrone in pH 7.01",
        }
    if quantity == "oxygen":
        return {"sulfite": "sulfite zero solution"}
    return {}


def measure(lot: Lot, quantity: str) -> LotMeasure | None:
    """What the lot is for this quantity, None where it is no standard of it."""
    return lot.measures.get(quantity)


def family(lot: Lot, quantity: str) -> str:
    """The table a lot belongs to, empty where it is no standard of the quantity."""
    stored = measure(lot, quantity)
    return stored.family if stored else ""


def label_uncertainty(lot: Lot, quantity: str) -> float:
    """The expanded uncertainty the label states, in the quantity's unit of uncertainty; 0 where it states none."""
    stored = measure(lot, quantity)
    return stored.u or 0.0 if stored else 0.0


def fits(lot: Lot, step: StepSpec, quantity: str, probe: Probe | None = None) -> bool:
    """Whether a lot may stand in the cup of a step: a standard of the quantity, of the kind asked for, in its range."""
    if measure(lot, quantity) is None or step.between is None or not is_made_as(lot, step.made_as):
        return False
    low, high = step.between
    return low <= nominal(lot, quantity, probe) <= high


def is_made_as(lot: Lot, kind: str) -> bool:
    """Whether a lot is of the kind a step asks for; plain buffers are no combined solution and no tablet's."""
    return {"combined": len(lot.measures) > 1, "tablet": lot.container == "tablet"}.get(kind, True)


def buffer_of(lot: Lot) -> Buffer:
    """The buffer table of a pH lot, its own label before its family's."""
    body = measure(lot, "ph")
    if body is None:
        raise InputError("solution", f"{lot.code} is not a pH buffer.")
    if label := body.label_table:
        return label_buffer(lot.code, f"{lot.name} ({lot.code})", label, body.u or 0.0)
    return find_buffer(body.family)


def value(lot: Lot, quantity: str, temperature_c: float, probe: Probe | None = None) -> float:
    """What the lot should read at this temperature [°C], in the quantity's unit; ORP against the probe's own reference.

    Raises OutOfRange beyond the lot's table, InputError where it is no standard of the quantity.
    """
    body = measure(lot, quantity)
    if body is None:
        raise InputError("solution", f"{lot.code} is not a standard for this probe.")
    if quantity == "ph":
        return float(buffer_ph(buffer_of(lot), temperature_c))
    label = body.label_table
    if label and quantity == "conductivity" and len(label) == 1:
        ((label_c, stated),) = label.items()
        return float(conductivity.labelled_us_cm(stated, label_c, temperature_c))
    if label:
        labelled = _from_label(lot, quantity, label, temperature_c)
    elif quantity == "conductivity":
        return float(conductivity.standard_us_cm(body.family, temperature_c))
    elif quantity == "redox":
        return _redox(body.family, temperature_c, probe)
    else:
        labelled = 0.0
    if quantity in IONS:
        return activity(labelled, body, quantity)
    if quantity == "redox":
        return labelled + _reference_shift(body, temperature_c, probe)
    return labelled


def _from_label(lot: Lot, quantity: str, label: dict[float, float], temperature_c: float) -> float:
    limits = LABELS[quantity]
    temperatures, values = label_rows(label, "value", limits.low, limits.high, limits.alone_c, Door())
    return float(np.asarray(at_temperature(f"{lot.name} ({lot.code})", temperatures, values, temperature_c)))


def _redox(family: str, temperature_c: float, probe: Probe | None) -> float:
    electrode = probe.reference_electrode if probe and probe.reference_electrode else "agcl-3m"
    if family == "zobell":
        against_hydrogen = float(redox.zobell_mv(temperature_c))
    else:
        ph = float(buffer_ph("4.01" if family.endswith("4") else "7.01", temperature_c))
        against_hydrogen = float(redox.quinhydrone_mv(ph, temperature_c))
    return float(redox.expected_mv(against_hydrogen, electrode, temperature_c))


def _reference_shift(body: LotMeasure, temperature_c: float, probe: Probe | None) -> float:
    """A label states its value against one reference electrode; the probe may have another [mV]."""
    stated = body.against or "agcl-3m"
    electrode = probe.reference_electrode if probe and probe.reference_electrode else stated
    if electrode == stated:
        return 0.0
    half = redox.reference_electrode_mv
    return float(half(stated, temperature_c)) - float(half(electrode, temperature_c))


def activity(stated_mg_l: float, body: LotMeasure, quantity: str) -> float:
    """The activity of an ion standard [mg/L as N]; a concentration is converted with Davies' equation from its recipe.

    `basis` "activity" is taken as it is; `strength` is the recipe's ionic strength [mol/L], else that of the salt alone.
    """
    if body.basis == "activity":
        return stated_mg_l
    molar = stated_mg_l / 1000 / NITROGEN_G_MOL
    strength = body.strength or molar
    return stated_mg_l * float(ions.activity_coefficient(min(strength, 0.5)))


def nominal(lot: Lot, quantity: str, probe: Probe | None = None) -> float:
    """The value people call it by, at 25 °C or at the table's nearest temperature."""
    body = measure(lot, quantity)
    if body is None:
        raise InputError("solution", f"{lot.code} is not a standard for this probe.")
    if quantity == "ph":
        return buffer_of(lot).nominal_ph
    if label := body.label_table:
        at = min(label, key=lambda t: abs(t - 25.0))
        if quantity in IONS:
            return label[at]
        return value(lot, quantity, at, probe)
    if quantity == "conductivity":
        return conductivity.find_standard(body.family).nominal_us_cm
    return value(lot, quantity, 25.0, probe)


def expanded_uncertainty(lot: Lot, quantity: str, at_value: float, temperature_c: float | None = None) -> float:
    """Expanded uncertainty (k = 2) of the lot at a value, in the quantity's unit; more off a label's only temperature."""
    unit, usual = LABELS[quantity].u_unit, LABELS[quantity].u
    stated = label_uncertainty(lot, quantity) or usual
    body = measure(lot, quantity)
    label = body.label_table if body else None
    if quantity == "conductivity" and label and len(label) == 1 and temperature_c is not None:
        stated = math.hypot(stated, conductivity.label_salt_percent(next(iter(label)), temperature_c))
    return stated / 100 * abs(at_value) if unit == "%" else stated


def table_name(lot: Lot, quantity: str) -> str:
    """Which table counts for the lot, in words."""
    body = measure(lot, quantity)
    if body is None:
        return ""
    return "its own label" if body.label else families(quantity).get(body.family, body.family)


def described(lot: Lot, quantity: str) -> str:
    """What its value rests on, in words: table, basis of the label, and a unit it is printed in."""
    body = lot.measures[quantity]
    words = [table_name(lot, quantity), body.basis, f"printed in {body.unit}" if body.unit else ""]
    return ", ".join(filter(None, [*words, f"factor {body.factor:g}" if body.factor else ""]))
