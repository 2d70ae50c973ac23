"""Labels as printed, in every unit of the trade; names that contradict them; bottles filled off; cells and standards."""

from dataclasses import replace
from datetime import timedelta

import pytest

from brumel.core.conductivity import standard_us_cm
from brumel.core.errors import InputError
from brumel.store.tables import Lot
from brumel.work import kit
from brumel.work.bench.offers import beyond_cell, offers_for
from brumel.work.desk import Refused
from brumel.work.quantities import standards
from brumel.work.records.affected import touched_by_lot
from tests.work import helpers as h

EC = kit.NewMeasure("conductivity", "", "", 1.0)
LOT = kit.NewLot("L-1", "Standard", (EC,), "2027-05-31", 90, "bottle")


@pytest.fixture
def things(desk):
    return h.Things(desk)


def measure(quantity="conductivity", **given):
    usual = {
        "nitrate": {"basis": "concentration"},
        "ammonium": {"basis": "concentration"},
        "redox": {"against": "agcl-3m"},
    }
    return kit.NewMeasure(**{"quantity": quantity, "expanded_uncertainty": 1.0, **usual.get(quantity, {}), **given})


# 6.44 ppt are 12.88 mS/cm on the 0.5 scale, 285 and 399 ppm are 0.57 mS/cm on 0.5 and 0.7: worked by hand.
# 44.27 mg/L of NO3 are 10 mg/L of nitrogen, 1 mg/L NH4 is 0.7765 mg/L N: molar masses, CIAAW standard atomic weights.
PRINTED = [
    (measure(label="25: 12.88", unit="mS/cm"), {"25": 12880.0}),
    (measure(label="77F: 12.88 mS"), {"25": 12880.0}),
    (measure(label="68 °F: 1278\n25 °C: 1413"), {"20": 1278.0, "25": 1413.0}),
    (measure(label="25: 6.44", unit="ppt", factor=0.5), {"25": 12880.0}),
    (measure(label="25: 285 ppm", factor=0.5), {"25": 570.0}),
    (measure(label="25: 399", unit="ppm", factor=0.7), {"25": 570.0}),
    (measure("redox", expanded_uncertainty=5.0, label="25: 0.222 V"), {"25": 222.0}),
    (measure("nitrate", label="25: 44.27", unit="mg/L as NO3"), {"25": 10.0}),
    (measure("ammonium", label="25: 1 mg/L NH4"), {"25": 0.7765}),
]


def test_a_label_is_typed_as_it_is_printed(desk, things):
    for number, (given, kept) in enumerate(PRINTED):
        kit.add_lot(desk, things.ansa, h.key(), replace(LOT, code=f"L-{number}", measures=(given,)))
        with desk.read() as session:
            (lot,) = session.query(Lot).filter_by(code=f"L-{number}")
            assert lot.measures[given.quantity].label == pytest.approx(kept, rel=2e-4), given
            assert lot.measures[given.quantity].printed == given.label


REFUSED = [
    (measure(label="25: 6.44 ppt"), "ppt means nothing without its factor"),
    (measure(label="25: 1000 ppm", factor=5.0), "outside 0.4 to 1"),
    (measure(label="25: 1413 mV"), "is not one of"),
    (measure(label="25: 10", unit="°dH"), "Choose the label's unit"),
    (measure("ph", expanded_uncertainty=0.02, label="25: 7.01 mV"), "no unit of this label"),
    (measure(label="−400: 1413"), "below|outside"),
]


def test_a_label_that_cannot_be_meant_is_asked_about(desk, things):
    for given, words in REFUSED:
        with pytest.raises(InputError, match=words):
            kit.add_lot(desk, things.ansa, h.key(), replace(LOT, measures=(given,)))


NAMES = [  # name, label, factor, whether it agrees
    ("KCl 1413 µS", "25: 1413", None, True),
    ("KCl 1413 µS", "25: 12880", None, False),
    ("12.9 mS/cm", "25: 12880", None, True),
    ("12.88 mS/cm", "25: 1413", None, False),
    ("6.44 ppt NaCl", "25: 12880", 0.5, True),
    ("1000 ppm", "25: 12880", 0.5, False),
    ("Standard of 2027, box 3", "25: 1413", None, True),
]


def test_a_name_must_not_contradict_its_label(desk, things):
    for number, (name, label, factor, agrees) in enumerate(NAMES):
        lot = replace(LOT, code=f"N-{number}", name=name, measures=(measure(label=label, factor=factor),))
        if agrees:
            kit.add_lot(desk, things.ansa, h.key(), lot)
            continue
        with pytest.raises(InputError, match="The name says"):
            kit.add_lot(desk, things.ansa, h.key(), lot)


def test_a_name_and_a_buffer_of_two_families_are_told_apart(desk, things):
    for name, family, agrees in (("pH 7", "7.01", True), ("Buffer 7.00", "7.01", False), ("pH 6.86", "7.00", False)):
        lot = replace(LOT, code=f"B-{name[-1]}", name=name, measures=(kit.NewMeasure("ph", family, "", 0.02),))
        if agrees:
            kit.add_lot(desk, things.ansa, h.key(), lot)
        else:
            with pytest.raises(InputError, match="The name says"):
                kit.add_lot(desk, things.ansa, h.key(), lot)


def test_a_label_at_25_alone_follows_kcl_with_more_doubt(desk, things):
    kit.add_lot(desk, things.ansa, h.key(), replace(LOT, measures=(measure(label="25: 1413"),)))
    with desk.read() as session:
        (lot,) = session.query(Lot).filter_by(code="L-1")
    for t in (10.0, 18.0, 25.0, 30.0):
        assert standards.value(lot, "conductivity", t) == pytest.approx(standard_us_cm("1413", t))
    u = [standards.expanded_uncertainty(lot, "conductivity", 1000.0, t) for t in (25.0, 20.0)]
    assert u == pytest.approx([10.0, 10 * 2**0.5])  # 1 % alone, and with 5 x 0.2 %


def test_a_bottle_filled_off_is_what_its_parent_is_and_goes_with_it(desk, clock, things):
    parent = things.lots["N7-121"]
    kit.count_stock(desk, things.ansa, h.key(), lot_id=parent, amount=500)
    clock.on(minutes=1)
    with pytest.raises(InputError) as caught:
        kit.fill_off(desk, things.ansa, h.key(), lot_id=parent, new=kit.NewAliquot("N7-121", 900, 1.5))
    assert [f.field for f in caught.value.faults] == ["code", "amount", "open_days"]
    with pytest.raises(Refused, match="sachet"):
        kit.fill_off(desk, things.ansa, h.key(), lot_id=things.lots["S7-440"], new=kit.NewAliquot("S/a", 5, 5))
    made = kit.fill_off(desk, things.ansa, h.key(), lot_id=parent, new=kit.NewAliquot("N7-121/a", 120, 30)).id
    things.lots["N7-121/a"] = made
    with desk.read() as session:
        shelf = {v.lot.code: v for v in kit.lots_on_shelf(session, clock())}
        both = shelf["N7-121"], shelf["N7-121/a"]
        assert [v.left.amount for v in both] == [380, 120]
        assert both[0].lot.measures == both[1].lot.measures
        assert both[0].lot.traceable_to == both[1].lot.traceable_to != ""
        assert both[1].lot.expires_on == both[0].lot.opened_at + timedelta(days=90)  # never longer than its parent
    clock.on(minutes=1)
    run = h.start(desk, things, neutral="N7-121/a")
    h.take_all(desk, clock, things, run)
    h.finish(desk, things, run)
    with desk.read() as session:
        assert len(touched_by_lot(session, both[0].lot.id)[0]) == 1  # a bad parent is traced through its aliquot
    kit.discard_lot(desk, things.ansa, h.key(), lot_id=parent, reason="Mould")
    with desk.read() as session:
        views = {v.lot.code: v for v in kit.lots_on_shelf(session, clock())}
    assert views["N7-121/a"].objections == ("N7-121, the bottle N7-121/a was filled from, was discarded.",)


OFFERED = [  # cell, about what is read next, the standard offered first
    ("A3", None, "E14-055"),
    ("A3", 50.0, "E84-019"),
    ("A3", 900.0, "E14-055"),
    ("A3", 5000.0, "E12-031"),
    ("B3", None, "E12-031"),
]


def test_a_standard_is_offered_by_the_cell_and_by_what_is_read_next(desk, clock, things):
    usual = {"A3": "ec-air-one", "B3": "ec-one-standard"}
    with desk.read() as session:
        shelf = kit.lots_on_shelf(session, clock())
        weak = session.query(Lot).filter_by(code="E84-019").one()
        for cell, reads, code in OFFERED:
            probe = kit.probe_of(session, things.probes[cell])
            step = kit.method(session, "ec-one-standard").step("standard")
            first = offers_for(step, shelf, probe, reads)[0].lot
            assert first.code == code, (cell, reads)
            assert not beyond_cell([first], probe)
            assert kit.default_method(session, probe).key == usual[cell]
            # 84 µS/cm is too weak for K = 10
            assert ("reads well from" in " ".join(beyond_cell([weak], probe))) is (cell == "B3")
