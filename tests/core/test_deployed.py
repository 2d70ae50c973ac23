"""A logger in the water: corrections worked by hand, a known truth that is found again, its clock, its endurance, figures."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import oxygen
from brumel.core.deployed import look
from brumel.core.deployed.clock import Comparison, clock
from brumel.core.deployed.correction import DOUBTFUL, CheckUncertainty, Interval, correct
from brumel.core.deployed.endurance import endurance
from brumel.core.deployed.oxygen import compensated_mg_l
from brumel.core.deployed.service import ErrorLine, ServiceReading, Standard, error_line, service_errors
from brumel.core.deployed.thinning import thin
from brumel.core.drift import GRADES
from brumel.core.errors import InputError, InputErrors
from brumel.methods.checks import load_checks
from brumel.methods.deployments import load_deployments
from brumel.work.simulator.loggers import DAY_S, Sensor, shown, water

CRITERIA = {name: c.criteria() for name, c in load_checks().closing.items()}
NO_U = CheckUncertainty(0, 0, 0)


def test_memory_and_battery_say_how_long_it_lasts_and_which_ends_first():
    # Common practice, no source: 2 400 records at 5 min fill in 8.3 days.
    e = endurance(300, 7, 2400, 60)
    assert (round(e.full_d, 1), e.stops_by, e.is_safe) == (8.3, "memory", False)
    assert e.margin_d == pytest.approx(8.333 - 7, abs=1e-3)
    assert endurance(900, 30, 100_000, 45).stops_by == "battery"
    unknown = endurance(900, 30, None, None)
    assert (unknown.stops_by, unknown.is_safe, unknown.margin_d) == ("", False, None)
    with pytest.raises(InputErrors) as caught:
        endurance(0, 30, float("nan"), -1)
    assert {f.field for f in caught.value.faults} == {"interval_s", "memory_records", "battery_days"}


def test_fouling_and_drift_of_a_service_as_worked_by_hand():
    """Arithmetic by the formulas of USGS TM 1-D3 (Wagner and others, 2006); its formulas from memory, figures our own."""
    # Conductance 1 410 before and 1 460 after cleaning while the field meter went from 1 470 to 1 475: fouling is
    # (1410 - 1460) + (1475 - 1470) = -45 µS/cm, of 1 410 + 45 = 1 455 that is -3.09 %. In 1 413 it reads 1 399: -0.99 %.
    r = ServiceReading(1410, 1460, 1470, 1475, (Standard(1399, 1413),))
    e = service_errors(r, CRITERIA["conductivity"], 1455)
    assert e.fouling == pytest.approx(-45 / 1455 * 100)
    assert float(e.drift.at(1455)) == pytest.approx(1455 * (1399 - 1413) / 1399)
    assert e.size == pytest.approx(3.0928 + 1.0007, abs=1e-3)
    assert (round(e.allowed, 2), e.holds, e.unit) == (3.0, False, "%")
    # Oxygen 7.9 before, 8.3 after, water still: -0.4 mg/L; in saturated water of 9.09 it reads 9.03: a gain, 8.3 · -0.0066.
    e = service_errors(ServiceReading(7.9, 8.3, standards=(Standard(9.03, 9.09),)), CRITERIA["oxygen"], 8.3)
    assert e.fouling == pytest.approx(-0.4)
    assert (e.allowed, e.holds) == (0.3, False)
    # pH in 7.00 reads 7.06 and in 10.00 reads 9.88: at 8.3 the line between them is off by 0.06 - 0.18/2.82 · 1.24.
    e = service_errors(ServiceReading(standards=(Standard(7.06, 7.0), Standard(9.88, 10.0))), CRITERIA["ph"], 8.3)
    assert float(e.drift.at(8.3)) == pytest.approx(0.06 - 0.18 / 2.82 * 1.24, abs=1e-6)
    assert e.fouling is None
    assert e.holds


def test_a_record_is_corrected_evenly_between_two_services_as_worked_by_hand():
    ten_days = np.linspace(0, 10 * DAY_S, 11)
    # Fouling -4 % after ten days: on day 5 a value is 2 % low, so 980 becomes 980 / 0.98 = 1000. USGS TM 1-D3.
    i = Interval(0, 10 * DAY_S, "linear", fouling=-4.0)
    done = correct(np.full(11, 980.0), ten_days, [i], CRITERIA["conductivity"], NO_U)
    assert done.values[5] == pytest.approx(1000.0)
    assert (done.values[0], done.values[10]) == (980.0, pytest.approx(980 / 0.96))
    assert [GRADES[g] for g in done.grade[[0, 7, 10]]] == ["excellent", "excellent", "good"]
    # Drift 0.06 at 7.00 and -0.12 at 10.00 after ten days, nothing at the start: on day 5 a 8.44 is off by half of what
    # the line says there, 0.06 - 0.18/2.82 · 1.38 = -0.0281.
    line = error_line((Standard(7.06, 7.0), Standard(9.88, 10.0)), gain=False)
    done = correct(np.full(11, 8.44), ten_days, [Interval(0, 10 * DAY_S, "linear", closing=line)], CRITERIA["ph"], NO_U)
    assert done.values[5] == pytest.approx(8.44 + 0.0281 / 2, abs=1e-4)
    # Fouling comes off first: 980 / 0.96 = 1020.83, and drift is what the cleaned sensor is off by, -0.991 % of that.
    share = error_line((Standard(1399, 1413),), gain=True)
    both = Interval(0, 10 * DAY_S, "linear", fouling=-4.0, closing=share)
    done = correct(np.full(11, 980.0), ten_days, [both], CRITERIA["conductivity"], NO_U)
    assert done.values[10] == pytest.approx(980 / 0.96 * 1413 / 1399)
    # What the last reset left is there at the start, and a whole error from a stated moment on.
    left = ErrorLine(0.1, 0.0, True)
    done = correct(np.full(11, 8.0), ten_days, [Interval(0, 10 * DAY_S, "linear", opening=left)], CRITERIA["ph"], NO_U)
    assert done.values[[0, 5, 10]] == pytest.approx([7.9, 7.95, 8.0])
    step = Interval(0, 10 * DAY_S, "step", fouling=-0.5, from_s=6 * DAY_S)
    done = correct(np.full(11, 8.0), ten_days, [step], CRITERIA["oxygen"], NO_U)
    assert done.values[5:7].tolist() == [8.0, 8.5]


def test_beyond_the_most_nothing_is_reported_and_nobody_s_interval_neither():
    t = np.linspace(0, 10 * DAY_S, 11)
    done = correct(np.full(11, 8.0), t, [Interval(0, 8 * DAY_S, "linear", fouling=-4.0)], CRITERIA["oxygen"], NO_U)
    assert np.isfinite(done.values).tolist() == [True] * 5 + [False] * 6  # 2.0 mg/L are reached on day 4
    assert done.grade.tolist() == [0, 1, 3, 3, 3] + [-1] * 6 or done.grade[0] == 0
    # Fouling up and drift down: the net is nothing, but both were there, and the grade goes by their sizes together.
    both = Interval(0, 10 * DAY_S, "linear", fouling=0.5, closing=ErrorLine(-0.5, 0, True))
    done = correct(np.full(11, 8.0), t, [both], CRITERIA["oxygen"], NO_U)
    assert done.values == pytest.approx(np.full(11, 8.0))
    assert GRADES[done.grade[-1]] == "poor"
    done = correct(np.full(11, 8.0), t, [Interval(0, 10 * DAY_S, "doubt", fouling=1.0)], CRITERIA["oxygen"], NO_U)
    assert (done.values[10], done.grade[10]) == (8.0, DOUBTFUL)
    done = correct(np.full(11, 8.0), t, [Interval(0, 10 * DAY_S, "leave_out")], CRITERIA["oxygen"], NO_U)
    assert np.isnan(done.values).all()
    with pytest.raises(InputError):
        correct([8.0], [0.0], [Interval(0, 10, "none"), Interval(5, 20, "none")], CRITERIA["oxygen"], NO_U)


@pytest.mark.parametrize(
    ("reading", "words"),
    [
        (ServiceReading(before=8.0), "cleaned"),
        (ServiceReading(beside_before=8.0, beside_after=8.0), "the logger was not"),
        (ServiceReading(8.0, 8.1, beside_before=8.0), "beside it after"),
        (ServiceReading(float("nan"), 8.0), "must be a number"),
        (ServiceReading(standards=(Standard(1.0, 1.0), Standard(1.0, 1.0))), "too close"),
        (ServiceReading(standards=(Standard(4, 4), Standard(7, 7), Standard(9, 9))), "one standard or two"),
    ],
)
def test_a_service_that_says_nothing_is_refused_with_a_sentence(reading, words):
    with pytest.raises(InputError) as caught:
        service_errors(reading, CRITERIA["ph"], 8.0)
    assert words in " ".join(str(f) for f in caught.value.faults)


@pytest.mark.parametrize("quantity", ["oxygen", "ph", "conductivity", "temperature"])
def test_a_known_truth_is_found_again_and_u_covers_it(quantity):
    """Linear fouling and drift of 200 simulated deployments: nearer in 95 % where they exceed the checks' U, and U covers."""
    criteria, spec = CRITERIA[quantity], load_deployments().quantities[quantity]
    u, rng = spec.uncertainty(), np.random.default_rng(21)
    every, days = 1800.0, 21.0
    t = np.arange(0, days * DAY_S, every)
    nearer = covered = values = asked = 0
    for run in range(200):
        truth = water(quantity, 1.79e9 + t, run)
        level = float(np.median(truth))
        scale = level / 100 if spec.percent else 1.0
        most = criteria.most / 2.2
        fouling, drift = rng.uniform(-most / 2, most / 2, 2)
        sensor = Sensor(fouling / days, drift / days, spec.percent, u.value * scale)
        shows = shown(truth, t, sensor, [0.0], [0.0], run)
        # The service: what was before and after is read with the noise of a reading, the standard with its own.
        end = float(truth[-1])
        drifted = end * (1 + drift / 100) if spec.percent else end + drift
        fouled = drifted * (1 + fouling / 100) if spec.percent else drifted + fouling
        before, after, b1, b2 = (v + rng.normal(0, u.reading * scale) for v in (fouled, drifted, end, end))
        in_standard = level * (1 + drift / 100) if spec.percent else level + drift
        standard = Standard(in_standard + rng.normal(0, u.standard * scale), level)
        e = service_errors(ServiceReading(before, after, b1, b2, (standard,)), criteria, level)
        done = correct(shows, t, [Interval(0, float(t[-1]), "linear", e.fouling or 0.0, closing=e.drift)], criteria, u)
        there = np.isfinite(done.values)
        covered += int((np.abs(done.values - truth)[there] <= done.u[there]).sum())
        values += int(there.sum())
        checks_u = 2 * np.hypot(2 * u.reading, u.standard)
        if abs(fouling + drift) > checks_u:
            asked += 1
            nearer += np.sqrt(np.mean((done.values - truth)[there] ** 2)) < np.sqrt(
                np.mean((shows - truth)[there] ** 2)
            )
    assert asked > 40
    assert nearer >= 0.95 * asked
    assert covered >= 0.95 * values


def test_a_clock_is_put_right_between_its_comparisons():
    # Right when set, 5 min fast after 10 days: 30 s a day; halfway it is 2.5 min fast.
    c = clock([Comparison(0, 0), Comparison(10 * DAY_S + 300, 10 * DAY_S)])
    assert c.per_day_s == pytest.approx(30, rel=1e-3)
    assert float(c.right(5 * DAY_S + 150)) == pytest.approx(5 * DAY_S, abs=0.1)
    assert float(c.right(20 * DAY_S)) == pytest.approx(20 * DAY_S - 300)
    assert float(clock([Comparison(100, 40)]).right(1000)) == 940
    for several in ([], [Comparison(3e5, 0)], [Comparison(10, 0), Comparison(5, 20)]):
        with pytest.raises(InputError):
            clock(several)


def test_oxygen_goes_with_the_solubility_at_what_was_logged():
    # Logged with a salinity of 0 in water of 35: 8.0 mg/L go as BK84's solubility, s(15, 35)/s(15, 0).
    expected = 8.0 * oxygen.saturation_mg_l(15.0, 35.0) / oxygen.saturation_mg_l(15.0)
    assert float(compensated_mg_l(8.0, 15.0, salinity=35.0)) == pytest.approx(expected)
    assert expected == pytest.approx(8.0 * 8.129 / 10.084, abs=0.02)  # USGS table 6.2-6, from memory
    at_height = compensated_mg_l(8.0, 15.0, pressure_hpa=900.0)
    assert float(at_height) == pytest.approx(8.0 * 0.888, abs=0.03)
    missing = compensated_mg_l(np.array([8.0, 8.0]), np.array([15.0, np.nan]), salinity=np.array([0.0, 5.0]))
    assert np.isnan(missing).tolist() == [False, True]
    assert missing[0] == 8.0


def test_figures_of_a_record_by_hand():
    t = np.array([0, 600, 1200, 9000, 9600], dtype=float)
    v = np.array([19.0, 21.0, np.nan, 24.0, 18.0])
    d = look.durations_s(t, 600)
    assert d.tolist() == [600, 600, 600, 600, 600]  # the gap of over two hours belongs to nobody
    assert look.beyond_s(v, d, 18.5, 20.0) == (600.0, 1200.0)
    assert look.degree_hours(v, d, 20.0) == pytest.approx((1 + 4) / 6)
    assert look.percentiles(v)[50] == 20.0
    e = look.envelope(v, np.array([0, 0, 0, 2, 2]), (0, 1, 2))
    assert (e.median.tolist()[0], e.counts.tolist()) == (20.0, [2, 0, 2])
    assert np.isnan(e.median[1])
    days, swings = look.day_swings(v, np.array([0, 0, 0, 1, 1]), 2)
    assert (days.tolist(), swings.tolist()) == ([0, 1], [2.0, 6.0])


@given(st.integers(2, 3000), st.integers(200, 400), st.integers(0, 50))
def test_thinning_keeps_every_extreme_and_never_joins_across_a_wide_gap(n, columns, seed):
    rng = np.random.default_rng(seed)
    t = np.cumsum(rng.choice([60.0, 60.0, 60.0, 90_000.0], n))
    v = rng.normal(0, 1, n)
    drawn = thin(t, v, v, (float(t[0]), float(t[-1])), columns, 90.0)
    assert drawn.times_s.size <= columns
    assert (np.nanmin(drawn.low), np.nanmax(drawn.high)) == (v.min(), v.max())
    if n <= columns:
        assert drawn.gap_after.tolist() == [*(np.diff(t) > 90.0), False]
