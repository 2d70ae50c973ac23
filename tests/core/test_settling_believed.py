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
    # After one who knows the time constants, in the longest of 15 s, 3 intervals, half of tau; 20 traces say no more than so.
    assert row.delay <= (1.2 if slow else 1)
    assert row.settled >= 15
    assert row.jumped == 0
    assert row.forecast >= 90 or (slow and row.told < 5)  # of the waits that are told, within half
    assert slow or row.told >= 5
    assert row.kept >= 90  # of the longest waits told


@pytest.mark.parametrize("quantity", settling.BENCH)
def test_values_typed_one_spacing_apart_settle_and_hide_nothing(quantity):
    found = [settling.typed_one((quantity, seed)) for seed in range(100)]
    assert sum(settled for settled, _ in found) >= 95
    assert sum(wrong for _, wrong in found) <= 5
