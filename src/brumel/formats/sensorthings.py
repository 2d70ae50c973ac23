"""OGC SensorThings, part 1, sensing [STA]: sites, probes, series and observations as its linked entities, in JSON."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any

from brumel.formats.open_record import OpenProbe, OpenReading, OpenRecord, OpenSite
from brumel.formats.waterml import QUANTITY_URN

_MEASUREMENT = "http://www.opengis.net/def/observationType/OGC-OM/2.0/OM_Measurement"
_HOW = {
    "sensor": "read by a probe",
    "manual": "found by a second method, by hand",
    "calculated": "calculated from readings of the same visit",
    "unknown": "brought in from a table",
}


def write_sensorthings(record: OpenRecord) -> bytes:
    """Things with their locations and data streams, each with sensor, property and observations within it."""
    probes = {probe.id: probe for probe in record.probes}
    series = record.series()
    things = [
        _thing(site, [_stream(key, rows, probes) for key, rows in series.items() if key[0] == site.id])
        for site in record.sites
        if any(key[0] == site.id for key in series)
    ]
    body = {"Things": things}
    return json.dumps(body, ensure_ascii=False, allow_nan=False, indent=1).encode()


def _thing(site: OpenSite, streams: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    thing: dict[str, Any] = {
        "@iot.id": site.id,
        "name": site.name,
        "description": f"{site.client}: {site.name}, {site.kind}",
        "properties": {"client": site.client, "use": site.use, "zone": site.zone, "altitude_m": site.altitude_m},
        "Datastreams": streams,
    }
    if site.latitude is not None and site.longitude is not None:
        thing["Locations"] = [
            {
                "@iot.id": f"{site.id}/location",
                "name": site.name,
                "description": "Where the site is read",
                "encodingType": "application/geo+json",
                "location": {"type": "Point", "coordinates": [site.longitude, site.latitude, site.altitude_m]},
            }
        ]
    return thing


def _stream(key: Any, rows: Sequence[OpenReading], probes: Mapping[str, OpenProbe]) -> dict[str, Any]:
    site_id, quantity, depth_m, role, how = key
    first = rows[0]
    used = [probes[id_] for id_ in dict.fromkeys(row.probe_id for row in rows) if id_ in probes]
    deep = "" if depth_m is None else f" at {depth_m:g} m"
    return {
        "@iot.id": f"{site_id}/{quantity}/{'' if depth_m is None else f'{depth_m:g}'}/{role}/{how}",
        "name": f"{first.title}{deep}",
        "description": f"{first.title}{deep}, {_HOW[how]}",
        "observationType": _MEASUREMENT,
        "unitOfMeasurement": {
            "name": first.unit or first.title,
            "symbol": first.unit,
            "definition": f"http://unitsofmeasure.org/ucum.html#{first.ucum}",
        },
        "phenomenonTime": f"{_utc(first.at)}/{_utc(rows[-1].at)}",
        "properties": {"depth_m": depth_m, "role": role},
        "Sensor": _sensor(used, how),
        "ObservedProperty": {
            "@iot.id": quantity,
            "name": first.title,
            "definition": QUANTITY_URN + quantity,
            "description": first.title,
        },
        "Observations": [_observation(row) for row in rows],
    }


def _sensor(used: Sequence[OpenProbe], how: str) -> dict[str, Any]:
    names = ", ".join(f"{probe.name} ({probe.serial})" for probe in used)
    return {
        "@iot.id": "+".join(probe.id for probe in used) or how,
        "name": names or _HOW[how],
        "description": names or _HOW[how],
        "encodingType": "application/json",
        "metadata": json.dumps(
            [{"id": p.id, "serial": p.serial, "meter": p.meter, "meter_serial": p.meter_serial} for p in used],
            ensure_ascii=False,
        ),
    }


def _observation(row: OpenReading) -> dict[str, Any]:
    return {
        "@iot.id": row.id,
        "phenomenonTime": _utc(row.at),
        "resultTime": _utc(row.at),
        "result": None if row.flag == 9 else row.value,
        "resultQuality": {"qartod_flag": row.flag, "expanded_uncertainty_k2": row.expanded_uncertainty},
        "parameters": {
            "version": row.version,
            "visit_id": row.visit_id,
            "calibration_id": row.calibration_id or None,
            "backing": row.backing,
            "temperature_c": row.temperature_c,
            "limit_outcome": row.limit_outcome,
            "signed_by": row.signed_by,
        },
    }


def _utc(at: datetime) -> str:
    return f"{at:%Y-%m-%dT%H:%M:%SZ}"
