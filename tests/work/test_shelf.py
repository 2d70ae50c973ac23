"""Solutions and maintenance: a lot's life, waits before a calibration, and the calendar of what is due."""

from dataclasses import replace
from datetime import timedelta

import pytest
from icalendar import Calendar
from sqlalchemy import select

from brumel.core.errors import InputError
from brumel.formats.calendar import Entry, write_calendar
from brumel.methods.maintenance import load_maintenance
from brumel.store.tables import Audit, Lot
from brumel.work import bench, kit, rounds
from brumel.work.desk import NotAllowed, NotFound, Refused
from brumel.work.quantities import standards
from tests.work import helpers as h

PH = kit.NewMeasure("ph", "7.01", "", 0.02)
GOOD = kit.NewLot("N7-200", "Buffer 7.01", (PH,), "2027-05-31", 90, "bottle", " Reference house,  certificate 12 ")


def new(measure=None, **change):
    """GOOD with changes, those of its measure among them."""
    measures = (replace(PH, **(measure or {})),)
    return replace(GOOD, **{"measures": measures, **change})


@pytest.fixture
def things(desk):
    return h.Things(desk)


def lot(desk, code):
    with desk.read() as session:
        return session.scalar(select(Lot).where(Lot.code == code))


def test_a_new_lot_with_its_own_label_wins_in_the_cup(desk, clock, things):
    label = "15: 6.91\n20 = 6.89\n25 °C: 6,87\n"
    made = kit.add_lot(
        desk, things.ansa, h.key(), replace(new({"family": "", "label": label}), name="Buffer, our own mix")
    )
    found = lot(desk, "N7-200")
    assert str(found.id) == made.id
    assert found.measures["ph"].label == {"15": 6.91, "20": 6.89, "25": 6.87}
    assert standards.value(found, "ph", 17.5) == pytest.approx(6.90)
    assert (found.opened_at, found.traceable_to) == (None, "Reference house, certificate 12")
    things.lots["N7-200"] = made.id
    run = h.start(desk, things, neutral="N7-200")
    h.take_cup(desk, clock, things, run)
    assert lot(desk, "N7-200").opened_at == h.state_of(desk, run).steps[0].point.at  # poured: its open life starts


BAD = {
    "code": ({"code": "=cmd()"}, "Lot code takes letters"),
    "trace": ({"traceable_to": "x" * 121}, "Traceable to must have"),
    "twice": ({"code": "N7-121"}, "on the shelf already"),
    "name": ({"name": " "}, "Name must have"),
    "family": ({"measure": {"family": "8.88"}}, "Choose the buffer's table"),
    "words": ({"measure": {"label": "warm: 7"}}, "line 1: “warm: 7” is not a temperature and a pH"),
    "same": ({"measure": {"label": "20: 7\n20: 7.1"}}, "20 °C stands twice"),
    "range": ({"measure": {"label": "20: 17"}}, "pH 17 is outside 0 to 14"),
    "u": ({"measure": {"expanded_uncertainty": 5.0}}, "Expanded uncertainty 5 pH is outside"),
    "days": ({"open_days": 1.5}, "whole number"),
    "date": ({"expires_on": "soon"}, "Expiry “soon” is not a date"),
    "year": ({"expires_on": "9999-12-31"}, "not a year between"),
    "container": ({"container": "bucket"}, "Choose the container"),
    "nothing": ({"measures": ()}, "Choose what the solution is a standard of"),
    "unknown": ({"measure": {"quantity": "gold"}}, "Choose what the solution is a standard of"),
    "ion": (
        {"measure": {"quantity": "nitrate", "family": "", "label": "25: 10", "expanded_uncertainty": 1.0}},
        "activity or concentration",
    ),
    "electrode": (
        {"measure": {"quantity": "redox", "family": "", "label": "25: 240", "expanded_uncertainty": 5.0}},
        "against which reference electrode",
    ),
}


@pytest.mark.parametrize("name", BAD)
def test_a_bad_lot_is_refused_by_name(desk, things, name):
    change, words = BAD[name]
    with pytest.raises(InputError) as caught:
        kit.add_lot(desk, things.ansa, h.key(), new(**change))
    assert words in str(caught.value)
    assert lot(desk, "N7-200") is None


def test_all_faults_of_a_lot_come_at_once(desk, things):
    with pytest.raises(InputError) as caught:
        kit.add_lot(
            desk, things.ansa, h.key(), kit.NewLot("", "", (kit.NewMeasure("ph", "", "x"),), "", None, "bottle")
        )
    assert {f.field for f in caught.value.faults} >= {
        "code",
        "name",
        "label",
        "expanded_uncertainty",
        "open_days",
        "expires_on",
    }


def test_open_discard_and_the_audit(desk, clock, things):
    kit.add_lot(desk, things.ansa, h.key(), GOOD)
    found = str(lot(desk, "N7-200").id)
    same = h.key()
    for _ in range(2):
        kit.open_lot(desk, things.ansa, same, lot_id=found)
    with pytest.raises(Refused, match="open already"):
        kit.open_lot(desk, things.ansa, h.key(), lot_id=found)
    clock.on(days=91)
    with desk.read() as session:
        (view,) = [v for v in kit.lots_on_shelf(session, clock()) if v.lot.code == "N7-200"]
    assert view.objections == ("N7-200 has been open for 91 days; 90 are allowed.",)
    with pytest.raises(InputError, match="Reason must say why"):
        kit.discard_lot(desk, things.ansa, h.key(), lot_id=found, reason="")
    kit.discard_lot(desk, things.ansa, h.key(), lot_id=found, reason="Cloudy")
    with pytest.raises(Refused, match="discarded already"):
        kit.discard_lot(desk, things.ansa, h.key(), lot_id=found, reason="Again")
    with pytest.raises(NotFound):
        kit.open_lot(desk, things.ansa, h.key(), lot_id="x")
    with desk.read() as session:
        assert [a for a in session.scalars(select(Audit.action)) if a.startswith("lot.")] == [
            "lot.add",
            "lot.open",
            "lot.discard",
        ]
        assert "N7-200" not in [v.lot.code for v in kit.lots_on_shelf(session, clock())]
    things.lots["N7-200"] = found
    with pytest.raises(InputError, match="Choose the solution"):
        h.start(desk, things, neutral="N7-200")


def test_a_used_sachet_is_used_and_its_box_is_not(desk, clock, things):
    """Two sachets are counted: the first and the second run have one each, the third finds none left."""
    kit.count_stock(desk, things.ansa, h.key(), lot_id=things.lots["S7-440"], amount=2)
    for _ in range(2):
        clock.on(minutes=1)
        run = h.start(desk, things, neutral="S7-440")
        assert not h.take_cup(desk, clock, things, run).suspicions
        bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Rain")
    again = h.start(desk, things, neutral="S7-440")
    seen = h.take_cup(desk, clock, things, again)
    assert seen.suspicions[0].sentence == "S7-440: none is left by the count."


def test_an_empty_bottle_speaks_up_and_is_offered_last(desk, clock, things):
    kit.count_stock(desk, things.ansa, h.key(), lot_id=things.lots["N7-121"], amount=0)
    with desk.read() as session:
        views = [v for v in kit.lots_on_shelf(session, clock()) if "ph" in v.quantities]
    empty = next(v for v in views if v.lot.code == "N7-121")
    assert empty.objections == ("N7-121: the bottle is empty by the count.",)
    assert views.index(empty) >= len([v for v in views if v.usable])


def test_a_cleaned_probe_is_conditioned_before_it_may_calibrate(desk, clock, things):
    h.calibrate(desk, clock, things)
    probe = things.probes["A1"]
    clock.on(hours=1)
    same = h.key()
    for _ in range(2):
        kit.record_maintenance(desk, things.ansa, same, probe_id=probe, what="cleaned", note="Green film")
    with desk.read() as session:
        trust = kit.trust_of(session, kit.probe_of(session, probe), clock())
        assert len(kit.maintenance_history(session, kit.probe_of(session, probe).id)) == 1
    assert not trust.valid
    assert "in storage solution" in trust.words
    with pytest.raises(Refused, match="the lead can set its own wait"):
        h.start(desk, things)
    h.visit(desk, clock, things, reason="Had to be read")  # read all the same: unbacked, and kept
    clock.on(hours=2)
    with desk.read() as session:
        trust = kit.trust_of(session, kit.probe_of(session, probe), clock())
        backing = rounds.standing(session, rounds.site_of(session, things.sites["raceway"]).id, "ph", 1)[0].backing
    assert (trust.valid, backing) == (False, "unbacked")
    assert "after calibration" in trust.words  # what it was before it was cleaned no longer counts
    h.calibrate(desk, clock, things)
    with desk.read() as session:
        assert kit.trust_of(session, kit.probe_of(session, probe), clock()).valid


def test_the_probe_s_manual_wins_over_a_default_wait(desk, clock, things):
    probe = things.probes["A1"]
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=probe, what="dried")
    wait = dict(probe_id=probe, what="dried", reason="Manual, page 12")
    with pytest.raises(NotAllowed):
        kit.set_wait(desk, things.ansa, h.key(), **wait, hours=1.0)
    for hours in (-1.0, 1e6):
        with pytest.raises(InputError, match="outside 0 to 336 h"):
            kit.set_wait(desk, things.ilka, h.key(), **wait, hours=hours)
    kit.set_wait(desk, things.ilka, h.key(), **wait, hours=1.0)
    clock.on(minutes=61)
    h.calibrate(desk, clock, things)  # the running wait is shortened too
    kit.set_wait(desk, things.ilka, h.key(), probe_id=probe, what="dried", hours=None, reason="Back to the default")
    with desk.read() as session:
        assert kit.wait_h(kit.probe_of(session, probe), "dried") == load_maintenance()["ph"]["dried"].wait_h == 12
    for what, words in (("membrane", "Choose what was done"), ("", "Choose what was done")):
        with pytest.raises(InputError, match=words):
            kit.record_maintenance(desk, things.ansa, h.key(), probe_id=probe, what=what)
    clock.on(hours=12)
    h.start(desk, things)
    with pytest.raises(Refused, match="on Bench in an open run"):
        kit.record_maintenance(desk, things.ansa, h.key(), probe_id=probe, what="cleaned")


def test_what_is_due_is_a_calendar_that_any_program_reads(desk, clock, things):
    h.calibrate(desk, clock, things)
    with desk.read() as session:
        rows = kit.due_items(session, clock())
        a1 = [d for d in rows if d.subject == "pH probe A1"]
    assert [d.at for d in rows] == sorted(d.at for d in rows)
    assert {d.what for d in a1} == {"calibrate again", "due to be cleaned", "due to be given fresh electrolyte"}
    assert next(d for d in a1 if d.what == "calibrate again").at == clock() + timedelta(hours=24)
    assert next(d for d in rows if d.subject.startswith("N10-071")).overdue(clock())
    data = write_calendar([Entry(d.key, f"{d.subject}: {d.what}", d.at) for d in rows], clock())
    events = Calendar.from_ical(data).walk("VEVENT")
    assert len(events) == len(rows)
    assert len({str(e["uid"]) for e in events}) == len(rows)
    assert str(events[0]["summary"]).startswith(rows[0].subject)
    assert events[0]["dtstart"].dt == rows[0].at.date()
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=things.probes["A1"], what="cleaned")
    with desk.read() as session:
        ready = next(d for d in kit.due_items(session, clock()) if d.what == "ready to calibrate")
    assert ready.at == clock() + timedelta(hours=2)
