"""The sheet of many probes: typed, live, from the queue; what it asks and what it keeps."""

import uuid
from datetime import timedelta
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import func, select

from brumel.core.errors import InputError, InputErrors
from brumel.store.tables import MeterSettings, Probe, Reading, Visit
from brumel.work import kit, rounds, simulator
from brumel.work.desk import NotFound, Refused
from brumel.work.rounds import offline, outings
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


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
    ).id
    rows = [rounds.Typed(things.probes[p], unit, value) for p, (unit, value) in names.items()]
    wrong = [rounds.Typed(things.probes["B1"], "ph", 99.0), rounds.Typed(things.probes["B2"], "mg_l", float("nan"))]
    with pytest.raises(InputErrors) as caught:
        rounds.type_readings(
            desk, things.ansa, h.key(), visit_id=visit, typed=rounds.TypedSheet(rows=wrong, temperature_c=9.5)
        )
    assert {str(f).split(":")[0] for f in caught.value.faults} == {"pH probe B1", "Oxygen probe B2"}
    rounds.type_readings(desk, things.ansa, h.key(), visit_id=visit, typed=rounds.TypedSheet(rows, 9.5, still=True))
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit)
    with desk.read() as session:
        kept = {r.quantity: r for r in rounds.of_visit(session, rounds.visit_of(session, visit).id)}
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
        session.add(
            MeterSettings(
                meter_id=meter,
                at=clock(),
                settings={"preset_salinity": 30.0},
                changes=[],
                reason="",
                by_id=things.ansa.id,
            )
        )
    rounds.say(desk, things.ansa, h.key(), visit_id=visit, pressure_hpa=980.0)
    with desk.read() as session:
        after = {r.quantity: r for r in rounds.of_visit(session, rounds.visit_of(session, visit).id)}
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
    ).id
    rows = [rounds.Typed(things.probes[p], unit, value) for p, (unit, value) in shown.items()]
    at = {"pool": 29.0}.get(site, 8.0)
    rounds.type_readings(
        desk, things.ansa, h.key(), visit_id=visit, typed=rounds.TypedSheet(rows=rows, temperature_c=at, still=True)
    )
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
    ).id
    rounds.add_probe(desk, things.ansa, h.key(), visit_id=visit, probe_id=things.probes["B1"])
    with pytest.raises(Refused, match="on this sheet already"):
        rounds.add_probe(desk, things.ansa, h.key(), visit_id=visit, probe_id=things.probes["B1"])
    for depth in (0.3, 2.0):
        rounds.dip(desk, things.ansa, h.key(), visit_id=visit, depth_m=depth)
        clock.on(seconds=60)
        simulator.pump(desk)
        rounds.take_all(desk, things.ansa, h.key(), visit_id=visit)
    row = [rounds.Typed(things.probes["B1"], "ph", 8.05)]
    rounds.type_readings(
        desk,
        things.ansa,
        h.key(),
        visit_id=visit,
        typed=rounds.TypedSheet(rows=row, temperature_c=9.0, depth_m=2.0, still=True),
    )
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit)
    made = rounds.by_hand(
        desk,
        things.ansa,
        h.key(),
        visit_id=visit,
        result=rounds.HandResult(quantity="total_chlorine", value=0.4, method="tablet and colour"),
    )
    with pytest.raises(InputError, match="uantity"):
        rounds.by_hand(
            desk, things.ansa, h.key(), visit_id=visit, result=rounds.HandResult(quantity="ph", value=7, method="strip")
        )
    with desk.read() as session:
        kept = rounds.of_visit(session, rounds.visit_of(session, visit).id)
        ph = [(r.depth_m, r.role) for r in kept if r.quantity == "ph"]
        assert sorted(ph) == [(0.3, "first"), (2.0, "first"), (2.0, "second")]
        assert rounds.reading(session, made.id).backing == "by hand"
        past = rounds.past_values(session, rounds.site_of(session, things.sites["basin"]), depth_m=2.0)
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
    ).id
    dips = rounds.dip(desk, things.ansa, h.key(), visit_id=made).dips
    clock.on(seconds=9)
    simulator.pump(desk)
    with desk.read() as session:
        shown = {
            str(line.dip.id): (line.probe.quantity, int(line.trace.seq[-1]), line.value.raw)
            for line in rounds.sheet_of_visit(session, made, clock()).lines
        }
    clock.on(seconds=50)
    simulator.pump(desk)
    rounds.take_all(
        desk,
        things.ansa,
        h.key(),
        visit_id=made,
        early=True,
        reason="Seen",
        dips={d: shown[d][1] for d in dips.values()},
    )
    with desk.read() as session:
        kept = {r.quantity: r.raw for r in rounds.of_visit(session, rounds.visit_of(session, made).id)}
    assert {q: kept[q] for q, _, _ in shown.values()} == {q: raw for q, _, raw in shown.values()}


def test_the_queue_is_taken_in_once_at_its_own_time_and_a_conflict_is_shown(desk, clock, things):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    read_at = clock()
    clock.on(hours=3)
    key, sheet = h.key(), a_sheet(things, clock, at=read_at)
    first = offline.send(desk, things.ansa, key, offline.QueuedSheet(outing_id=out, **sheet))
    assert offline.send(desk, things.ansa, key, offline.QueuedSheet(outing_id=out, **sheet)) == first
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 1
        rows = rounds.of_visit(session, rounds.visit_of(session, first.visit).id)
        assert {(r.at, r.written_at) for r in rows} == {(read_at, clock())}  # read then, in the record now
        assert [n.body["text"] for n in rounds.sheet_of_visit(session, rows[0].visit_id, clock()).notes] == [
            "Ice at the edge"
        ]
    other = h.key()
    with pytest.raises(offline.Conflict, match="read by Ansa Merrik"):
        offline.send(desk, things.ilka, other, offline.QueuedSheet(outing_id=out, **sheet))
    offline.send(desk, things.ilka, other, offline.QueuedSheet(outing_id=out, **sheet, both=True))
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 2


def test_an_odd_sheet_waits_for_its_reason_and_goes_on_where_it_broke(desk, clock, things):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    key = h.key()
    odd = a_sheet(things, clock, rows=[rounds.Typed(things.probes["B1"], "ph", 4.0)])
    for _ in range(2):
        with pytest.raises(Refused, match="outside what this site can be"):
            offline.send(desk, things.ansa, key, offline.QueuedSheet(outing_id=out, **odd))
    made = offline.send(desk, things.ansa, key, offline.QueuedSheet(outing_id=out, **odd, reason="Acid spill, seen"))
    assert made.readings == 2
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 1


@pytest.mark.parametrize(
    ("off", "words"), [(timedelta(hours=1), "in the future"), (timedelta(days=-15), "over 14 days ago")]
)
def test_a_wrong_clock_is_told(desk, clock, things, off, words):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    with pytest.raises(InputError, match=words):
        offline.send(
            desk, things.ansa, h.key(), offline.QueuedSheet(outing_id=out, **a_sheet(things, clock, at=clock() + off))
        )
    naive = clock().replace(tzinfo=None)
    with pytest.raises(InputError, match="no zone"):
        offline.send(desk, things.ansa, h.key(), offline.QueuedSheet(outing_id=out, **a_sheet(things, clock, at=naive)))
    there = clock().astimezone(ZoneInfo("Pacific/Auckland"))
    offline.send(desk, things.ansa, h.key(), offline.QueuedSheet(outing_id=out, **a_sheet(things, clock, at=there)))
    with desk.read() as session:
        assert session.scalar(select(Reading.at).limit(1)) == clock()


def test_what_was_typed_last_is_struck_out_of_a_sheet(desk, clock, things):
    aboard = [things.probes["B1"], things.probes["B3"]]
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["lagoon"], probes=aboard, source="typed"
    ).id

    def typed(ph, ec):
        clock.on(seconds=30)
        rows = [rounds.Typed(aboard[0], "ph", ph), rounds.Typed(aboard[1], "us_cm_ref", ec)]
        rounds.type_readings(desk, things.ansa, h.key(), visit_id=visit, typed=rounds.TypedSheet(rows, 9.5))

    def shown():
        with desk.read() as session:
            lines = rounds.sheet_of_visit(session, visit, clock()).lines
        return [None if line.trace is None else list(line.trace.displayed) for line in lines]

    typed(8.02, 14_200.0)
    typed(80.2 / 10, 1_420.0)
    rounds.strike_last(desk, things.ansa, h.key(), visit_id=visit, probe_id=aboard[1])
    assert shown() == [[8.02, 8.02], [14_200.0]]
    rounds.strike_last(desk, things.ansa, h.key(), visit_id=visit)
    assert shown() == [[8.02], []]
    rounds.strike_last(desk, things.ansa, h.key(), visit_id=visit)
    with pytest.raises(NotFound):
        rounds.strike_last(desk, things.ansa, h.key(), visit_id=visit)
    with desk.read() as session:
        assert kit.last_typed_units(session, [session.get_one(Probe, uuid.UUID(p)) for p in aboard]) == {
            uuid.UUID(aboard[0]): "ph",
            uuid.UUID(aboard[1]): "us_cm_ref",
        }
