"""A logged series and the checks at its ends: hand-computed after USGS-TM1D3, limits, round trips and bad input."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import logged
from brumel.core.errors import InputError
from brumel.methods.checks import load_checks

OXYGEN, EC = (load_checks().closing[q].criteria() for q in ("oxygen", "conductivity"))


def service(before=8.7, after=9.3, standard_read=10.1, standard_value=10.0, **other):
    return logged.Service(before, after, standard_read, standard_value, **other)


@pytest.mark.parametrize(
    ("given_", "criteria", "level", "fouling", "drift", "holds"),
    [  # hand-computed
        (service(), OXYGEN, 9.0, -0.6, 0.1, False),
        (service(beside_before=9.0, beside_after=9.5), OXYGEN, 9.0, -0.1, 0.1, True),  # the water rose by 0.5 meanwhile
        (service(9.1, 9.3, 10.1, 10.0), OXYGEN, 9.0, -0.2, 0.1, True),  # 0.3 mg/L together: the criterion itself
        (service(9.1, 9.3, 10.11, 10.0), OXYGEN, 9.0, -0.2, 0.11, False),
        (service(1880, 2000, 1427, 1413), EC, 2000, -6.0, 100 * 14 / 1413, False),
        (service(98, 100, 84.9, 84), EC, 100, -2.0, 100 * 0.9 / 84, True),  # ±5 µS/cm is 5 % here, more than 3 %
        (service(1980, 2000, 1413, 1413), EC, 2000, -1.0, 0.0, True),
    ],
)
def test_errors_at_the_end_and_whether_it_held(given_, criteria, level, fouling, drift, holds):
    found = logged.ends(given_, criteria, level)
    assert (found.fouling, found.drift) == pytest.approx((fouling, drift))
    assert found.holds is holds
    assert found.worked.value == pytest.approx(abs(fouling) + abs(drift))


def test_a_series_is_corrected_in_time_and_only_as_far_as_may_be():
    found = logged.ends(service(opening_read=10.05, opening_value=10.0), OXYGEN, 9.0)  # from +0.05 to −0.5
    share = np.array([0.0, 0.5, 1.0])
    assert logged.corrected(np.array([9.0, 9.0, 9.0]), share, found) == pytest.approx([8.95, 9.225, 9.5])
    assert logged.worst_grade(found, OXYGEN) == "fair"  # 0.7 mg/L of fouling and drift together
    assert logged.reported_until(found, OXYGEN) == 1.0
    bad = logged.ends(service(before=5.2), OXYGEN, 9.0)  # −4.0 at the end; 2 mg/L is the most
    assert logged.reported_until(bad, OXYGEN) == pytest.approx(0.5)
    assert logged.worst_grade(bad, OXYGEN) == "not reported"
    off = logged.ends(service(opening_read=13.0, opening_value=10.0), OXYGEN, 9.0)
    assert logged.reported_until(off, OXYGEN) == 0.0


def test_a_bad_start_spoils_the_grade_of_a_good_end():
    """1.0 mg/L off when it was set out, 0.1 at the end: poor, though the end alone is excellent [USGS-TM1D3]."""
    start = logged.ends(service(9.0, 9.0, 10.1, 10.0, opening_read=11.0, opening_value=10.0), OXYGEN, 9.0)
    end = logged.ends(service(9.0, 9.0, 10.1, 10.0), OXYGEN, 9.0)
    assert logged.worst_grade(end, OXYGEN) == "excellent"
    assert logged.worst_grade(start, OXYGEN) == "poor"


@given(st.floats(100, 50_000), st.floats(-0.25, 0.25), st.floats(-0.25, 0.25), st.floats(0, 1))
def test_a_share_taken_off_gives_back_what_was_right(right, fouling, drift, time_share):
    found = logged.ends(service(right * (1 + fouling), right, 1413 * (1 + drift), 1413), EC, right)
    shown = right * (1 + (fouling + drift) * time_share)
    assert logged.corrected(shown, time_share, found) == pytest.approx(right)
    assert logged.error_at(found, 0.0) == 0.0


@pytest.mark.parametrize(
    ("given_", "criteria", "words"),
    [
        (service(before=float("nan")), OXYGEN, "before cleaning"),
        (service(beside_before=9.0), OXYGEN, "second meter after"),
        (service(opening_value=9.0), OXYGEN, "when set out"),
        (service(after=0.0), EC, "after cleaning"),
        (service(standard_value=0.0), EC, "value of the standard"),
    ],
)
def test_what_cannot_be_judged_is_named(given_, criteria, words):
    with pytest.raises(InputError) as caught:
        logged.ends(given_, criteria, 9.0)
    assert words in str(caught.value).lower()
