"""Uncertainty budgets against a Monte Carlo of the same inputs [JCGM 101], and against what is plain to see."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import budgets, conductivity, ions, oxygen
from brumel.core.uncertainty import digits_for, shown_u

RANDOM = np.random.default_rng(11)
N = 3000


def spread(draw):
    return float(np.std([draw() for _ in range(N)]))


def test_conductivity_by_monte_carlo():
    cell = conductivity.fit_cell(
        [conductivity.CellPoint(1278.0, 20.0, 1278.0), conductivity.CellPoint(11670.0, 20.0, 11670.0)]
    )
    u = budgets.CellUncertainties(coefficient_percent=0.1)  # where the coefficient itself is in doubt
    budget = budgets.conductivity_budget(cell, 640.0, 12.0, u=u)

    def draw():
        shift = RANDOM.normal(0, 0.1)
        points = [
            conductivity.CellPoint(
                p.conductance_us * (1 + RANDOM.normal(0, 0.15) / 100),
                20.0,
                p.standard_us_cm * (1 + RANDOM.normal(0, 0.5) / 100) * (1 + 0.02 * shift),
            )
            for p in cell.points
        ]
        raw = conductivity.fit_cell(points).conductivity_us_cm(640.0 * (1 + RANDOM.normal(0, 0.15) / 100))
        there = conductivity.to_reference(raw, 12.0 + shift, coefficient_percent=2.0 + RANDOM.normal(0, 0.1))
        return there + RANDOM.uniform(-0.5, 0.5)

    assert budget.value == pytest.approx(640 / 0.74)
    assert budget.standard == pytest.approx(spread(draw), rel=0.06)
    names = {c.name for c in budget.contributions}
    assert {
        "thermometer",
        "standard 1",
        "standard 2",
        "noise in the sample",
        "coefficient",
        "rounding of the display",
    } <= names


def test_oxygen_by_monte_carlo():
    budget = budgets.oxygen_budget(8.2, 14.0, 2.0, 942.0, calibrated_c=18.0)
    share = 8.2 / oxygen.saturation_mg_l(14, 2, 942)

    def draw():
        shift, p = RANDOM.normal(0, 0.1), 942 + RANDOM.normal(0, 1)
        gain = oxygen.saturation_mg_l(18 + shift, 0, p) / oxygen.saturation_mg_l(18, 0, 942)
        there = oxygen.saturation_mg_l(14 + shift, 2 + RANDOM.normal(0, 0.1), 942)
        noise = (1 + RANDOM.normal(0, 0.15) / 100) * (1 + RANDOM.normal(0, 0.15) / 100)
        return share * there * gain * noise + RANDOM.uniform(-0.005, 0.005)

    assert budget.value == pytest.approx(8.2)
    assert budget.standard == pytest.approx(spread(draw), rel=0.06)


def test_ions_by_monte_carlo_and_the_rule_of_four_percent_per_millivolt():
    found = ions.fit([(112.0, 21.0, 100.0), (169.0, 21.0, 10.0)])
    budget = budgets.ion_budget(found, 140.0, 20.0)

    def draw():
        shift = RANDOM.normal(0, 0.1)
        points = [
            (
                p.millivolts + RANDOM.normal(0, 0.3),
                21.0 + shift,
                p.concentration_mg_l * (1 + RANDOM.normal(0, 0.5) / 100),
            )
            for p in found.points
        ]
        return ions.fit(points).concentration_mg_l(140.0 + RANDOM.normal(0, 0.3), 20.0 + shift)

    assert budget.standard == pytest.approx(spread(draw), rel=0.06)
    # Common practice: 1 mV is about 4 % of a single-charged ion; the sample's 0.3 mV alone is 1.2 %.
    own = next(c for c in budget.contributions if c.name == "signal in the sample")
    assert own.amount / budget.value == pytest.approx(0.3 * math.log(10) / abs(found.slope_mv_per_decade), rel=0.02)


def test_a_better_standard_never_makes_a_worse_reading():
    cell = conductivity.fit_cell([conductivity.CellPoint(1278.0, 20.0, 1278.0)])
    by_standard = [
        budgets.conductivity_budget(cell, 640.0, 12.0, u=budgets.CellUncertainties(standard_percent=u)).standard
        for u in (0.1, 0.5, 1.0, 3.0)
    ]
    assert by_standard == sorted(by_standard)
    compensated = budgets.conductivity_budget(cell, 640.0, 12.0)
    as_read = budgets.conductivity_budget(cell, 640.0, 12.0, kind="none")
    assert as_read.standard < compensated.standard  # the coefficient is what one knows least


@given(st.floats(1e-3, 9e3))
def test_u_is_shown_with_figures_enough_and_never_much_smaller(u):
    digits = digits_for(u)
    shown = shown_u(u, digits)
    assert 0.95 * u <= shown <= max(u * 1.35, u + 10.0**-digits)
    if 1e-3 <= u < 25 and f"{u:.0e}"[0] in "12" and f"{u:e}"[0] in "12":
        assert len(f"{shown:.{digits}f}".replace(".", "").lstrip("0")) >= 2
