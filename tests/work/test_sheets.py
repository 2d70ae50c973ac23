"""The sheet of many probes: typed, live, from the queue; what it asks and what it keeps."""

import io
import uuid
from dataclasses import replace
from datetime import timedelta
from zoneinfo import ZoneInfo

import pytest
from PIL import Image
from sqlalchemy import func, select

from brumel.core.believability import Flag, QualityFinding
from brumel.core.errors import InputError, InputErrors
from brumel.store.records import Decision
from brumel.store.tables import MeterSettings, Probe, Reading, Visit
from brumel.work import kit, rounds, simulator
from brumel.work.desk import NotFound, Refused
from brumel.work.questions import Question, Unanswered, each_once
from brumel.work.records import decisions, late, mending
from brumel.work.rounds import offline, outings
from brumel.work.rounds.sheet.answers import Answers, questions_of
from tests.work import helpers as h
from tests.work.test_closing_day import a_day, close, rule


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
    with desk.read() as session:
        shown = {v.quantity: v.value for v in rounds.sheet_of_visit(session, visit, clock()).follows}
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit)
    with desk.read() as session:
        sheet = rounds.sheet_of_visit(session, visit, clock())
        kept = {r.quantity: r for r in sheet.kept}
    # What is shown as calculated is recorded, all of it and to the last digit; and it is not asked about once more.
    assert {q: r.value for q, r in kept.items() if r.parents} == pytest.approx(shown)
    assert sheet.questions == []
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
    ("lagoon", {"B3": ("us_cm_ref", 14.2)}, "Was mS/cm taken for µS/cm"),
    ("raceway", {"B3": ("us_cm_ref", 14_000.0)}, "outside"),
    ("raceway", {"B2": ("mg_l", 29.0)}, "outside|140"),
    ("pool", {"B1": ("ph", 8.6)}, "outside"),
    ("raceway", {"B1": ("ph", 7.2), "B2": ("mg_l", 18.5)}, "140 %|outside"),
]


@pytest.mark.parametrize(("site", "shown", "words"), PLANTED)
def test_each_planted_error_is_questioned_and_answered_by_itself(desk, clock, things, site, shown, words):
    visit = h.open_typed(desk, things, site, shown)
    rows = [rounds.Typed(things.probes[p], unit, value) for p, (unit, value) in shown.items()]
    typed = rounds.TypedSheet(rows=rows, temperature_c={"pool": 29.0}.get(site, 8.0))
    with pytest.raises(Unanswered, match=words) as refused:
        rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed)
    codes = [q.code for q in refused.value.questions]
    assert len(set(codes)) == len(codes)
    answers = {code: f"Seen twice, {code}" for code in codes}
    for code in codes:  # a reason answers its own question alone
        others = {c: a for c, a in answers.items() if c != code}
        with pytest.raises(Unanswered) as left:
            rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed, answers=others)
        assert code in [q.code for q in left.value.questions]
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Reading)) == 0
    rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed, answers=answers)
    with desk.read() as session:
        kept = list(session.scalars(select(Reading)))
        assert rounds.sheet_of_visit(session, visit, clock()).questions == []  # what was answered is not asked again
    for row in kept:
        odd = [f for f in row.findings if f["flag"] > 2]
        assert all(f["answer"].startswith("Seen twice, ") for f in odd)
        assert bool(row.reason) == bool(odd)
        if not row.parents:
            assert set(row.reason.split("; ")) <= {a for c, a in answers.items() if c.startswith(row.quantity)} | {""}


#: What an oxygen display shows at once at 8 °C in the lagoon, salinity about 8.7, where the meter is set to fresh water:
#: 11.84 mg/L saturate fresh water at sea level (USGS-TM, table 6.2-6), 11.16 this one.
BOTH = [
    ("mg_l", 9.4, 79.4, "", ""),
    ("mg_l", 9.4, 97.4, "", "do not fit together"),
    ("mg_l", 9.4, 84.2, "%", "Take its settings down anew"),
    ("percent", 79.4, 9.4, "mg/L", ""),
    ("percent", 79.4, 7.4, "", "do not fit together"),
]


@pytest.mark.parametrize(("way", "value", "other", "unit", "words"), BOTH)
def test_mg_l_and_percent_of_one_display_are_held_against_each_other(
    desk, clock, things, way, value, other, unit, words
):
    visit = rounds.start_visit(
        desk,
        things.ansa,
        h.key(),
        site_id=things.sites["lagoon"],
        probes=[things.probes[p] for p in ("B2", "B3")],
        source="typed",
    ).id
    rows = [rounds.Typed(things.probes["B3"], "us_cm_ref", 14_800.0), rounds.Typed(things.probes["B2"], way, value)]
    typed = rounds.TypedSheet(rows, 8.0, beside={things.probes["B2"]: rounds.Beside(other, unit)})
    sent = dict(visit_id=visit, typed=typed, answers={})
    if words:
        with pytest.raises(Unanswered, match=words) as asked:
            rounds.record_typed(desk, things.ansa, h.key(), **sent)
        assert [q.code for q in asked.value.questions] == ["oxygen:pair"]
        sent["answers"] = {"oxygen:pair": "Bubbles on the tip"}
    rounds.record_typed(desk, things.ansa, h.key(), **sent)
    with desk.read() as session:
        (oxygen,) = session.scalars(select(Reading).where(Reading.quantity == "oxygen"))
    (pair,) = (f for f in oxygen.findings if f["key"] == "pair")
    assert (pair["flag"], pair.get("answer", "")) == ((3, "Bubbles on the tip") if words else (1, ""))
    # Read once more, with a slip in one unit that is typed over: the other display was of another value.
    clock.on(seconds=30)
    slip = rounds.TypedSheet(rows, 8.0, beside={things.probes["B2"]: rounds.Beside(other * 2, unit)})
    rounds.type_readings(desk, things.ansa, h.key(), visit_id=visit, typed=slip)
    clock.on(seconds=30)
    rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=rounds.TypedSheet(rows, 8.0))
    with desk.read() as session:
        found = [r.findings for r in session.scalars(select(Reading).where(Reading.quantity == "oxygen"))]
    assert sum(any(f["key"] == "pair" for f in findings) for findings in found) == 1


def test_what_follows_from_a_questioned_value_is_answered_with_it():
    conductivity = Question("conductivity:unusual", "It is far off.")
    solids = Question("solids:unusual", "So are these.", ("conductivity:unusual",))
    light = Question("saturation:oxygen_light", "Over 140 %.")
    assert each_once([conductivity, solids, light, light]) == [conductivity, light]
    assert each_once([solids]) == [solids]
    said = Answers({"conductivity:unusual": "Salted road"})
    assert [said.to(q) for q in (conductivity, solids, light)] == ["Salted road", "Salted road", ""]
    with pytest.raises(Unanswered, match="Over 140 %"):
        said.check([conductivity, solids, light])


def test_typed_values_are_recorded_without_the_probes_that_wait_beside_them(desk, clock, things):
    h.calibrate(desk, clock, things)
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["basin"], probes=[things.probes["A1"]], source="live"
    ).id
    rounds.add_probe(desk, things.ansa, h.key(), visit_id=visit, probe_id=things.probes["B1"])
    rounds.dip(desk, things.ansa, h.key(), visit_id=visit)
    clock.on(seconds=70)
    simulator.pump(desk)
    typed = rounds.TypedSheet([rounds.Typed(things.probes["B1"], "ph", 8.05)], 9.0)
    rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed)
    with desk.read() as session:
        sheet = rounds.sheet_of_visit(session, visit, clock())
    assert {str(r.probe_id) for r in sheet.kept if r.quantity == "ph"} == {things.probes["B1"]}
    assert [str(line.probe.id) for line in sheet.waiting] == [things.probes["A1"]]


def test_an_answer_stays_with_what_it_answered_when_that_is_worked_out_anew(desk, clock, things):
    probes = {"B1": ("ph", 7.2), "B2": ("mg_l", 18.5)}
    visit = h.open_typed(desk, things, "raceway", probes)
    typed = rounds.TypedSheet([rounds.Typed(things.probes[p], *shown) for p, shown in probes.items()], 8.0)
    with pytest.raises(Unanswered) as asked:
        rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed)
    answers = {q.code: f"Weed in the sun, {q.code}" for q in asked.value.questions}
    rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed, answers=answers)
    clock.on(minutes=5)
    rounds.say(desk, things.ansa, h.key(), visit_id=visit, pressure_hpa=930.0)

    def newest(quantity):
        with desk.read() as session:
            kept = rounds.of_visit(session, rounds.visit_of(session, visit).id)
        row = next(r for r in kept if r.quantity == quantity)
        return row, {f["key"]: f.get("answer", "") for f in row.findings if f["flag"] > 2}

    saturation, said = newest("saturation")
    assert saturation.version == 2
    assert said["oxygen_light"] == "Weed in the sun, oxygen:unusual"  # asked once, of what it follows from
    oxygen, before = newest("oxygen")
    slip = mending.Correction("Misread", None, raw=18.6, temperature_c=8.0)
    mending.correct(desk, things.ansa, h.key(), reading_id=str(oxygen.id), version=oxygen.version, correction=slip)
    mended, after = newest("oxygen")
    assert (mended.reason, after) == ("Misread", before)  # why it was mended is no answer to what is odd about it


def test_a_second_display_goes_with_oxygen_and_conductivity_and_in_another_unit(desk, things):
    b2, b1 = things.probes["B2"], things.probes["B1"]
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["lagoon"], probes=[b1, b2], source="typed"
    ).id
    for probe, way, value, beside, words in (
        (b2, "mg_l", 9.4, rounds.Beside(9.5, "mg/L"), "in the unit of the first"),
        (b2, "mg_l", 9.4, rounds.Beside(900.0), "400"),
        (b1, "ph", 8.0, rounds.Beside(8.1), "go together for oxygen"),
    ):
        typed = rounds.TypedSheet([rounds.Typed(probe, way, value)], 8.0, beside={probe: beside})
        with pytest.raises(InputError, match=words):
            rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed)


#: What a conductivity display shows besides 14 200 µS/cm (25 °C) at 8 °C, with the unit written behind it, and what is asked:
#: PSS-78 makes about 8.2 of it; factors go from 0.40 to 1.00.
SALT_BESIDE = [
    (8.2, "", ""),
    (2.8, "", "does not fit"),
    (7100.0, "mg/L", ""),
    (710.0, "ppm", "a factor of 0.05"),
    (7.1, "g/L", ""),
]


@pytest.mark.parametrize(("shown", "unit", "words"), SALT_BESIDE)
def test_tds_and_salinity_are_held_against_the_conductivity_they_stand_beside(desk, things, shown, unit, words):
    b3 = things.probes["B3"]
    visit = h.open_typed(desk, things, "lagoon", ["B3"])
    typed = rounds.TypedSheet([rounds.Typed(b3, "us_cm_ref", 14_200.0)], 8.0, beside={b3: rounds.Beside(shown, unit)})
    if not words:
        assert rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed).readings
        return
    with pytest.raises(Unanswered, match=words) as asked:
        rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=typed)
    assert [q.code for q in asked.value.questions] == ["conductivity:pair"]
    either = rounds.TypedSheet(typed.rows, 8.0, beside={b3: rounds.Beside(8.2, "ppt")})
    with pytest.raises(InputError, match="neither TDS nor salinity"):
        rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=either)


def test_a_sheet_that_repeats_the_last_one_to_the_digit_is_asked_about_once(desk, clock, things):
    shown = {"B1": ("ph", 7.31), "B2": ("mg_l", 10.42), "B3": ("us_cm_ref", 96.4)}

    def typed(**changed):
        rows = [rounds.Typed(things.probes[p], *(changed.get(p) or shown[p])) for p in shown]
        visit = h.open_typed(desk, things, "raceway", shown)
        rounds.record_typed(desk, things.ansa, h.key(), visit_id=visit, typed=rounds.TypedSheet(rows, 8.0))

    typed()
    clock.on(hours=150)
    with pytest.raises(Unanswered, match="to the digit") as asked:
        typed()
    assert len(asked.value.questions) == 1
    typed(B1=("ph", 7.32))


def test_a_slip_is_asked_about_in_one_sentence():
    """Two swapped fields, what follows from an odd value, and every test of one value: one question each."""
    odd = [
        QualityFinding("site_range", "site range", Flag.FAIL, "Outside."),
        QualityFinding("history", "site history", Flag.SUSPECT, "Not expected."),
        QualityFinding("swapped_with_oxygen", "slip", Flag.SUSPECT, "Were the two swapped?"),
    ]
    of_ph = questions_of("ph", odd)
    of_oxygen = questions_of("oxygen", [replace(odd[2], key="swapped_with_ph"), odd[1]])
    follows = questions_of("saturation", [QualityFinding("oxygen_light", "light", Flag.FAIL, "Over.")], ["oxygen"])
    assert [q.sentence for q in each_once(of_ph + of_oxygen + follows)] == ["Were the two swapped?"]
    assert [q.sentence for q in each_once(questions_of("ph", odd[:2]))] == ["Outside."]


def test_a_pressure_reduced_to_sea_level_is_noticed_or_brought_up(desk, clock, things):
    visit = h.visit(desk, clock, things, "raceway", "B2", source="typed")
    with desk.sessions.begin() as session:
        rounds.site_of(session, things.sites["raceway"]).altitude_m = 612.0
    with pytest.raises(InputError, match="reduced to sea level"):
        rounds.say(desk, things.ansa, h.key(), visit_id=visit, pressure_hpa=1018.0)
    rounds.say(desk, things.ansa, h.key(), visit_id=visit, pressure_hpa=1018.0, pressure_from="report")
    with desk.read() as session:
        water = rounds.sheet_of_visit(session, visit, clock()).water
    # ISA: 612 m take 7.1 % off.
    assert water.pressure_hpa == pytest.approx(1018 * (1 - 2.25577e-5 * 612) ** 5.25588, abs=0.01)
    assert water.pressure_from == "from a weather report"


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


def a_sheet(things, clock, out, **other):
    """A queued visit of one set."""
    rows = [rounds.Typed(things.probes["B1"], "ph", 7.9)]
    one = dict(at=clock(), rows=rows, temperature_c=9.0)
    of_visit = dict(site_id=things.sites["lagoon"], note="Ice at the edge")
    one = offline.ReadSet(**one | {k: v for k, v in other.items() if k in offline.ReadSet.__dataclass_fields__})
    rest = {k: v for k, v in other.items() if k in offline.QueuedVisit.__dataclass_fields__}
    return offline.QueuedVisit(out, sets=[one], **of_visit | rest)


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
    key, sheet = h.key(), a_sheet(things, clock, out, at=read_at)
    first = late.send(desk, things.ansa, key, sheet)
    assert late.send(desk, things.ansa, key, sheet) == first
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 1
        rows = rounds.of_visit(session, rounds.visit_of(session, first.visit).id)
        assert {(r.at, r.written_at) for r in rows} == {(read_at, clock())}  # read then, in the record now
        assert [n.body["text"] for n in rounds.sheet_of_visit(session, rows[0].visit_id, clock()).notes] == [
            "Ice at the edge"
        ]
    other = h.key()
    with pytest.raises(offline.Conflict, match="read by Ansa Merrik"):
        late.send(desk, things.ilka, other, sheet)
    late.send(desk, things.ilka, other, replace(sheet, both=True))
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 2


def test_a_profile_is_one_visit_taken_in_whole_or_not_at_all(desk, clock, things):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    begun, basin = clock(), things.sites["basin"]
    clock.on(hours=3)
    rows = [rounds.Typed(things.probes["B1"], "ph", 8.05), rounds.Typed(things.probes["B3"], "us_cm_ref", 15_000.0)]
    sets = [
        offline.ReadSet(begun + timedelta(minutes=3 * n), rows, 9.0 - depth / 2, depth, "First of the year")
        for n, depth in enumerate((0.3, 1.0, 2.0, 3.0, 0.3))
    ]
    broken = [*sets[:4], replace(sets[4], rows=[rounds.Typed(things.probes["B1"], "ph", 99.0)])]
    visit = offline.QueuedVisit(out, basin, sets, "Clear", [offline.TakenPhoto("boat.png", a_picture())])
    with pytest.raises(InputError, match="pH"):
        late.send(desk, things.ansa, h.key(), replace(visit, sets=broken))
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 0
    made = late.send(desk, things.ansa, h.key(), visit)
    with desk.read() as session:
        (only,) = outings.visits_of(session, outings.outing(session, out))
        assert (str(only.id), only.at) == (made.visit, begun)
        kept = [r for r in rounds.of_visit(session, only.id) if r.quantity == "salinity"]
        assert sorted(r.depth_m for r in kept) == [0.3, 1.0, 2.0, 3.0]  # each depth with its own salt
        ph = [r for r in rounds.of_visit(session, only.id) if r.quantity == "ph"]
        assert sorted((r.depth_m, r.role) for r in ph)[:2] == [(0.3, "first"), (0.3, "repeat")]
        assert {r.at for r in ph} == {one.at for one in sets}
        assert [p.name for p in rounds.visit_of(session, only.id).photos] == ["boat.png"]


def a_picture():
    out = io.BytesIO()
    Image.new("RGB", (40, 30), "white").save(out, "PNG")
    return out.getvalue()


def test_a_paper_sheet_entered_later_goes_to_its_day_and_opens_what_was_decided_of_it(desk, clock, things):
    day = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    a_day(desk, clock, things)
    read_at = clock()
    decided = rule(desk, things.ilka, close(desk, clock, things), "bracket")
    clock.on(days=1)
    with desk.read() as session:
        assert offline.outing_of(session, things.sites["lagoon"], read_at - timedelta(hours=1)) == day
        assert offline.outing_of(session, things.sites["lagoon"], clock() + timedelta(days=9)) == ""
    rows = [rounds.Typed(things.probes["A1"], "mv", -48.0)]
    one = offline.ReadSet(read_at - timedelta(hours=1), rows, 9.0, reason="Seen twice")
    made = late.enter_paper(desk, things.ansa, h.key(), offline.QueuedVisit(day, things.sites["reed"], [one]))
    assert len(made.opened) == 1
    with desk.read() as session:
        kept = {r.quantity: r for r in rounds.of_visit(session, uuid.UUID(made.visit))}
        assert (kept["ph"].at, kept["ph"].backing) == (one.at, "open")
        assert kept["ph"].calibration is not None  # the calibration that was in force then
        subject = session.get(Decision, uuid.UUID(decided.id)).subject
        assert decisions.decision_of(session, subject) is None
    old = replace(one, at=clock() - timedelta(days=401))
    with pytest.raises(InputError, match="over 400 days ago"):
        late.enter_paper(desk, things.ansa, h.key(), offline.QueuedVisit("", things.sites["reed"], [old]))


def test_an_odd_sheet_waits_for_its_reason_and_goes_on_where_it_broke(desk, clock, things):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    key = h.key()
    odd = dict(rows=[rounds.Typed(things.probes["B1"], "ph", 4.0)])
    for _ in range(2):
        with pytest.raises(Refused, match="outside what this site can be"):
            late.send(desk, things.ansa, key, a_sheet(things, clock, out, **odd))
    made = late.send(desk, things.ansa, key, a_sheet(things, clock, out, **odd, reason="Acid spill, seen"))
    assert made.readings == 2
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 1


@pytest.mark.parametrize(
    ("off", "words"), [(timedelta(hours=1), "in the future"), (timedelta(days=-15), "over 14 days ago")]
)
def test_a_wrong_clock_is_told(desk, clock, things, off, words):
    out = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    with pytest.raises(InputError, match=words):
        late.send(desk, things.ansa, h.key(), a_sheet(things, clock, out, at=clock() + off))
    naive = clock().replace(tzinfo=None)
    with pytest.raises(InputError, match="no zone"):
        late.send(desk, things.ansa, h.key(), a_sheet(things, clock, out, at=naive))
    there = clock().astimezone(ZoneInfo("Pacific/Auckland"))
    late.send(desk, things.ansa, h.key(), a_sheet(things, clock, out, at=there))
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
