"""What leaves in open formats, held to the formats themselves: reference validators, the standards' own examples."""

import csv
import io
import json
import xml.etree.ElementTree as ET
import zipfile
from dataclasses import replace

import jsonschema
import pytest
from frictionless import Package

from brumel.formats import geojson
from brumel.formats.datapackage import LICENCES, TABLES, write_datapackage
from brumel.formats.open_record import UCUM
from brumel.formats.sensorthings import write_sensorthings
from brumel.formats.waterml import QUALITY, write_waterml
from brumel.methods.sources import load_sources, parts_of, uses
from brumel.web.glossary.routes import SAMPLE
from tests.conftest import DATA

PREFIXES = {
    "http://www.opengis.net/waterml/2.0": "wml2",
    "http://www.opengis.net/gml/3.2": "gml",
    "http://www.opengis.net/om/2.0": "om",
    "http://www.w3.org/1999/xlink": "xlink",
    "http://www.opengis.net/sampling/2.0": "sam",
    "http://www.opengis.net/samplingSpatial/2.0": "sams",
    "http://www.opengis.net/swe/2.0": "swe",
    "http://www.w3.org/2001/XMLSchema-instance": "xsi",
}


def missing(record):
    """The same with a value that is missing, and a text that every format has to escape."""
    first = record.readings[0]
    odd = replace(first, id="odd", flag=9, backing='"<&>\n; =2+2', reason="a, “b”\r\nc", expanded_uncertainty=None)
    return replace(record, readings=[*record.readings, odd])


def package_of(record, tmp_path):
    data = write_datapackage(record, "CC-BY-4.0", list(load_sources().items()))
    with zipfile.ZipFile(io.BytesIO(data)) as packed:
        packed.extractall(tmp_path)
    return Package(str(tmp_path / "datapackage.json"))


def test_the_data_package_is_valid_with_its_keys_among_the_tables(tmp_path):
    """By the reference library of the format [FRICTIONLESS]."""
    record = missing(SAMPLE)
    package = package_of(record, tmp_path)
    report = package.validate()
    assert report.valid, report.flatten(["type", "message"])
    rows = package.get_resource("readings").read_rows()
    got = [(r["id"], float(r["value"]), r["unit"], r["flag"]) for r in rows]
    assert got == [(r.id, r.value, r.unit, r.flag) for r in record.readings]
    assert rows[-1]["backing"] == '"<&>\n; =2+2'
    descriptor = json.loads((tmp_path / "datapackage.json").read_text("utf-8"))
    assert descriptor["licenses"] == [{"name": "CC-BY-4.0", "title": LICENCES["CC-BY-4.0"]}]
    told = {f["name"]: f.get("unit") for f in descriptor["resources"][0]["schema"]["fields"]}
    assert (told["altitude_m"], told["latitude"]) == ("m", "degree")
    for table in TABLES.values():
        assert set(table.fields) >= set(table.of.__dataclass_fields__)


@pytest.mark.parametrize(
    ("table", "change", "found"),
    [
        ("readings", lambda row: row | {"site_id": "nowhere"}, "foreign-key"),
        ("readings", lambda row: row | {"value": "seven"}, "type-error"),
        ("sites", lambda row: row | {"id": ""}, "constraint-error"),
        ("calibrations", lambda row: row | {"method_id": "none@1"}, "foreign-key"),
    ],
)
def test_the_validator_sees_what_would_be_wrong(tmp_path, table, change, found):
    package_of(SAMPLE, tmp_path)
    path = tmp_path / f"{table}.csv"
    rows = list(csv.DictReader(path.open(encoding="utf-8", newline="")))
    rows[0] = change(rows[0])
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.DictWriter(file, rows[0])
        writer.writeheader()
        writer.writerows(rows)
    report = Package(str(tmp_path / "datapackage.json")).validate()
    assert found in {kind for kind, *_ in report.flatten(["type"])}


def named(tag):
    space, _, name = tag[1:].partition("}") if tag.startswith("{") else ("", "", tag)
    return f"{PREFIXES[space]}:{name}" if space else name


def examples():
    rules = {}
    for line in (DATA / "waterml2_examples.txt").read_text("utf-8").splitlines():
        if not line.startswith("#"):
            parent, children, attributes = line.split("|")
            rules[parent] = (children.split(), set(attributes.split()))
    return rules


def test_waterml_has_the_elements_in_the_order_of_the_standards_examples():
    """Parents, children, order and attributes as in the examples of OGC 10-126r4 [WATERML2]; no schema is at hand."""
    rules, root = examples(), ET.fromstring(write_waterml(missing(SAMPLE)))
    ids = [value for e in root.iter() for key, value in e.attrib.items() if key.endswith("}id")]
    assert len(ids) == len(set(ids))
    for element in root.iter():
        children, attributes = rules[named(element.tag)]
        order = [named(child.tag) for child in element]
        places = [children.index(child) for child in order]
        assert places == sorted(places), (named(element.tag), order)
        assert {named(key) for key in element.attrib} <= attributes | {"xsi:type"}, named(element.tag)
    here = [e.get("{http://www.w3.org/1999/xlink}href") for e in root.iter() if "featureOfInterest" in e.tag]
    assert {href.removeprefix("#") for href in here} <= set(ids)


def test_waterml_says_the_worth_of_every_value():
    root = ET.fromstring(write_waterml(missing(SAMPLE)))
    spaces = {prefix: space for space, prefix in PREFIXES.items()}
    said = {}
    for pair in root.iterfind(".//wml2:MeasurementTVP", spaces):
        quality = pair.find(".//wml2:quality", spaces).get("{http://www.w3.org/1999/xlink}title")
        value = pair.find("wml2:value", spaces)
        said[pair.find("wml2:time", spaces).text, value.text] = quality
    assert said == {
        ("2026-05-12T08:41:00+02:00", "7.31"): "good",
        ("2026-05-12T08:42:00+02:00", "7.52"): "suspect",
        ("2026-05-12T08:43:00+02:00", "0.11"): "good",
        ("2026-05-12T08:41:00+02:00", None): "missing",
    }
    assert set(QUALITY) == {1, 2, 3, 4, 9}
    codes = {e.get("code") for e in root.iterfind(".//wml2:DefaultTVPMeasurementMetadata/wml2:uom", spaces)}
    assert codes == {"[pH]", "1"} <= set(UCUM.values())


#: The mandatory properties of each entity, and the types of its links [STA, tables 4 to 17]. From memory.
ENTITY = {
    "thing": {"required": ["name", "description", "Datastreams"], "properties": {"Datastreams": {"items": "stream"}}},
    "stream": {
        "required": [
            *("name", "description", "unitOfMeasurement", "observationType"),
            *("Sensor", "ObservedProperty", "Observations"),
        ],
        "properties": {"Observations": {"items": "observation"}},
    },
    "observation": {"required": ["phenomenonTime", "result", "resultTime"], "properties": {}},
}  # fmt: skip


def test_sensorthings_has_what_each_entity_must_have():
    body = json.loads(write_sensorthings(missing(SAMPLE)))
    definitions = {
        name: {
            "type": "object",
            "required": [*rule["required"], "@iot.id"],
            "properties": {
                key: {"type": "array", "minItems": 1, "items": {"$ref": f"#/$defs/{link['items']}"}}
                for key, link in rule["properties"].items()
            },
        }
        for name, rule in ENTITY.items()
    }
    things = {"type": "array", "minItems": 1, "items": {"$ref": "#/$defs/thing"}}
    schema = {"$defs": definitions, "type": "object", "required": ["Things"], "properties": {"Things": things}}
    jsonschema.validate(body, schema)
    streams = body["Things"][0]["Datastreams"]
    assert [(s["ObservedProperty"]["@iot.id"], len(s["Observations"])) for s in streams] == [("ph", 3), ("salinity", 1)]
    assert {o["@iot.id"]: (o["result"], o["resultQuality"]["qartod_flag"]) for o in streams[0]["Observations"]}[
        "odd"
    ] == (None, 9)
    assert body["Things"][0]["Locations"][0]["location"]["coordinates"] == [10.2, 60.1, 41.0]


def test_readings_as_geojson_stand_at_their_sites_with_their_flags():
    body = json.loads(geojson.write_readings(missing(SAMPLE)))
    assert [f["id"] for f in body["features"]] == [r.id for r in missing(SAMPLE).readings]
    assert {tuple(f["geometry"]["coordinates"]) for f in body["features"]} == {(10.2, 60.1, 41.0)}
    assert [f["properties"]["qartod_flag"] for f in body["features"]] == [1, 3, 1, 9]


def test_sources_are_found_in_the_texts_that_name_them():
    text = "USGS-A6.0, stabilization criteria; RFC 7946, not USGS-A6.05 nor xUSGS-A6.0"
    assert [part.text for part in parts_of(text) if part.is_key] == ["USGS-A6.0", "RFC 7946"]
    assert "".join(part.text for part in parts_of(text)) == text
    assert any(use.method == "ph-7-4-10" for each in uses().values() for use in each)
    assert all(key in use.words for key, each in uses().items() for use in each)
