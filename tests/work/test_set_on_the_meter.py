"""A meter that is adjusted itself: its arithmetic is not the probe's health, and what it does not tell is not known."""

import pytest

from brumel.core.errors import InputError
from brumel.core.verdict import Outcome
from brumel.work import bench, kit
from brumel.work.bench.conditions import Conditions
from brumel.work.demo.weeks import SETTINGS
from brumel.work.desk import Refused
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def start(desk, things, probe="B1", method="ph-7-4-10", cups=None, **conditions):
    return bench.start(
        desk,
        things.ansa,
        h.key(),
        probe_id=things.probes[probe],
        method_key=method,
        source="typed",
        cups=things.cups() if cups is None else cups,
        conditions=Conditions(adjusted=True, **conditions),
    ).id


def read(desk, clock, things, run, signal, *values, at=20.4):
    """Each step of the run: dipped or set, typed twice, taken."""
    for value in values:
        state = h.state_of(desk, run)
        where = {"run_id": run, "step": state.current.spec.key, "turn": state.turn}
        bench.dip(desk, things.ansa, h.key(), **where)
        for _ in range(2):
            clock.on(seconds=40)
            bench.type_reading(desk, things.ansa, h.key(), **where, typed=bench.TypedValue(signal, value, at))
        bench.accept(desk, things.ansa, h.key(), **where, how=bench.Acceptance(answer="Looked again"))


def rows(found, key):
    return [(row.value, row.outcome) for row in found.verdict.rows if row.key == key]


def test_a_dead_probe_behind_an_adjusted_display_is_not_called_98_percent(desk, clock, things):
    """Every display agrees with the buffer it was set to; only what the meter tells of the slope can say that it is bad."""
    run = start(desk, things)
    assert [s.spec.key for s in h.state_of(desk, run).steps] == [
        *("neutral", "neutral-set", "acid", "acid-set", "alkaline", "alkaline-set")
    ]
    # As found and as left, cup by cup; the buffers are 7.03, 4.01 and 10.06 at 20.4 °C by their labels.
    read(desk, clock, things, run, "ph", 7.10, 7.03, 4.61, 4.00, 9.30, 10.05)
    found = h.result_of(desk, run)
    assert rows(found, "slope_percent") == [(None, Outcome.UNKNOWN)]
    assert rows(found, "offset_mv") == [(None, Outcome.UNKNOWN)]
    assert [round(v, 2) for v, _ in rows(found, "as_found")] == pytest.approx([0.07, 0.61, -0.75], abs=0.03)
    assert [o for _, o in rows(found, "as_found")] == [Outcome.FIT, Outcome.CARE, Outcome.CARE]
    assert found.fit.figures == {}
    assert "Not known: slope, offset" in found.fit.sentence
    assert [round(a["error"], 2) for a in found.as_found] == pytest.approx([0.07, 0.61, -0.75], abs=0.03)
    told = {"run_id": run, "turn": h.state_of(desk, run).turn}
    with pytest.raises(InputError, match="900"):
        bench.tell_figures(desk, things.ansa, h.key(), **told, figures={"slope_percent": 900.0})
    with pytest.raises(InputError):
        bench.tell_figures(desk, things.ansa, h.key(), **told, figures={})
    bench.tell_figures(desk, things.ansa, h.key(), **told, figures={"slope_percent": 74.0})
    found = h.result_of(desk, run)
    assert rows(found, "slope_percent") == [(74.0, Outcome.NOT)]  # the method's band ends at 85 %
    assert found.verdict.outcome is Outcome.NOT
    h.finish(desk, things, run)
    with desk.read() as session:
        probe = kit.probe_of(session, things.probes["B1"])
        [kept] = kit.life_of_probe(session, probe).calibrations
        assert kept.figures == {"slope_percent": 74.0}  # the chart has the meter's word, and no offset that nobody read
        assert kit.restored(kept).read(0.0, 25.0) == pytest.approx(7.0)


def test_the_meter_is_set_in_the_cup_the_probe_stands_in_whatever_the_order(desk, clock, things):
    run = start(desk, things)
    turn = h.state_of(desk, run).turn
    bench.take_next(desk, things.ansa, h.key(), run_id=run, step="acid", turn=turn)
    read(desk, clock, things, run, "ph", 4.10)
    assert h.state_of(desk, run).current.spec.key == "acid-set"


def test_a_sound_one_is_fit_and_its_display_is_taken_as_it_is(desk, clock, things):
    """A meter set to a constant of 9.2 shows 12.88 mS/cm where it is; the same display reads the same at the site."""
    lots = {"standard": things.lots["E12-031"]}
    shown = {**SETTINGS, "cell_constant": 9.2}
    meter = {"meter_id": things.meters["Bench set B"], "settings": shown, "reason": "As the meter shows it"}
    kit.record_settings(desk, things.ansa, h.key(), **meter)
    run = start(desk, things, "B3", "ec-one-standard", lots)
    read(desk, clock, things, run, "ms_cm_ref", 13.1, 12.88, at=25.0)
    state = h.state_of(desk, run)
    figure = {"cell_constant": state.run.probe.nominal * 1.03}
    bench.tell_figures(desk, things.ansa, h.key(), run_id=run, turn=state.turn, figures=figure)
    found = h.result_of(desk, run)
    assert found.verdict.outcome is Outcome.FIT, found.verdict
    assert rows(found, "cell_constant")[0][0] == pytest.approx(3.0)
    h.finish(desk, things, run)
    with desk.read() as session:
        kept = kit.last_usable(session, kit.probe_of(session, things.probes["B3"]))
        quantity, case = state.quantity, state.case
        signal = quantity.entries["ms_cm_ref"].to_signal(5.0, 12.0, case)
        # 5 mS/cm at 25 °C by 2 %/°C is 3.70 mS/cm at 12 °C, whatever the cell.
        assert kit.restored(kept).read(signal, 12.0) == pytest.approx(5000 * (1 - 0.02 * 13))


def test_a_raw_signal_is_not_typed_into_such_a_run_and_a_plain_run_asks_for_no_figures(desk, clock, things):
    run = start(desk, things)
    with pytest.raises(InputError, match="sets the meter itself"):
        read(desk, clock, things, run, "mv", 3.0)
    bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Next")
    plain = h.start(desk, things, "B1", source="typed")
    with pytest.raises(Refused, match="works the figures out"):
        bench.tell_figures(desk, things.ansa, h.key(), run_id=plain, turn=0, figures={"slope_percent": 98.0})
