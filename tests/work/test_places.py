"""Places: what a site allows, in versions with reasons, and sites in and out as GeoJSON."""

import contextlib
import json
import uuid
from dataclasses import replace
from datetime import date

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import select

from brumel.core.errors import InputError, InputErrors
from brumel.formats import geojson
from brumel.store.tables import Audit, Site
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


def the_lagoon(desk, things, **other):
    """The lagoon's site as it stands, but for what is another."""
    with desk.read() as session:
        site = rounds.site_of(session, things.sites["lagoon"])
        names = ("client", "name", "kind", "zone", "altitude_m", "latitude", "longitude", "note")
        place = {name: getattr(site, name) for name in names} | {"depths": tuple(site.depths)} | other
        terms = site_record.Terms(site.use, site.ranges, site.limits, site.water)
        return site_record.Place(**place), terms, site.terms_version, (site.latitude, site.longitude)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"altitude_m": 250.0}, "Oxygen is judged by it"),
        ({"latitude": lambda lat, lon: lat + 0.02}, "move the site by 2.2 km"),
        ({"latitude": lambda lat, lon: lon, "longitude": lambda lat, lon: lat}, "are swapped"),
    ],
)
def test_a_site_that_moves_far_is_asked_about_and_kept_with_before_and_after(desk, things, change, words):
    position = the_lagoon(desk, things)[3]
    change = {name: value(*position) if callable(value) else value for name, value in change.items()}
    place, terms, version, _ = the_lagoon(desk, things, **change)
    save = dict(place=place, terms=terms, site_id=things.sites["lagoon"], version=version)
    with pytest.raises(InputError, match=words):
        site_record.save_site(desk, things.ilka, h.key(), **save)
    site_record.save_site(desk, things.ilka, h.key(), reason="Surveyed anew", **save)
    with desk.read() as session:
        row = site_record.history(session, rounds.site_of(session, things.sites["lagoon"]).id)[0]
        saved = select(Audit).where(Audit.action == "site.save").order_by(Audit.at.desc())
        detail = session.scalars(saved).first().detail
    assert (row.version, row.reason) == (version + 1, "Surveyed anew")
    for name, value in change.items():
        assert row.body["place"][name] == value
        assert detail["changed"][name][1] == value


def test_small_changes_need_no_reason_nothing_makes_no_version_and_a_swapped_new_site_is_noticed(desk, things):
    place, terms, version, (lat, lon) = the_lagoon(desk, things)
    save = dict(terms=terms, site_id=things.sites["lagoon"])
    site_record.save_site(desk, things.ilka, h.key(), place=place, version=version, **save)
    assert the_lagoon(desk, things)[2] == version
    near = replace(place, altitude_m=place.altitude_m + 5)
    site_record.save_site(desk, things.ilka, h.key(), place=near, version=version, **save)
    assert the_lagoon(desk, things)[2] == version + 1
    new = replace(place, name="Another creek", latitude=lon, longitude=lat)
    with pytest.raises(InputError, match="look swapped"):
        site_record.save_site(desk, things.ilka, h.key(), place=new, terms=terms)
    site_record.save_site(desk, things.ilka, h.key(), place=replace(new, latitude=lat, longitude=lon), terms=terms)


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

    def taken():
        found = site_record.take_in(desk, things.ilka, h.key(), features=geojson.read(json.dumps(body).encode()))
        return found.made, found.changed

    assert taken() == (0, 1)  # known by its id, whatever it is called now
    first |= {"id": str(uuid.UUID(int=9)), "properties": first["properties"] | {"name": "Another channel"}}
    assert taken() == (1, 0)
    assert taken() == (0, 1)  # and its id is kept
    first |= {"id": 17, "properties": first["properties"] | {"name": "A third channel"}}
    assert (taken(), taken()) == ((1, 0), (0, 1))  # another program's numbers are none of ours
    with desk.read() as session:
        assert session.get(Site, uuid.UUID(int=9)).name == "Another channel"


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
