"""Settling held to simulated traces of known truth; `benchmarks/judgement.py` prints the same at full size."""

import pytest
from benchmarks.judging import settling


@pytest.mark.parametrize(
    ("where", "quantity", "slow"),
    [
        ("bench", "ph", False),
        ("bench", "temperature", False),
        ("site", "conductivity", False),
        ("site", "ph", False),
        ("bench", "oxygen", True),
    ],
)
def test_settled_hides_hardly_ever_more_than_the_limit_and_comes_soon(where, quantity, slow):
    row = settling.row_of("", [settling.one((where, quantity, slow, 1000 + seed)) for seed in range(20)])
    assert row.false <= (15 if slow else 5)
    assert (
        slow or row.delay <= 1
    )  # after one who knows the time constants, in the longest of 15 s, 3 intervals, half of tau
    assert row.settled >= 15
    assert row.jumped == 0
    assert slow or row.forecast >= 75  # of all forecasts, within half; the goal is 90 %


@pytest.mark.parametrize("quantity", settling.BENCH)
def test_values_typed_one_spacing_apart_settle_and_hide_nothing(quantity):
    found = [settling.typed_one((quantity, seed)) for seed in range(100)]
    assert sum(settled for settled, _ in found) >= 95
    assert sum(wrong for _, wrong in found) <= 5
