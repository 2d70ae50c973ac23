"""A whole meter in one calibration session: order, timers, shared cups, and nothing half begun."""

import uuid
from dataclasses import replace

import pytest
from sqlalchemy import select

from brumel.core.errors import InputError
from brumel.store.tables import Calibration, CalibrationSession
from brumel.work import bench, kit, simulator
from brumel.work.bench import calibration_sessions
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import Refused
from tests.work import helpers as h

METER = kit.MeterForm("Set D", "TWS-D-1", "typed", "For the boat", "1.0")
PROBE = kit.ProbeForm("Cell D1", "CD1-1", "conductivity", "", "two-electrode", 5.0, 0.1)


@pytest.fixture
def things(desk):
    return h.Things(desk)


# -- a whole meter in one calibration session


def _choices(desk, things, only=()):
    cups = {
        "ph": things.cups(),
        "conductivity": {"standard": things.lots["E14-055"]},
        "redox": {"standard": things.lots["R43-012"]},
        "nitrate": {"low": things.lots["NO1-014"], "high": things.lots["NO2-014"]},
        "ammonium": {"low": things.lots["NH2-008"], "high": things.lots["NH3-009"]},
    }
    with desk.read() as session:
        usual = calibration_sessions.default_choices(session, uuid.UUID(things.meters["Field set A"]))
    return [
        calibration_sessions.SessionChoice(str(p.id), m.key, cups.get(p.quantity, {}))
        for p, m in usual
        if not only or p.name[-2:] in only
    ]


def test_a_whole_meter_in_one_session_in_the_order_of_the_trade(desk, clock, things):
    choices = _choices(desk, things)
    same = h.key()
    start = dict(
        meter_id=things.meters["Field set A"],
        source="live",
        choices=choices,
        conditions=Conditions(pressure_hpa=1000.0),
    )
    made = calibration_sessions.start(desk, things.ansa, same, **start).id
    assert calibration_sessions.start(desk, things.ansa, same, **start).id == made

    def lines():
        return _lines(desk, made, clock)

    names = [line.state.run.probe.name[-2:] for line in lines()]
    assert names == ["A8", "A1", "A2", "A3", "A4", "A5", "A6", "A7"]
    tips = [line for line in lines() if line.state.run.probe.name[-2:] in ("A6", "A7")]
    assert all("pH probe A1" in line.waits_for for line in tips)
    with pytest.raises(Refused, match="Ion tips come last"):
        bench.dip(desk, things.ansa, h.key(), run_id=str(tips[0].state.run.id), step="low", turn=0)
    dipped = []
    for _ in range(4):  # four cups at once, each with its own timer
        turn = calibration_sessions.next_line(lines())
        bench.dip(
            desk,
            things.ansa,
            h.key(),
            run_id=str(turn.state.run.id),
            step=turn.state.current.spec.key,
            turn=turn.state.turn,
        )
        dipped.append(turn.state.run.probe.name[-2:])
        clock.on(seconds=3)
        simulator.pump(desk)
    assert dipped == ["A8", "A1", "A2", "A3"]
    elapsed = [line.elapsed_s for line in lines()[:4]]
    assert elapsed == [12.0, 9.0, 6.0, 3.0]
    clock.on(seconds=40)
    simulator.pump(desk)
    ready = calibration_sessions.next_line(lines())
    assert (ready.state.run.probe.name[-2:], ready.rank) == ("A8", 0)  # settled first, wants a hand first


def _lines(desk, made, clock):
    with desk.read() as session:
        return calibration_sessions.lines(session, calibration_sessions.load(session, made), clock())


def test_a_session_is_all_or_nothing_and_names_the_probe_at_fault(desk, things):
    choices = _choices(desk, things, ("A1", "A3"))
    broken = [replace(choices[0], cups={}), choices[1]]
    with pytest.raises(InputError, match="pH probe A1: Choose the solution"):
        calibration_sessions.start(
            desk,
            things.ansa,
            h.key(),
            meter_id=things.meters["Field set A"],
            source="live",
            choices=broken,
            conditions=Conditions(),
        )
    with desk.read() as session:
        assert not bench.open_runs(session)
    with pytest.raises(InputError, match="at least one probe"):
        calibration_sessions.start(
            desk,
            things.ansa,
            h.key(),
            meter_id=things.meters["Field set A"],
            source="live",
            choices=[],
            conditions=Conditions(),
        )


def test_the_outline_overlaps_waits_and_keeps_the_order(desk, things):
    with desk.read() as session:
        chosen = calibration_sessions.default_choices(session, uuid.UUID(things.meters["Field set A"]))
    plan = calibration_sessions.outline(chosen)
    alone = sum(calibration_sessions.outline([c]).ready_min for c in chosen)
    assert plan.ready_min < 0.65 * alone
    slot = {s.key: s for s in plan.slots}
    assert slot["Thermometer A8: water at room temperature"].start_min < slot["pH probe A1: pH 7 buffer"].start_min
    assert slot["Nitrate tip A6: low standard, room"].start_min >= slot["pH probe A1: verdict"].end_min
    hands = sorted((s.start_min, s.end_min) for s in plan.slots if not s.key.endswith("settles"))
    assert all(a[1] <= b[0] + 1e-9 for a, b in zip(hands, hands[1:], strict=False))  # one pair of hands
    combined = [things.lots["C1-206"]]
    assert calibration_sessions.shared_rinses([(None, None, {"a": combined[0]}), (None, None, {"b": combined[0]})]) == 1


def test_one_packet_sets_both_probes_in_one_run_and_is_used_once(desk, clock, things):
    packet = things.lots["C1-206"]
    kit.count_stock(desk, things.ansa, h.key(), lot_id=packet, amount=200)
    clock.on(minutes=1)
    begin = dict(probe_id=things.probes["A1"], source="live", lot_id=packet, conditions=Conditions())
    with pytest.raises(InputError, match="takes a combined solution"):
        calibration_sessions.start_packet(desk, things.ansa, h.key(), method_key="ph-7-4-10", **begin)
    with pytest.raises(InputError, match="pH probe A1: N7-121 is not a combined solution"):
        calibration_sessions.start_packet(
            desk, things.ansa, h.key(), method_key="ph-combined", **{**begin, "lot_id": things.lots["N7-121"]}
        )
    started = calibration_sessions.start_packet(desk, things.ansa, h.key(), method_key="ph-combined", **begin).id
    with desk.read() as session:
        runs = [
            line.state.run
            for line in calibration_sessions.lines(session, session.get(CalibrationSession, started), clock())
        ]
        assert [r.probe.quantity for r in runs] == ["ph", "conductivity"]
    for run in runs:
        h.take_all(desk, clock, things, str(run.id))
        h.finish(desk, things, str(run.id))
    with desk.read() as session:
        assert {c.run.probe.quantity for c in session.scalars(select(Calibration))} >= {"ph", "conductivity"}
        left = {v.lot.code: v.left.amount for v in kit.lots_on_shelf(session, clock())}
    assert left["C1-206"] == 160  # one cup of 40 mL, not two
