"""Suspicions: each speaks where it should, is silent where it should be, and says what was seen and what to do."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import suspicion as s
from brumel.core.settling import State

EC = s.Scale("µS/cm", 0, True, near=0.25, margin=0.25, far=0.6)
MV = s.Scale("mV", 0, False, near=40.0, margin=50.0, far=110.0)
WEAK, STRONG = s.Vessel("KCl 1413", 1413.0), s.Vessel("KCl 12.88 mS", 12_880.0)
T = np.arange(0, 120, 0.5)

ZOBELL, QUINHYDRONE = s.Vessel("ferro/ferricyanide", 221.0), s.Vessel("quinhydrone", 86.0)
WRONG = [
    (1400.0, WEAK, (STRONG,), EC, None),
    (12_500.0, WEAK, (STRONG,), EC, "wrong_cup"),
    (1500.0, STRONG, (WEAK,), EC, "wrong_cup"),
    (5.0, WEAK, (STRONG,), EC, "no_cup"),
    (1700.0, WEAK, (STRONG,), EC, None),
    (90.0, ZOBELL, (QUINHYDRONE,), MV, "wrong_cup"),
    (200.0, ZOBELL, (QUINHYDRONE,), MV, None),
    (400.0, ZOBELL, (), MV, "no_cup"),
]


@pytest.mark.parametrize(("seen", "here", "tray", "scale", "code"), WRONG)
def test_a_wrong_cup_is_told_from_a_poor_reading(seen, here, tray, scale, code):
    found = s.wrong_vessel(seen, here, tray, scale, "the last good calibration")
    assert (found.code if found else None) == code
    if found:
        assert "by the last good calibration" in found.sentence
        assert here.name in found.sentence + found.remedy


@given(value=st.floats(50, 50_000), factor=st.floats(0.85, 1.15))
def test_a_reading_near_its_own_standard_never_names_another(value, factor):
    here, other = s.Vessel("own", value), s.Vessel("other", value * 9)
    assert s.wrong_vessel(value * factor, here, (other,), EC, "x") is None


SAME = [
    ([("first", 1370.0, 1413.0)], 1372.0, 12_880.0, True),
    ([("first", 1370.0, 1413.0)], 12_500.0, 12_880.0, False),
    ([("first", 1370.0, 1413.0)], 1372.0, 1413.0, False),
    ([], 5.0, 1413.0, False),
]


@pytest.mark.parametrize(("earlier", "signal", "expected", "speaks"), SAME)
def test_the_same_cup_twice(earlier, signal, expected, speaks):
    assert bool(s.same_signal(signal, expected, earlier, EC)) == speaks


CARRIED = [(1500.0, 12_900.0, True), (1420.0, 12_900.0, False), (1500.0, 15_000.0, False), (2200.0, 12_900.0, False)]


@pytest.mark.parametrize(("seen", "before", "speaks"), CARRIED)
def test_carry_over_is_a_weak_cup_a_little_high_after_a_strong_one_that_was_right(seen, before, speaks):
    assert bool(s.carried_over(seen, WEAK, [("KCl 12.88 mS", before, 12_880.0)])) == speaks
    assert s.carried_over(seen, WEAK, []) is None
    assert (
        s.carried_over(13_500.0, STRONG, [("KCl 1413", 1413.0, 1413.0)]) is None
    )  # strong after weak carries nothing up


def test_still_water_sags_and_a_rising_or_steady_reading_does_not():
    rising = 96 * (1 - np.exp(-T / 9))
    assert s.still_water(T, rising) is None
    assert s.still_water(T, np.full_like(T, 96.0)) is None
    sagging = rising * (1 - 0.12 * (1 - np.exp(-T / 50)))
    assert "sunk" in s.still_water(T, sagging).sentence
    assert s.sag_percent(T[:4], rising[:4]) == 0.0  # too short to say
    assert s.sag_percent(T, np.full_like(T, 0.4)) == 0.0  # zero solution


LINK = [
    (T, 120.0, False),
    (T, 131.0, True),
    (T[T % 20 < 10], 120.0, True),
    (T[:3], 500.0, False),
    (T, None, False),
    (T * 1.02, 122.0, False),
]


@pytest.mark.parametrize(("times", "now", "speaks"), LINK)
def test_a_link_is_unstable_when_it_is_silent_or_has_holes(times, now, speaks):
    assert bool(s.unstable_link(times, now)) == speaks


def test_the_rest_speaks_on_its_own_side_of_its_limit_only():
    assert s.wet_tip(8.4, 9.09, "x").code == "wet_tip"
    assert s.wet_tip(8.7, 9.09, "x") is None
    assert s.wet_tip(3.0, 9.09, "x") is None  # that is no drop of water
    assert s.still_warming(1.2).code == "warming"
    assert "falling" in s.still_warming(-1.2).sentence
    assert s.still_warming(0.4) is None
    assert s.still_warming(None) is None
    assert s.air_water_apart(22.0, 11.0, 10.0).code == "air_water"
    assert s.air_water_apart(20.9, 11.0, 10.0) is None
    assert s.temperature_spread([18.0, 24.0], 5.0).code == "cup_temperature"
    assert s.temperature_spread([18.0], 5.0) is None
    assert s.restless(State.STEPPING, "cell").remedy.startswith("Look for a bubble at the cell")
    assert s.restless(State.NOISY).code == "noisy"
    assert s.restless(State.SETTLED) is None
    assert "not bracketed" in s.out_of_bracket(1413.0, 32_000.0, "µS/cm")
    assert s.out_of_bracket(12_880.0, 12_900.0, "µS/cm") == ""
