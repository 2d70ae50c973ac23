"""WaterML 2.0, part 1, timeseries [WATERML2]: a collection of measurement series with the quality of every value."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from datetime import datetime
from zoneinfo import ZoneInfo

from brumel.formats.open_record import UCUM, OpenReading, OpenRecord, OpenSite

_SPACES = {
    "wml2": "http://www.opengis.net/waterml/2.0",
    "om": "http://www.opengis.net/om/2.0",
    "gml": "http://www.opengis.net/gml/3.2",
    "sam": "http://www.opengis.net/sampling/2.0",
    "sams": "http://www.opengis.net/samplingSpatial/2.0",
    "swe": "http://www.opengis.net/swe/2.0",
    "xlink": "http://www.w3.org/1999/xlink",
    "xsi": "http://www.w3.org/2001/XMLSchema-instance",
}
_DEFINED = "http://www.opengis.net/def/waterml/2.0"
#: QARTOD's flags in the standard's terms of quality.
QUALITY = {1: "good", 2: "unchecked", 3: "suspect", 4: "poor", 9: "missing"}
_PROCESS = {"sensor": "Sensor", "manual": "ManualMethod", "calculated": "Algorithm", "unknown": "Unknown"}
#: What a quantity is called where no vocabulary of the outside is at hand.
QUANTITY_URN = "urn:brumel:quantity:"
UNCERTAINTY_URN = "urn:brumel:expanded-uncertainty-k2"

for _prefix, _space in _SPACES.items():
    ET.register_namespace(_prefix, _space)


def write_waterml(record: OpenRecord) -> bytes:
    """The document: a monitoring point a site, an observation a series of one quantity, depth and way of reading."""
    root = ET.Element(_name("wml2:Collection"), {_name("gml:id"): "collection"})
    about = _in(_in(root, "wml2:metadata"), "wml2:DocumentMetadata", {"gml:id": "document"})
    _in(about, "wml2:generationDate", text=_utc(record.made_at))
    _in(about, "wml2:version", {"xlink:href": _SPACES["wml2"], "xlink:title": "WaterML 2.0"})
    _in(about, "wml2:generationSystem", text="Brumel")
    used = {reading.site_id for reading in record.readings}
    zones = {site.id: site.zone for site in record.sites}
    for site in record.sites:
        if site.id in used:
            _point(_in(root, "wml2:samplingFeatureMember"), site, record)
    for number, ((site_id, _, _, _, _), readings) in enumerate(record.series().items(), 1):
        _observation(_in(root, "wml2:observationMember"), number, readings, ZoneInfo(zones[site_id]))
    ET.indent(root)
    return ET.tostring(root, encoding="utf-8", xml_declaration=True)


def _point(parent: ET.Element, site: OpenSite, record: OpenRecord) -> None:
    point = _in(parent, "wml2:MonitoringPoint", {"gml:id": f"site-{site.id}"})
    _in(point, "gml:identifier", {"codeSpace": "urn:brumel:site"}, site.id)
    _in(point, "gml:description", text=f"{site.client}: {site.name}")
    _in(point, "gml:name", {"codeSpace": "urn:brumel:site"}, site.name)
    _in(point, "sam:sampledFeature", {"xlink:href": "urn:brumel:water", "xlink:title": site.kind})
    if site.latitude is not None and site.longitude is not None:
        where = _in(_in(point, "sams:shape"), "gml:Point", {"gml:id": f"place-{site.id}"})
        at = f"{site.latitude} {site.longitude}"  # EPSG 4326 has latitude first
        _in(where, "gml:pos", {"srsName": "urn:ogc:def:crs:EPSG::4326"}, at)
    zone = _in(_in(point, "wml2:timeZone"), "wml2:TimeZone")
    _in(zone, "wml2:zoneOffset", text=record.made_at.astimezone(ZoneInfo(site.zone)).isoformat()[-6:])
    _in(zone, "wml2:zoneAbbreviation", text=site.zone)


def _observation(parent: ET.Element, number: int, readings: list[OpenReading], zone: ZoneInfo) -> None:
    first = readings[0]
    what = _in(parent, "om:OM_Observation", {"gml:id": f"observation-{number}"})
    period = _in(_in(what, "om:phenomenonTime"), "gml:TimePeriod", {"gml:id": f"period-{number}"})
    _in(period, "gml:beginPosition", text=_local(first.at, zone))
    _in(period, "gml:endPosition", text=_local(readings[-1].at, zone))
    instant = _in(_in(what, "om:resultTime"), "gml:TimeInstant", {"gml:id": f"instant-{number}"})
    _in(instant, "gml:timePosition", text=_local(readings[-1].at, zone))
    process = _in(_in(what, "om:procedure"), "wml2:ObservationProcess", {"gml:id": f"process-{number}"})
    _in(process, "wml2:processType", {"xlink:href": f"{_DEFINED}/processType/{_PROCESS[first.how]}"})
    if first.depth_m is not None:
        named = _in(_in(what, "om:parameter"), "om:NamedValue")
        _in(
            named,
            "om:name",
            {"xlink:href": "urn:brumel:depth-below-surface-m", "xlink:title": "Depth below the surface, m"},
        )
        _in(named, "om:value", {"xsi:type": "xs:double"}, f"{first.depth_m:g}")
    _in(what, "om:observedProperty", {"xlink:href": QUANTITY_URN + first.quantity, "xlink:title": first.title})
    _in(what, "om:featureOfInterest", {"xlink:href": f"#site-{first.site_id}"})
    series = _in(_in(what, "om:result"), "wml2:MeasurementTimeseries", {"gml:id": f"series-{number}"})
    default = _in(_in(series, "wml2:defaultPointMetadata"), "wml2:DefaultTVPMeasurementMetadata")
    _in(default, "wml2:uom", {"code": first.ucum})
    _in(default, "wml2:interpolationType", {"xlink:href": f"{_DEFINED}/interpolationType/Discontinuous"})
    for reading in readings:
        _value(_in(_in(series, "wml2:point"), "wml2:MeasurementTVP"), reading, zone)


def _value(pair: ET.Element, reading: OpenReading, zone: ZoneInfo) -> None:
    _in(pair, "wml2:time", text=_local(reading.at, zone))
    if reading.flag == 9:
        _in(pair, "wml2:value", {"xsi:nil": "true"})
    else:
        _in(pair, "wml2:value", text=f"{reading.value:.10g}")
    about = _in(_in(pair, "wml2:metadata"), "wml2:TVPMeasurementMetadata")
    term = QUALITY[reading.flag]
    _in(about, "wml2:quality", {"xlink:href": f"{_DEFINED}/quality/{term}", "xlink:title": term})
    if reading.expanded_uncertainty is not None:
        width = _in(_in(about, "wml2:accuracy"), "swe:Quantity", {"definition": UNCERTAINTY_URN})
        _in(width, "swe:label", text="Expanded uncertainty, k = 2")
        _in(width, "swe:uom", {"code": UCUM.get(reading.unit, reading.unit)})
        _in(width, "swe:value", text=f"{reading.expanded_uncertainty:.4g}")
    _in(about, "wml2:comment", text=f"{reading.backing}; reading {reading.id}, version {reading.version}")


def _name(prefixed: str) -> str:
    prefix, _, name = prefixed.partition(":")
    return f"{{{_SPACES[prefix]}}}{name}" if name else prefixed


def _in(parent: ET.Element, name: str, attributes: dict[str, str] | None = None, text: str | None = None) -> ET.Element:
    made = ET.SubElement(parent, _name(name), {_name(key): value for key, value in (attributes or {}).items()})
    made.text = text
    return made


def _utc(at: datetime) -> str:
    return at.isoformat(timespec="seconds").replace("+00:00", "Z")


def _local(at: datetime, zone: ZoneInfo) -> str:
    return at.astimezone(zone).isoformat(timespec="seconds")
