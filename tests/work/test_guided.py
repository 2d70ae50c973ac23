"""Maintenance led step by step, and where probes are put away."""

import uuid

import pytest
from sqlalchemy import select

from brumel.core.errors import InputError, InputErrors
from brumel.core.quantity_table import MEASURED
from brumel.methods.care import load_care
from brumel.methods.guides import battery_guide, finding_of, guides_for
from brumel.methods.inspection import items_for
from brumel.methods.maintenance import kinds_of, load_maintenance
from brumel.store.cluster import ROOT
from brumel.store.tables import Inspection, Maintenance
from brumel.work import kit, rounds
from brumel.work.desk import NotFound, Refused
from brumel.work.rounds.sheet.sheet import sheet_of_visit
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def test_every_guide_names_drawings_findings_and_maintenance_that_exist():
    guides = [battery_guide()]
    for quantity, row in MEASURED.items():
        for kind in row.probe_kinds:
            known = guides_for(quantity, kind)
            guides += known.values()
            assert known, (quantity, kind)
            assert set(known) <= set(kinds_of(quantity, kind))
            for guide in known.values():
                for answer in (a for q in guide.questions for a in q.answers if a.finding):
                    finding_of(quantity, kind, answer.finding)  # raises where this kind's inspection has no such thing
            places = load_care().places(quantity, kind)
            assert {"right"} <= {p.standing for p in places.values()}, (quantity, kind)
            assert all(p.says for p in places.values() if p.standing != "right")
            assert all(p.maintenance in kinds_of(quantity, kind) for p in places.values() if p.maintenance)
    drawn = (ROOT / "src/brumel/web/templates/drawn/steps.svg.html").read_text("utf-8")
    for picture in {s.picture for g in guides for s in g.steps}:
        assert f"'{picture}':" in drawn  # an unknown one would draw a meter and have no words
    assert "polaris" not in str(guides_for("oxygen", "optical")).replace("needs no polarising", "")
    assert "membrane" not in guides_for("oxygen", "optical")
    assert "electrolyte" not in guides_for("ph", "gel")


MEMBRANE = {"cathode": "bright", "ring": "whole", "under": "none", "taut": "taut"}


def test_a_membrane_is_fitted_step_by_step_and_what_was_seen_counts(desk, clock, things):
    probe = things.probes["A5"]
    do = dict(probe_id=probe, what="membrane")
    with pytest.raises(InputErrors) as caught:
        kit.record_guided(desk, things.ansa, h.key(), **do, answers={"taut": "taut", "ring": "purple"})
    assert [f.field for f in caught.value.faults] == ["cathode", "ring", "under"]
    with pytest.raises(Refused, match="a new membrane, never used before"):
        kit.record_guided(desk, things.ansa, h.key(), **do, answers=MEMBRANE, fresh=False)
    with pytest.raises(NotFound):
        kit.record_guided(desk, things.ansa, h.key(), probe_id=probe, what="cap", answers={})
    bubble = kit.record_guided(desk, things.ansa, h.key(), **do, answers={**MEMBRANE, "under": "bubble"})
    assert bubble.blocked == "a bubble"
    with desk.read() as session:
        found = kit.probe_of(session, probe)
        assert "kept off Bench: a bubble" in kit.trust_of(session, found, clock()).words
        assert not session.scalars(select(Maintenance).where(Maintenance.probe_id == found.id)).all()
    clock.on(minutes=5)
    same = h.key()
    for _ in range(2):
        kit.record_guided(desk, things.ansa, same, **do, answers=MEMBRANE, note="Old one torn")
    with desk.read() as session:
        found = kit.probe_of(session, probe)
        (done,) = session.scalars(select(Maintenance).where(Maintenance.probe_id == found.id))
        assert (done.answers, (done.ready_at - done.at).total_seconds()) == (MEMBRANE, 5400)
        assert "What is under the membrane? liquid only, no bubble" in kit.answers_in_words(found, done)
        assert "polarising" in kit.trust_of(session, found, clock()).words  # the bubble is gone, the wait runs
        look = kit.last_inspection(session, found.id)
        assert (look.blocks, look.findings) == (False, {"under": "good", "membrane": "good"})


def test_what_was_seen_elsewhere_before_still_keeps_a_probe_off_bench(desk, clock, things):
    probe = things.probes["A1"]
    bent = {i.key: "good" for i in items_for("ph", "refillable")} | {"plug": "bent"}
    kit.inspect(desk, things.ansa, h.key(), probe_id=probe, seen=bent)
    clock.on(minutes=5)
    answers = {"purge": "seen", "level": "full"}
    kit.record_guided(desk, things.ansa, h.key(), probe_id=probe, what="electrolyte", answers=answers)
    with desk.read() as session:
        look = session.scalar(select(Inspection).order_by(Inspection.at.desc()).limit(1))
    assert (look.blocks, look.note, look.findings["plug"]) == (True, "a bent pin", "bent")


def test_a_junction_without_a_drop_is_not_done(desk, clock, things):
    do = dict(probe_id=things.probes["A1"], what="electrolyte")
    undone = kit.record_guided(desk, things.ansa, h.key(), **do, answers={"purge": "none", "level": "full"})
    assert undone.blocked == "no drop came"
    with desk.read() as session:
        assert (
            "kept off Bench: no drop came"
            in kit.trust_of(session, kit.probe_of(session, do["probe_id"]), clock()).words
        )
        assert session.scalar(select(Maintenance.id)) is None
    clock.on(minutes=5)
    assert not kit.record_guided(desk, things.ansa, h.key(), **do, answers={"purge": "seen", "level": "full"}).blocked
    with desk.read() as session:
        assert not kit.last_inspection(session, uuid.UUID(do["probe_id"])).blocks


PLACES = [  # quantity, where, hours, what is then said; empty where nothing is asked for
    ("A1", "storage_solution", 500, ""),
    ("A1", "tap", 20, ""),
    ("A1", "tap", 30, "Stored in tap water since"),
    ("A1", "pure", 1, "leaches glass"),
    ("A1", "dry", 1, "soak it overnight"),
    ("A3", "pure", 500, ""),  # both schools of conductivity are right
    ("A3", "dry", 500, ""),
    ("A6", "dry", 1, "has to hydrate"),
    ("A5", "dry", 1, "dries out through the membrane"),
]


def test_a_place_speaks_up_when_its_probe_is_next_looked_at(desk, clock, things):
    for probe, place, hours, words in PLACES:
        probe_id = things.probes[probe]
        with pytest.raises(InputError, match="choose from the list"):
            kit.store_probe(desk, things.ansa, h.key(), probe_id=probe_id, place="under the bed")
        kit.store_probe(desk, things.ansa, h.key(), probe_id=probe_id, place=place)
        clock.on(hours=hours)
        with desk.read() as session:
            found = kit.probe_of(session, probe_id)
            stored = kit.stored_of(session, [found], clock())[found.id]
        assert words in stored.asks if words else stored.asks == "", (probe, place)
        clock.on(hours=1)


def test_what_puts_a_place_right_silences_it_and_a_meter_s_probes_are_put_away_at_once(desk, clock, things):
    meter, ids = things.meters["Field set A"], things.probes
    places = {ids["A1"]: "dry", ids["A5"]: "moist_cap", ids["A3"]: ""}
    kit.store_probes(desk, things.ansa, h.key(), meter_id=meter, places=places)
    for bad in ({}, {ids["A1"]: "moist_cap"}):
        with pytest.raises(Exception, match=r"where it was put"):
            kit.store_probes(desk, things.ansa, h.key(), meter_id=meter, places=bad)
    clock.on(hours=2)
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=ids["A1"], what="cleaned")
    assert load_maintenance()["ph"]["dried"]
    with desk.read() as session:
        found = [kit.probe_of(session, ids[k]) for k in ("A1", "A5", "A3")]
        known = kit.stored_of(session, found, clock())
        assert [k in known for k in (p.id for p in found)] == [True, True, False]
        assert "soak it overnight" in known[found[0].id].asks  # cleaning alone does not wet a dry bulb
    clock.on(hours=3)
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=ids["A1"], what="dried")
    with desk.read() as session:
        assert kit.stored_of(session, found, clock())[found[0].id].asks == ""


def test_free_or_total_belongs_to_the_tip_and_to_every_value_read_with_it(desk, clock, things):
    tip = things.probes["C1"]
    given = dict(name="Chlorine tip C1", serial="LC1-0008", quantity="chlorine", meter_id="", kind="membrane tip")
    with pytest.raises(InputError, match="free or total"):
        kit.save_probe(desk, things.ansa, h.key(), kit.ProbeForm(**given), tip)
    kit.save_probe(desk, things.ansa, h.key(), kit.ProbeForm(**given, measures="total"), tip)
    with desk.read() as session:
        assert kit.probe_of(session, tip).reads == "total_chlorine"
    visit = h.visit(desk, clock, things, "pool", "C1", "typed")
    clock.on(seconds=60)
    typed = rounds.TypedSheet([rounds.Typed(tip, "mg_l", 1.6)], 28.0)
    rounds.type_readings(desk, things.ansa, h.key(), visit_id=visit, typed=typed)
    with desk.read() as session:
        (line,) = sheet_of_visit(session, visit, clock()).lines
    assert (line.value.quantity, line.value.value) == ("total_chlorine", pytest.approx(1.6))
