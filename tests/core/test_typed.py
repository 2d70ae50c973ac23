"""Values typed from a display: when they settle, and the slips that are named."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core.errors import WrongShape
from brumel.core.settling import State
from brumel.core.typed import TypedRule, judge_typed, slip


def rule(**other):
    return TypedRule(
        **(
            {
                "unit": "mV",
                "readings": 2,
                "spacing_s": 20,
                "shortest_s": 30,
                "longest_s": 300,
                "drift_per_min": 0.6,
                "step": 0.1,
            }
            | other
        )
    )


# (rule, times, values, state, seconds to go): worked by hand from the rule's own words.
TABLE = {
    "nothing": (rule(), [], [], State.WAITING, None),
    "one of two": (rule(), [35], [1.0], State.WAITING, 20),
    "one of two, early": (rule(), [5], [1.0], State.WAITING, 25),
    "one is enough": (rule(readings=1), [35], [1.0], State.SETTLED, 0),
    "one is enough, early": (rule(readings=1), [12], [1.0], State.WAITING, 18),
    "two agree": (rule(), [10, 35], [1.0, 1.2], State.SETTLED, 0),
    "two agree at the drift's limit": (rule(), [0, 60], [1.0, 1.6], State.SETTLED, 0),
    "over the drift's limit": (rule(), [0, 60], [1.0, 1.7], State.SETTLING, 20),
    "too near in time": (rule(), [30, 40], [1.0, 1.0], State.WAITING, 10),
    "a third, compared with the first": (rule(), [20, 30, 40], [1.0, 1.3, 1.1], State.SETTLED, 0),
    "before the shortest wait": (rule(), [2, 24], [1.0, 1.0], State.WAITING, 20),
    # Of two values a step of 5.9 apart, up to 5.9 / (e^(30/20) - 1) = 1.7 may be to come; of two equal ones 45 s apart, 95 %
    # of the time less than 1.64 x 5.9 / sqrt(6) / (e^(45/20) - 1) = 0.47, at a limit of 0.6.
    "a coarse display hides what is to come": (rule(step=5.9), [10, 40], [0.0, 5.9], State.SETTLING, 20),
    "a coarse display that stands long enough": (rule(step=5.9), [10, 55], [5.9, 5.9], State.SETTLED, 0),
    "a slip at first": (rule(), [10, 32, 54], [60.0, 1.0, 1.1], State.SETTLED, 0),
    "still moving late": (rule(), [280, 310], [1.0, 4.0], State.DRIFTING, 20),
    "percent": (rule(unit="µS", relative=True, step=1), [0, 60], [1000.0, 1005.9], State.SETTLED, 0),
    "percent, over": (rule(unit="µS", relative=True, step=1), [0, 60], [1000.0, 1007.0], State.SETTLING, 20),
    "two where one is enough must agree": (rule(readings=1), [35, 60], [1.0, 9.0], State.SETTLING, 20),
}


@pytest.mark.parametrize("name", TABLE)
def test_typed_values_settle_by_wait_spacing_and_agreement(name):
    limits, times, values, state, to_go = TABLE[name]
    found = judge_typed(times, values, limits)
    assert (found.state, found.seconds_to_go) == (state, None if to_go is None else pytest.approx(to_go))
    assert found.value == (values[-1] if values else None)


def test_a_first_value_counts_so_early_that_the_last_one_ends_the_wait():
    assert [rule(readings=n).first_s for n in (1, 2, 3)] == [30, 10, 0]
    assert judge_typed([10, 30], [1.0, 1.0], rule()).settled
    assert not judge_typed([10, 29], [1.0, 1.0], rule()).settled


def test_columns_that_do_not_match_are_refused():
    with pytest.raises(WrongShape):
        judge_typed([1, 2], [1.0], rule())


@given(st.floats(-2000, 2000), st.floats(-3, 3), st.floats(20, 120), st.floats(0.05, 6))
def test_what_is_called_settled_agrees_and_leaves_no_more_than_the_limit(first, change, apart, step):
    """The limit is one minute's drift, 0.6; nothing slower than the spacing of 20 s is at work."""
    found = judge_typed([40, 40 + apart], [first, first + change], rule(step=step))
    moved = abs((first + change) - first)
    if found.settled:
        assert moved <= max(0.6 * apart / 60, step) * (1 + 1e-9)
        assert moved / math.expm1(apart / 20) <= 0.6
    elif moved <= 0.6 * apart / 60:
        assert (
            1.97 * step / math.sqrt(6) / math.expm1(apart / 20) > 0.6 - moved
        )  # only the display's step stands in its way


# What was typed, between what it should lie, the words that name the slip, what was meant.
SLIPS = [
    (-168.2, (130, 210), "minus sign", 168.2),
    (70.2, (6.2, 7.8), "ten times too large", 7.02),
    (0.702, (6.2, 7.8), "ten times too small", 7.02),
    (12880, (9, 16), "thousand times too large", 12.88),
    (1.413, (900, 2000), "thousand times too small", 1413),
    (7.02, (6.2, 7.8), None, None),
    (55.5, (6.2, 7.4), None, None),
    (0.0, (6.2, 7.8), None, None),
]


@pytest.mark.parametrize(("typed", "cup", "words", "meant"), SLIPS)
def test_a_slip_of_the_finger_is_named_with_what_was_meant(typed, cup, words, meant):
    found = slip(typed, lambda value: cup[0] <= value <= cup[1])
    if words is None:
        assert found is None
    else:
        assert words in found[0]
        assert found[1] == pytest.approx(meant)


def test_what_several_slips_explain_is_left_unnamed():
    assert slip(-3.0, lambda value: value > 0 and value != 3000.0) is not None
    assert slip(30.0, lambda value: value != 30.0) is None
