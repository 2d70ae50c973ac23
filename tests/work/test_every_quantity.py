"""Every quantity's main schools on Bench, live and typed, and a table of planted faults that the verdict must name."""

import re
import uuid
from types import SimpleNamespace

import pytest

from brumel.core import conductivity, oxygen, redox
from brumel.core.errors import InputError
from brumel.core.verdict import Outcome
from brumel.work import bench, kit, rounds, simulator
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import NotFound, Refused
from brumel.work.quantities import standards
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of
from brumel.work.rounds.sheet.sheet import standards_uncertainty
from tests.work import helpers as h

HERE = Conditions(pressure_from="altitude", altitude_m=612.0, water_c=9.0)
#: probe, method, cups, what the fit must find of the demo's hidden truth: figure, value, tolerance.
SCHOOLS = [
    # Within what the method lets still come in each cup, by one minute of its drift limit.
    ("A8", "temp-two-points", {}, "error_c", 0.06, 0.1),
    ("A8", "temp-corrected", {}, "error_c", 0.06, 0.1),
    (
        "A1",
        "ph-five-points",
        {"acid": "N4-118", "neutral": "K7-009", "blood": "K74-002", "borax": "K9-004", "alkaline": "N10-090"},
        "slope_percent",
        98.1,
        0.7,
    ),
    ("A1", "ph-combined", {"neutral": "C1-206"}, "slope_percent", 100.0, 0.1),
    ("A1", "ph-tablet-7", {"neutral": "T7-012"}, "offset_mv", 4.2, 0.6),
    ("A3", "ec-air-one", {"standard": "E14-055"}, "cell_constant", 1.031, 0.006),
    ("A3", "ec-one-standard", {"standard": "E14-055"}, "cell_constant", 1.031, 0.006),
    ("A3", "ec-two-standards", {"weak": "E14-055", "strong": "E12-031"}, "cell_constant", 1.031, 0.006),
    ("A3", "ec-combined", {"standard": "C1-206"}, "cell_constant", 1.031, 0.006),
    ("A3", "ec-check", {"standard": "E14-055"}, "cell_constant", 1.0, 1e-9),
    ("A5", "do-saturated-air", {}, "gain_percent", 97.1, 0.7),
    ("A5", "do-zero-air", {"zero": "Z0-077"}, "gain_percent", 96.5, 1.1),
    ("A5", "do-saturated-water", {}, "gain_percent", 97.1, 0.7),
    ("A5", "do-check-air", {}, "gain_percent", 100.0, 1e-9),
    ("A4", "orp-check", {"standard": "R43-012"}, "error_mv", 5.5, 2.0),
    ("A4", "orp-offset", {"standard": "R24-030"}, "error_mv", 5.5, 2.0),
    ("A6", "no3-two", {"low": "NO1-014", "high": "NO2-014"}, "slope_percent", 96.8, 1.2),
    ("A6", "no3-three", {"low": "NO1-014", "high": "NO2-014", "high-cold": "NO2-014"}, "slope_percent", 96.8, 1.2),
    (
        "A7",
        "nh4-four",
        {"low": "NH2-008", "high": "NH3-009", "high-cold": "NH3-009", "low-cold": "NH2-008"},
        "slope_percent",
        95.5,
        1.2,
    ),
    ("C1", "cl-check", {}, "error_mg_l", -0.05, 0.05),
    ("C1", "cl-adjust", {}, "error_mg_l", -0.05, 0.05),
]


@pytest.fixture
def things(desk):
    return h.Things(desk)


def start(desk, things, probe, method, cups, conditions=None, source="live"):
    conditions = conditions or (HERE if probe == "A5" else Conditions(reason="a test"))
    lots = {step: things.lots[code] for step, code in cups.items()}
    return bench.start(
        desk,
        things.ansa,
        h.key(),
        probe_id=things.probes[probe],
        method_key=method,
        source=source,
        cups=lots,
        conditions=conditions,
    ).id


def take(desk, clock, things, run):
    """One cup, with the reference beside it where the step asks for one."""
    state = h.state_of(desk, run)
    step = state.current.spec
    clock.on(seconds=20)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step=step.key, turn=state.turn)
    seen = h.let_settle(desk, clock, run, int(state.quantity.criteria(state.method, step).longest_s))
    reference = None
    if step.vessel == "reference":
        with desk.read() as session:
            reference = simulator.reference_shows(session, kit.present_dip(session, uuid.UUID(str(state.run.probe_id))))
    bench.accept(
        desk,
        things.ansa,
        h.key(),
        run_id=run,
        step=step.key,
        turn=state.turn,
        how=bench.Acceptance(
            early=not seen.settling.settled,
            answer="Taken all the same" if seen.suspicions else "",
            reference=reference,
            reference_u=None if reference is None else 0.08,
        ),
    )
    return seen


def take_all(desk, clock, things, run):
    seen = []
    while h.state_of(desk, run).current:
        seen.append(take(desk, clock, things, run))
    return seen


@pytest.mark.parametrize(("probe", "method", "cups", "figure", "true", "within"), SCHOOLS, ids=[s[1] for s in SCHOOLS])
def test_each_school_finds_the_hidden_probe(desk, clock, things, probe, method, cups, figure, true, within):
    run = start(desk, things, probe, method, cups)
    seen = take_all(desk, clock, things, run)
    assert [s.code for view in seen for s in view.suspicions] == []
    found = h.result_of(desk, run)
    assert found.fit.figures[figure] == pytest.approx(true, abs=within)
    rows = {r.key: r.outcome for r in found.verdict.rows}
    if method in ("ec-air-one", "ec-one-standard", "ec-combined"):  # nothing tells a cell from its only standard yet
        assert rows.pop("constant_first") is Outcome.UNKNOWN
    assert set(rows.values()) <= {Outcome.FIT, Outcome.CARE}, found.verdict.rows
    assert all(r.source for r in found.verdict.rows)
    made = h.finish(desk, things, run)
    with desk.read() as session:
        kept = kit.last_usable(session, kit.probe_of(session, things.probes[probe]))
        assert str(kept.id) == made
        again = kit.restored(kept)
        point = next(p for p in bench.taken_points(bench.load_run(session, run)) if p.role in ("adjust", "check"))
        assert again.read(point.signal, point.temperature_c) == pytest.approx(
            found.fit.read(point.signal, point.temperature_c), rel=1e-9
        )


#: probe, method, cups, fault, causes of which one must be first or second.
PLANTED = [
    ("A3", "ec-air-one", {"standard": "E14-055"}, "bubble", {"bubble"}),
    ("A3", "ec-two-standards", {"weak": "E14-055", "strong": "E12-031"}, "coated", {"coated"}),
    ("A3", "ec-air-one", {"standard": "E14-055"}, "wet_contacts", {"wet_contacts"}),
    ("A5", "do-saturated-air", {}, "wet_tip", {"wet_tip"}),
    ("A5", "do-zero-air", {"zero": "Z0-077"}, "torn_membrane", {"membrane"}),
    ("A5", "do-zero-air", {"zero": "Z0-077"}, "spent_zero", {"spent_zero"}),
    ("A5", "do-saturated-air", {}, "not_polarised", {"not_polarised"}),
    ("A5", "do-saturated-water", {}, "still_water", {"still_water"}),
    ("A5", "do-saturated-water", {}, "not_polarised", {"not_polarised"}),
    ("A5", "do-saturated-air", {}, "aged", {"aged"}),
    ("A5", "do-saturated-water", {}, "aged", {"aged"}),
    ("A3", "ec-one-standard", {"standard": "E14-055"}, "coated", {"coated"}),
    ("A3", "ec-one-standard", {"standard": "E14-055"}, "old_standard", {"contaminated_standard"}),
    ("A4", "orp-check", {"standard": "R43-012"}, "dirty_metal", {"dirty_metal"}),
    ("A4", "orp-check", {"standard": "R43-012"}, "reference", {"reference"}),
    ("A4", "orp-two-checks", {"first": "Q7-001", "second": "R43-012"}, "old_standard", {"old_standard"}),
    ("A6", "no3-two", {"low": "NO1-014", "high": "NO2-014"}, "aged_tip", {"aged_tip"}),
    ("A6", "no3-two", {"low": "NO1-014", "high": "NO2-014"}, "not_hydrated", {"not_hydrated"}),
    ("A7", "nh4-two", {"low": "NH2-008", "high": "NH3-009"}, "warm_cup", {"pair_temperature"}),
    ("A7", "nh4-two", {"low": "NH2-008", "high": "NH3-009"}, "carry_over", {"carry_over", "aged_tip"}),
    ("A8", "temp-two-points", {}, "sensor_off", {"sensor_off"}),
    ("A8", "temp-two-points", {}, "ice_wrong", {"ice_wrong"}),
    ("C1", "cl-check", {}, "dirty_tip", {"dirty_tip"}),
    ("C1", "cl-check", {}, "second_method", {"second_method", "dirty_tip"}),
]


@pytest.mark.parametrize(
    ("probe", "method", "cups", "fault", "causes"), PLANTED, ids=[f"{p[1]}-{p[3]}" for p in PLANTED]
)
def test_a_planted_fault_is_named_first_or_second(desk, clock, things, probe, method, cups, fault, causes):
    if probe in ("A3", "A5"):  # judged against what the probe was when it was sound
        calm = start(desk, things, probe, method, cups)
        take_all(desk, clock, things, calm)
        healthy = h.result_of(desk, calm)
        h.finish(desk, things, calm)
        clock.on(hours=20)
    h.fault(desk, things.probes[probe], fault)
    run = start(desk, things, probe, method, cups)
    take_all(desk, clock, things, run)
    found = h.result_of(desk, run)
    if probe in ("A3", "A5"):
        assert [c.key for c in healthy.causes if c.key != "temperature_apart"] == []
    assert found.verdict.outcome in (Outcome.CARE, Outcome.NOT), [
        (r.key, r.value, r.outcome) for r in found.verdict.rows
    ]
    named = [c.key for c in found.causes[:2]]
    assert causes & set(named), [(c.key, round(c.score, 2)) for c in found.causes]


def test_a_slow_thermometer_is_named_although_it_reads_right(desk, clock, things):
    h.fault(desk, things.probes["A8"], "slow")
    run = start(desk, things, "A8", "temp-two-points", {})
    take_all(desk, clock, things, run)
    found = h.result_of(desk, run)
    assert (found.verdict.outcome, [c.key for c in found.causes]) == (Outcome.FIT, ["slow"])


def test_swapped_cups_of_a_pair_are_seen_without_any_calibration_before(desk, clock, things):
    h.fault(desk, things.probes["A6"], "swapped_cups")
    run = start(desk, things, "A6", "no3-two", {"low": "NO1-014", "high": "NO2-014"})
    take(desk, clock, things, run)
    assert "swapped_cups" in [s.code for s in take(desk, clock, things, run).suspicions]


def test_a_calibration_is_held_against_the_probe_s_own_chart(desk, clock, things):
    """A cell's constant of five good calibrations scatters by 0.1 %; then the standard is 2 % strong: within every limit but
    the probe's own."""
    cups = {"standard": "E14-055"}
    for _ in range(5):
        run = start(desk, things, "A3", "ec-one-standard", cups)
        take_all(desk, clock, things, run)
        h.finish(desk, things, run)
        clock.on(hours=20)
    with desk.sessions.begin() as session:
        simulator.set_truth(session, f"lot:{things.lots['E14-055']}", {"shift": 0.02})
    run = start(desk, things, "A3", "ec-one-standard", cups)
    take_all(desk, clock, things, run)
    rows = {r.key: r for r in h.result_of(desk, run).verdict.rows}
    assert rows["constant_jump"].outcome is Outcome.FIT
    assert rows["own_record"].outcome is Outcome.CARE, rows["own_record"]
    assert "by its own last 5 calibrations" in str(rows["own_record"].criterion)


WATCHED = [
    ("A3", "ec-two-standards", {"weak": "E14-055", "strong": "E12-031"}, "wrong_cup", {"wrong_cup", "same_cup"}),
    ("A6", "no3-two", {"low": "NO1-014", "high": "NO2-014"}, "swapped_cups", {"wrong_cup"}),
    ("A5", "do-saturated-air", {}, "wet_tip", {"wet_tip"}),
    ("A5", "do-saturated-water", {}, "still_water", {"still_water"}),
    ("A7", "nh4-two", {"low": "NH2-008", "high": "NH3-009"}, "warm_cup", {"pair_temperature"}),
    ("A3", "ec-one-standard", {"standard": "E14-055"}, "bubble", {"bubble", "noisy"}),
]


@pytest.mark.parametrize(
    ("probe", "method", "cups", "fault", "codes"), WATCHED, ids=[f"{p[1]}-{p[3]}" for p in WATCHED]
)
def test_it_is_said_while_it_happens_and_needs_an_answer(desk, clock, things, probe, method, cups, fault, codes):
    calm = start(desk, things, probe, method, cups)
    take_all(desk, clock, things, calm)
    h.finish(desk, things, calm)
    clock.on(hours=20)
    h.fault(desk, things.probes[probe], fault)
    run = start(desk, things, probe, method, cups)
    said = set()
    while (state := h.state_of(desk, run)).current:
        step = state.current.spec.key
        bench.dip(desk, things.ansa, h.key(), run_id=run, step=step, turn=state.turn)
        clock.on(seconds=state.method.settling.shortest_s)
        for _ in range(20):
            clock.on(seconds=5)
            simulator.pump(desk)
            with desk.read() as session:
                seen = bench.live_cup(session, bench.load_run(session, run))
            said |= {s.code for s in seen.suspicions}
        if seen.suspicions:
            assert all(s.sentence and s.remedy for s in seen.suspicions)
            with pytest.raises(Refused, match="Say why you take it all the same"):
                bench.accept(
                    desk, things.ansa, h.key(), run_id=run, step=step, turn=state.turn, how=bench.Acceptance(early=True)
                )
        bench.accept(
            desk,
            things.ansa,
            h.key(),
            run_id=run,
            step=step,
            turn=state.turn,
            how=bench.Acceptance(early=True, answer="Seen, for the test"),
        )
    assert codes & said, said


# -- typed, the same path


def type_cup(desk, clock, things, run, signal, value, at, answer="", **more):
    state = h.state_of(desk, run)
    step = state.current.spec.key
    longest = state.method.settling.shortest_s
    for after in (longest, longest + (state.method.settling.typed_spacing_s or state.method.settling.window_s)):
        clock.on(seconds=25)
        bench.type_reading(
            desk,
            things.ansa,
            h.key(),
            run_id=run,
            step=step,
            turn=state.turn,
            typed=bench.TypedValue(signal=signal, value=value, temperature_c=at, after_s=after),
        )
    bench.accept(
        desk, things.ansa, h.key(), run_id=run, step=step, turn=state.turn, how=bench.Acceptance(answer=answer, **more)
    )


def test_a_typed_display_is_put_back_to_the_raw_signal_before_it_is_judged(desk, clock, things):
    """12.88 mS at 20 °C is 11.67 mS; a meter on K = 10, 2 %/°C to 25 °C shows 11.67 / 0.9 = 12.967 mS compensated."""
    lots = {"standard": "E12-031"}
    for signal, shown in (("ms_cm", 11.67), ("us_cm", 11670.0), ("us_cm_ref", 11670 / 0.9), ("ms_cm_ref", 11.67 / 0.9)):
        run = start(desk, things, "B3", "ec-one-standard", lots, source="typed")
        type_cup(desk, clock, things, run, signal, shown, 20.0)
        found = h.result_of(desk, run)
        assert found.fit.cell_constant_per_cm == pytest.approx(10.0, rel=1e-6), signal
        bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Next unit")


def test_a_unit_behind_the_value_goes_before_the_chosen_one_and_keeps_its_kind(desk, things):
    quantity = quantity_of("conductivity")
    assert [quantity.entry_of("mS/cm", chosen) for chosen in ("us_cm", "us_cm_ref", "us")] == [
        "ms_cm",
        "ms_cm_ref",
        "ms_cm",
    ]
    assert quantity_of("oxygen").entry_of("%", "mg_l") == "percent"
    assert quantity_of("temperature").entry_of("°F", "c") == "f"
    with pytest.raises(InputError, match="unit “hPa” is none that conductivity is read in here: µS/cm, mS/cm, ppm, µS"):
        quantity.entry_of("hPa", "us_cm")
    case = RunContext(
        SimpleNamespace(nominal=1.0), settings={"reference_c": 25.0, "cell_constant": 1.0, "tds_factor": 0.7}
    )
    assert quantity.entries["ppm"].to_signal(700.0, 25.0, case) == pytest.approx(1000.0)
    case = RunContext(SimpleNamespace(nominal=1.0), settings={"reference_c": 25.0, "cell_constant": 1.0})
    with pytest.raises(InputError, match="depends on the meter's TDS factor"):
        quantity.entries["ppm"].to_signal(500.0, 25.0, case)


def test_oxygen_s_target_is_worked_out_for_the_place_and_a_typed_mg_l_is_recomputed(desk, clock, things):
    """At 612 m the standard atmosphere has 941.9 hPa; at 14 °C saturated air then holds 9.57 mg/L [ISA, BK84]."""
    run = start(desk, things, "B2", "do-saturated-air", {}, HERE, source="typed")
    state = h.state_of(desk, run)
    assert state.run.conditions.pressure_hpa == pytest.approx(941.9, abs=0.1)  # ISO 2533 at 612 m
    full = float(oxygen.saturation_mg_l(14.0, 0.0, state.run.conditions.pressure_hpa))
    assert full == pytest.approx(9.57, abs=0.02)
    type_cup(desk, clock, things, run, "mg_l", full * 0.95, 14.0)
    assert h.result_of(desk, run).fit.gain_percent == pytest.approx(95.0, abs=0.01)
    assert state.quantity.vessel_value(state.steps[0].spec, None, 14.0, state.case) == pytest.approx(full)


BAD_CONDITIONS = {
    "none": (Conditions(), "Station pressure must be given"),
    "altitude": (Conditions(pressure_from="altitude"), "Altitude must be given"),
    "where": (Conditions(pressure_from="guess"), "Say where the pressure comes from"),
    "inches": (Conditions(pressure_hpa=29.92), "Station pressure 29.92 hPa is outside"),
    "sea level": (Conditions(pressure_hpa=1015.0, altitude_m=612.0), "reduced to sea level"),
    "both": (Conditions(pressure_hpa=float("nan"), altitude_m=99_999.0), "Altitude 99999 m is outside"),
}


@pytest.mark.parametrize("name", BAD_CONDITIONS)
def test_bad_conditions_are_named(desk, things, name):
    given, words = BAD_CONDITIONS[name]
    with pytest.raises(InputError) as caught:
        start(desk, things, "A5", "do-saturated-air", {}, given)
    assert words in str(caught.value)


def test_a_weather_report_s_pressure_is_brought_down_to_the_station(desk, things):
    run = start(desk, things, "A5", "do-saturated-air", {}, Conditions("report", 1020.0, 612.0))
    pressure = h.state_of(desk, run).run.conditions.pressure_hpa
    assert pressure == pytest.approx(float(oxygen.station_from_sea_level_hpa(1020.0, 612.0)), abs=0.01)


def test_a_standard_below_what_the_sites_read_is_kept_on_the_run(desk, things):
    """The lagoon reads up to 32 000 µS/cm: 1413 does not bracket it, and no standard on the shelf does."""
    run = start(desk, things, "A3", "ec-two-standards", {"weak": "E14-055", "strong": "E12-031"})
    assert "above the strongest standard of this run (12880 µS/cm)" in h.state_of(desk, run).run.conditions.bracket


def test_a_cup_outside_its_table_silences_one_probe_and_not_the_meter(desk, clock, things):
    with desk.sessions.begin() as session:
        simulator.set_truth(session, f"probe:{things.probes['A4']}", {"cups_c": 8.0})  # quinhydrone is known from 20 °C
    for probe, method, cups in (
        ("A4", "orp-two-checks", {"first": "Q7-001", "second": "R43-012"}),
        ("A3", "ec-check", {"standard": "E14-055"}),
    ):
        run = start(desk, things, probe, method, cups)
        state = h.state_of(desk, run)
        bench.dip(desk, things.ansa, h.key(), run_id=run, step=state.current.spec.key, turn=0)
    clock.on(seconds=10)
    assert simulator.pump(desk) == 21  # the cell's samples, none of the other's


def test_an_ion_tip_waits_for_what_it_rests_on(desk, clock, things):
    lots = {"low": "NO1-014", "high": "NO2-014"}
    with pytest.raises(Refused, match="after pH, ORP and conductivity"):
        start(desk, things, "A6", "no3-two", lots, Conditions())
    run = start(desk, things, "A6", "no3-two", lots, Conditions(reason="Tip only, for training"))
    take_all(desk, clock, things, run)
    rows = [r for r in h.result_of(desk, run).verdict.rows if r.key == "missing"]
    assert len(rows) == 3  # said in the verdict all the same
    assert h.result_of(desk, run).verdict.outcome is Outcome.CARE


def test_a_display_that_nothing_can_read_is_told_why(desk, clock, things):
    def said():
        visit = h.visit(desk, clock, things, probe="A7", source="typed")
        h.type_one(desk, things, visit, "A7", signal="mg_l_n", value=0.02, temperature_c=18.0)
        with desk.read() as session:
            return rounds.sheet_of_visit(session, visit, clock()).lines[0].problem

    assert said() == "Nothing to read this with: Never calibrated."
    run = start(desk, things, "A7", "nh4-two", {"low": "NH2-008", "high": "NH3-009"})
    take_all(desk, clock, things, run)
    h.finish(desk, things, run)
    why = "was made from mV, this reading is displayed mg/L. Type mV in its place, or calibrate the probe first."
    assert re.fullmatch(rf"Nothing to read this with: calibration \d+ {why}", said())


def test_a_bad_pair_is_redone_as_a_pair_and_its_cups_are_told_apart(desk, clock, things):
    lots = {"low": "NH2-008", "high": "NH3-009", "high-cold": "NH3-009", "low-cold": "NH2-008"}
    run = start(desk, things, "A7", "nh4-four", lots)
    take_all(desk, clock, things, run)
    state = h.state_of(desk, run)
    names = [state.called(s) for s in state.steps]
    assert len(set(names)) == 4  # two cups of each lot, and no two of one name
    assert [[s.spec.key for s in pair] for pair in state.pairs] == [["low", "high"], ["high-cold", "low-cold"]]
    with pytest.raises(NotFound):
        bench.redo_pair(desk, things.ansa, h.key(), run_id=run, step="air", turn=state.turn, reason="No such cup")
    bench.redo_pair(
        desk, things.ansa, h.key(), run_id=run, step="low-cold", turn=state.turn, reason="Temperatures apart"
    )
    state = h.state_of(desk, run)
    assert [s.spec.key for s in state.waiting] == ["high-cold", "low-cold"]
    assert state.done == 2
    take_all(desk, clock, things, run)
    assert h.result_of(desk, run).fit is not None


def test_as_found_is_read_before_and_as_left_after_adjusting(desk, clock, things):
    first = start(desk, things, "A3", "ec-one-standard", {"standard": "E14-055"})
    take_all(desk, clock, things, first)
    h.finish(desk, things, first)
    clock.on(days=7)
    with desk.sessions.begin() as session:
        body = simulator.truth(session, f"probe:{things.probes['A3']}")
        simulator.set_truth(session, f"probe:{things.probes['A3']}", {**body, "cell_constant": 1.031 * 1.04})
    again = start(
        desk, things, "A3", "ec-one-standard", {"standard": "E14-055"}, Conditions(as_found=True, as_left=True)
    )
    assert [s.spec.role for s in h.state_of(desk, again).steps] == ["found", "adjust", "left"]
    take_all(desk, clock, things, again)
    found = h.result_of(desk, again)
    rows = {r.key: r for r in found.verdict.rows}
    expected = conductivity.standard_us_cm("1413", 18.6)
    assert rows["as_found"].value == pytest.approx(expected * (1 / 1.04 - 1), abs=3)
    assert rows["as_found"].source.startswith("common practice")
    assert abs(rows["as_left"].value) < 2
    assert found.verdict.outcome is Outcome.FIT
    made = h.finish(desk, things, again)
    with desk.read() as session:
        from brumel.store.tables import Calibration

        assert session.get(Calibration, uuid.UUID(made)).as_found[0]["error"] == pytest.approx(rows["as_found"].value)


def test_a_meter_that_was_adjusted_itself_is_taken_at_its_word(desk, clock, things):
    run = start(desk, things, "B1", "ph-7-4-10", h.CUPS, Conditions(adjusted=True, as_found=True), source="typed")
    with desk.read() as session:
        values = {s.spec.key: standards.value(s.lot.lot, "ph", 20.0) for s in bench.load_run(session, run).steps}
    while (state := h.state_of(desk, run)).current:
        type_cup(desk, clock, things, run, "ph", round(values[state.current.spec.key] + 0.12, 3), 20.0)
    found = h.result_of(desk, run)
    row = next(r for r in found.verdict.rows if r.key == "as_found")
    assert row.value == pytest.approx(0.12, abs=0.002)  # what the display was off, before adjusting
    h.finish(desk, things, run)
    with desk.read() as session:
        kept = kit.last_usable(session, kit.probe_of(session, things.probes["B1"]))
        mv = -float(state.quantity.entries["ph"].to_signal(7.30, 20.0, state.case)) * -1
        assert kit.restored(kept).read(mv, 20.0) == pytest.approx(7.30, abs=1e-6)  # afterwards the display counts


def test_orp_standards_follow_the_probe_s_own_reference(desk, things):
    """Zobell at 25 °C: 430.3 mV against hydrogen [Nordstrom1977], less 209 mV (3 M) or 199 mV (saturated) [USGS-A6.5]."""
    with desk.read() as session:
        from brumel.store.tables import Lot

        zobell, label = (session.get(Lot, uuid.UUID(things.lots[c])) for c in ("R43-012", "R24-030"))
        own, pool = (kit.probe_of(session, things.probes[p]) for p in ("A4", "C2"))
        assert standards.value(zobell, "redox", 25.0, own) == pytest.approx(430.3 - 209.0, abs=0.6)
        assert standards.value(zobell, "redox", 25.0, pool) == pytest.approx(430.3 - 199.0, abs=0.6)
        shift = redox.reference_electrode_mv("agcl-3m", 25.0) - redox.reference_electrode_mv("agcl-saturated", 25.0)
        assert standards.value(label, "redox", 25.0, pool) == pytest.approx(240.0 + shift)


def test_a_repeat_takes_the_place_of_what_it_repeats_and_nothing_is_deleted(desk, clock, things):
    first = start(desk, things, "A4", "orp-check", {"standard": "R43-012"})
    take_all(desk, clock, things, first)
    old = h.finish(desk, things, first)
    clock.on(hours=1)
    again = start(desk, things, "A4", "orp-check", {"standard": "R43-012"}, Conditions(repeats=first))
    take_all(desk, clock, things, again)
    new = h.finish(desk, things, again)
    with desk.read() as session:
        probe = kit.probe_of(session, things.probes["A4"])
        assert str(kit.facts(session, [probe], clock())[probe.id].calibration.id) == new
        assert len(kit.recent_calibrations(session, probe.id)) == 2
    bench.withdraw(desk, things.ansa, h.key(), calibration_id=new, reason="The bottle was not shaken")
    with desk.read() as session:
        assert kit.last_usable(session, kit.probe_of(session, things.probes["A4"])) is None
        assert len(kit.recent_calibrations(session, probe.id)) == 2
    with pytest.raises(Refused, match="withdrawn already"):
        bench.withdraw(desk, things.ansa, h.key(), calibration_id=old, reason="Again")


def test_a_pressure_that_may_be_of_sea_level_is_asked_about_in_the_cup(desk, clock, things):
    """At 300 m the air has about 977 hPa; 1013 as the station's would move oxygen by 3.6 %, within the weather's 40 hPa."""
    told = Conditions(pressure_from="station", pressure_hpa=1013.0, altitude_m=300.0, water_c=19.0)
    run = start(desk, things, "A5", "do-saturated-air", {}, conditions=told)
    assert "sea_level" in [s.code for s in take(desk, clock, things, run).suspicions]


def test_what_was_still_to_come_in_a_cup_makes_its_calibration_less_certain(desk, clock, things):
    """0.6 mV of an electrode are 0.01 pH; half a percent of conductance is half a percent."""
    assert quantity_of("ph").budget_share(0.58, 170.0) == pytest.approx(0.01, rel=0.01)
    assert quantity_of("conductivity").budget_share(7.0, 1400.0) == pytest.approx(0.5)
    assert quantity_of("nitrate").budget_share(0.5817, 100.0) == pytest.approx(2.303, rel=0.01)
    assert quantity_of("oxygen").budget_share(0.4, 0.5) == quantity_of("conductivity").budget_share(0.1, 0.05) == 0.0
    made = start(desk, things, "A1", "ph-7-4-10", h.CUPS)
    take_all(desk, clock, things, made)
    h.finish(desk, things, made)
    with desk.read() as session:
        calibration = kit.last_usable(session, kit.probe_of(session, things.probes["A1"]))
        settled = standards_uncertainty(session, [calibration])[calibration.id]
    assert 0.01 < settled < 0.02  # buffers to ±0.02 (k = 2), and less than a minute's drift
