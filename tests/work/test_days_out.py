"""Days out: recurrence through summer time, the plan of the day, packing, places with versions, and the queue."""

import contextlib
import json
import uuid
from datetime import UTC, date, datetime, timedelta
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy import func, select

from brumel.core import meter_settings
from brumel.core.errors import InputError, InputErrors
from brumel.formats import geojson
from brumel.store.tables import Lot, Probe, Reading, Snapshot, Visit
from brumel.work import (
    closings,
    dayplan,
    kit,
    live,
    meterside,
    outings,
    packing,
    places,
    rounds,
    shelf,
    stock,
    trusting,
)
from brumel.work.desk import MovedOn, NotAllowed, NotFound, Refused
from brumel.work.rounds import queued
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def a_round(desk, name="Lagoon"):
    with desk.read() as session:
        return next(r for r in outings.rounds(session) if r.name == name)


# -- the calendar


@pytest.mark.parametrize(
    ("rule", "starts", "since", "until", "days"),
    [
        ("", "2026-03-29", "2026-03-01", "2026-04-30", ["2026-03-29"]),
        ("FREQ=WEEKLY;BYDAY=TU", "2026-03-17", "2026-03-17", "2026-04-07",
         ["2026-03-17", "2026-03-24", "2026-03-31", "2026-04-07"]),
        ("FREQ=WEEKLY;INTERVAL=2", "2026-10-20", "2026-10-20", "2026-11-20", ["2026-10-20", "2026-11-03", "2026-11-17"]),
        ("FREQ=MONTHLY;BYMONTHDAY=31", "2026-01-31", "2026-01-01", "2026-05-31", ["2026-01-31", "2026-03-31", "2026-05-31"]),
        ("FREQ=DAILY;COUNT=2", "2026-12-31", "2026-01-01", "2027-12-31", ["2026-12-31", "2027-01-01"]),
    ],
)  # fmt: skip
def test_a_round_is_due_on_the_days_of_its_rule(rule, starts, since, until, days):
    found = outings.occurrences(
        rule, *(date.fromisoformat(d) for d in (starts, since, until))
    )  # RFC 5545, section 3.3.10
    assert [str(d) for d in found] == days


def test_leaving_is_by_the_wall_clock_on_both_sides_of_summer_time(desk):
    found = a_round(desk)
    hours = [outings.leaving(found, date(2026, m, d)).astimezone(UTC).hour for m, d in ((3, 28), (3, 30), (10, 26))]
    assert hours == [6, 5, 6]  # 07:30 in Oslo
    late = datetime(2026, 3, 28, 23, 30, tzinfo=UTC)
    assert outings.today_of(found, late) == date(2026, 3, 29)


# -- the plan


def test_the_plan_counts_waits_that_run_and_names_what_cannot_make_it(desk, clock, things):
    found = a_round(desk)
    with desk.read() as session:
        plan = dayplan.plan_day(
            session, outings.round_of(session, found.id), clock(), leave_at=clock() + timedelta(hours=4)
        )
    assert plan.in_time
    assert {c.quantity for c in plan.chosen} == {"temperature", "ph", "conductivity", "redox", "oxygen"}
    hands = sorted((line.start, line.end) for line in plan.lines if line.kind == "hands")
    assert all(a[1] <= b[0] for a, b in zip(hands, hands[1:], strict=False))  # one pair of hands
    assert max(line.end for line in plan.lines) == plan.ready_at
    assert plan.lines[-1].what.startswith("pack")
    assert any(line.deciding for line in plan.lines)
    probe = next(c.probe for c in plan.chosen if c.quantity == "oxygen")
    shelf.record(desk, things.ansa, h.key(), probe_id=str(probe.id), what="membrane", note="torn")
    clock.on(minutes=20)
    with desk.read() as session:
        one = outings.round_of(session, found.id)
        soon = dayplan.plan_day(session, one, clock(), leave_at=clock() + timedelta(minutes=30))
        mine = trusting.trust(session, kit.probe(session, probe.id), clock())
        picked = next(c.probe for c in soon.chosen if c.quantity == "oxygen")
    assert not mine.valid
    assert not soon.in_time
    assert soon.troubles
    assert "leaving is at" in soon.troubles[0].what
    if picked.id == probe.id:
        wait = next(line for line in soon.lines if line.probe == probe.name)
        assert wait.end - wait.start <= timedelta(minutes=71)  # 90 min of polarising, 20 of them gone


def test_ion_tips_come_after_what_they_rest_on(desk, clock, things):
    found = a_round(desk, "Farm and lido")
    with desk.read() as session:
        plan = dayplan.plan_day(
            session, outings.round_of(session, found.id), clock(), leave_at=clock() + timedelta(hours=5)
        )
    whose = {c.probe.name: c.quantity for c in plan.chosen}
    dips = [line for line in plan.lines if whose.get(line.probe) in dayplan.IONS and line.what != "look it over"]
    rests = [line for line in plan.lines if whose.get(line.probe) in ("ph", "redox", "conductivity")]
    assert min(line.start for line in dips) >= max(line.end for line in rests)


def test_a_calibrated_probe_needs_nothing_and_an_open_run_only_its_last_cups(desk, clock, things):
    h.calibrate(desk, clock, things)
    found = a_round(desk)

    def steps(name):
        with desk.read() as session:
            plan = dayplan.plan_day(session, outings.round_of(session, found.id), clock(), leave_at=clock())
        return [line.what for line in plan.lines if line.probe == name and line.kind == "hands"]

    assert steps("pH probe A1") == []
    run = h.start(desk, things, "A3", "ec-air-one", standard="E14-055")
    before = len(steps("Conductivity cell A3"))
    h.take_cup(desk, clock, things, run)
    assert len(steps("Conductivity cell A3")) == before - 1


def test_packing_brackets_the_waters_and_is_kept(desk, clock, things):
    found = a_round(desk, "Farm and lido")
    made = outings.start(desk, things.ansa, h.key(), round_id=str(found.id))["outing"]
    assert outings.start(desk, things.ilka, h.key(), round_id=str(found.id))["outing"] == made  # one a day
    with desk.read() as session:
        box = packing.packing(session, outings.round_of(session, found.id), clock())
    assert {i.key.split("-")[0] for i in box["probes"]} == {"probe"}
    words = " ".join(i.what for i in box["standards"])
    assert "Buffer 4.01" in words or "Combined" in words
    assert any("membrane" in i.what for i in box["spares"])
    ticked = [box["probes"][0].key, "nonsense"]
    assert packing.pack(desk, things.ansa, h.key(), outing_id=made, ticked=ticked)["packed"] == 1
    outings.end(desk, things.ansa, h.key(), outing_id=made)
    with desk.read() as session:
        out = outings.outing(session, made)
        assert list(out.packed) == [box["probes"][0].key]
        assert out.ended_at == clock()
        assert closings.to_close(session, out) == []


def test_what_is_left_counts_down_by_the_record_and_the_box_says_what_does_not_reach(desk, clock, things):
    def left(code="N7-121"):
        with desk.read() as session:
            return stock.of_lots(session, [session.get(Lot, things.lots[code])])[session.get(Lot, things.lots[code]).id]

    assert (left().amount, left().words) == (None, "never counted")
    stock.count(desk, things.ansa, h.key(), lot_id=things.lots["N7-121"], amount=100)
    clock.on(minutes=1)
    h.calibrate(desk, clock, things)
    assert left().amount == 100 - stock.CUP_ML  # three points of one run are one cup of each lot
    found = a_round(desk)

    def box(key):
        with desk.read() as session:
            whole = packing.packing(session, outings.round_of(session, found.id), clock())
        return next(i for group in whole.values() for i in group if i.key.startswith(key))

    lot = box("lot-").key.removeprefix("lot-")
    stock.count(desk, things.ansa, h.key(), lot_id=lot, amount=60)
    assert "1 cup, 40 mL; about 60 mL left" in box(f"lot-{lot}").why  # A1 is calibrated: the closing check is left
    assert not box(f"lot-{lot}").care
    clock.on(days=2)  # and it has run out
    assert "about 60 mL left, 80 mL are needed" in box(f"lot-{lot}").care
    stock.count(desk, things.ansa, h.key(), spare="storage", amount=20)
    assert "about 20 mL left, 40 mL are needed" in box("storage").care
    with desk.read() as session:
        oxygen = next(p for p in kit.probes(session) if p.kind == "polarographic")
        meter = oxygen.meter
    for spare in ("membrane", f"battery-{meter.id}"):
        stock.count(desk, things.ansa, h.key(), spare=spare, amount=1)
    clock.on(minutes=1)
    shelf.record(desk, things.ansa, h.key(), probe_id=str(oxygen.id), what="membrane", note="Torn")
    shelf.battery(desk, things.ansa, h.key(), meter_id=str(meter.id), note="4 cells")
    with desk.read() as session:
        known = stock.spares(session)
    assert (known["membrane"][1].amount, known[f"battery-{meter.id}"][1].amount) == (0, 0)


@pytest.mark.parametrize(
    ("what", "words"),
    [
        (dict(spare="membrane", amount=float("nan")), "must be a number"),
        (dict(spare="membrane", amount=-1), "0 to 1000"),
        (dict(spare="membrane", lot_id="x", amount=1), "one thing"),
        (dict(spare="flux", amount=1), "from the list"),
        (dict(lot_id="0000", amount=1), "no such solution"),
    ],
)
def test_a_wrong_count_is_named(desk, things, what, words):
    with pytest.raises((InputError, Refused, NotFound), match=words):
        stock.count(desk, things.ansa, h.key(), **what)


def test_settings_are_looked_through_before_leaving_and_a_change_makes_that_stale(desk, clock, things):
    made = outings.start(desk, things.ansa, h.key(), round_id=str(a_round(desk).id))["outing"]

    def state():
        with desk.read() as session:
            out = outings.outing(session, made)
            rows = packing.settings(session, out, clock())
            missing = {m.name for m in packing.unseen(session, out, [r.meter for r in rows])}
            assert missing == {r.meter.name for r in rows if not r.seen}
            return {r.meter.name: (r.snapshot, r.seen) for r in rows}

    with desk.read() as session:
        mine = packing.settings(session, outings.outing(session, made), clock())[0].meter
    start = dict.fromkeys(meter_settings.SETTINGS, 25) | {
        "temperature_unit": "°C", "buffer_family": "7.00", "ph_resolution": "0.01", "conductivity_unit": "µS/cm",
        "cell_constant": 1, "compensation": "natural", "temperature_coefficient": 2, "tds_factor": 0.5,
        "preset_pressure_hpa": 1013, "auto_off_min": 0,
    }  # fmt: skip
    meterside.take_settings(desk, things.ansa, h.key(), meter_id=str(mine.id), settings=start, reason="")
    name, (first, seen) = mine.name, state()[mine.name]
    assert not seen
    confirm = dict(outing_id=made, snapshot_id=str(first.id))
    packing.confirm(desk, things.ansa, h.key(), **confirm)
    assert state()[name][1].endswith("by Ansa Merrik")
    clock.on(minutes=5)
    changed = first.settings | {"tds_factor": 0.7 if first.settings["tds_factor"] != 0.7 else 0.5}
    meterside.take_settings(
        desk, things.ansa, h.key(), meter_id=str(first.meter_id), settings=changed, reason="Someone turned it"
    )
    assert not state()[name][1]
    with pytest.raises(MovedOn, match="taken down anew"):
        packing.confirm(desk, things.ansa, h.key(), **confirm)


# -- places


def test_terms_are_versioned_with_reason_and_two_windows_do_not_overwrite(desk, clock, things):
    with desk.read() as session:
        site = rounds.site(session, things.sites["lagoon"])
        place = places.Place(
            site.client, site.name, site.kind, site.zone, site.altitude_m, site.latitude, site.longitude
        )
        ranges, limits = (places.write_lines(x, limits=flag) for x, flag in ((site.ranges, False), (site.limits, True)))
    terms = places.terms_of("restoration", ranges, limits + "\nsalinity: 2 to 30 | permit 12", {"compensation": "sea"})
    save = dict(place=place, terms=terms, site_id=things.sites["lagoon"], version=1)
    with pytest.raises(NotAllowed):
        places.save_site(desk, things.ansa, h.key(), reason="x", **save)
    with pytest.raises(InputError, match="Reason"):
        places.save_site(desk, things.ilka, h.key(), **save)
    places.save_site(desk, things.ilka, h.key(), reason="The permit came", **save)
    with pytest.raises(MovedOn):
        places.save_site(desk, things.ilka, h.key(), reason="Again", **save)
    with desk.read() as session:
        (row,) = places.history(session, rounds.site(session, things.sites["lagoon"]).id)
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
        places.terms_of("", ranges, limits, {})
    assert words in " ".join(str(f) for f in caught.value.faults)


def test_sites_go_out_and_come_in_as_geojson_all_or_none(desk, clock, things):
    with desk.read() as session:
        text = geojson.write(places.features(rounds.sites(session)))
    body = json.loads(text)
    assert body["type"] == "FeatureCollection"
    first = body["features"][0]
    assert len(first["geometry"]["coordinates"]) == 3  # longitude, latitude, altitude [RFC 7946, 3.1.1]
    assert -180 <= first["geometry"]["coordinates"][0] <= 180
    same = places.take_in(desk, things.ilka, h.key(), found=geojson.read(text.encode()))
    assert same == {"made": 0, "changed": len(body["features"])}
    first["properties"]["name"] = "A new channel"
    broken = json.loads(json.dumps(first))
    broken["properties"] |= {"name": "Nowhere", "zone": "Mars/Olympus", "kind": "sea of clouds"}
    body["features"] = [first, broken]
    with pytest.raises(InputErrors, match="Feature 2"):
        places.take_in(desk, things.ilka, h.key(), found=geojson.read(json.dumps(body).encode()))
    body["features"] = [first]
    assert places.take_in(desk, things.ilka, h.key(), found=geojson.read(json.dumps(body).encode()))["made"] == 1


@pytest.mark.parametrize(
    "data",
    [b"", b"\xff\xfe", b"[]", b'{"type": "FeatureCollection", "features": [1]}', b"{" * 5000, b"x" * 2_000_001,
     b'{"type":"FeatureCollection","features":[{"type":"Feature","geometry":{"type":"Point","coordinates":[1e999,2]},'
     b'"properties":{"client":"a","name":"b","altitude_m":1}}]}'],
)  # fmt: skip
def test_a_file_that_is_no_geojson_is_refused_with_a_sentence(data):
    with pytest.raises(InputError, match="file"):
        geojson.read(data)


@given(st.text(max_size=60))
def test_no_rule_and_no_line_breaks_the_reader(text):
    for read in (lambda: outings.occurrences(text, date(2026, 1, 1), date(2026, 1, 1), date(2026, 2, 1)),
                 lambda: places.read_lines(text, "ranges")):  # fmt: skip
        with contextlib.suppress(InputError):
            read()


def test_a_round_is_kept_in_order_and_its_faults_are_told_at_once(desk, clock, things):
    two = [things.sites["lagoon"], things.sites["pool"]]
    new = places.NewRound("Two", two, "FREQ=WEEKLY", date(2026, 11, 3), "06:45", "Europe/Oslo")
    made = places.save_round(desk, things.ilka, h.key(), new=new)["round"]
    with desk.read() as session:
        assert [s.name for s in outings.round_of(session, made).sites] == [
            "Creek mouth, north bank",
            "Warm pool, deep end",
        ]
    back = places.NewRound("Two", list(reversed(new.sites)), "FREQ=WEEKLY", new.starts, "06:45", "Europe/Oslo")
    places.save_round(desk, things.ilka, h.key(), new=back, round_id=made)
    with desk.read() as session:
        assert outings.round_of(session, made).sites[0].name == "Warm pool, deep end"
    wrong = places.NewRound("", [things.sites["pool"]] * 2, "FREQ=SECONDLY", new.starts, "25:00", "Nowhere")
    with pytest.raises(InputErrors) as caught:
        places.save_round(desk, things.ilka, h.key(), new=wrong)
    assert {f.field for f in caught.value.faults} == {"name", "site", "rule", "leave_at", "zone"}
    places.retire_site(desk, things.ilka, h.key(), site_id=things.sites["pool"], reason="Closed")
    with desk.read() as session:
        assert len(outings.round_of(session, made).sites) == 1
    with pytest.raises(Refused, match="put it away"):
        rounds.start_visit(
            desk, things.ansa, h.key(), site_id=things.sites["pool"], probes=[things.probes["B1"]], source="typed"
        )


# -- the sheet of many probes


def test_a_whole_sheet_is_typed_at_once_and_what_follows_is_kept(desk, clock, things):
    names = {"B1": ("ph", 8.02), "B2": ("mg_l", 9.4), "B3": ("us_cm_ref", 14_200.0)}
    visit = rounds.start_visit(
        desk,
        things.ansa,
        h.key(),
        site_id=things.sites["lagoon"],
        probes=[things.probes[p] for p in names],
        source="typed",
    )["visit"]
    rows = [rounds.Typed(things.probes[p], unit, value) for p, (unit, value) in names.items()]
    typed = dict(visit_id=visit, rows=rows, temperature_c=9.5)
    wrong = [rounds.Typed(things.probes["B1"], "ph", 99.0), rounds.Typed(things.probes["B2"], "mg_l", float("nan"))]
    with pytest.raises(InputErrors) as caught:
        rounds.type_readings(desk, things.ansa, h.key(), visit_id=visit, rows=wrong, temperature_c=9.5)
    assert {str(f).split(":")[0] for f in caught.value.faults} == {"pH probe B1", "Oxygen probe B2"}
    rounds.type_readings(desk, things.ansa, h.key(), still=True, **typed)
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit)
    with desk.read() as session:
        kept = {r.quantity: r for r in rounds.of_visit(session, rounds.visit(session, visit).id)}
    assert set(kept) == {"temperature", "ph", "conductivity", "oxygen", "salinity", "saturation"}
    assert kept["ph"].value == pytest.approx(8.02, abs=1e-9)
    assert kept["ph"].settling["vouched"]
    assert kept["salinity"].parents == [str(kept["conductivity"].root_id), str(kept["temperature"].root_id)]
    assert kept["oxygen"].version == 1  # worked out with the salt read beside it, once
    assert next(x["name"] for x in kept["oxygen"].working["steps"] if x["symbol"] == "c").endswith("read here")
    # The display's preset salinity of 0 is taken off, the water's own salt put in: less oxygen than was shown.
    assert kept["oxygen"].value < 9.4
    assert 8 < kept["salinity"].value < 9.5
    clock.on(hours=1)  # the meter is set anew afterwards: what it showed before was shown by its old settings
    with desk.sessions.begin() as session:
        meter = session.get_one(Probe, uuid.UUID(things.probes["B2"])).meter_id
        session.add(Snapshot(meter_id=meter, at=clock(), settings={"preset_salinity": 30.0}, changes=[], reason="",
                             by_id=things.ansa.id))  # fmt: skip
    rounds.say(desk, things.ansa, h.key(), visit_id=visit, pressure_hpa=980.0)
    with desk.read() as session:
        after = {r.quantity: r for r in rounds.of_visit(session, rounds.visit(session, visit).id)}
    assert after["oxygen"].value == pytest.approx(kept["oxygen"].value, rel=0.04)
    assert after["saturation"].value == pytest.approx(kept["saturation"].value * 1013.0 / 980.0, rel=0.01)


PLANTED = [
    ("lagoon", {"B1": ("ph", 3.1)}, "outside what this site can be"),
    ("lagoon", {"B3": ("us_cm_ref", 14.2)}, "thousand|1000|outside"),
    ("raceway", {"B3": ("us_cm_ref", 14_000.0)}, "outside"),
    ("raceway", {"B2": ("mg_l", 29.0)}, "outside|140"),
    ("pool", {"B1": ("ph", 8.6)}, "outside"),
    ("raceway", {"B1": ("ph", 7.2), "B2": ("mg_l", 18.5)}, "140 %|outside"),
]


@pytest.mark.parametrize(("site", "shown", "words"), PLANTED)
def test_each_planted_error_is_questioned_before_it_is_kept(desk, clock, things, site, shown, words):
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites[site], probes=[things.probes[p] for p in shown], source="typed"
    )["visit"]
    rows = [rounds.Typed(things.probes[p], unit, value) for p, (unit, value) in shown.items()]
    at = {"pool": 29.0}.get(site, 8.0)
    rounds.type_readings(desk, things.ansa, h.key(), visit_id=visit, rows=rows, temperature_c=at, still=True)
    with pytest.raises(Refused, match=words):
        rounds.take_all(desk, things.ansa, h.key(), visit_id=visit)
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Reading)) == 0
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit, reason="Seen twice")
    with desk.read() as session:
        assert {r.reason for r in session.scalars(select(Reading))} == {"Seen twice"}


def test_depths_second_instruments_and_a_second_method(desk, clock, things):
    h.calibrate(desk, clock, things)
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["basin"], probes=[things.probes["A1"]], source="live"
    )["visit"]
    rounds.add_probe(desk, things.ansa, h.key(), visit_id=visit, probe_id=things.probes["B1"])
    with pytest.raises(Refused, match="on this sheet already"):
        rounds.add_probe(desk, things.ansa, h.key(), visit_id=visit, probe_id=things.probes["B1"])
    for depth in (0.3, 2.0):
        rounds.dip(desk, things.ansa, h.key(), visit_id=visit, depth_m=depth)
        clock.on(seconds=60)
        live.pump(desk)
        rounds.take_all(desk, things.ansa, h.key(), visit_id=visit)
    row = [rounds.Typed(things.probes["B1"], "ph", 8.05)]
    rounds.type_readings(
        desk, things.ansa, h.key(), visit_id=visit, rows=row, temperature_c=9.0, depth_m=2.0, still=True
    )
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit)
    made = rounds.by_hand(
        desk, things.ansa, h.key(), visit_id=visit, quantity="total_chlorine", value=0.4, method="tablet and colour"
    )
    with pytest.raises(InputError, match="uantity"):
        rounds.by_hand(desk, things.ansa, h.key(), visit_id=visit, quantity="ph", value=7, method="strip")
    with desk.read() as session:
        kept = rounds.of_visit(session, rounds.visit(session, visit).id)
        ph = [(r.depth_m, r.role) for r in kept if r.quantity == "ph"]
        assert sorted(ph) == [(0.3, "first"), (2.0, "first"), (2.0, "second")]
        assert rounds.reading(session, made["reading"]).backing == "by hand"
        past = rounds.past_values(session, rounds.site(session, things.sites["basin"]), depth_m=2.0)
        assert len(past["ph"]) == 1  # the second instrument is no history, and another depth is another water


# -- without a signal


def a_sheet(things, clock, **other):
    rows = [rounds.Typed(things.probes["B1"], "ph", 7.9)]
    given_ = dict(site_id=things.sites["lagoon"], at=clock(), rows=rows, temperature_c=9.0, note="Ice at the edge")
    return given_ | other


def test_a_sheet_keeps_what_its_page_had_shown(desk, clock, things):
    both = [things.probes["A1"], things.probes["C1"]]
    made = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["raceway"], probes=both, source="live"
    )["visit"]  # fmt: skip
    dips = rounds.dip(desk, things.ansa, h.key(), visit_id=made)["dips"]
    clock.on(seconds=9)
    live.pump(desk)
    with desk.read() as session:
        shown = {
            str(line.dip.id): (line.probe.quantity, int(line.trace.seq[-1]), line.value.raw)
            for line in rounds.sheet(session, made, clock()).lines
        }
    clock.on(seconds=50)
    live.pump(desk)
    rounds.take_all(
        desk, things.ansa, h.key(), visit_id=made, early=True, reason="Seen",
        dips={d: shown[d][1] for d in dips.values()},
    )  # fmt: skip
    with desk.read() as session:
        kept = {r.quantity: r.raw for r in rounds.of_visit(session, rounds.visit(session, made).id)}
    assert {q: kept[q] for q, _, _ in shown.values()} == {q: raw for q, _, raw in shown.values()}


def test_the_queue_is_taken_in_once_at_its_own_time_and_a_conflict_is_shown(desk, clock, things):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(a_round(desk).id))["outing"]
    read_at = clock()
    clock.on(hours=3)
    key, sheet = h.key(), a_sheet(things, clock, at=read_at)
    first = queued.send(desk, things.ansa, key, outing_id=out, **sheet)
    assert queued.send(desk, things.ansa, key, outing_id=out, **sheet) == first
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 1
        rows = rounds.of_visit(session, rounds.visit(session, first["visit"]).id)
        assert {(r.at, r.written_at) for r in rows} == {(read_at, clock())}  # read then, in the record now
        assert [n.body["text"] for n in rounds.notes(session, rows[0].visit_id)] == ["Ice at the edge"]
    other = h.key()
    with pytest.raises(queued.Conflict, match="read by Ansa Merrik"):
        queued.send(desk, things.ilka, other, outing_id=out, **sheet)
    queued.send(desk, things.ilka, other, outing_id=out, **sheet, both=True)
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 2


def test_an_odd_sheet_waits_for_its_reason_and_goes_on_where_it_broke(desk, clock, things):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(a_round(desk).id))["outing"]
    key = h.key()
    odd = a_sheet(things, clock, rows=[rounds.Typed(things.probes["B1"], "ph", 4.0)])
    for _ in range(2):
        with pytest.raises(Refused, match="outside what this site can be"):
            queued.send(desk, things.ansa, key, outing_id=out, **odd)
    made = queued.send(desk, things.ansa, key, outing_id=out, **odd, reason="Acid spill, seen")
    assert made["readings"] == 2
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 1


@pytest.mark.parametrize(
    ("off", "words"), [(timedelta(hours=1), "in the future"), (timedelta(days=-15), "over 14 days ago")]
)
def test_a_wrong_clock_is_told(desk, clock, things, off, words):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(a_round(desk).id))["outing"]
    with pytest.raises(InputError, match=words):
        queued.send(desk, things.ansa, h.key(), outing_id=out, **a_sheet(things, clock, at=clock() + off))
    naive = clock().replace(tzinfo=None)
    with pytest.raises(InputError, match="no zone"):
        queued.send(desk, things.ansa, h.key(), outing_id=out, **a_sheet(things, clock, at=naive))
    there = clock().astimezone(ZoneInfo("Pacific/Auckland"))
    queued.send(desk, things.ansa, h.key(), outing_id=out, **a_sheet(things, clock, at=there))
    with desk.read() as session:
        assert session.scalar(select(Reading.at).limit(1)) == clock()
