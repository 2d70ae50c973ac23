"""One table over all vectorised functions of core: arrays are scalars in a row, and bad input never comes out as a number."""

import math
from typing import NamedTuple

import numpy as np
import pytest

from brumel.core import chlorine, conductivity, drift, gases, ions, oxygen, ph, redox, salinity
from brumel.core.errors import InputError, InputErrors

CELL = conductivity.fit_cell([conductivity.CellPoint(1278.0, 20.0, 1278.0)])
ELECTRODE = ph.fit([(0.0, 20.0, 7.0), (170.0, 20.0, 4.0), (-171.0, 20.0, 10.0)])
NITRATE = ions.fit([(112.0, 21.0, 100.0), (169.0, 21.0, 10.0)])
T, S, P = (2.0, 11.0, 24.5), (0.0, 1.5, 33.0), (700.0, 950.0, 1030.0)
C = (120.0, 900.0, 30_000.0)


class Row(NamedTuple):
    """A function, good arguments of three values each, and one value outside for each argument."""

    function: object
    good: tuple[tuple[float, ...], ...]
    outside: tuple[float, ...]


ROWS = {
    "nernst slope": Row(ph.nernst_slope_mv, (T,), (300,)),
    "buffer": Row(lambda t: ph.buffer_ph("borax", t), (T,), (80,)),
    "electrode to pH": Row(ELECTRODE.ph, ((150.0, 3.0, -120.0), T), (9000, 300)),
    "electrode to mV": Row(ELECTRODE.millivolts, ((4.5, 7.1, 9.3), T), (99, 300)),
    "oxygen": Row(oxygen.saturation_mg_l, (T, S, P), (-3, 60, 29.92)),
    "oxygen, the alternative": Row(oxygen.saturation_mg_l_gg92, (T, S), (55, -1)),
    "percent": Row(oxygen.percent_saturation, ((4.0, 9.0, 12.0), T, S, P), (-1, 99, 99, 10)),
    "recompute": Row(
        lambda c, t, s, p: oxygen.recompute_mg_l(c, t, salinity=s, pressure_hpa=p),
        ((4.0, 9.0, 12.0), T, S, P),
        (-1, 99, 99, 10),
    ),
    "station pressure": Row(oxygen.station_pressure_hpa, ((0.0, 612.0, 2500.0),), (20_000,)),
    "from a weather report": Row(
        oxygen.station_from_sea_level_hpa, ((990.0, 1013.0, 1030.0), (0.0, 612.0, 2500.0)), (700, -5000)
    ),
    "salinity": Row(salinity.practical_salinity, ((700.0, 20_000.0, 45_000.0), (20.0, 20.0, 24.0)), (-1, 70)),
    "salinity back": Row(salinity.conductivity_of_us_cm, (S, T), (50, 70)),
    "salt mass": Row(salinity.reference_salinity_g_kg, (S,), (50,)),
    "percent of the sea": Row(salinity.percent_of_sea_water, (S,), (-1,)),
    "as NaCl": Row(salinity.nacl_mg_l, (C,), (1,)),
    "standard": Row(lambda t: conductivity.standard_us_cm("1413", t), ((6.0, 18.0, 29.0),), (45,)),
    "linear": Row(conductivity.to_reference, (C, T), (-1, 200)),
    "natural water": Row(lambda c, t: conductivity.to_reference(c, t, kind="natural"), (C, T), (-1, 50)),
    "sea water": Row(
        lambda c, t: conductivity.to_reference(c, t, kind="sea"),
        ((1000.0, 9000.0, 30_000.0), (9.0, 11.0, 24.5)),
        (-1, 50),
    ),
    "cell": Row(CELL.conductivity_us_cm, (C,), (-100,)),
    "TDS": Row(lambda c: conductivity.tds_mg_l(c, 0.5), (C,), (-1,)),
    "TDS back": Row(lambda c: conductivity.from_tds_us_cm(c, 0.7), (C,), (-1,)),
    "resistivity": Row(conductivity.resistivity_kohm_cm, (C,), (0,)),
    "half-cell": Row(lambda t: redox.reference_electrode_mv("agcl-3m", t), ((12.0, 21.0, 33.0),), (-4,)),
    "Eh": Row(lambda e, t: redox.eh_mv(e, "agcl-3m", t), ((-100.0, 200.0, 700.0), (12.0, 21.0, 33.0)), (5000, -4)),
    "half-cell's doubt": Row(redox.half_cell_u_mv, ((2.0, 9.0, 33.0),), (50,)),
    "Zobell": Row(redox.zobell_mv, (T,), (70,)),
    "quinhydrone": Row(redox.quinhydrone_mv, ((4.0, 6.0, 7.0), (21.0, 25.0, 29.0)), (9, 60)),
    "nitrate": Row(NITRATE.concentration_mg_l, ((100.0, 130.0, 180.0), T), (5000, 90)),
    "ionic strength": Row(ions.ionic_strength_mol_l, ((100.0, 500.0, 1200.0),), (-1,)),
    "activity": Row(ions.activity_coefficient, ((0.0, 0.01, 0.2),), (2,)),
    "ammonia constant": Row(ions.ammonia_pka, (T, S), (80, -1)),
    "ammonia share": Row(ions.unionised_ammonia_fraction, ((6.5, 7.5, 8.9), T, S), (20, 80, 60)),
    "as nitrogen": Row(ions.as_nitrogen_mg_l, ((0.1, 1.0, 9.0),), (-1,)),
    "hypochlorous share": Row(chlorine.hypochlorous_fraction, ((6.5, 7.5, 8.9), T), (20, 80)),
    "sulfide constant": Row(gases.sulfide_pk, (T, S), (80, -1)),
    "hypochlorous constant": Row(chlorine.hypochlorous_pka, (T,), (80,)),
    "drift": Row(
        lambda v, t: drift.correct_one_point(v, t, drift.StandardCheck(100.0, 7.4, 7.0), 0.0),
        ((7.1, 7.2, 7.3), (0.0, 50.0, 100.0)),
        (1e12, 101),
    ),
}
names = pytest.mark.parametrize("name", sorted(ROWS))


@names
def test_an_array_is_its_scalars_in_a_row(name):
    row = ROWS[name]
    together = row.function(*(np.array(a) for a in row.good))
    assert together.shape == (3,)
    one_by_one = [row.function(*(a[i] for a in row.good)) for i in range(3)]
    assert all(isinstance(v, float) for v in one_by_one)
    assert together == pytest.approx(one_by_one, rel=1e-12)
    assert np.all(np.isfinite(together))
    grid = row.function(*(np.array(a).reshape(3, 1) for a in row.good))
    assert grid.shape == (3, 1)


@names
@pytest.mark.parametrize("bad", [math.nan, math.inf, "warm", None, [], [1.0, math.nan, 2.0], [[1.0], [1.0, 2.0]]])
def test_bad_values_are_refused_in_every_place(name, bad):
    row = ROWS[name]
    for i in range(len(row.good)):
        arguments = [a[1] for a in row.good]
        arguments[i] = bad
        with pytest.raises(InputError) as caught:
            row.function(*arguments)
        assert caught.value.field
        assert str(caught.value).endswith((".", "?"))


@names
def test_values_outside_are_refused_with_value_and_range_and_all_at_once(name):
    row = ROWS[name]
    for i, outside in enumerate(row.outside):
        arguments = [a[1] for a in row.good]
        arguments[i] = outside
        with pytest.raises(InputError, match="outside") as caught:
            row.function(*arguments)
        assert caught.value.low is not None or isinstance(caught.value, InputErrors)
    with pytest.raises(InputError):
        row.function(*row.outside)


@names
def test_lengths_that_do_not_match_are_refused(name):
    row = ROWS[name]
    if len(row.good) > 1:
        with pytest.raises(InputError, match=r"do not match|must be one"):
            row.function(np.array(row.good[0]), *(np.array(a[:2]) for a in row.good[1:]))
