"""Reading a printed table at a temperature, and a lot's own label table: what buffers and conductivity standards share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from brumel.core.checking import Door, Floats, plain
from brumel.core.errors import InputError


def at_temperature(
    name: str, temperatures_c: Sequence[float], values: Sequence[float], temperature_c: Floats
) -> Floats:
    """Linear between the table's temperatures; OutOfRange beyond its ends: standards are not extrapolated [°C]."""
    door = Door()
    t = door.floats(
        "temperature_c", temperature_c, temperatures_c[0], temperatures_c[-1], f"The table of {name} ends there."
    )
    door.close()
    return plain(np.interp(t, temperatures_c, values))


def label_rows(
    label: Mapping[float, float], field: str, low: float, high: float, alone_c: float, door: Door
) -> tuple[tuple[float, ...], tuple[float, ...]]:
    """A label {temperature: value} as two columns; one value alone is good within `alone_c` of its temperature [°C].

    `field`, `low` and `high` check the values. Raises all faults, those already at the door among them, at once.
    """
    if not label:
        door.add(InputError("label", "The label table has no values."))
    for t, value in label.items():
        door.number("temperature_c", t, -5, 60)
        door.number(field, value, low, high)
    door.close()
    rows = sorted((float(t), float(v)) for t, v in label.items())
    if len(rows) == 1:
        ((t, v),) = rows
        rows = [(t - alone_c, v), (t + alone_c, v)]
    return tuple(t for t, _ in rows), tuple(v for _, v in rows)
