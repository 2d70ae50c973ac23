"""A data package [FRICTIONLESS]: tables with their schemas, units and sources beside them, in one ZIP file."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any, NamedTuple

from brumel.formats.open_record import OpenCalibration, OpenMethod, OpenProbe, OpenReading, OpenRecord, OpenSite

#: Licences a practice may give its data away under; the first says that nothing was given away.
LICENCES = {
    "other-closed": "As agreed with the practice; not open",
    "CC-BY-4.0": "Creative Commons Attribution 4.0",
    "CC0-1.0": "CC0 1.0",
    "ODbL-1.0": "Open Data Commons Open Database License 1.0",
}


class Field(NamedTuple):
    """A column: its type, what it holds, and its unit."""

    type: str
    about: str
    unit: str = ""
    required: bool = False


class Table(NamedTuple):
    """A table of a package: what its rows are of, its columns, and which of them name rows of others."""

    of: type
    about: str
    fields: Mapping[str, Field]
    names: Mapping[str, str]


TABLES = {
    "sites": Table(
        OpenSite,
        "Places that are read",
        {
            "id": Field("string", "the site", required=True),
            "name": Field("string", "as the practice calls it", required=True),
            "client": Field("string", "whose water it is"),
            "kind": Field("string", "of water"),
            "use": Field("string", "what the water is used for"),
            "zone": Field("string", "time zone, by its IANA name", required=True),
            "latitude": Field("number", "WGS 84, north", "degree"),
            "longitude": Field("number", "WGS 84, east", "degree"),
            "altitude_m": Field("number", "above sea level", "m"),
        },
        {},
    ),
    "probes": Table(
        OpenProbe,
        "What the sites were read with",
        {
            "id": Field("string", "the probe", required=True),
            "name": Field("string", "as the practice calls it"),
            "serial": Field("string", "its serial"),
            "quantity": Field("string", "what it measures, by its key"),
            "meter": Field("string", "the meter it is fitted to now"),
            "meter_serial": Field("string", "serial of that meter"),
        },
        {},
    ),
    "calibrations": Table(
        OpenCalibration,
        "What was in force behind readings",
        {
            "id": Field("string", "the calibration", required=True),
            "number": Field("integer", "as people call it"),
            "probe_id": Field("string", "the probe that was calibrated", required=True),
            "at": Field("datetime", "when, universal time"),
            "valid_until": Field("datetime", "universal time"),
            "method_id": Field("string", "the method it was made by", required=True),
            "method": Field("string", "key of the method"),
            "method_version": Field("integer", "its version"),
            "outcome": Field("string", "fit, care or not"),
            "usable": Field("boolean", "whether it may back readings"),
            "by": Field("string", "who calibrated"),
        },
        {"probe_id": "probes", "method_id": "methods"},
    ),
    "methods": Table(
        OpenMethod,
        "How the probes were calibrated",
        {
            "id": Field("string", "key and version", required=True),
            "key": Field("string", "of the method", required=True),
            "version": Field("integer", "of the method", required=True),
            "title": Field("string", "as people call it"),
            "quantity": Field("string", "of what, by its key"),
            "steps": Field("string", "the cups in their order"),
            "limits": Field("string", "what it was judged by, each with its source"),
        },
        {},
    ),
    "readings": Table(
        OpenReading,
        "Readings as they stand: a correction is a new version under the same id",
        {
            "id": Field("string", "the reading", required=True),
            "version": Field("integer", "of the reading", required=True),
            "visit_id": Field("string", "the visit it belongs to", required=True),
            "site_id": Field("string", "where it was read", required=True),
            "probe_id": Field("string", "what it was read with; empty for what was calculated or found by hand"),
            "calibration_id": Field("string", "the calibration in force; empty where there was none"),
            "quantity": Field("string", "what was measured or calculated, by its key", required=True),
            "title": Field("string", "the same in words"),
            "value": Field("number", "in the unit of the next column", required=True),
            "unit": Field("string", "of value and uncertainty"),
            "expanded_uncertainty": Field("number", "k = 2, in the same unit; empty where it is not known"),
            "at": Field("datetime", "when it was read, universal time", required=True),
            "depth_m": Field("number", "below the surface", "m"),
            "temperature_c": Field("number", "of the sample", "°C"),
            "role": Field("string", "first, or second for a second instrument or method beside it"),
            "how": Field("string", "sensor, manual, calculated, or unknown for what was brought in"),
            "flag": Field("integer", "QARTOD: 1 good, 2 not evaluated, 3 suspect, 4 fail, 9 missing", required=True),
            "backing": Field("string", "what stands behind it"),
            "limit_outcome": Field("string", "against the site's limit: met, cannot tell, exceeded"),
            "signed_by": Field("string", "who signed this version; empty where it waits"),
            "reason": Field("string", "why this version, or why the value may be so"),
        },
        {"site_id": "sites", "probe_id": "probes", "calibration_id": "calibrations"},
    ),
}


def write_datapackage(record: OpenRecord, licence: str, sources: Sequence[tuple[str, str]]) -> bytes:
    """The ZIP file: datapackage.json, and a CSV for each table.

    licence : a key of LICENCES
    sources : keys and titles of what methods and calculations rest on
    """
    rows: dict[str, Sequence[Any]] = {
        "sites": record.sites,
        "probes": record.probes,
        "calibrations": record.calibrations,
        "methods": record.methods,
        "readings": record.readings,
    }
    descriptor = {
        "profile": "tabular-data-package",
        "name": "brumel-record",
        "title": f"Water record of {record.practice}",
        "created": _utc(record.made_at),
        "licenses": [{"name": licence, "title": LICENCES[licence]}],
        "sources": [{"title": f"{key}: {title}"} for key, title in sources],
        "contributors": [{"title": record.practice, "role": "publisher"}],
        "resources": [_resource(name, table) for name, table in TABLES.items()],
    }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("datapackage.json", json.dumps(descriptor, ensure_ascii=False, indent=1))
        for name, table in TABLES.items():
            packed.writestr(f"{name}.csv", _csv(table, rows[name]))
    return out.getvalue()


def _resource(name: str, table: Table) -> dict[str, Any]:
    schema: dict[str, Any] = {
        "fields": [_field(name_of, field) for name_of, field in table.fields.items()],
        "primaryKey": "id",
        "missingValues": [""],
    }
    if table.names:
        schema["foreignKeys"] = [
            {"fields": column, "reference": {"resource": other, "fields": "id"}}
            for column, other in table.names.items()
        ]
    return {
        "profile": "tabular-data-resource",
        "name": name,
        "path": f"{name}.csv",
        "title": table.about,
        "format": "csv",
        "mediatype": "text/csv",
        "encoding": "utf-8",
        "schema": schema,
    }


def _field(name: str, field: Field) -> dict[str, Any]:
    told: dict[str, Any] = {"name": name, "type": field.type, "description": field.about}
    if field.type == "datetime":
        told["format"] = "default"
    if field.unit:
        told["unit"] = field.unit
    if field.required:
        told["constraints"] = {"required": True}
    return told


def _csv(table: Table, rows: Iterable[Any]) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(table.fields)
    for row in rows:
        writer.writerow([_cell(getattr(row, name)) for name in table.fields])
    return out.getvalue()


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, datetime):
        return _utc(value)
    if isinstance(value, float):
        return repr(value)  # the shortest text that reads back as the same number
    return str(value).replace("\x00", "")


def _utc(at: datetime) -> str:
    return f"{at:%Y-%m-%dT%H:%M:%SZ}"
