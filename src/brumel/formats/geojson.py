"""Sites as GeoJSON (RFC 7946), in and out; checked at the door."""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from brumel.core.errors import InputError, InputErrors
from brumel.formats.open_record import OpenRecord

MOST_BYTES = 2_000_000


class _Point(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False)
    type: Literal["Point"]
    coordinates: tuple[float, ...] = Field(min_length=2, max_length=3)


class _Pair(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False)
    usual: tuple[float, float] | None = None
    gross: tuple[float, float] | None = None


class _Limit(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False)
    low: float | None = None
    high: float | None = None
    source: str = Field(default="", max_length=200)


class _Properties(BaseModel):
    model_config = ConfigDict(allow_inf_nan=False, extra="ignore")
    client: str = Field(min_length=1, max_length=80)
    name: str = Field(min_length=1, max_length=80)
    kind: str = "other"
    use: str = Field(default="", max_length=60)
    zone: str = "UTC"
    altitude_m: float
    depths_m: list[float] = Field(default=[], max_length=20)
    ranges: dict[str, _Pair] = {}
    limits: dict[str, _Limit] = {}
    water: dict[str, float | str | None] = {}
    note: str = Field(default="", max_length=600)


class _Feature(BaseModel):
    type: Literal["Feature"]
    id: str | int | None = None
    geometry: _Point | None
    properties: _Properties


class _Collection(BaseModel):
    type: Literal["FeatureCollection"]
    features: list[_Feature] = Field(max_length=500)


def write(features: Iterable[Mapping[str, Any]]) -> str:
    """A FeatureCollection of points, longitude before latitude, as RFC 7946 has it."""
    listed = [
        {
            "type": "Feature",
            "id": f["id"],
            "properties": f["properties"],
            "geometry": None if f["position"] is None else {"type": "Point", "coordinates": list(f["position"])},
        }
        for f in features
    ]
    return json.dumps({"type": "FeatureCollection", "features": listed}, ensure_ascii=False, indent=1, allow_nan=False)


def write_readings(record: OpenRecord) -> str:
    """A FeatureCollection of readings: each a point at its site, or without a place where the site has none."""
    places = {
        site.id: None if site.latitude is None else [site.longitude, site.latitude, site.altitude_m]
        for site in record.sites
    }
    names = {site.id: site.name for site in record.sites}
    listed = [
        {
            "type": "Feature",
            "id": reading.id,
            "properties": {
                "version": reading.version,
                "visit_id": reading.visit_id,
                "site_id": reading.site_id,
                "site": names[reading.site_id],
                "time_utc": f"{reading.at:%Y-%m-%dT%H:%M:%SZ}",
                "depth_m": reading.depth_m,
                "quantity": reading.quantity,
                "value": reading.value,
                "unit": reading.unit,
                "expanded_uncertainty_k2": reading.expanded_uncertainty,
                "qartod_flag": reading.flag,
                "backing": reading.backing,
                "limit_outcome": reading.limit_outcome,
            },
            "geometry": {"type": "Point", "coordinates": places[reading.site_id]} if places[reading.site_id] else None,
        }
        for reading in record.readings
    ]
    return json.dumps({"type": "FeatureCollection", "features": listed}, ensure_ascii=False, allow_nan=False)


def read(data: bytes) -> list[dict[str, Any]]:
    """The features of a file as plain data: position (longitude, latitude) or None, properties.

    Raises InputError naming the feature and the field; a file of over 2 MB, of another type or not UTF-8 is refused.
    """
    if len(data) > MOST_BYTES:
        raise InputError("file", f"The file has {len(data):,} bytes; {MOST_BYTES:,} are taken.")
    try:
        collection = _Collection.model_validate_json(data.decode("utf-8-sig"))
    except UnicodeDecodeError:
        raise InputError("file", "The file is not UTF-8 text.") from None
    except (ValidationError, RecursionError) as error:
        details = error.errors()[:10] if isinstance(error, ValidationError) else []
        faults = [InputError("file", f"The file, at {_where(d['loc'])}: {d['msg']}.") for d in details]
        faults = faults or [InputError("file", "The file cannot be read.")]
        raise faults[0] if len(faults) == 1 else InputErrors(faults) from None
    return [
        {
            "id": None if f.id is None else str(f.id)[:80],
            "position": None if f.geometry is None else f.geometry.coordinates[:2],
            "properties": f.properties.model_dump(mode="json"),
        }
        for f in collection.features
    ]


def _where(loc: tuple[int | str, ...]) -> str:
    words = [f"feature {part + 1}" if isinstance(part, int) and i == 1 else str(part) for i, part in enumerate(loc)]
    return ", ".join(words[1:]) or "its beginning"
