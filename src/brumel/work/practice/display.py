"""What the meter of a practice world shows: its own units, by the settings it truly has and by what it was set to."""

from __future__ import annotations

import uuid
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from brumel.core.errors import BrumelError
from brumel.store.tables import Probe
from brumel.work.desk import Desk
from brumel.work.practice.attempts import WorldView
from brumel.work.practice.table import ON_DISPLAY, OnTable, Table, on_display, shows
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of

#: So many of its steps below its lowest value a display still shows that value.
NEAR_STEPS = 20


@dataclass(frozen=True)
class Display:
    """What is shown of one probe: (value, unit) in each way of the display, then its temperature."""

    probe: str
    name: str
    lines: tuple[tuple[str, str], ...]


def displays(desk: Desk, view: WorldView) -> list[Display]:
    """The display of each probe of a world at this moment."""
    with desk.read() as session:
        return [
            Display(str(known), probe.name, tuple(_lines(session, view.table, known, probe, desk.clock())))
            for known, probe in view.table.probes.items()
        ]


def _lines(
    session: Session, table: Table, known: uuid.UUID, probe: OnTable, now: datetime
) -> Iterator[tuple[str, str]]:
    y, c = shows(probe, [now])
    case = RunContext(session.get_one(Probe, known), settings=table.truly)
    for entry in on_display(probe.quantity, table.truly):
        value = shown(probe, entry, float(y[0]), float(c[0]), case)
        spec = quantity_of(probe.quantity).entries[entry]
        if value is None:
            yield ("– – –", spec.unit)
            continue
        step = spec.step(value)
        digits = max(0, len(f"{step:.6f}".rstrip("0").partition(".")[2]))
        yield (f"{round(value / step) * step:.{digits}f}".replace("-", "−"), spec.unit)
    if probe.quantity != "temperature":
        yield (f"{float(c[0]):.1f}".replace("-", "−"), "°C")


def shown(probe: OnTable, entry: str, signal: float, temperature_c: float, case: RunContext) -> float | None:
    """What the display shows in one of its ways; None beyond what it can.

    A meter that was set shows what it was set to.
    """
    quantity = quantity_of(probe.quantity)
    try:
        value = quantity.shown(entry, signal, temperature_c, case)
    except BrumelError:
        return None
    if entry == ON_DISPLAY[probe.quantity][0] and quantity.is_display(entry):
        value = probe.set_to_show(value)
    spec = quantity.entries[entry]
    if spec.low - NEAR_STEPS * spec.step(spec.low) < value < spec.low:
        return spec.low  # a trace below nothing is shown as nothing
    return value if spec.low <= value <= spec.high else None
