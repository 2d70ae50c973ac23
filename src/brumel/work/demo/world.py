"""The made-up things of the demo by short names, and a clock that stands still until it is told to go on."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from brumel.store.tables import Lot, Meter, Probe, Site, User
from brumel.work.desk import Desk


@dataclass
class World:
    """The made-up things of the demo, by short names."""

    users: dict[str, User]
    meters: dict[str, Meter]
    probes: dict[str, Probe]
    lots: dict[str, Lot]
    sites: dict[str, Site]


class Then:
    """A clock that stands still until it is told to go on."""

    def __init__(self, at: datetime) -> None:
        self.at = at

    def __call__(self) -> datetime:
        return self.at

    def on(self, **delta: float) -> None:
        """Go on by so much."""
        self.at += timedelta(**delta)


def clock_of(desk: Desk) -> Then:
    """The clock of a desk of the demo, which goes on only when told to."""
    assert isinstance(desk.clock, Then)
    return desk.clock
