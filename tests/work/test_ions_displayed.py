"""Ion tips whose meter shows mg/L: a display of its own calibration, in nitrogen or in the ion."""

import numpy as np
import pytest

from brumel.core import ions
from brumel.core.ph import nernst_slope_mv
from brumel.work.quantities.base import RunContext
from brumel.work.quantities.book import quantity_of


class Probe:
    def __init__(self, quantity):
        self.quantity = quantity


CASES = [  # mass per mass of nitrogen by standard atomic weights (CIAAW): NO3 62.005/14.007, NH4 18.039/14.007
    ("nitrate", "mg_l_n", 10.0, 10.0),
    ("nitrate", "mg_l_ion", 44.27, 10.0),
    ("ammonium", "mg_l_n", 0.5, 0.5),
    ("ammonium", "mg_l_ion", 1.2879, 1.0),
]


@pytest.mark.parametrize(("ion", "entered", "shown", "as_n"), CASES)
def test_a_displayed_concentration_stands_for_the_mv_of_a_perfect_tip_and_back(ion, entered, shown, as_n):
    quantity, case = quantity_of(ion), RunContext(Probe(ion))
    for t in (5.0, 25.0):
        signal = quantity.entries[entered].to_signal(shown, t, case)
        sign = -1 if ion == "nitrate" else 1
        assert signal == pytest.approx(sign * nernst_slope_mv(t) * np.log10(as_n), abs=0.01)  # Nernst's law
        assert quantity.shown(entered, signal, t, case) == pytest.approx(shown, rel=1e-6)
        assert ions.ideal(ion).concentration_mg_l(signal, t) == pytest.approx(as_n, rel=2e-4)


def test_units_of_one_scale_serve_each_other_and_a_display_is_no_raw_signal():
    for quantity, one, other, serves in (
        ("nitrate", "mg_l_n", "mg_l_ion", True),
        ("nitrate", "mv", "mg_l_n", False),
        ("conductivity", "us_cm", "ms_cm_ref", True),
        ("ph", "mv", "ph", False),
        ("oxygen", "mg_l", "percent", True),
    ):
        q = quantity_of(quantity)
        assert (q.scale_of(one) == q.scale_of(other)) is serves
    assert quantity_of("nitrate").entry_of("mg/L as NO3", "") == "mg_l_ion"
    assert quantity_of("ammonium").entry_of_settings({"ion_unit": "mg/L as the ion"}) == "mg_l_ion"
    assert quantity_of("conductivity").entry_of_settings({"conductivity_unit": "ppm"}) == "ppm"
