"""What the open formats are written of: sites, probes, calibrations and readings as plain values."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

#: How a value came to be: read by a sensor, found by a second method by hand, calculated from others, or brought in from
#: a table that did not say.
How = Literal["sensor", "manual", "calculated", "unknown"]

#: Units as UCUM writes them, by how they are written here; what has no dimension is 1.
UCUM = {
    "°C": "Cel",
    "pH": "[pH]",
    "µS/cm": "uS/cm",
    "mV": "mV",
    "mg/L": "mg/L",
    "mg/L as N": "mg/L",
    "%": "%",
    "PSS-78": "1",
    "": "1",
}


@dataclass(frozen=True)
class OpenSite:
    """A site: where it is [degrees, WGS 84; m] and whose water it is."""

    id: str
    name: str
    client: str
    kind: str
    use: str
    zone: str
    latitude: float | None
    longitude: float | None
    altitude_m: float


@dataclass(frozen=True)
class OpenProbe:
    """A probe and the meter it is fitted to."""

    id: str
    name: str
    serial: str
    quantity: str
    meter: str
    meter_serial: str


@dataclass(frozen=True)
class OpenCalibration:
    """A calibration in force behind readings; `method` with its version."""

    id: str
    number: int
    probe_id: str
    at: datetime
    valid_until: datetime
    method: str
    method_version: int
    outcome: str
    usable: bool
    by: str

    @property
    def method_id(self) -> str:
        """The method it was made by, in its version."""
        return f"{self.method}@{self.method_version}"


@dataclass(frozen=True)
class OpenMethod:
    """A method as it was when it was used: `id` is key and version, `limits` each with their source in words."""

    id: str
    key: str
    version: int
    title: str
    quantity: str
    steps: str
    limits: str


@dataclass(frozen=True)
class OpenReading:
    """A reading as it stands. `expanded_uncertainty` is k = 2 in `unit`; `flag` is QARTOD's."""

    id: str
    version: int
    visit_id: str
    site_id: str
    probe_id: str
    calibration_id: str
    quantity: str
    title: str
    value: float
    unit: str
    expanded_uncertainty: float | None
    at: datetime
    depth_m: float | None
    temperature_c: float | None
    role: str
    how: How
    flag: int
    backing: str
    limit_outcome: str
    signed_by: str
    reason: str

    @property
    def ucum(self) -> str:
        """The unit by its UCUM code."""
        return UCUM.get(self.unit, self.unit)


@dataclass(frozen=True)
class OpenRecord:
    """A part of a practice's record, whole in itself: whatever a row names is in it."""

    practice: str
    made_at: datetime
    sites: Sequence[OpenSite]
    probes: Sequence[OpenProbe]
    calibrations: Sequence[OpenCalibration]
    readings: Sequence[OpenReading]
    methods: Sequence[OpenMethod] = ()

    def series(self) -> dict[tuple[str, str, float | None, str, How], list[OpenReading]]:
        """The readings as series: of one site, quantity, depth, role and way, each in the order of time."""
        found: dict[tuple[str, str, float | None, str, How], list[OpenReading]] = {}
        for reading in sorted(self.readings, key=lambda r: (r.site_id, r.quantity, r.at)):
            key = (reading.site_id, reading.quantity, reading.depth_m, reading.role, reading.how)
            found.setdefault(key, []).append(reading)
        return found
