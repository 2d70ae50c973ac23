"""U held to simulated readings of known truth; `benchmarks/judgement.py` prints the same at full size."""

import pytest
from benchmarks.judging import readings

#: A correction linear in time is far too good for its U where the error did come linearly: nobody can know that it did.
TOO_GOOD = {"linear", "slower"}


@pytest.mark.parametrize("name", readings.ROWS)
def test_u_covers_what_occurs_and_is_no_wider_than_it_must_be(name):
    row = readings.row(name, 250)
    assert row.coverage >= 90.5  # 93 % less twice the sampling error of 250
    assert row.width <= 1.7 or ("corrected" in name and name.split()[-1] in TOO_GOOD)
