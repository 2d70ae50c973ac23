"""Calibration runs through the use cases: truth recovered, planted faults named, nothing lost, nothing doubled."""

import threading
import uuid

import pytest
from sqlalchemy import func, select

from brumel.core import ph
from brumel.core.errors import InputError
from brumel.core.verdict import Outcome
from brumel.store.tables import Audit, Calibration, Point, Sample
from brumel.work import bench, kit, simulator
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import MovedOn, NotFound, Refused
from brumel.work.link import samples
from brumel.work.quantities.book import quantity_of
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def test_a_live_run_finds_the_hidden_electrode(desk, clock, things):
    run = h.start(desk, things)
    seen = h.take_all(desk, clock, things, run)
    assert all(not s.suspicions for s in seen)
    found = h.result_of(desk, run)
    assert found.verdict.outcome is Outcome.FIT
    assert found.fit.calibration.slope == pytest.approx(0.982, abs=0.003)  # the demo's truth of probe A1
    assert found.fit.calibration.offset_mv == pytest.approx(4.0, abs=0.5)
    made = h.finish(desk, things, run)
    with desk.read() as session:
        trust = kit.trust_of(session, kit.probe_of(session, things.probes["A1"]), clock())
        assert trust.valid
        assert str(trust.calibration.id) == made
        clock.on(hours=25)
        assert not kit.trust_of(session, kit.probe_of(session, things.probes["A1"]), clock()).valid
        actions = list(session.scalars(select(Audit.action).order_by(Audit.id)))
    assert actions == ["run.start", *["run.dip", "run.accept"] * 3, "run.finish"]


PLANTED = ["dry_bulb", "clogged_junction", "contaminated_buffer", "bubble", "wrong_cup", "broken_bulb"]


@pytest.mark.parametrize("planted", PLANTED)
def test_a_planted_fault_is_named_first_or_second(desk, clock, things, planted):
    h.calibrate(desk, clock, things)
    clock.on(days=1)
    h.fault(desk, things.probes["A1"], planted)
    run = h.start(desk, things)
    seen = h.take_all(desk, clock, things, run)
    found = h.result_of(desk, run)
    assert found.verdict.outcome is not Outcome.FIT
    assert planted in [c.key for c in found.causes[:2]], [(c.key, round(c.score, 2)) for c in found.causes]
    if planted == "contaminated_buffer":
        assert [s.code for s in seen[2].suspicions] == ["cup_off"]
    if planted == "dry_bulb":  # a fallen slope is no cup's fault
        assert "cup_off" not in [s.code for one in seen for s in one.suspicions]
    if planted == "wrong_cup":
        assert "wrong_cup" in [s.code for s in seen[1].suspicions]
    h.finish(desk, things, run)


@pytest.mark.parametrize(("signal", "method"), [("mv", "ph-7-4-10"), ("ph", "ph-7-4-check-10")])
def test_a_typed_run_is_the_equal_of_a_live_one(desk, clock, things, signal, method):
    run = h.start(desk, things, "B1", method, source="typed")
    electrode = {"mv": lambda p: 6.0 - 0.97 * ph.nernst_slope_mv(18.0) * (p - 7), "ph": lambda p: p + 0.05}[signal]
    h.type_all(desk, clock, things, run, electrode, signal=signal)
    found = h.result_of(desk, run)
    assert found.verdict.outcome is Outcome.FIT
    assert found.signal == signal
    if signal == "mv":
        assert (found.fit.calibration.slope, found.fit.calibration.offset_mv) == pytest.approx((0.97, 6.0), abs=1e-6)
    else:
        assert [r.key for r in found.verdict.rows].count("linearity") == 1
    h.finish(desk, things, run)
    run2 = h.start(desk, things, "B1", "ph-7-one-point", source="typed")
    h.type_all(desk, clock, things, run2, electrode, signal=signal)
    carried = h.result_of(desk, run2).fit
    assert carried.calibration.carried.origin.startswith("calibration ")
    assert h.result_of(desk, run2).as_found[0]["error"] == pytest.approx(0, abs=1e-6)


def test_every_write_takes_effect_once(desk, clock, things):
    same = uuid.uuid4()
    kwargs = dict(probe_id=things.probes["A1"], method_key="ph-7-4-10", source="live", cups=things.cups())
    run = bench.start(desk, things.ansa, same, **kwargs)
    assert bench.start(desk, things.ansa, same, **kwargs) == run
    with pytest.raises(Refused, match="already used for something else"):
        bench.dip(desk, things.ansa, same, run_id=run.id, step="neutral", turn=0)
    with pytest.raises(Refused, match="has a run open already"):
        bench.start(desk, things.ilka, h.key(), **kwargs)
    bench.dip(desk, things.ansa, h.key(), run_id=run.id, step="neutral", turn=0)
    h.let_settle(desk, clock, run.id)
    again = h.key()
    for _ in range(3):  # a retry after a lost answer
        bench.accept(desk, things.ansa, again, run_id=run.id, step="neutral", turn=0)
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Point)) == 1
        count = session.scalar(select(func.count()).select_from(Sample))
        dip = kit.present_dip(session, uuid.UUID(things.probes["A1"]))
    with desk.sessions.begin() as session:  # the meter resends everything
        sent_again = simulator.shows(simulator.standing(session, dip), dip, 30)
        assert samples.store_samples(session, dip, sent_again) == 0
        assert session.scalar(select(func.count()).select_from(Sample)) == count


def test_two_windows_at_once_make_one_point(desk, clock, things):
    run = h.start(desk, things)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    h.let_settle(desk, clock, run)
    outcomes = []

    def window(actor):
        try:
            outcomes.append(bench.accept(desk, actor, h.key(), run_id=run, step="neutral", turn=0))
        except MovedOn as error:
            outcomes.append(error)

    threads = [threading.Thread(target=window, args=(a,)) for a in (things.ansa, things.ilka)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    assert sorted(type(o).__name__ for o in outcomes) == ["MovedOn", "Written"]
    assert h.state_of(desk, run).turn == 1
    with pytest.raises(MovedOn):
        bench.dip(desk, things.ilka, h.key(), run_id=run, step="neutral", turn=0)


def test_what_was_shown_as_settled_is_what_is_taken(desk, clock, things):
    run = h.start(desk, things)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    seen = h.let_settle(desk, clock, run)
    last = int(seen.trace.seq[-1])
    h.fault(desk, things.probes["A1"], "clogged_junction")  # the next samples jump away
    clock.on(seconds=10)
    simulator.pump(desk)
    with pytest.raises(Refused, match="Not settled"):
        bench.accept(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    bench.accept(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0, how=bench.Acceptance(seen=last))
    assert h.state_of(desk, run).steps[0].point.signal == seen.settling.value


def test_redo_keeps_the_old_version_and_early_is_recorded(desk, clock, things):
    run = h.start(desk, things)
    h.take_cup(desk, clock, things, run)
    with pytest.raises(InputError, match="Reason must say why"):
        bench.redo(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=1, reason=" ")
    bench.redo(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=1, reason="Cup was knocked over")
    state = h.state_of(desk, run)
    assert (state.turn, state.current.spec.key) == (2, "neutral")
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=2)
    clock.on(seconds=10)
    simulator.pump(desk)
    with pytest.raises(Refused, match="Not settled"):
        bench.accept(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=2)
    bench.accept(
        desk,
        things.ansa,
        h.key(),
        run_id=run,
        step="neutral",
        turn=2,
        how=bench.Acceptance(early=True, answer="In a hurry"),
    )
    with desk.read() as session:
        versions = list(session.scalars(select(Point).order_by(Point.version)))
    assert [(p.version, p.withdrawn, p.early) for p in versions] == [
        (1, False, False),
        (2, True, False),
        (3, False, True),
    ]
    bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Rain came")
    with pytest.raises(MovedOn, match="abandoned"):
        bench.dip(desk, things.ansa, h.key(), run_id=run, step="acid", turn=3)


def test_an_expired_lot_needs_an_answer_and_is_in_the_verdict(desk, clock, things):
    run = h.start(desk, things, alkaline="N10-071")
    h.take_cup(desk, clock, things, run)
    h.take_cup(desk, clock, things, run)
    step = {"run_id": run, "step": "alkaline", "turn": 2}
    bench.dip(desk, things.ansa, h.key(), **step)
    h.let_settle(desk, clock, run)
    with pytest.raises(Refused, match="N10-071 expired on"):
        bench.accept(desk, things.ansa, h.key(), **step)
    bench.accept(desk, things.ansa, h.key(), **step, how=bench.Acceptance(answer="No other bottle in the van"))
    found = h.result_of(desk, run)
    assert [r.key for r in found.verdict.rows if r.outcome is Outcome.CARE] == ["expired"]
    with pytest.raises(InputError, match="Reason must say why"):
        bench.finish(desk, things.ansa, h.key(), run_id=run, turn=3, use=True)
    bench.finish(desk, things.ansa, h.key(), run_id=run, turn=3, use=True, words="Alkaline side is not needed today")
    with desk.read() as session:
        assert session.scalars(select(Calibration)).one().decision == "Alkaline side is not needed today"


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"cups": {}}, "Choose the solution for “pH 7 buffer”"),
        ({"neutral": "N4-118"}, "N4-118 is pH 4.01; “pH 7 buffer” takes pH 6.6 to 7.6"),
        ({"method_key": "ph-9000"}, "That method is not in use"),
        ({"source": "guessed"}, "live or typed"),
        ({"probe_id": "nonsense"}, "There is no such probe"),
    ],
)
def test_a_wrong_start_is_refused_by_name(desk, things, change, words):
    kwargs = dict(probe_id=things.probes["A1"], method_key="ph-7-4-10", source="live", cups=things.cups())
    if "neutral" in change:
        kwargs["cups"] = things.cups(**change)
    else:
        kwargs |= change
    with pytest.raises((InputError, NotFound), match=words):
        bench.start(desk, things.ansa, h.key(), **kwargs)
    with pytest.raises(InputError, match="has no link"):
        bench.start(
            desk,
            things.ansa,
            h.key(),
            **(
                kwargs
                | {"probe_id": things.probes["B1"], "method_key": "ph-7-4-10", "source": "live", "cups": things.cups()}
            ),
        )


def test_typed_values_are_checked_all_at_once(desk, clock, things):
    run = h.start(desk, things, "B1", source="typed")
    with pytest.raises(InputError) as caught:
        bench.type_reading(
            desk,
            things.ansa,
            h.key(),
            run_id=run,
            step="neutral",
            turn=0,
            typed=bench.TypedValue(signal="volts", value=float("nan"), temperature_c=412.0),
        )
    assert {f.field for f in caught.value.faults} == {"signal", "millivolts", "temperature_c"}
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Sample)) == 0


def typed(desk, clock, things, run, value, *, after=25, signal="mv", unit="", at=20.4, **more):
    state = h.state_of(desk, run)
    clock.on(seconds=after)
    return bench.type_reading(
        desk,
        things.ansa,
        h.key(),
        run_id=run,
        step=state.current.spec.key,
        turn=state.turn,
        typed=bench.TypedValue(signal=signal, value=value, temperature_c=at, unit=unit, **more),
    ).seq


def cup_of(desk, run):
    with desk.read() as session:
        return bench.live_cup(session, bench.load_run(session, run))


def in_the_cup(desk, things, run):
    state = h.state_of(desk, run)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step=state.current.spec.key, turn=state.turn)


def test_typed_values_keep_the_time_since_the_dip_and_settle_in_a_pair(desk, clock, things):
    run = h.start(desk, things, "B1", source="typed")
    in_the_cup(desk, things, run)
    typed(desk, clock, things, run, -1.5, after=12)
    assert str(cup_of(desk, run).settling.sentence).startswith("Type the next reading in")
    with pytest.raises(InputError, match="cannot be earlier"):
        typed(desk, clock, things, run, -1.5, after=1, after_s=5)
    typed(desk, clock, things, run, -1.6, after=24)
    seen = cup_of(desk, run)
    assert list(seen.trace.t_s) == [12, 37]  # the refused one took a second
    assert seen.settling.settled
    state = h.state_of(desk, run)
    bench.accept(desk, things.ansa, h.key(), run_id=run, step=state.current.spec.key, turn=state.turn)
    point = h.state_of(desk, run).steps[0].point
    # One step of 0.1 mV is 0.0017 pH at 20.4 °C (Nernst 58.25 mV); as a rectangle, k = 2, that is divided by √3.
    lot = h.state_of(desk, run).steps[0].lot.lot
    standard = quantity_of("ph").expanded_uncertainty(state.steps[0].spec, lot, point.expected)
    assert point.expanded_uncertainty == pytest.approx((standard**2 + (0.1 / 58.25) ** 2 / 3) ** 0.5, rel=1e-3)


def test_a_typed_value_is_struck_out_and_the_cup_may_change_its_unit(desk, clock, things):
    run = h.start(desk, things, "B1", source="typed")
    in_the_cup(desk, things, run)
    seq = typed(desk, clock, things, run, 168.2)
    with pytest.raises(InputError, match="begun in another unit"):
        typed(desk, clock, things, run, 7.02, signal="ph")
    state = h.state_of(desk, run)
    strike = {"run_id": run, "step": "neutral", "turn": state.turn}
    bench.strike(desk, things.ansa, h.key(), **strike, seq=seq)
    assert not cup_of(desk, run).trace.seq.size
    for wrong in (seq, 99):
        with pytest.raises(NotFound):
            bench.strike(desk, things.ansa, h.key(), **strike, seq=wrong)
    typed(desk, clock, things, run, 7.02, unit="pH")
    seen = cup_of(desk, run)
    assert (seen.trace.entered_as, seen.trace.displayed) == ("ph", (7.02,))
    assert seen.trace.t_s[0] > 70  # the probe never left the cup
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Sample)) == 2  # what was struck out stays


def test_two_displays_of_one_kind_share_a_cup(desk, clock, things):
    run = start_ec(desk, things)
    in_the_cup(desk, things, run)
    typed(desk, clock, things, run, 12_700.0, signal="us_cm")
    typed(desk, clock, things, run, 12.71, unit="mS/cm", signal="us_cm")
    seen = cup_of(desk, run)
    assert seen.trace.entered_as == "us_cm"
    assert seen.trace.displayed == pytest.approx((12_700, 12_710))
    assert seen.settling.settled


def start_ec(desk, things):
    return bench.start(
        desk,
        things.ansa,
        h.key(),
        probe_id=things.probes["B3"],
        method_key="ec-one-standard",
        source="typed",
        cups={"standard": things.lots["E12-031"]},
        conditions=Conditions(),
    ).id


def test_lost_signs_and_points_are_named_in_the_cup(desk, clock, things):
    neutral, cell = h.start(desk, things, "B1", source="typed"), start_ec(desk, things)
    for run, value, signal, words in (
        (neutral, 0.71, "ph", ("ten times too small", "7.10 pH")),
        (cell, 12.7, "us_cm", ("thousand times too small", "12700")),
    ):
        in_the_cup(desk, things, run)
        typed(desk, clock, things, run, value, signal=signal)
        said = {s.code: str(s.sentence) for s in cup_of(desk, run).suspicions}
        assert all(each in said["typed_slip"] for each in words), said
