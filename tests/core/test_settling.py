"""Settling: traces of known shape must be called by their names, and bad samples must not break the judgement."""

import math
import re

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import theilslopes

from brumel.core.errors import WrongShape
from brumel.core.settling import (
    FieldCriteria,
    SettlingCriteria,
    State,
    judge,
    judge_by_readings,
    jumps,
    settling_time_s,
    theil_sen_slope,
)
from brumel.methods import load_method
from brumel.methods.field import load_field
from brumel.methods.settling import load_settling

PH = load_method("ph-7-4-10").settling.criteria("pH signal")
ALL = load_settling()


def trace(end=100.0, start=0.0, tau=8.0, until=60.0, noise=0.05, drift=0.0, rate=2.0, seed=1):
    t = np.arange(0, until, 1 / rate)
    y = end + (start - end) * np.exp(-t / tau) + drift * t / 60
    return t, y + np.random.default_rng(seed).normal(0, noise, t.size)


@pytest.mark.parametrize(
    ("made", "state"),
    [
        (dict(until=20), State.WAITING),
        (dict(until=34, tau=12), State.SETTLING),
        (dict(until=70), State.SETTLED),
        (dict(until=400, drift=1.5), State.DRIFTING),
        (dict(until=90, noise=1.2), State.NOISY),
    ],
)
def test_known_shapes_are_called_by_name(made, state):
    found = judge(*trace(**made), PH)
    assert found.state is state, found.sentence
    if state is State.SETTLED:
        assert found.value == pytest.approx(100, abs=0.2)
        assert found.noise <= PH.noise


def test_a_jump_is_a_step_and_then_settles_again():
    t, y = trace(until=60)
    y[t >= 52] += 25
    assert judge(t, y, PH).state is State.STEPPING
    t2, y2 = trace(until=120)
    y2[t2 >= 52] += 25
    again = judge(t2, y2, PH)
    assert again.state is State.SETTLED
    assert again.value == pytest.approx(125, abs=0.3)
    assert jumps(t2, y2, PH) == 1


def test_forecast_names_the_end_before_it_is_reached():
    t, y = trace(end=174, start=0, tau=9, until=31, noise=0.03)
    found = judge(t, y, PH)
    assert found.state is State.SETTLING
    assert found.forecast == pytest.approx(174, abs=1.5)
    # Less than 0.6 mV is to come when 174 exp(-t/9) falls under it: by hand t = 9 ln(174/0.6) = 51 s, so 20 s to go.
    assert found.seconds_to_go == pytest.approx(20, abs=6)
    assert found.remaining == pytest.approx(174 * math.exp(-30.5 / 9), abs=3 * found.remaining_u)


@given(
    gaps=st.lists(st.sampled_from(["nan", "inf", "drop", "same", "huge", "swap"]), max_size=25),
    seed=st.integers(0, 1000),
)
@settings(max_examples=60, deadline=None)
def test_bad_samples_never_break_the_judgement(gaps, seed):
    t, y = trace(until=80, seed=seed)
    random = np.random.default_rng(seed)
    t, y = list(t), list(y)
    for kind in gaps:
        i = int(random.integers(2, len(t) - 12))
        if kind == "nan":
            y[i] = math.nan
        elif kind == "inf":
            y[i] = -math.inf
        elif kind == "huge":
            y[i] = 9e9
        elif kind == "drop":
            del t[i], y[i]
        elif kind == "same":
            t[i] = t[i - 1]
        else:
            t[i], t[i - 1], y[i], y[i - 1] = t[i - 1], t[i], y[i - 1], y[i]
    found = judge(t, y, PH)
    assert found.state is State.SETTLED
    assert found.value == pytest.approx(100, abs=0.3)
    assert math.isfinite(found.drift_per_min)


@pytest.mark.parametrize("lost_s", [0, 30, 600, 3600, 9000])
@pytest.mark.parametrize("before", [5, 180, 600])
def test_a_link_that_was_lost_a_while_leaves_a_judgement(lost_s, before):
    """The trace goes on where it has come to, whatever older samples stand together for."""
    t = np.r_[np.arange(before), before + 2 * lost_s + np.arange(1200)] / 2
    y = -170 - 30 * np.exp(-t / 3) + np.random.default_rng(before).normal(0, 0.05, t.size)
    with np.errstate(all="raise", under="ignore"):
        found = judge(t, y, PH)
        by_readings = judge_by_readings(t, 7 + (y + 170) / 10, load_field()["ph"].criteria("pH"))
    assert found.state is by_readings.state is State.SETTLED
    assert found.value == pytest.approx(-170, abs=0.05)


HALF = np.arange(400) / 2
STRANGE = {
    "nothing but zero": (HALF, 0 * HALF),
    "a cell that runs dry": (HALF, 30 * np.exp(-HALF / 10)),
    "out of all proportion, and an hour between": (HALF / 10 + np.where(HALF > 90, 1e3, 0), 1e5 * np.exp(-HALF)),
    "a cell that is dry at once": (HALF[:81], 30 * np.exp(-HALF[:81])),
    "seldom and at odd times": (np.cumsum(np.arange(79) % 7 * 30 + 1.0), np.exp(-np.arange(79) * 12.0)),
}


@pytest.mark.parametrize("kind", STRANGE)
def test_no_trace_is_without_a_judgement(kind):
    t, y = STRANGE[kind]
    for judged, specs in ((judge, ALL), (judge_by_readings, load_field())):
        for quantity, spec in specs.items():
            with np.errstate(all="raise", under="ignore"):
                found = judged(t, y, spec.criteria(quantity))
            assert all(math.isfinite(x) for x in (found.value, found.remaining, found.remaining_u) if x is not None)


def test_water_at_zero_stands_as_still_as_at_any_other_temperature():
    for at in (0.0, 0.1, -0.2):
        shown = np.round(at + 3 * np.exp(-HALF / 4), 1)
        found = judge_by_readings(HALF, shown, load_field()["temperature"].criteria("temperature"))
        assert (found.state, found.noise_limit) == (State.SETTLED, 0.2), (at, found.sentence)
    for quantity, spec in load_field().items():  # and typed twice
        criteria = spec.criteria(quantity, typed=True, resolution=0.01)
        typed = judge_by_readings([0, 60], [0, 0], criteria)
        assert typed.state is State.SETTLED, (quantity, typed.sentence)
        if criteria.relative:  # there of one step of the display, and said in the unit
            assert typed.noise_limit == 0.005, typed.sentence
            assert "%" not in typed.sentence
            assert judge_by_readings([0, 900], [0.01, 0.02], criteria).state is State.SETTLED, quantity
            assert judge_by_readings([0, 60], [0.0, 0.02], criteria).state is not State.SETTLED
            for share, limit in ((0.004, 0.005), (0.006, criteria.limit_at(0.1))):  # on either side of half a step
                value = 100 * share / criteria.limit_at(0.1)
                assert judge_by_readings([0, 60], [value, value], criteria).noise_limit == limit


def test_empty_short_and_mismatched_input():
    assert judge([], [], PH).state is State.WAITING
    assert judge([0.0], [5.0], PH).value == 5.0
    with pytest.raises(WrongShape, match="Time has 2 values, readings have 3"):
        judge([0, 1], [1, 2, 3], PH)
    with pytest.raises(WrongShape):
        judge(["a"], [1], PH)
    assert judge([0, 1], [math.nan, math.nan], PH).skipped == 2


@pytest.mark.parametrize("quantity", sorted(ALL))
def test_every_quantity_s_criteria_work_at_their_own_scale(quantity):
    criteria = ALL[quantity].criteria(quantity)
    middle = {"temperature": 15.0, "oxygen": 96.0, "chlorine": 2.0}.get(quantity, 400.0)
    unit = middle / 100 if criteria.relative else 1.0
    until = criteria.shortest_s + criteria.window_s + 20
    calm = judge(*trace(end=middle, start=middle, until=until, noise=0.3 * criteria.noise * unit), criteria)
    assert calm.state is State.SETTLED, calm.sentence
    moving = trace(
        end=middle,
        start=middle,
        until=until,
        noise=0.02 * criteria.noise * unit,
        drift=4 * criteria.drift_per_min * unit,
    )
    assert judge(*moving, criteria).state in (State.SETTLING, State.DRIFTING)


def test_settling_time_is_when_it_came_to_stay():
    t = np.arange(0, 100, 0.5)
    y = np.where(t < 40, 10.0, 50.0)
    assert settling_time_s(t, y, PH, 50.0) == 39.5


def test_field_rule_of_the_national_field_manual():
    # USGS-A6.0: five or more readings within ±0.1 pH.
    rule = FieldCriteria("pH", "pH", 0.1, 5, 5, 25, 600, -2, 16)
    t = np.arange(0, 40, 1.0)
    calm = 7.2 + np.random.default_rng(2).normal(0, 0.005, 40)
    assert judge_by_readings(t, calm, rule).settled
    creeping = judge_by_readings(t, 7.2 + 0.02 * t, rule)
    assert creeping.state is State.SETTLING
    assert "limit ±0.1" in creeping.sentence
    assert judge_by_readings(t[:20], np.full(20, 7.2), rule).state is State.WAITING
    typed = FieldCriteria("pH", "pH", 0.1, 2, 20, 0, 600, -2, 16, typed=True, resolution=0.01)
    assert judge_by_readings([10, 400], [7.2, 7.25], typed).settled
    assert judge_by_readings([1, 10, 31], [4.0, 7.2, 7.25], typed).settled  # a slip before them spoils nothing
    assert not judge_by_readings([10, 40], [7.2, 7.6], typed).settled
    assert judge_by_readings([10, 25], [7.2, 7.2], typed).state is State.WAITING  # too near in time to say anything
    assert judge_by_readings([10], [7.2], typed).state is State.WAITING
    assert judge_by_readings([], [], rule).state is State.WAITING
    # Conductance: ±5 % to 100 µS/cm, ±3 % above; relative to the reading.
    percent = load_field()["conductivity"].criteria("µS/cm")
    for middle, limit in ((1000, 3), (90, 5)):
        found = judge_by_readings(t, middle * (1 + 0.005 * np.sin(2.1 * t)), percent)
        assert found.settled
        assert found.noise_limit == limit
        assert not judge_by_readings(t, middle * (1 + 0.012 * limit * np.sin(2.1 * t)), percent).settled
    assert load_field()["oxygen"].field_tolerance.value == 0.2
    assert isinstance(PH, SettlingCriteria)


@given(data=st.lists(st.tuples(st.floats(0, 600), st.floats(-500, 500)), min_size=2, max_size=60))
def test_the_slope_is_theil_and_sen_s(data):
    """Held to scipy's own, doubled times and all."""
    t, y = (np.array(column) for column in zip(*sorted(data), strict=True))
    if np.ptp(t) > 1e-3 and np.ptp(y) > 1e-6:
        assert theil_sen_slope(t, y) == pytest.approx(float(theilslopes(y, t)[0]), rel=1e-9, abs=1e-9)
    assert theil_sen_slope(np.full(4, 3.0), np.arange(4.0)) == 0.0


@pytest.mark.parametrize(("relative", "unit", "shown"), [(True, "µS/cm", "±1.2 %. "), (False, "mV", "±12 mV. ")])
def test_the_field_sentence_names_the_spread_in_the_limit_s_own_unit(relative, unit, shown):
    """1000 ± 12: a share of the reading where the limit is one, the unit where it is not."""
    criteria = FieldCriteria("q", unit, 5 if relative else 20, 5, 1.0, 0.0, 300, -1e6, 1e6, relative=relative)
    found = judge_by_readings(range(50), [1000, 988, 1012, 1000, 1000] * 10, criteria)
    assert shown in found.sentence, found.sentence
    # What is over its limit is never written as the limit itself.
    over = judge_by_readings(range(50), [1000, 1000 - 50.4, 1000, 1000 + 50.4, 1000] * 10, criteria)
    assert not over.settled
    stated, limit = re.search(r"±([\d.]+) .*limit ±([\d.]+)", over.sentence).groups()
    assert float(stated) > float(limit)


def test_the_field_manual_s_spacing_is_an_option_and_a_coarse_display_is_not_believed():
    """USGS-A6.0 spaces readings over minutes: five at 60 s want 4 min. Two typed 20 s apart by 0.3 pH may hide 0.11."""
    spec = load_field()["ph"]
    own, manual = spec.criteria("pH"), spec.criteria("pH", by_manual=True)
    assert (manual.spacing_s, manual.shortest_s) == (60.0, 240.0)
    t = np.arange(0, 400, 1.0)
    steady = 7.4 + 0.001 * np.sin(t)
    assert judge_by_readings(t[:60], steady[:60], own).settled
    assert not judge_by_readings(t[:200], steady[:200], manual).settled
    assert judge_by_readings(t[:260], steady[:260], manual).settled
    for step, settled in ((0.01, True), (0.3, False)):
        typed = spec.criteria("pH", typed=True, resolution=step)
        assert judge_by_readings([0.0, 20.0], [7.4, 7.4], typed).settled is settled
