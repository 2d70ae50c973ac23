"""Tables brought in: every fault by its line before anything is written, whole or not at all, and taken back whole."""

import io
import json
from datetime import UTC, datetime, timedelta

import openpyxl
import pytest
from sqlalchemy import func, select

from brumel.core.errors import InputError
from brumel.formats.csv_rows import write_rows
from brumel.formats.datapackage import write_datapackage
from brumel.formats.tables_in import read_table
from brumel.store.records import Unsigned
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import Lot, Meter, Probe, Reading, Site, Visit
from brumel.work import people, records, rounds
from brumel.work.desk import Desk, MovedOn, NotAllowed, Refused
from brumel.work.records import importing, mending, openly, reading_rows, search
from brumel.work.records.importing import mapping, readings
from tests.conftest import as_app
from tests.work import helpers as h

WIDE = """station;date time;depth_m;pH;Temp [°F];Conductivity [mS/cm];DO (mg/L);lab
"Raceway 3, inflow";2018-01-01 08:00;0.5;7.24;50;0.213;10.84;x
"Raceway 3, inflow";2018-01-01 08:02;1.5;7.31;49.1;;10.20;x
"Raceway 3, inflow";2018-01-02 08:00;0.5;;50;0.220;;x
"""


@pytest.fixture
def things(desk):
    return h.Things(desk)


def brought(desk, things, data, kind="readings", name="before.csv", **changed):
    """A file uploaded and its mapping kept, as it was guessed but for what is changed."""
    data = data.encode() if isinstance(data, str) else data
    made = importing.upload(desk, things.ilka, h.key(), kind=kind, file_name=name, data=data)
    if changed:
        with desk.read() as session:
            kept = importing.find_import(session, made.id).mapping
        kept |= {k: {**kept[k], **v} if isinstance(v, dict) else v for k, v in changed.items()}
        new = importing.Mapping.from_dict(kept)
        importing.keep_mapping(desk, things.ilka, h.key(), import_id=made.id, mapping=new)
    return made.id


def tried(desk, things, import_id):
    return importing.preview(desk, things.ilka, import_id)


def written(desk, things, import_id, **more):
    return importing.write(desk, things.ilka, h.key(), import_id=import_id, **more)


def count(desk, table, *where):
    with desk.read() as session:
        return session.scalar(select(func.count()).select_from(table).where(*where))


def test_a_wide_table_becomes_visits_in_canonical_units_with_its_provenance(desk, things):
    import_id = brought(desk, things, WIDE)
    seen = tried(desk, things, import_id)
    assert (seen.made, seen.of, seen.faults, count(desk, Reading)) == (9, 3, [], 0)
    done = written(desk, things, import_id)
    assert (done.made, done.rows, done.left_out) == (9, 3, 0)
    with desk.read() as session:
        rows = list(session.scalars(select(Reading).order_by(Reading.at, Reading.quantity)))
        first = {r.quantity: r for r in rows[:4]}
        # One profile of two depths, and the visit of the next day.
        assert [v.source for v in session.scalars(select(Visit))] == ["imported"] * 2
    assert rows[0].at == datetime(2018, 1, 1, 7, 0, tzinfo=UTC)  # by the site's own clock, CET
    got = {q: (r.value, r.unit, r.raw, r.raw_unit, r.temperature_c, r.flag) for q, r in first.items()}
    assert got == {
        "conductivity": (213.0, "µS/cm", 0.213, "mS/cm", 10.0, 2),
        "oxygen": (10.84, "mg/L", 10.84, "mg/L", 10.0, 2),
        "ph": (7.24, "", 7.24, "pH", 10.0, 2),
        "temperature": (10.0, "°C", 50.0, "°F", 10.0, 2),
    }
    assert {r.backing for r in rows} == {"unbacked"}
    assert first["ph"].backing_words == "brought in from before.csv, line 2; no calibration on record"
    # It waits for no signature, and is not counted among what is signed.
    assert count(desk, Unsigned) == 0
    with desk.read() as session:
        for said, many in (("yes", 0), ("no", 0), ("", 9)):
            assert records.count(session, search.Search(signed=said)) == many
        past = rounds.standing(session, rows[0].site_id, "ph")
    assert [r.value for r in past] == [7.31, 7.24]


def test_a_long_table_of_our_own_export_comes_in_as_it_went_out(desk, clock, things):
    h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)
    with desk.read() as session:
        kept = list(records.export(session, search.Search()))
        out = "".join(write_rows(reading_rows.COLUMNS, kept))
    clock.on(days=1)
    # As another program has it: the site under another name, and nothing of ours besides.
    elsewhere = out.replace("Raceway 3, inflow", "Reed channel")
    import_id = brought(desk, things, elsewhere)
    with desk.read() as session:
        found = importing.Mapping.from_dict(importing.find_import(session, import_id).mapping)
    assert (found.zone, found.columns["value"], found.columns["flag"]) == ("UTC", "value", "qartod_flag")
    written(desk, things, import_id)
    with desk.read() as session:
        again = [r for r in records.export(session, search.Search()) if r["entered_as"] == "imported"]
    same = ("quantity", "value", "unit", "time_utc", "depth_m", "temperature_c", "qartod_flag")
    assert sorted([str(r[c]) for c in same] for r in again) == sorted([str(r[c]) for c in same] for r in kept)
    assert brought(desk, things, out)
    assert all("in the record already" in f.words for f in tried(desk, things, brought(desk, things, out)).faults)


def test_a_data_package_goes_out_and_comes_in_elsewhere_the_same(desk, clock, things, empty_url):
    """Sites, kit and readings of one practice, in another that began with nothing."""
    h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)
    h.visit(desk, clock, things, site="lagoon")
    with desk.read() as session:
        record = openly.open_record(session, search.Search(), clock())
    data = write_datapackage(record, "other-closed", [])
    clock.on(days=1)
    there = Desk(make_sessions(make_engine(as_app(empty_url), pool_size=2)), clock)
    lead = people.begin(there, people.FirstPerson("rolf", "Rolf Aaker", "a-long-password", "a-long-password"))
    for kind in ("sites", "probes", "readings"):
        made = importing.upload(there, lead, h.key(), kind=kind, file_name="tarnholt.zip", data=data)
        seen = importing.preview(there, lead, made.id)
        assert (seen.mapping_faults, seen.faults) == ([], []), kind
        importing.write(there, lead, h.key(), import_id=made.id)
    with there.read() as session:
        arrived = openly.open_record(session, search.Search(), clock())

    def said(of):
        names = {site.id: (site.client, site.name, site.zone, site.latitude, site.altitude_m) for site in of.sites}
        return sorted(
            (names[r.site_id], r.quantity, r.at, r.depth_m or 0, r.value, r.unit, r.flag, r.temperature_c)
            for r in of.readings
        )

    assert said(arrived) == said(record)
    assert len(arrived.readings) >= 4
    assert {(r.how, r.backing) for r in arrived.readings} == {("unknown", "unbacked")}  # what backed them stayed there
    with pytest.raises(InputError, match="no table “lots”"):
        importing.upload(there, lead, h.key(), kind="lots", file_name="tarnholt.zip", data=data)


ROWS = (
    ("Nowhere;2018-01-01 08:00;7.1", "no site “Nowhere”"),
    (";2018-01-01 08:00;7.1", "No site is named"),
    ("Reed channel;2018-01-01;7.1", "no time of day"),
    ("Reed channel;01.02.2018 08:00;7.1", "not a time"),
    ("Reed channel;2018-03-25 02:30;7.1", "summer time"),
    ("Reed channel;2018-10-28 02:30;7.1", "summer time"),
    ("Reed channel;2031-01-01 08:00;7.1", "future"),
    ("Reed channel;1805-01-01 08:00;7.1", "1950"),
    ("Reed channel;2018-01-01 08:00;7,1", "not written as numbers"),
    ("Reed channel;2018-01-01 08:00;nan", "not a number"),
    ("Reed channel;2018-01-01 08:00;1e999", "not a number"),
    ("Reed channel;2018-01-01 08:00;seven", "not a number"),
    ("Reed channel;2018-01-01 08:00;17.2", "outside 0 to 14"),
    ("Reed channel;2018-01-01 08:00;", "no value in this row"),
)


def test_every_fault_is_named_by_its_line_and_nothing_is_repaired(desk, things):
    data = "site;time;ph\n" + "\n".join(row for row, _ in ROWS) + "\nReed channel;2018-01-01 08:00;7.1"
    import_id = brought(desk, things, data)
    seen = tried(desk, things, import_id)
    assert [fault.line for fault in seen.faults] == list(range(2, 2 + len(ROWS)))
    for fault, (row, words) in zip(seen.faults, ROWS, strict=True):
        assert words in fault.words, row
    assert seen.made == 1
    with pytest.raises(Refused, match=f"{len(ROWS)} rows cannot be read, the first in line 2"):
        written(desk, things, import_id)
    assert count(desk, Reading) == 0
    assert written(desk, things, import_id, leave_out=True).left_out == len(ROWS)
    assert count(desk, Reading) == 1


def test_nothing_comes_in_twice_neither_of_a_file_nor_of_the_record(desk, things):
    data = "site;time;ph\nReed channel;2018-01-01T08:00+01:00;7.1\nReed channel;2018-01-01T07:00Z;7.2\n"
    first = brought(desk, things, data)
    assert [f.words for f in tried(desk, things, first).faults] == [
        "PH of this site and time is in line 2 already."
    ] or [f.line for f in tried(desk, things, first).faults] == [3]
    written(desk, things, first, leave_out=True)
    again = brought(desk, things, data)
    assert [f.line for f in tried(desk, things, again).faults] == [2, 3]
    with pytest.raises(Refused, match="No row"):
        written(desk, things, again, leave_out=True)
    with pytest.raises(MovedOn):
        written(desk, things, first, leave_out=True)
    # What was taken back may come again.
    importing.take_back(desk, things.ilka, h.key(), import_id=first, reason="the wrong year")
    assert [f.line for f in tried(desk, things, again).faults] == [3]


def test_an_import_is_taken_back_whole_and_deletes_nothing(desk, things):
    import_id = brought(desk, things, WIDE)
    written(desk, things, import_id)
    with pytest.raises(NotAllowed):
        importing.take_back(desk, things.ansa, h.key(), import_id=import_id, reason="not theirs to take back")
    importing.take_back(desk, things.ilka, h.key(), import_id=import_id, reason="the depths were feet")
    with desk.read() as session:
        assert records.count(session, search.Search()) == 0
        struck = list(session.scalars(select(Reading).where(Reading.version == 2)))
        assert {(r.struck, r.reason) for r in struck} == {(True, "Import 1 taken back: the depths were feet")}
    assert (count(desk, Reading), len(struck)) == (18, 9)
    with pytest.raises(MovedOn, match="taken back"):
        importing.take_back(desk, things.ilka, h.key(), import_id=import_id, reason="once more")


def test_what_was_brought_in_is_struck_out_but_not_corrected_or_written_on(desk, things):
    written(desk, things, brought(desk, things, WIDE))
    with desk.read() as session:
        row = session.scalar(select(Reading).where(Reading.quantity == "ph").order_by(Reading.at).limit(1))
    change = mending.Correction("a slip", row.depth_m, raw=7.0)
    with pytest.raises(Refused, match="brought in from a table"):
        mending.correct(desk, things.ilka, h.key(), reading_id=str(row.id), version=1, correction=change)
    with pytest.raises(Refused, match="brought in from a table"):
        rounds.add_probe(desk, things.ansa, h.key(), visit_id=str(row.visit_id), probe_id=things.probes["A1"])
    mending.strike(desk, things.ilka, h.key(), reading_id=str(row.id), version=1, reason="read in another water")
    assert (
        count(desk, Reading, Reading.visit_id == row.visit_id, Reading.version == 1) == 7
    )  # nothing follows by itself


@pytest.mark.parametrize(
    ("way", "text", "moment"),
    [
        ("dmy", "03.02.2018 08:15", (2018, 2, 3, 8, 15)),
        ("mdy", "03/02/2018 8:15", (2018, 3, 2, 8, 15)),
        ("dmy", "31-12-2018 23:59:30", (2018, 12, 31, 23, 59, 30)),
        ("iso", "2018-02-03 08:15", (2018, 2, 3, 8, 15)),
    ],
)
def test_dates_are_read_the_way_that_was_chosen(way, text, moment):
    assert readings.read_moment(text, way) == datetime(*moment)
    for wrong in ("2018-02-30 08:15", "99.99.2018 08:00", "3.2.18 08:00", ""):
        with pytest.raises(ValueError, match=r"time|day"):
            readings.read_moment(wrong, way)


def test_sites_kit_and_solutions_come_through_the_doors_of_their_forms(desk, things):
    sites = (
        "client,name,altitude_m,zone,latitude,longitude,kind,limits\n"
        "Holm Hatchery,Outlet,41,Europe/Oslo,60.1,10.2,stream,ph: 6 to 9 | permit 7\n"
        "Holm Hatchery,,41,Europe/Oslo,,,stream,\n"
        "Holm Hatchery,Pond,high,Europe/Oslo,,,stream,\n"
        "Holm Hatchery,Far pond,12,Mars/Olympus,,,stream,\n"
    )
    import_id = brought(desk, things, sites, kind="sites")
    seen = tried(desk, things, import_id)
    assert ([f.line for f in seen.faults], seen.made, seen.clean) == ([3, 4, 5], 1, 1)
    before = count(desk, Site)
    written(desk, things, import_id, leave_out=True)
    assert count(desk, Site) == before + 1
    probes = (
        "meter,meter serial,name,serial,quantity,cell constant\n"
        "Old set,M-77,Old pH,P-1,pH,\nOld set,M-77,Old EC,P-2,conductivity,1.0\nOld set,M-77,Old what,P-3,turbidity,\n"
    )
    kit_id = brought(desk, things, probes, kind="probes")
    done = written(desk, things, kit_id, leave_out=True)
    assert (done.made, done.left_out) == (3, 1)  # one meter, two probes
    lots = "lot,name,quantity,label,expanded_uncertainty,expires_on,open_days\n"
    lots += "K-1,KCl 1413,conductivity,25: 1413,1,2027-03-31,90\n"
    lot_id = brought(desk, things, lots, kind="lots")
    assert tried(desk, things, lot_id).faults == []
    written(desk, things, lot_id)
    for taken in (kit_id, lot_id, import_id):
        importing.take_back(desk, things.ilka, h.key(), import_id=taken, reason="brought in by mistake")
    with desk.read() as session:
        named = ((Meter, "Old set"), (Probe, "Old pH"), (Site, "Outlet"))
        old = [session.scalar(select(table).where(table.name == name)) for table, name in named]
        assert all(one.retired_at for one in old)
        assert session.scalar(select(Lot).where(Lot.code == "K-1")).discarded_at


def test_a_workbook_reads_as_its_csv_does():
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["site", "time", "ph", "note"])
    sheet.append(["Reed channel", datetime(2018, 1, 1, 8, 0), 7.1, None])
    sheet.append([None, None, None, None])
    sheet.append(["Reed channel", datetime(2018, 1, 2, 8, 0), 7, "=2+2"])
    out = io.BytesIO()
    book.save(out)
    table = read_table(out.getvalue(), "Before.XLSX")
    assert table.columns == ("site", "time", "ph", "note")
    assert [row[1][:3] for row in table.rows] == [
        ("Reed channel", "2018-01-01T08:00:00", "7.1"),
        ("Reed channel", "2018-01-02T08:00:00", "7"),
    ]


@pytest.mark.parametrize(
    ("data", "name", "words"),
    [
        (b"", "a.csv", "not a table"),
        (b"one\n2\n", "a.csv", "not a table"),
        (b"a,b\n", "a.csv", "no rows"),
        (b"a,a\n1,2\n", "a.csv", "Two columns"),
        (b"a,,c\n1,2,3\n", "a.csv", "has no name"),
        (b"a,b\n1,2,3\n", "a.csv", "more cells"),
        (b"\xff\xfe\x00", "a.csv", "UTF-8"),
        (b"a,b\n\x00,1\n", "a.csv", "not a table"),
        (b"PK\x03\x04 broken", "a.xlsx", "workbook"),
        (b"PK\x03\x04 broken", "a.zip", "data package"),
        (b"a,b\n" + b"x" * 3000 + b",1\n", "a.csv", "characters"),
    ],
)
def test_what_is_no_table_is_refused_with_a_sentence(data, name, words):
    with pytest.raises(InputError, match=words):
        read_table(data, name)


def test_points_of_geojson_are_rows_with_their_properties_as_columns():
    point = {"type": "Point", "coordinates": [10.2, 60.1, 41]}
    body = {
        "type": "FeatureCollection",
        "features": [
            {
                "type": "Feature",
                "geometry": point,
                "properties": {"owner": "Holm", "station": "Weir", "depths": [1, 2]},
            },
            {"type": "Feature", "geometry": None, "properties": {"owner": "Holm", "station": "Lake", "active": True}},
        ],
    }
    table = read_table(json.dumps(body).encode(), "Sites.GeoJSON")
    assert table.columns == ("owner", "station", "longitude", "latitude", "altitude", "active")
    assert table.rows[0] == (1, ("Holm", "Weir", "10.2", "60.1", "41", ""))
    assert table.rows[1] == (2, ("Holm", "Lake", "", "", "", "true"))
    guessed = mapping.guess("sites", table.columns)
    assert guessed.columns["altitude_m"] == "altitude"
    for wrong in (b"[]", b'{"type":"Point"}', b'{"type":"FeatureCollection","features":[1]}', b"\xff", b"{" * 99_000):
        with pytest.raises(InputError, match="not GeoJSON"):
            read_table(wrong, "a.geojson")


def test_a_large_file_tells_how_far_it_is(desk, things):
    rows = "".join(f"Reed channel;{datetime(2018, 1, 1, 8) + timedelta(hours=3 * n)};7.1\n" for n in range(4200))
    told = []
    import_id = brought(desk, things, "site;time;ph\n" + rows)
    done = written(desk, things, import_id, leave_out=True, told=lambda n, of: told.append((n, of)))
    assert done.made + done.left_out == 4200  # the hours that summer time skips or doubles are left out
    assert len(told) > 5
    assert told == sorted(told)
    assert told[-1] == (100, 100)


def test_names_of_columns_suggest_what_they_hold():
    guessed = mapping.guess(
        "readings", ("Station", "Timestamp", "ORP (mV)", "NH4-N [mg/L as NH4]", "EC µS/cm", "Depth")
    )
    assert guessed.columns == {"site": "Station", "time": "Timestamp", "depth": "Depth"}
    assert guessed.quantities == {"ORP (mV)": ("redox", "mV"), "NH4-N [mg/L as NH4]": ("ammonium", "mg/L as NH4")}
    faults = mapping.check("readings", guessed, ("Station", "Timestamp"))
    assert len(faults) == 3
    wrong = importing.Mapping(
        {"site": "Station", "time": "Timestamp"}, {"Depth": ("conductivity", "furlong")}, zone="Mars"
    )
    assert {f.field for f in mapping.check("readings", wrong, ("Station", "Timestamp", "Depth"))} == {
        "quantities",
        "zone",
    }


def test_closely_read_rows_are_one_visit_and_no_quantity_is_in_it_twice(desk, things):
    start = datetime(2018, 1, 1, 8, 0)
    times = [start + timedelta(minutes=m) for m in (0, 20, 45, 200, 205)]
    data = "site;time;depth;ph\n" + "".join(f"Reed channel;{at};{i};7.1\n" for i, at in enumerate(times))
    written(desk, things, brought(desk, things, data))
    assert count(desk, Visit) == 2
    repeated = "site;time;ph\n" + "".join(f"Raceway 3, outflow;{at};7.1\n" for at in times).replace(", ", ", ")
    written(desk, things, brought(desk, things, repeated))
    assert count(desk, Visit) == 7
