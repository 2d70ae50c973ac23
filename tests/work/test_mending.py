"""Mending what was written: value, unit, depth, time, site; struck out and brought back; decisions opened again."""

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta

import pytest
from sqlalchemy import select

from brumel.core.errors import InputError
from brumel.store.records import Unsigned
from brumel.store.rounds import VisitNote
from brumel.store.tables import Audit, Reading
from brumel.work import records, rounds
from brumel.work.bench import closing_checks
from brumel.work.desk import MovedOn, Refused
from brumel.work.records import decisions, mending
from brumel.work.rounds import outings
from tests.work import helpers as h
from tests.work.test_closing_day import a_day, close, rule, standing


@pytest.fixture
def things(desk):
    return h.Things(desk)


@pytest.fixture
def sheet(desk, things):
    """A typed visit of three quantities at the lagoon, with a note; its id."""
    names = {"B1": ("ph", 8.02), "B2": ("mg_l", 9.4), "B3": ("us_cm_ref", 14_200.0)}
    probes = [things.probes[p] for p in names]
    given = dict(site_id=things.sites["lagoon"], probes=probes, source="typed")
    visit = rounds.start_visit(desk, things.ansa, h.key(), **given).id
    rows = [rounds.Typed(things.probes[p], unit, value) for p, (unit, value) in names.items()]
    typed = rounds.TypedSheet(rows, 9.5, depth_m=1.0, still=True)
    rounds.type_readings(desk, things.ansa, h.key(), visit_id=visit, typed=typed)
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit, reason="Seen twice")
    rounds.say(desk, things.ansa, h.key(), visit_id=visit, note="Ice at the edge")
    return visit


def kept(desk, visit):
    with desk.read() as session:
        return {r.quantity: r for r in rounds.of_visit(session, rounds.visit_of(session, visit).id)}


def mend(desk, things, row, **change):
    correction = mending.Correction(**{"reason": "Misread", "depth_m": row.depth_m} | change)
    given = dict(reading_id=str(row.id), version=row.version, correction=correction)
    return mending.correct(desk, things.ansa, h.key(), **given)


@pytest.mark.parametrize(
    ("change", "value"),
    [
        ({"raw": 8.20, "entered": "ph"}, 8.20),
        ({"raw": 8.20, "entered": "mv", "unit": "pH"}, 8.20),  # what is written behind the value goes before the choice
        # -60 mV of an ideal electrode at 25.0 °C: 7 + 60 / 59.16, by Nernst (CODATA: 59.159 mV)
        ({"raw": -60.0, "entered": "mv", "temperature_c": 25.0}, 8.014),
    ],
)
def test_a_value_is_corrected_in_any_unit_of_its_display(desk, clock, things, sheet, change, value):
    old = kept(desk, sheet)["ph"]
    mend(desk, things, old, **change)
    new = kept(desk, sheet)["ph"]
    assert (new.version, new.reason, new.root_id) == (2, "Misread", old.root_id)
    assert new.value == pytest.approx(value, abs=5e-4)


def test_what_follows_is_worked_out_anew_where_a_reading_is_moved_in_depth_and_time(desk, clock, things, sheet):
    before = kept(desk, sheet)
    clock.on(hours=20)
    earlier = before["conductivity"].at - timedelta(hours=2)
    mend(desk, things, before["conductivity"], depth_m=2.5, at=earlier)
    after = kept(desk, sheet)
    assert (after["conductivity"].depth_m, after["conductivity"].at) == (2.5, earlier)
    assert after["conductivity"].value == pytest.approx(before["conductivity"].value)
    assert "salinity" not in after  # at 1 m no conductivity is left, at 2.5 m no thermometer stood
    assert after["oxygen"].value != pytest.approx(before["oxygen"].value)  # now with the site's usual salt
    with desk.read() as session:
        gone = session.scalars(select(Reading).where(Reading.quantity == "salinity", Reading.struck)).one()
        assert gone.reason == "what it follows from does not stand here any more"
        detail = session.scalars(select(Audit).where(Audit.action == "reading.correct")).one().detail
    assert detail["depth_m"] == [1.0, 2.5]
    mend(desk, things, after["conductivity"], depth_m=1.0)
    back = kept(desk, sheet)
    assert back["salinity"].value == pytest.approx(before["salinity"].value)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({}, "Nothing was changed"),
        ({"raw": 99.0}, "pH"),
        ({"raw": float("nan")}, "number"),
        ({"raw": 8.1, "unit": "mg/L"}, "mg/L"),
        ({"depth_m": -3.0}, "epth"),
        ({"days": 1}, "in the future"),
        ({"days": -500}, "over 400 days ago"),
        ({"raw": 8.1, "reason": " "}, "Reason"),
    ],
)
def test_a_correction_that_cannot_be_is_told_and_changes_nothing(desk, clock, things, sheet, change, words):
    old = kept(desk, sheet)["ph"]
    if "days" in change:
        change = {"at": clock() + timedelta(days=change["days"])}
    with pytest.raises(InputError, match=words):
        mend(desk, things, old, **change)
    assert kept(desk, sheet)["ph"].version == 1


def test_a_reading_is_struck_out_counts_nowhere_and_is_brought_back(desk, clock, things, sheet):
    old = kept(desk, sheet)["conductivity"]
    given = dict(reading_id=str(old.id), version=1, reason="The cell hung in the air")
    mending.strike(desk, things.ansa, h.key(), **given)
    with pytest.raises(MovedOn):
        mending.strike(desk, things.ansa, h.key(), **given)
    assert {"conductivity", "salinity"}.isdisjoint(kept(desk, sheet))
    with desk.read() as session:
        assert records.readings(session, records.Search(quantity="conductivity"))[1] == 0
        site = rounds.site_of(session, things.sites["lagoon"])
        assert rounds.past_values(session, site, depth_m=1.0)["conductivity"] == []
        gone = session.scalars(select(Reading).where(Reading.root_id == old.root_id, Reading.version == 2)).one()
        assert session.get(Unsigned, gone.id) is session.get(Unsigned, old.id) is None
    with pytest.raises(Refused, match="Bring it back first"):
        mend(desk, things, gone, raw=15_000.0)
    mending.bring_back(desk, things.ansa, h.key(), reading_id=str(gone.id), version=2, reason="It was in the water")
    back = kept(desk, sheet)
    assert (back["conductivity"].version, back["conductivity"].value) == (3, old.value)
    assert "salinity" in back
    with desk.read() as session:
        assert session.get(Unsigned, back["conductivity"].id) is not None


def test_what_is_calculated_or_came_by_a_link_is_mended_where_it_comes_from(desk, clock, things, sheet):
    salt = kept(desk, sheet)["salinity"]
    with pytest.raises(Refused, match="Correct the reading it follows from"):
        mend(desk, things, salt, raw=3.0)
    with pytest.raises(Refused, match="it goes with it"):
        mending.strike(desk, things.ansa, h.key(), reading_id=str(salt.id), version=salt.version, reason="No")
    live = kept(desk, h.visit(desk, clock, things, "raceway", "A1", early=True, reason="Known"))["ph"]
    with pytest.raises(Refused, match="its samples are the record"):
        mend(desk, things, live, raw=7.0)
    mend(desk, things, live, depth_m=0.5)
    assert standing(desk)[-1].depth_m == 0.5


def test_a_second_method_s_result_is_corrected(desk, clock, things, sheet):
    result = rounds.HandResult(quantity="total_chlorine", value=0.4, method="tablet and colour")
    made = rounds.by_hand(desk, things.ansa, h.key(), visit_id=sheet, result=result).id
    with desk.read() as session:
        old = rounds.reading(session, made)
    mend(desk, things, old, raw=4.0, depth_m=2.0)
    new = kept(desk, sheet)["total_chlorine"]
    assert (new.value, new.depth_m, new.backing_words) == (4.0, 2.0, "by hand: tablet and colour")
    assert new.expanded_uncertainty == pytest.approx(0.4)  # a tenth: common practice, no source


def test_mending_a_decided_reading_opens_the_decision_again_and_says_so(desk, clock, things):
    a_day(desk, clock, things, offset_mv=4.2 - 20.0)
    found = close(desk, clock, things)
    rule(desk, things.ilka, found, "correct")
    first, second = standing(desk)
    with desk.read() as session:
        check = closing_checks.closing(session, found)
        number = decisions.decision_of(session, check.id).number
    done = mend(desk, things, first, at=first.at - timedelta(minutes=20))
    assert done.opened == (number,)
    moved, other = standing(desk)
    assert {(r.backing, r.decision_id) for r in (moved, other)} == {("open", None)}
    assert (other.root_id, other.version) == (second.root_id, 3)
    with desk.read() as session:
        assert decisions.decision_of(session, check.id) is None
        last = decisions.decisions_about(session, check.id)[-1]
        assert (last.kind, last.signed_name) == ("reopened", "Ansa Merrik")
        assert last.reason == "A reading it rested on was mended: Misread"
        assert [r.id for r in decisions.span(session, check)] == [moved.id, other.id]
    rule(desk, things.ilka, found, "correct")
    assert {r.backing for r in standing(desk)} == {"corrected"}
    gone = standing(desk)[0]
    struck = dict(reading_id=str(gone.id), version=gone.version, reason="Of another probe")
    assert len(mending.strike(desk, things.ansa, h.key(), **struck).opened) == 1


def test_two_who_mend_what_one_decision_rested_on_take_turns(desk, clock, things):
    a_day(desk, clock, things, offset_mv=4.2 - 20.0)
    found = close(desk, clock, things)
    rule(desk, things.ilka, found, "correct")

    def try_to(row):
        try:
            return mend(desk, things, row, depth_m=0.5).opened
        except MovedOn:  # the other's mending opened the decision and with it a newer version of this one
            return None

    with ThreadPoolExecutor(2) as both:
        told = list(both.map(try_to, standing(desk)))
    assert sorted(told, key=str) == sorted([(1,), None], key=str)
    with desk.read() as session:
        check = closing_checks.closing(session, found)
        assert [d.kind for d in decisions.decisions_about(session, check.id)] == ["closing", "reopened"]


def test_a_visit_is_moved_to_its_right_site(desk, clock, things, sheet):
    before = kept(desk, sheet)
    to = dict(visit_id=sheet, site_id=things.sites["raceway"], reason="Began at the wrong site")
    with pytest.raises(InputError, match="this site already"):
        mending.move_visit(desk, things.ansa, h.key(), **to | {"site_id": things.sites["lagoon"]})
    key = h.key()
    new = mending.move_visit(desk, things.ansa, key, **to).id
    assert mending.move_visit(desk, things.ansa, key, **to).id == new  # sent twice, moved once
    after = kept(desk, new)
    assert kept(desk, sheet) == {}
    assert {r.site_id for r in after.values()} == {after["ph"].site_id}
    assert str(after["ph"].site_id) == things.sites["raceway"]
    assert after["ph"].root_id == before["ph"].root_id
    assert after["ph"].value == pytest.approx(before["ph"].value)
    # Saturation is reckoned with the pressure of the new altitude, 612 m: more percent for the same mg/L.
    assert after["saturation"].value > 1.04 * before["saturation"].value
    assert after["saturation"].root_id == before["saturation"].root_id
    with desk.read() as session:
        notes = session.scalars(select(VisitNote).where(VisitNote.visit_id == rounds.visit_of(session, new).id)).all()
        assert {n.body.get("text") for n in notes} >= {"Ice at the edge"}
        lagoon = rounds.site_of(session, things.sites["lagoon"])
        assert rounds.past_values(session, lagoon, depth_m=1.0)["ph"] == []
    with pytest.raises(MovedOn, match="moved to its right site"):
        rounds.say(desk, things.ansa, h.key(), visit_id=sheet, note="Too late")


def test_a_moved_visit_leaves_its_outing_with_one_sheet(desk, clock, things):
    outing = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    given = dict(site_id=things.sites["lagoon"], probes=[things.probes["B1"]], source="typed", outing_id=outing)
    visit = rounds.start_visit(desk, things.ansa, h.key(), **given).id
    h.type_one(desk, things, visit, value=8.0, temperature_c=9.0, still=True)
    to = dict(visit_id=visit, site_id=things.sites["reed"], reason="Next creek")
    with pytest.raises(Refused, match="not recorded yet"):
        mending.move_visit(desk, things.ansa, h.key(), **to)
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit, reason="Seen twice")
    new = mending.move_visit(desk, things.ansa, h.key(), **to).id
    with desk.read() as session:
        assert [str(v.id) for v in outings.visits_of(session, outings.outing(session, outing))] == [new]


def test_beside_another_a_reading_is_a_repeat_and_alone_it_is_the_first(desk, clock, things, sheet):
    h.type_one(desk, things, sheet, value=7.9, temperature_c=8.0, depth_m=2.0, still=True)
    rounds.take_all(desk, things.ansa, h.key(), visit_id=sheet, reason="Seen twice")

    def deep():
        return next(r for r in standing(desk) if r.raw == 7.9)

    assert deep().role == "first"
    mend(desk, things, deep(), depth_m=1.0)
    assert deep().role == "repeat"
    mend(desk, things, deep(), depth_m=3.0)
    assert deep().role == "first"


def test_a_reading_moved_before_its_calibration_has_none(desk, clock, things):
    h.calibrate(desk, clock, things)
    clock.on(hours=2)
    live = kept(desk, h.visit(desk, clock, things, "raceway", "A1", early=True, reason="Known here"))["ph"]
    assert live.backing == "open"
    mend(desk, things, live, at=live.at - timedelta(hours=5))
    assert standing(desk)[0].backing == "unbacked"
    mend(desk, things, standing(desk)[0], at=live.at)
    assert (standing(desk)[0].backing, standing(desk)[0].calibration_id) == ("open", live.calibration_id)
