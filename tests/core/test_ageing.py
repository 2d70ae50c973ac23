"""Control charts against a worked case, forecasts against scipy and by coverage."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from brumel.core import ageing
from brumel.core.errors import InputError


def test_an_individuals_chart_against_the_prediction_interval():
    """The next value of a normal sample lies within t(n-1) s sqrt(1 + 1/n) of its mean: ISO 16269-8, here by scipy."""
    values = [10, 11, 9, 10, 12, 11, 9, 10]
    reach = stats.t.ppf(1 - ageing.BEYOND / 2, 7) * np.std(values, ddof=1) * np.sqrt(1 + 1 / 8)
    inside, outside = (ageing.control_chart([*values, 10.25 + reach * share]) for share in (0.99, 1.01))
    assert [s.rule for s in inside.signals] == []
    assert [(s.rule, s.index) for s in outside.signals] == [("beyond", 8)]
    chart = ageing.control_chart(values)
    assert chart.limits == pytest.approx((10.25 - reach, 10.25 + reach))


RULES = [
    ([10, 11, 9, 10, 12, 11, 9, 10, 30], "beyond", 8),
    ([*[10, 11, 9, 10, 12, 11, 9, 10, 9, 10] * 2, *[11.5, 11, 11.6, 11.1] * 4], "one_side", 32),
    ([10, 11, 9, 10, 12, 11, 9, 9.5, 10, 10.5, 11, 11.5, 12, 12.5], "trend", 13),
]


@pytest.mark.parametrize(("values", "rule", "index"), RULES)
def test_each_run_rule_speaks_where_it_is_complete(values, rule, index):
    signals = ageing.control_chart(values).signals
    assert (rule, index) in [(s.rule, s.index) for s in signals]
    assert all(s.sentence.endswith(".") for s in signals)


def test_steady_probes_raise_no_alarm_and_few_values_no_chart():
    assert ageing.control_chart([98.1] * 20, smallest_sigma=0.3).signals == ()
    assert ageing.control_chart([98, 97, 99, 98]) is None
    with pytest.raises(InputError):
        ageing.control_chart([1, 2, float("nan"), 4, 5])


def test_one_steady_probe_in_twenty_alarms_in_a_year_and_a_changed_one_does():
    """52 calibrations each; both kinds of error: alarms of steady probes, and steps of three spreads that stay unseen."""
    random = np.random.default_rng(2)
    alarms = [bool(ageing.control_chart(random.normal(0, 1, 52)).signals) for _ in range(400)]
    assert np.mean(alarms) <= 0.05
    stepped = [np.r_[random.normal(0, 1, 26), random.normal(3, 1, 26)] for _ in range(100)]
    assert np.mean([bool(ageing.control_chart(values).signals) for values in stepped]) >= 0.97


@given(slope=st.floats(-0.2, -0.02), start=st.floats(95, 100), step=st.floats(3, 20))
def test_without_noise_the_crossing_is_exact(slope, start, step):
    days = np.arange(8) * step
    found = ageing.forecast(days, start + slope * days, 85.0, reach_d=5000)
    true = (85 - start) / slope - days[-1]
    if true > 0:
        assert found.crosses_d == pytest.approx(true, abs=1e-6 * abs(true) + 1e-6)
        assert found.slope_per_d == pytest.approx(slope)


def test_the_line_is_scipy_s_and_the_span_holds_nine_times_in_ten():
    random = np.random.default_rng(7)
    days = np.arange(12) * 7.0
    inside = seen = 0
    true = (92 - 99) / -0.06 - days[-1]
    for _ in range(400):
        y = 99 - 0.06 * days + random.normal(0, 0.3, 12)
        found = ageing.forecast(days, y, 92.0, reach_d=2000)
        if found is None:
            continue
        seen += 1
        assert found.slope_per_d == pytest.approx(stats.linregress(days, y).slope)
        inside += found.earliest_d <= true <= (found.latest_d if found.latest_d is not None else np.inf)
    assert seen > 395
    assert 0.86 <= inside / seen <= 0.94


def test_no_end_in_sight_is_no_forecast():
    days = np.arange(10) * 7.0
    random = np.random.default_rng(1)
    assert ageing.forecast(days, 98 + random.normal(0, 0.5, 10), 85.0) is None  # no trend
    assert ageing.forecast(days, 90 + 0.05 * days, 85.0) is None  # away from the limit
    assert ageing.forecast(days, 99 - 0.001 * days, 85.0) is None  # beyond the reach
    assert ageing.forecast(days[:4], [99, 98, 97, 96], 85.0) is None
    with pytest.raises(InputError, match="same time"):
        ageing.forecast([3.0] * 6, [1, 2, 3, 4, 5, 6], 0.0)
    with pytest.raises(InputError, match="do not match"):
        ageing.forecast(days, [1.0] * 6, 0.0)
    words = ageing.forecast(days, 99 - 0.1 * days + random.normal(0, 0.1, 10), 85.0, what="Slope").sentence
    assert words.startswith("Slope will cross 85 in about")
    assert "90 %" in words
