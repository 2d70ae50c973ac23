"""The made-up things of the demo by short names."""

from __future__ import annotations

from dataclasses import dataclass

from brumel.store.tables import Lot, Meter, Probe, Site, User


@dataclass
class World:
    """The made-up things of the demo, by short names."""

    users: dict[str, User]
    meters: dict[str, Meter]
    probes: dict[str, Probe]
    lots: dict[str, Lot]
    sites: dict[str, Site]
