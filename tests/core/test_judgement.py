"""Agreement, drift, believability, sense, planning, uncertainty and units."""

import math

import numpy as np
import pint
import pytest
from benchmarks.judging import logged
from hypothesis import given
from hypothesis import strategies as st
from scipy.sparse import csr_array
from scipy.sparse.csgraph import bellman_ford
from uncertainties import ufloat

from brumel.core import agreement, drift, planning, sense, units
from brumel.core import believability as belief
from brumel.core.errors import InputError, InputErrors, NotANumber, UnknownName, WrongShape
from brumel.core.uncertainty import propagate
from brumel.methods.checks import load_checks
from tests.tables import rows

CLOSING = {name: c.criteria() for name, c in load_checks().closing.items()}


def test_propagation_gives_the_worked_example_of_the_gum():
    # JCGM 100:2008, H.1, end gauge: uc = 32 nm (first order).
    inputs = {
        "ls": (50_000_623.0, 25.0),
        "d": (215.0, 9.7),
        "alpha_s": (11.5e-6, 1.2e-6),
        "theta": (-0.1, 0.41),
        "d_alpha": (0.0, 0.58e-6),
        "d_theta": (0.0, 0.029),
    }
    budget = propagate(
        lambda x: x["ls"] + x["d"] - x["ls"] * (x["d_alpha"] * x["theta"] + x["alpha_s"] * x["d_theta"]), inputs
    )
    assert budget.standard == pytest.approx(32, abs=0.5)
    a, b = ufloat(3.0, 0.1), ufloat(2.0, 0.05)  # and the uncertainties package agrees
    mine = propagate(lambda x: x["a"] * math.exp(-x["b"]), {"a": (3.0, 0.1), "b": (2.0, 0.05)})
    from uncertainties.umath import exp

    assert mine.standard == pytest.approx((a * exp(-b)).std_dev, rel=1e-3)


def test_two_instruments_agree_by_a_criterion_not_by_feeling():
    m = agreement.Measured
    found = agreement.compare(m(7.32, 0.05, "pH"), m(7.27, 0.04, "pH"))
    assert found.en == pytest.approx(0.05 / math.hypot(0.05, 0.04))  # ISO 13528, eq. of En
    assert found.agree
    assert not agreement.compare(m(7.40, 0.05, "pH"), m(7.27, 0.04, "pH")).agree
    assert found.relative_percent == pytest.approx(100 * 0.05 / 7.295)
    with pytest.raises(InputErrors) as caught:
        agreement.compare(m(570, 5, "µS/cm", "25 °C"), m(0.57, 0.01, "mS/cm", "20 °C"))
    assert [f.field for f in caught.value.faults] == ["unit", "reference"]
    with pytest.raises(InputError, match="above 0 for at least one"):
        agreement.compare(m(1, 0, "pH"), m(1, 0, "pH"))


@given(st.floats(-1, 1), st.floats(0, 1))
def test_a_linear_drift_is_taken_off_exactly(error, share):
    closing = drift.StandardCheck(36_000, 7.0 + error, 7.0)
    at = 36_000 * share
    shown = 7.3 + error * share
    assert drift.correct_one_point(shown, at, closing, 0.0) == pytest.approx(7.3, abs=1e-12)


def test_two_point_drift_and_grades_and_limits():
    # An electrode whose slope fell to 95 % by the end: errors at 4 and 10 are +0.15 and -0.15 of pH.
    low, high = drift.StandardCheck(1000, 4.15, 4.0), drift.StandardCheck(1000, 9.85, 10.0)
    at_10 = drift.check_at([high, low], 9.85, gain=False)
    assert drift.correct_one_point(9.85, 1000, at_10, 0) == pytest.approx(10.0)
    middle = drift.check_at([low, high], 7.0, gain=False)
    assert drift.correct_one_point(7.0, 500, middle, 0) == pytest.approx(7.0)
    # The same error everywhere from one standard; the same share of a relative scale, the mean of two.
    assert drift.check_at([low], 9.0, gain=False) == low
    shares = [drift.StandardCheck(10, 99.0, 100.0), drift.StandardCheck(10, 970.0, 1000.0)]
    assert drift.check_at(shares, 490.0, gain=True).expected == pytest.approx(500.0)
    # Oxygen read 5 % low in saturated air is 5 % low in the pond, 0.2 mg/L of 4; a zero that reads 0.3 is an offset there.
    air = drift.StandardCheck(10, 8.55, 9.0)
    assert drift.check_at([air], 3.8, gain=True).expected == pytest.approx(4.0)
    zero = drift.StandardCheck(10, 0.3, 0.0)
    assert drift.check_at([zero, air], 0.3, gain=True).error == pytest.approx(0.3)
    assert drift.check_at([zero, air], 8.55, gain=True).error == pytest.approx(-0.45)
    assert [drift.is_gain(c, gain=True) for c in ([air], [zero, air], shares)] == [True, False, True]
    assert not drift.is_gain([air], gain=False)
    assert {q for q, c in CLOSING.items() if c.gain} == {"conductivity", "oxygen", "nitrate", "ammonium", "chlorine"}
    for row in rows("tm1d3_ratings.csv"):
        graded = drift.grade(-float(row["size"]), CLOSING[row["quantity"]], float(row["value"]))
        assert graded == row["grade"], row
    assert list(drift.grade(np.array([0.1, 0.6]), CLOSING["ph"])) == ["excellent", "fair"]
    assert drift.holds(drift.StandardCheck(9, 1029, 1000), CLOSING["conductivity"])
    assert not drift.holds(drift.StandardCheck(9, 1031, 1000), CLOSING["conductivity"])
    assert drift.holds(drift.StandardCheck(9, 104.5, 100), CLOSING["conductivity"])  # ±5 µS/cm is the greater
    effect = drift.effect(CLOSING["ph"], 7.30, 500, drift.StandardCheck(1000, 7.4, 7.0), 0)
    assert (effect.state, effect.grade, round(effect.after, 6)) == ("corrected", "excellent", 7.10)
    assert drift.effect(CLOSING["ph"], 7.3, 500, drift.StandardCheck(1000, 7.1, 7.0), 0).state == "bracketed"
    assert drift.effect(CLOSING["ph"], 7.3, 999, drift.StandardCheck(1000, 9.5, 7.0), 0).state == "not reported"
    with pytest.raises(InputError, match="between the two checks"):
        drift.correct_one_point(7, 2000, drift.StandardCheck(1000, 7.1, 7.0), 0)
    with pytest.raises(InputError, match="must come after"):
        drift.correct_one_point(7, 2000, drift.StandardCheck(0, 7.1, 7.0), 0)


def test_series_are_flagged_by_qartod_s_numbers():
    v = np.array([8.0, 8.1, 8.0, 12.0, 8.1, 8.1, 8.1, 8.1, 8.1, np.nan, 25.0, 6.9])
    flags = belief.flag_series(v, gross=(0, 20), usual=(7, 13), spike=(1, 3), flat=(4, 5, 0.0))
    # The fifth 8.1 has four earlier ones within the tolerance of it, the fourth has three.
    assert list(flags) == [1, 1, 3, 4, 3, 1, 1, 1, 3, 9, 4, 3]
    tests = belief.series_tests(v, gross=(0, 20), usual=(7, 13), spike=(1, 3), flat=(4, 5, 0.0))
    assert list(tests["spike"]) == [2, 1, 3, 4, 3, 1, 1, 1, 2, 9, 2, 2]  # at the ends, and beside what is missing
    # A creep of half the tolerance a sample is no flat line: its present value is held against the earlier ones.
    creep = belief.series_tests(np.arange(20) * 0.5, gross=(-9, 99), flat=(4, 8, 1.0))["flat line"]
    assert set(creep[4:]) == {1}
    # Time missing before the third sample: no spike is judged across it, and the line begins anew.
    gap = belief.series_tests(
        [1, 1, 9, 1, 1, 1], gross=(0, 9), spike=(1, 2), flat=(2, 5, 0.1), after_gap=[0, 0, 1, 0, 0, 0]
    )
    assert list(gap["spike"]) == [2, 2, 2, 4, 1, 2]
    assert list(gap["flat line"]) == [2, 2, 1, 1, 1, 3]
    assert belief.flag_series([], gross=(0, 1)).size == 0
    with pytest.raises(WrongShape):
        belief.flag_series(["warm"], gross=(0, 1))


@pytest.mark.parametrize("every_s", logged.INTERVALS)
@pytest.mark.parametrize("quantity", logged.KINDS)
def test_healthy_series_pass_and_stuck_or_spiking_ones_do_not(quantity, every_s):
    row = logged.row(quantity, 12, every_s)
    assert row.samples < (0.8 if quantity == "ph" else 0.1)
    # A display of 0.1 pH may hide all that healthy water does in a day, and a sensor that is stuck in it: said, not guessed.
    assert row.stuck_missed <= {"ph": 25 if every_s == 600 else 45, "oxygen": 9}.get(quantity, 0)
    assert row.spikes_missed < 30


SENSE = [
    (sense.salinity_against_kind(18, "lagoon"), 1, ""),
    (sense.salinity_against_kind(18, "stream"), 4, "up to 1 is usual"),
    (sense.oxygen_without_light(165, light=False), 4, "over 140 %"),
    (sense.oxygen_without_light(165, light=True), 3, "Dry the tip"),
    (sense.redox_against_chlorine(520, 1.8), 3, "stabiliser"),
    (sense.redox_against_chlorine(720, 1.8), 1, ""),
    (sense.redox_against_chlorine(520, 0.2), 2, "too low"),
]


@pytest.mark.parametrize(("finding", "flag", "words"), SENSE, ids=[f"{f.key}-{n}" for f, n, _ in SENSE])
def test_quantities_of_one_visit_must_fit_together(finding, flag, words):
    assert (int(finding.flag), words in finding.sentence) == (flag, True), finding.sentence


T = planning.Task


def test_the_plan_of_a_morning():
    # Membrane at once, then 90 min of polarising; pH soak 30 min; hands: each calibration 10 min; van 15 min.
    tasks = [
        T("membrane", 8, hands=True),
        T("polarise", 90, after=("membrane",)),
        T("calibrate oxygen", 10, True, ("polarise",)),
        T("soak", 30),
        T("calibrate pH", 10, True, ("soak",)),
        T("load van", 15, True),
        T("leave", 0, after=("calibrate oxygen", "calibrate pH", "load van")),
    ]
    found = planning.plan(tasks, leave_min=100)
    assert found.ready_min == 108
    assert found.chain == ("membrane", "polarise", "calibrate oxygen", "leave")
    assert found.late == ("calibrate oxygen", "leave")
    assert found.slot("load van").start_min == 8  # done while things wait
    started = planning.plan([T("polarise", 90, done_min=60), T("go", 5, True, ("polarise",))])
    assert started.ready_min == 35


@given(st.data())
def test_plans_keep_every_rule_and_never_beat_the_longest_chain(data):
    n = data.draw(st.integers(1, 12))
    tasks = [
        T(
            f"t{i}",
            data.draw(st.integers(0, 60)),
            data.draw(st.booleans()),
            tuple(f"t{j}" for j in range(i) if data.draw(st.integers(0, 3)) == 0),
            data.draw(st.integers(0, 30)),
        )
        for i in range(n)
    ]
    found = planning.plan(tasks)
    by = {t.key: t for t in tasks}
    for slot in found.slots:
        assert slot.end_min - slot.start_min == pytest.approx(by[slot.key].minutes)
        assert (
            slot.start_min
            >= max([by[slot.key].not_before_min, *(found.slot(a).end_min for a in by[slot.key].after)]) - 1e-9
        )
    busy = sorted((s.start_min, s.end_min) for s in found.slots if by[s.key].hands and s.end_min > s.start_min)
    assert all(a[1] <= b[0] + 1e-9 for a, b in zip(busy, busy[1:], strict=False))
    # The longest chain, as a shortest path of negative lengths by scipy, is a bound from below; all in a row one from above.
    edges = [(int(a[1:]), int(t.key[1:]), by[a].minutes) for t in tasks for a in t.after]
    edges += [(int(t.key[1:]), n, t.minutes) for t in tasks]
    rows, columns, minutes = zip(*edges, strict=True)
    graph = csr_array(([-m - 1e-6 for m in minutes], (rows, columns)), shape=(n + 1, n + 1))
    longest = -float(bellman_ford(graph)[:, n].min())
    assert found.ready_min >= longest - 1e-4
    assert found.ready_min <= sum(t.minutes for t in tasks) + 30 + 1e-9
    assert found.slot(found.chain[-1]).end_min == found.ready_min


def test_circles_and_unknown_tasks_are_named():
    with pytest.raises(InputError, match="wait for one another in a circle: a, b"):
        planning.plan([T("a", 1, after=("b",)), T("b", 1, after=("a",))])
    with pytest.raises(InputErrors) as caught:
        planning.plan([T("soak", 5), T("soak", 5), T("go", -1, after=("soka",))])
    assert any(isinstance(f, UnknownName) for f in caught.value.faults)
    assert planning.plan([]).ready_min == 0


def test_units_convert_once_at_the_edge_as_pint_does():
    registry = pint.UnitRegistry(autoconvert_offset_to_baseunit=True)
    for value, unit, dimension, names in (
        (68, "°F", "temperature", ("degF", "degC")),
        (29.92, "inHg", "pressure", ("inHg", "hPa")),
        (760, "mmHg", "pressure", ("mmHg", "hPa")),
        (2000, "ft", "length", ("foot", "meter")),
        (5.3, "S/m", "conductivity", ("S/m", "uS/cm")),
        (12.88, "mS", "conductivity", ("mS/cm", "uS/cm")),
    ):
        expected = registry.Quantity(value, names[0]).to(names[1]).magnitude
        assert units.to_canonical("value", value, unit, dimension) == pytest.approx(expected, rel=1e-12)
    assert units.to_canonical("temperature_c", 12.3, "°C", "temperature") == 12.3
    with pytest.raises(InputError, match="“hPa” is not one of °C"):
        units.to_canonical("temperature_c", 12, "hPa", "temperature")
    with pytest.raises(InputError, match="does not say what it counts"):
        units.to_canonical("tds_mg_l", 500, "ppm", "mass per volume")
    with pytest.raises(NotANumber):
        units.to_canonical("temperature_c", float("nan"), "°F", "temperature")


def test_a_unit_behind_a_number_is_told_from_it_and_nothing_else_is():
    for text, number, unit in (
        ("12.8 mS", "12.8", "mS/cm"),
        ("66F", "66", "°F"),
        ("−1,5 mV", "−1,5", "mV"),
        ("1000 ppm", "1000", "ppm"),
        ("99.1%", "99.1", "%"),
        ("1.2e3 us/cm", "1.2e3", "µS/cm"),
        ("7.01", "7.01", ""),
        ("7 8", "7 8", ""),
        ("mS 12", "mS 12", ""),
        ("", "", ""),
    ):
        assert units.apart(text) == (number, unit), text
    with pytest.raises(InputError, match="does not say what it counts"):
        units.apart("35 ppt")
