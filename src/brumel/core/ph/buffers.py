"""Buffer tables: pH of a standard at the cup's own temperature.

IUPAC/NIST primary values: [Buck2002], Table 2. Technical families "as printed on bottles": from memory of
printed tables, cross-checked in the tests against the primary table of the same salt where there is one.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from brumel.core.checking import Door, Floats
from brumel.core.errors import InputError, UnknownName
from brumel.core.lookup import at_temperature, label_rows

MEMORY = "from memory"


@dataclass(frozen=True)
class Buffer:
    """A pH standard: values at temperatures, with source and expanded uncertainty (k = 2) [pH]."""

    key: str
    name: str
    temperatures_c: tuple[float, ...]
    values_ph: tuple[float, ...]
    source: str
    expanded_uncertainty_ph: float
    note: str = ""

    @property
    def nominal_ph(self) -> float:
        """The value people call it by: at 25 °C, or at the table's nearest temperature."""
        return float(np.interp(25.0, self.temperatures_c, self.values_ph))


_IUPAC_C = (0.0, 5.0, 10.0, 15.0, 20.0, 25.0, 30.0, 35.0, 37.0, 40.0, 50.0)
_BOTTLE_C = (0.0, 5.0, 10.0, 15.0, 20.0, 25.0, 30.0, 35.0, 40.0, 45.0, 50.0)
_BOTTLE_401 = (4.01, 4.00, 4.00, 4.00, 4.00, 4.01, 4.02, 4.03, 4.04, 4.05, 4.06)
_BOTTLE_700 = (7.12, 7.09, 7.06, 7.04, 7.02, 7.00, 6.99, 6.98, 6.97, 6.97, 6.97)
_BOTTLE_701 = (7.13, 7.10, 7.07, 7.05, 7.03, 7.01, 7.00, 6.99, 6.98, 6.98, 6.98)
_BOTTLE_1001 = (10.32, 10.25, 10.18, 10.12, 10.06, 10.01, 9.97, 9.93, 9.89, 9.86, 9.83)


def _shifted(values: Sequence[float], by: float) -> tuple[float, ...]:
    return tuple(round(v + by, 2) for v in values)


def _iupac(key: str, name: str, *values: float) -> Buffer:
    return Buffer(key, name, _IUPAC_C, values, "Buck2002", 0.01)


def _bottle(key: str, name: str, values: tuple[float, ...], u: float = 0.02, note: str = "") -> Buffer:
    return Buffer(key, name, _BOTTLE_C, values, MEMORY, u, note)


BUFFERS: dict[str, Buffer] = {
    b.key: b
    for b in (
        _iupac(
            "phthalate",
            "phthalate 0.05 mol/kg",
            4.000,
            3.998,
            3.997,
            3.998,
            4.001,
            4.005,
            4.011,
            4.018,
            4.022,
            4.027,
            4.050,
        ),
        _iupac(
            "phosphate",
            "phosphate 0.025 / 0.025 mol/kg",
            6.984,
            6.951,
            6.923,
            6.900,
            6.881,
            6.865,
            6.853,
            6.844,
            6.841,
            6.838,
            6.833,
        ),
        _iupac(
            "phosphate-1:3.5",
            "phosphate 0.008695 / 0.03043 mol/kg",
            7.534,
            7.500,
            7.472,
            7.448,
            7.429,
            7.413,
            7.400,
            7.389,
            7.386,
            7.380,
            7.367,
        ),
        _iupac(
            "borax", "borax 0.01 mol/kg", 9.464, 9.395, 9.332, 9.276, 9.225, 9.180, 9.139, 9.102, 9.088, 9.068, 9.011
        ),
        _iupac(
            "carbonate",
            "carbonate 0.025 / 0.025 mol/kg",
            10.317,
            10.245,
            10.179,
            10.118,
            10.062,
            10.012,
            9.966,
            9.926,
            9.910,
            9.889,
            9.828,
        ),
        _bottle("4.01", "technical 4.01", _BOTTLE_401),
        _bottle("7.00", "technical 7.00", _BOTTLE_700),
        _bottle("7.01", "technical 7.01", _BOTTLE_701),
        _bottle("10.01", "technical 10.01", _BOTTLE_1001),
        _bottle(
            "nominal-4.00",
            "nominal 4.00",
            _shifted(_BOTTLE_401, -0.01),
            0.03,
            "temperature shape of the technical 4.01, chosen; the label wins",
        ),
        _bottle("nominal-7.00", "nominal 7.00", _BOTTLE_700, 0.03, "the label wins"),
        _bottle(
            "nominal-10.00",
            "nominal 10.00",
            _shifted(_BOTTLE_1001, -0.01),
            0.03,
            "temperature shape of the technical 10.01, chosen; the label wins",
        ),
        _bottle("tablet-7", "tablet-made pH 7 (one tablet to 20 mL pure water)", _BOTTLE_700, 0.05),
    )
}

#: Kinds that have no table of their own: only the lot's label can say what they read.
LABEL_ONLY = {"combined": "combined one-step pH and EC solution"}

_ALIASES = {"7": "7.00", "4": "nominal-4.00", "10": "nominal-10.00", "4.00": "nominal-4.00", "10.00": "nominal-10.00"}


def find_buffer(buffer: str | float | Buffer) -> Buffer:
    """The table for a key such as "7.01" or "borax"; raises UnknownName with the nearest match."""
    if isinstance(buffer, Buffer):
        return buffer
    key = f"{buffer:.2f}" if isinstance(buffer, float) else str(buffer).strip().lower()
    key = _ALIASES.get(key, key)
    if key in LABEL_ONLY:
        raise InputError("buffer", f"The {LABEL_ONLY[key]} has no table; enter its label.", value=key)
    if key not in BUFFERS:
        raise UnknownName("buffer", buffer, BUFFERS)
    return BUFFERS[key]


def buffer_ph(buffer: str | float | Buffer, temperature_c: Floats) -> Floats:
    """pH of a standard at the cup's own temperature, linear between the table's temperatures.

    Parameters
    ----------
    buffer : key of BUFFERS, or a Buffer such as a lot's own label table
    temperature_c : scalar or array, within the table's range [°C]

    Returns pH, same shape. Raises OutOfRange outside the table: standards are not extrapolated. Linear
    interpolation adds at most 0.002 pH between points 5 °C apart. Source: the table's own.
    """
    table = find_buffer(buffer)
    return at_temperature(table.name, table.temperatures_c, table.values_ph, temperature_c)


def label_buffer(key: str, name: str, label: Mapping[float, float], expanded_uncertainty_ph: float = 0.02) -> Buffer:
    """A lot's own label table {temperature: pH}, which wins over any family table [°C, pH].

    One value alone is taken as good within 2 °C of its temperature. Raises all faults of the label at once.
    """
    door = Door()
    door.number("expanded_uncertainty", expanded_uncertainty_ph, 0.0005, 0.5)
    temperatures, values = label_rows(label, "ph", 0, 14, 2.0, door)
    return Buffer(key, name, temperatures, values, "label of the lot", expanded_uncertainty_ph)
