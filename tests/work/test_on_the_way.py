"""A run is the technician's: any cup next, one left out, done after two, a lot replaced, a wrong cup put right."""

import pytest

from brumel.core.errors import InputError
from brumel.work import bench, kit
from brumel.work.desk import MovedOn, NotFound, Refused
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def change(desk, things, run, do, **more):
    do(desk, things.ansa, h.key(), run_id=run, turn=h.state_of(desk, run).turn, **more)
    return h.state_of(desk, run)


def type_cup(desk, clock, things, run, value, at=20.4):
    state = h.state_of(desk, run)
    where = {"run_id": run, "step": state.current.spec.key, "turn": state.turn}
    if state.dip is None:
        bench.dip(desk, things.ansa, h.key(), **where)
    for _ in range(2):
        clock.on(seconds=30)
        typed = bench.TypedValue(signal="mv", value=value, temperature_c=at)
        bench.type_reading(desk, things.ansa, h.key(), **where, typed=typed)
    return where


def take(desk, clock, things, run, value):
    where = type_cup(desk, clock, things, run, value)
    bench.accept(desk, things.ansa, h.key(), **where, how=bench.Acceptance(answer="Looked again"))


MV = {"neutral": -2.0, "acid": 168.0, "alkaline": -170.0}


def test_cups_are_taken_in_any_order_and_the_fit_is_the_same(desk, clock, things):
    fits = {}
    for order in (("neutral", "acid", "alkaline"), ("alkaline", "neutral", "acid")):
        run = h.start(desk, things, "B1", source="typed")
        for step in order:
            assert change(desk, things, run, bench.take_next, step=step).current.spec.key == step
            take(desk, clock, things, run, MV[step])
        assert tuple(s.spec.key for s in h.state_of(desk, run).in_order) == order
        fits[order] = h.result_of(desk, run).fit.figures
        bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Next order")
    first, second = fits.values()
    assert first == pytest.approx(second)


def test_done_after_two_where_two_make_a_fit(desk, clock, things):
    run = h.start(desk, things, "B1", source="typed")
    take(desk, clock, things, run, MV["neutral"])
    with pytest.raises(Refused, match="do not add up"):
        change(desk, things, run, bench.leave_out_the_rest)
    take(desk, clock, things, run, MV["acid"])
    state = change(desk, things, run, bench.leave_out_the_rest)
    assert state.current is None
    assert [s.spec.key for s in state.steps if s.left_out] == ["alkaline"]
    with desk.read() as session:
        assert bench.steps_to_go(session, bench.open_runs(session)) == {state.run.id: []}
    found = h.result_of(desk, run)
    assert found.fit.figures["slope_percent"] == pytest.approx(
        100 * 170 / (3.01 * 58.25), abs=1.2
    )  # 170 mV over 3.01 pH
    # Taken after all, it is in turn again, and the run has three points.
    assert change(desk, things, run, bench.take_next, step="alkaline").current.spec.key == "alkaline"
    with desk.read() as session:
        [to_go] = bench.steps_to_go(session, bench.open_runs(session)).values()
    assert [spec.key for spec in to_go] == ["alkaline"]
    take(desk, clock, things, run, MV["alkaline"])
    assert h.result_of(desk, run).fit.figures != found.fit.figures


# method, its cups, the steps taken first, the step that is left out, and whether that may be
LEFT_OUT = [
    ("ph-7-4-10", {}, (), "neutral", True),
    ("ph-7-4-check-10", {}, (), "alkaline", True),
    ("ph-7-4-check-10", {}, (), "acid", False),
    ("ph-7-one-point", {}, (), "neutral", False),
]


@pytest.mark.parametrize(("method", "cups", "taken", "step", "may"), LEFT_OUT)
def test_a_cup_is_left_out_only_where_the_fit_stands_without_it(desk, things, method, cups, taken, step, may):
    run = h.start(desk, things, "B1", method, "typed")
    assert h.state_of(desk, run).can_leave_out(step) is may
    if may:
        assert step not in [s.spec.key for s in change(desk, things, run, bench.leave_out, step=step).waiting]
    else:
        with pytest.raises(Refused, match="cannot be left out"):
            change(desk, things, run, bench.leave_out, step=step)
    with pytest.raises(NotFound):
        change(desk, things, run, bench.leave_out, step="vinegar")


def test_a_lot_is_replaced_in_mid_run_and_next_time_s_cups_know_it(desk, clock, things):
    run = h.start(desk, things, "B1", source="typed")
    take(desk, clock, things, run, MV["neutral"])
    with pytest.raises(Refused, match="taken already"):
        change(desk, things, run, bench.replace_lot, step="neutral", lot_id=things.lots["N4-118"], reason="Empty")
    with pytest.raises(InputError, match=r"takes pH"):
        change(desk, things, run, bench.replace_lot, step="alkaline", lot_id=things.lots["N4-118"], reason="Empty")
    other = "N10-071"
    state = change(desk, things, run, bench.replace_lot, step="alkaline", lot_id=things.lots[other], reason="Empty")
    assert state.steps[2].code == other
    for step in ("acid", "alkaline"):
        take(desk, clock, things, run, MV[step])
    h.finish(desk, things, run)
    with desk.read() as session:
        cups = kit.last_cups(session, kit.probe_of(session, things.probes["B1"]).id, "ph-7-4-10")
    assert cups["alkaline"] == things.lots[other]


def test_a_wrong_cup_is_taken_as_the_one_it_is_without_typing_again(desk, clock, things):
    run = h.start(desk, things, "B1", source="typed")
    take(desk, clock, things, run, MV["neutral"])
    type_cup(desk, clock, things, run, MV["alkaline"])
    with desk.read() as session:
        state = bench.load_run(session, run)
        seen = bench.live_cup(session, state)
    assert bench.stands_in(state, seen.suspicions).spec.key == "alkaline"
    state = change(desk, things, run, bench.take_next, step="alkaline", is_there=True)
    assert state.current.spec.key == "alkaline"
    with desk.read() as session:
        moved = bench.live_cup(session, bench.load_run(session, run))
    assert moved.settling.settled
    assert not moved.suspicions
    assert list(moved.trace.t_s) == list(seen.trace.t_s)
    with pytest.raises(MovedOn):  # a page from before the change
        bench.dip(desk, things.ansa, h.key(), run_id=run, step="acid", turn=1)
