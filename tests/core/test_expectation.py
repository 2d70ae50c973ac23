"""What a site's past makes expect: against the textbook's prediction interval, and what it learns from."""

import numpy as np
import pytest
from scipy import stats

from brumel.core import believability as belief
from brumel.core import expectation
from brumel.core.errors import InputError
from brumel.core.expectation import expected
from brumel.core.slips import Sight, slip_of


def test_without_a_year_and_without_wandering_it_is_the_prediction_interval(monkeypatch):
    """ISO 16269-8: mean ± t(n-1) s sqrt(1 + 1/n), where values are new at every visit and nothing is believed before."""
    monkeypatch.setattr(expectation, "_WORLDS", (expectation._World(0.0, 0.0, 4.0),))
    monkeypatch.setattr(expectation, "_BELIEF", 1e-9)
    expectation._expected.cache_clear()
    values = np.random.default_rng(3).normal(7.4, 0.2, 12)
    found = expected(list(values), [float(7 * i) for i in range(12)], least_spread=0.01)
    half = stats.t.ppf(1 - expectation.QUESTIONED / 2, 11) * values.std(ddof=1) * np.sqrt(1 + 1 / 12)
    expectation._expected.cache_clear()
    assert (found.low, found.high) == pytest.approx((values.mean() - half, values.mean() + half), abs=1e-3)


def _year(days, middle=12.0, amplitude=9.0):
    return middle + amplitude * np.sin(2 * np.pi * (np.asarray(days) - 110) / 365.25)


def test_spring_is_expected_where_winter_was_the_last_that_was_seen_and_two_years_are_known():
    """After two years and a winter's gap of two months the band lies about spring's 12 °C, not about winter's 3 °C."""
    random = np.random.default_rng(1)
    now = 2 * 365 + 110
    days = np.concatenate([np.arange(0, 2 * 365, 14), [now - 60.0]])
    values = _year(days) + random.normal(0, 1, days.size)
    found = expected(list(values), list(now - days), least_spread=0.3)
    assert found.middle == pytest.approx(12, abs=2)
    assert found.questions(3.0)
    assert found.questions(18.0)
    assert not found.questions(13.5)


def test_a_water_that_changed_for_good_is_learnt_within_a_few_visits():
    """pH goes from 7.2 to 8.4 and stays: questioned at first, from the sixth visit on no more."""
    random = np.random.default_rng(5)
    values = list(random.normal(7.2, 0.1, 30)) + list(random.normal(8.4, 0.1, 8))
    questioned = []
    for k in range(30, 38):
        found = expected(values[:k], [7.0 * (k - i) for i in range(k)], least_spread=0.08)
        questioned.append(found.questions(values[k]))
    assert questioned[0]
    assert not any(questioned[5:])


def test_one_slip_that_was_kept_does_not_blind_the_site():
    values = list(np.random.default_rng(2).normal(450, 15, 14))
    clean = expected(values, [7.0 * (14 - i) for i in range(14)], least_spread=13, in_proportion=True)
    values[8] = 4500.0
    spoilt = expected(values, [7.0 * (14 - i) for i in range(14)], least_spread=13, in_proportion=True)
    assert spoilt.high == pytest.approx(clean.high, rel=0.05)


def test_steady_few_and_broken_pasts():
    """Eight equal readings have no spread of their own; the least spread stands in for it."""
    steady = expected([7.0] * 8, [float(i) for i in range(1, 9)], least_spread=0.1)
    assert [steady.questions(v) for v in (7.15, 7.5)] == [False, True]
    assert expected([7.0] * 4, [1.0, 2.0, 3.0, 4.0], least_spread=0.1) is None
    wild = expected(
        [0.01, 900.0, 0.02, 500.0, 0.5], [7.0, 14.0, 21.0, 28.0, 35.0], least_spread=0.001, in_proportion=True
    )
    assert wild.low < wild.middle < wild.high < float("inf")
    for values, days in (([float("nan")] * 5, [1.0] * 5), ([7.0] * 5, [-1.0] * 5)):
        with pytest.raises(InputError):
            expected(values, days, least_spread=0.1)
    assert not expected([7.0, 7.1, 7.0, 7.2, 7.1], [3.0] * 5, least_spread=0.1).questions(7.1)  # all of one moment


#: quantity, value, what else was read, the slip's key, a part of its sentence
SLIPS = [
    ("conductivity", 0.45, {}, "thousand", "mS/cm taken"),
    ("conductivity", 4510.0, {}, "ten", "point left out"),
    ("conductivity", 294.0, {}, "solids", "TDS"),
    ("conductivity", 333.0, {"temperature": 11.0}, "uncompensated", "not compensated"),
    ("nitrate", 9.0, {}, "basis", "as NO₃"),
    ("temperature", 52.0, {}, "fahrenheit", "°F"),
    ("oxygen", 96.0, {"temperature": 11.0}, "percent", "% typed"),
    ("oxygen", 1.17, {"temperature": 11.0}, "percent", "mg/L typed for %"),  # 10.6 mg/L is 96 % of 11.03 (DOTABLES)
    ("redox", -250.0, {}, "sign", "sign"),
    ("ph", 10.5, {"oxygen": 8.1}, "swapped", "the other way round"),
    ("conductivity", 700.0, {}, None, ""),
    ("conductivity", 455.0, {}, None, ""),
]


@pytest.mark.parametrize(("quantity", "value", "beside", "key", "words"), SLIPS)
def test_a_slip_is_named_where_what_was_meant_is_what_the_site_reads(quantity, value, beside, key, words):
    usual = {
        "conductivity": (410.0, 490.0),
        "nitrate": (1.5, 2.6),
        "temperature": (8.0, 14.0),
        "oxygen": (9.4, 11.6),
        "redox": (180.0, 320.0),
        "ph": (7.9, 8.3),
    }
    should = {q: expectation.Expected((low + high) / 2, low, high, 20) for q, (low, high) in usual.items()}
    at_c = beside.get("temperature")
    sight = Sight(should, {**beside, quantity: value}, temperature_c=at_c, tds_factor=0.65)
    found = slip_of(quantity, belief.Shown(quantity), value, sight)
    assert (found.key if found else None) == key
    assert words in (found.sentence if found else "")
