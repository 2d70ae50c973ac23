"""Places: what a site allows, in versions with reasons, and sites in and out as GeoJSON."""

import contextlib
import json
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core.errors import InputError, InputErrors
from brumel.formats import geojson
from brumel.work import rounds
from brumel.work.desk import MovedOn, NotAllowed
from brumel.work.rounds import recurrence, site_record
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


# -- places


def test_terms_are_versioned_with_reason_and_two_windows_do_not_overwrite(desk, clock, things):
    with desk.read() as session:
        site = rounds.site_of(session, things.sites["lagoon"])
        place = site_record.Place(
            site.client, site.name, site.kind, site.zone, site.altitude_m, site.latitude, site.longitude
        )
        ranges, limits = (
            site_record.write_lines(x, limits=flag) for x, flag in ((site.ranges, False), (site.limits, True))
        )
    terms = site_record.terms_of(
        "restoration", ranges, limits + "\nsalinity: 2 to 30 | permit 12", {"compensation": "sea"}
    )
    save = dict(place=place, terms=terms, site_id=things.sites["lagoon"], version=1)
    with pytest.raises(NotAllowed):
        site_record.save_site(desk, things.ansa, h.key(), reason="x", **save)
    with pytest.raises(InputError, match="Reason"):
        site_record.save_site(desk, things.ilka, h.key(), **save)
    site_record.save_site(desk, things.ilka, h.key(), reason="The permit came", **save)
    with pytest.raises(MovedOn):
        site_record.save_site(desk, things.ilka, h.key(), reason="Again", **save)
    with desk.read() as session:
        (row,) = site_record.history(session, rounds.site_of(session, things.sites["lagoon"]).id)
        assert (row.version, row.reason, row.body["limits"]["salinity"]["high"]) == (2, "The permit came", 30.0)


@pytest.mark.parametrize(
    ("ranges", "limits", "words"),
    [
        ("ph 6 to 9", "", "Ranges, line 1: write"),
        ("ph: 9 to 6", "", "9 is not below 6"),
        ("ph: 6 to 9\nph: 5 to 8", "", "line 2: ph is there twice"),
        ("ph: six to nine", "", "not a number"),
        ("ph: nan to 9", "", "not a number"),
        ("beauty: 1 to 2", "", "known are temperature"),
        ("", "ph: 6 to 9", "where the limit of ph comes from"),
        ("ph: - to 9", "", "needs both ends"),
    ],
)
def test_wrong_terms_are_named_by_line(ranges, limits, words):
    with pytest.raises(InputError) as caught:
        site_record.terms_of("", ranges, limits, {})
    assert words in " ".join(str(f) for f in caught.value.faults)


def test_sites_go_out_and_come_in_as_geojson_all_or_none(desk, clock, things):
    with desk.read() as session:
        text = geojson.write(site_record.features(rounds.sites_by_client(session)))
    body = json.loads(text)
    assert body["type"] == "FeatureCollection"
    first = body["features"][0]
    assert len(first["geometry"]["coordinates"]) == 3  # longitude, latitude, altitude [RFC 7946, 3.1.1]
    assert -180 <= first["geometry"]["coordinates"][0] <= 180
    same = site_record.take_in(desk, things.ilka, h.key(), features=geojson.read(text.encode()))
    assert (same.made, same.changed) == (0, len(body["features"]))
    first["properties"]["name"] = "A new channel"
    broken = json.loads(json.dumps(first))
    broken["properties"] |= {"name": "Nowhere", "zone": "Mars/Olympus", "kind": "sea of clouds"}
    body["features"] = [first, broken]
    with pytest.raises(InputErrors, match="Feature 2"):
        site_record.take_in(desk, things.ilka, h.key(), features=geojson.read(json.dumps(body).encode()))
    body["features"] = [first]
    assert site_record.take_in(desk, things.ilka, h.key(), features=geojson.read(json.dumps(body).encode())).made == 1


@pytest.mark.parametrize(
    "data",
    [
        b"",
        b"\xff\xfe",
        b"[]",
        b'{"type": "FeatureCollection", "features": [1]}',
        b"{" * 5000,
        b"x" * 2_000_001,
        b'{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Point","coordinates":[1e999,2]},'
        b'"properties":{"client":"a","name":"b","altitude_m":1}}]}',
    ],
)
def test_a_file_that_is_no_geojson_is_refused_with_a_sentence(data):
    with pytest.raises(InputError, match="file"):
        geojson.read(data)


@given(st.text(max_size=60))
def test_no_rule_and_no_line_breaks_the_reader(text):
    for read in (
        lambda: recurrence.occurrences(text, date(2026, 1, 1), date(2026, 1, 1), date(2026, 2, 1)),
        lambda: site_record.read_lines(text, "ranges"),
    ):
        with contextlib.suppress(InputError):
            read()
