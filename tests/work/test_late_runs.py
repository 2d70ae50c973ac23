"""Typed runs and closing checks that waited in a phone: taken in at their own times, in order, asked about, never twice."""

from dataclasses import replace
from datetime import timedelta

import pytest
from sqlalchemy import func, select

from brumel.core.constants.defined import FARADAY_C_MOL, GAS_CONSTANT_J_MOL_K, ZERO_CELSIUS_K
from brumel.core.errors import InputError
from brumel.store.records import Closing
from brumel.store.tables import Calibration, Dip, Point, Reading, Run
from brumel.work import bench, rounds
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import Refused
from brumel.work.questions import Unanswered
from brumel.work.records import late, late_runs
from brumel.work.rounds import offline
from tests.work import helpers as h

#: The buffers of the shelf at 20 °C, as their labels' tables say.
BUFFERS = {"neutral": 7.03, "acid": 4.00, "alkaline": 10.06}


@pytest.fixture
def things(desk):
    return h.Things(desk)


def millivolts(ph, slope=0.98, offset=3.0):
    """Nernst at 20 °C by the CODATA constants."""
    k = 1000 * 2.302585093 * GAS_CONSTANT_J_MOL_K * (20 + ZERO_CELSIUS_K) / FARADAY_C_MOL
    return round(offset - slope * k * (ph - 7), 1)


def queued(things, clock, shows=None, ago=timedelta(hours=2), probe="B1", **more):
    """A three-buffer run that began some time ago, two values a cup."""
    at = start = clock() - ago
    read = []
    for step, ph in BUFFERS.items():
        at += timedelta(minutes=1)
        value = (shows or {}).get(step, millivolts(ph))
        shown = [bench.TypedValue("mv", value, 20.0, float(s)) for s in (20, 50)]
        read.append(late_runs.QueuedCup(step, at, at + timedelta(seconds=55), shown))
        at += timedelta(seconds=60)
    wanted = dict(
        purpose="calibration",
        probe_id=things.probes[probe],
        started_at=start,
        finished_at=at,
        cups=things.cups(),
        read=read,
        method_key="ph-7-4-10",
    )
    return late_runs.QueuedRun(**wanted | more)


def send(desk, things, run, key=None):
    return late_runs.send_run(desk, things.ansa, key or h.key(), run)


def count(desk, what):
    with desk.read() as session:
        return session.scalar(select(func.count()).select_from(what))


def read_then(desk, things, at, value):
    """A visit of the queue, typed in mV at that time; its reading."""
    one = offline.ReadSet(at, [rounds.Typed(things.probes["B1"], "mv", value)], 20.0, reason="Seen twice")
    sent = late.send(desk, things.ansa, h.key(), offline.QueuedVisit("", things.sites["raceway"], [one]))
    with desk.read() as session:
        rows = rounds.of_visit(session, rounds.visit_of(session, sent.visit).id)
    return next(r for r in rows if r.quantity == "ph" and r.raw == value)


def test_a_day_without_a_signal_is_worked_out_in_order(desk, clock, things):
    run, key = queued(things, clock), h.key()
    sent = send(desk, things, run, key)
    assert "fit for use, in use" in sent.words
    assert send(desk, things, run, key) == sent
    assert count(desk, Run) == 1
    with desk.read() as session:
        (made,) = session.scalars(select(Calibration))
        assert (made.at, made.usable, made.run.started_at) == (run.finished_at, True, run.started_at)
        dips = session.scalars(select(Dip).where(Dip.run_id == made.run_id).order_by(Dip.number))
        assert [d.started_at for d in dips] == [cup.at for cup in run.read]
    before = read_then(desk, things, run.started_at - timedelta(minutes=5), 0.5)
    after = read_then(desk, things, run.finished_at + timedelta(minutes=20), -12.0)
    assert (before.backing, after.backing) == ("unbacked", "open")
    # By hand: E = 3.0 - 0.98 k (pH - 7) at 20 °C.
    assert after.value == pytest.approx(7 + 15.0 / (0.98 * 58.166), abs=0.01)
    lot = things.cups()["neutral"]
    at = run.finished_at + timedelta(minutes=60)
    cup = late_runs.QueuedCup(
        "closing-1", at, at + timedelta(seconds=60), [bench.TypedValue("mv", millivolts(7.03), 20.0, 45.0)]
    )
    closing = late_runs.QueuedRun(
        "closing", things.probes["B1"], at, at + timedelta(seconds=70), {"closing-1": f"lot:{lot}"}, [cup]
    )
    assert "It holds" in send(desk, things, closing).words
    with desk.read() as session:
        (row,) = session.scalars(select(Closing))
        assert (row.at, row.holds, row.calibration_id) == (closing.finished_at, True, made.id)


def test_cups_and_verdicts_are_asked_about_and_answered(desk, clock, things):
    swapped = queued(things, clock, {"acid": millivolts(10.06), "alkaline": millivolts(4.00)})
    with pytest.raises(Unanswered, match="nearer to") as asked:
        send(desk, things, swapped)
    assert [q.code for q in asked.value.questions] == ["cup:acid", "cup:alkaline"]  # both at once
    dull = queued(things, clock, {s: millivolts(ph, slope=0.91) for s, ph in BUFFERS.items()})
    with pytest.raises(Unanswered, match=r"use with care.*slope.*put into use with your reason") as asked:
        send(desk, things, dull)
    assert [q.code for q in asked.value.questions] == ["verdict"]
    assert count(desk, Run) == 0
    why = {"verdict": "No other probe today"}
    assert "use with care, in use" in send(desk, things, replace(dull, answers=why)).words
    clock.on(hours=3)
    dead = queued(things, clock, {s: millivolts(ph, slope=0.6) for s, ph in BUFFERS.items()})
    codes = {}
    while True:  # as a technician would answer, question by question
        try:
            words = send(desk, things, replace(dead, answers=codes)).words
            break
        except Unanswered as error:
            fresh = {q.code: "Seen on the display" for q in error.questions}
            assert not fresh.keys() & codes.keys()
            codes |= fresh
    assert "verdict" in codes
    assert "do not use, not in use" in words


WRONG = [
    ({"purpose": "guess"}, InputError, "calibration or a closing check"),
    ({"read": ()}, InputError, "No cup was read"),
    ({"ago": timedelta(days=20)}, InputError, "over 14 days ago"),
    ({"ago": timedelta(minutes=-30)}, InputError, "in the future"),
    ({"method_key": "do-zero"}, InputError, "not in use for this probe"),
    ({"probe": "B3"}, InputError, "not in use for this probe"),
    ({"conditions": Conditions(battery_percent=900.0)}, InputError, "Battery"),
]


@pytest.mark.parametrize(("change", "kind", "words"), WRONG)
def test_a_run_that_cannot_be_leaves_nothing(desk, clock, things, change, kind, words):
    with pytest.raises(kind, match=words):
        send(desk, things, queued(things, clock, **change))
    assert (count(desk, Run), count(desk, Reading)) == (0, 0)


def test_times_out_of_order_and_cups_left_out_are_refused(desk, clock, things):
    run = queued(things, clock)
    with pytest.raises(InputError, match="out of order"):
        send(desk, things, replace(run, read=run.read[::-1]))
    with pytest.raises(Refused, match="was not read in this run"):
        send(desk, things, replace(run, read=run.read[:2]))
    many = replace(run.read[0], shown=run.read[0].shown * 7)
    with pytest.raises(InputError, match="1 to 12 typed values"):
        send(desk, things, replace(run, read=[many]))
    h.start(desk, things, "B1", "ph-7-4-10", source="typed")
    with pytest.raises(Refused, match="run open already"):
        send(desk, things, run)
    assert count(desk, Calibration) == 0


def test_a_thermometer_is_checked_beside_a_reference(desk, clock, things):
    at = clock() - timedelta(hours=1)
    shown = [bench.TypedValue("c", 8.25, 8.25, float(s)) for s in (60, 120)]
    cup = late_runs.QueuedCup("room", at, at + timedelta(seconds=130), shown, reference=8.2, reference_u=0.1)
    end = at + timedelta(seconds=140)
    run = late_runs.QueuedRun("calibration", things.probes["A8"], at, end, {}, [cup], "temp-one-point")
    with pytest.raises(InputError, match="Reference"):
        send(desk, things, replace(run, read=[replace(cup, reference=None)]))
    assert "fit for use, in use" in send(desk, things, run).words
    with desk.read() as session:
        (point,) = session.scalars(select(Point))
    assert (point.expected, point.expanded_uncertainty >= 0.1) == (8.2, True)
