"""Chlorine beside cyanuric acid, free carbon dioxide, mixing and disturbing ions, against sources and general libraries."""

import math

import PyCO2SYS
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyCO2SYS.equilibria.p1atm import kH2S_TOT_YM95

from brumel.core import carbonate, gases, ions, mixing, oxygen, sense, stabiliser
from brumel.core.chlorine import hypochlorous_fraction
from brumel.core.errors import InputError, InputErrors
from brumel.core.fitness.ions import IonFit
from brumel.core.sheet import ReadWith, Reported, SheetFacts, Water, derive, not_stated, report, series
from brumel.core.working import Ladder


def test_the_constants_of_the_chlorinated_forms_close_their_cycles():
    """Losing H+ and then HOCl must cost what losing HOCl and then H+ does (thermodynamics; Obrien1974 from memory)."""
    gives, mono = stabiliser.PK_GIVES, stabiliser.PK_MONO
    assert gives["H2ClCy"] + stabiliser.PK_CYANURIC[0] == pytest.approx(mono[0] + gives["HClCy-"])
    assert gives["HClCy-"] + stabiliser.PK_CYANURIC[1] == pytest.approx(mono[1] + gives["ClCy2-"])
    assert gives["HCl2Cy"] + mono[0] == pytest.approx(stabiliser.PK_DI + gives["Cl2Cy-"])


@given(st.floats(0.05, 10), st.floats(0, 200), st.floats(6.2, 8.8), st.floats(12, 38))
def test_chlorine_is_kept_and_the_stabiliser_only_takes(free, acid, ph, t):
    parts = stabiliser.free_parts(free, acid, ph, t)
    assert parts.hypochlorous_mg_l + parts.hypochlorite_mg_l + parts.bound_mg_l == pytest.approx(free, rel=1e-6)
    alone = free * float(hypochlorous_fraction(ph, t))
    assert 0 < parts.hypochlorous_mg_l <= alone * (1 + 1e-9)
    assert stabiliser.free_parts(free, 0.0, ph, t).hypochlorous_mg_l == pytest.approx(alone)


def test_what_the_trade_knows_of_stabilised_pools():
    """From memory of tables made with Obrien1974: at pH 7.5 a free chlorine of 5 % of the stabiliser leaves 0.02 mg/L, of
    10 % about 0.04; a third of the cyanuric acid counts as alkalinity at pH 7.5."""
    assert stabiliser.free_parts(2.0, 40.0, 7.5, 25.0).hypochlorous_mg_l == pytest.approx(0.02, abs=0.004)
    assert stabiliser.free_parts(3.0, 30.0, 7.5, 25.0).hypochlorous_mg_l == pytest.approx(0.042, abs=0.008)
    assert stabiliser.cyanurate_alkalinity(100.0, 7.5) == pytest.approx(32, abs=2)
    for bad in ((-1, 40, 7.5, 25), (2, 40, 3.0, 25), (2, 40, 7.5, 60), (2, float("nan"), 7.5, 25)):
        with pytest.raises(InputError):
            stabiliser.free_parts(*bad)


@pytest.mark.parametrize(("ph", "alkalinity", "t"), [(7.0, 100.0, 25.0), (6.5, 40.0, 10.0), (8.0, 150.0, 18.0)])
def test_free_carbon_dioxide_is_that_of_an_independent_library(ph, alkalinity, t):
    """PyCO2SYS, fresh-water constants (its option 8, salinity 0); alkalinity in µmol/kg, 100.087/2 g a mole of CaCO3."""
    micromol = alkalinity / 50.043 * 1000
    there = PyCO2SYS.sys(micromol, ph, 1, 3, temperature=t, salinity=0, opt_k_carbonic=8, opt_pH_scale=3)
    expected = there["aqueous_CO2"] * 44.0095 / 1000
    assert carbonate.free_carbon_dioxide(ph, alkalinity, t).value == pytest.approx(expected, rel=0.03)


def test_ions_lower_free_carbon_dioxide_a_little_and_bad_water_is_refused():
    pure, hard = (carbonate.free_carbon_dioxide(7.0, 100.0, 20.0, ec).value for ec in (0.0, 600.0))
    assert 0.88 < hard / pure < 0.97  # Davies at 0.008 mol/L: one charge 0.91
    with pytest.raises(InputError):
        carbonate.free_carbon_dioxide(7.0, 100.0, 20.0, 40_000.0)


@pytest.mark.parametrize(("t", "s"), [(5.0, 0.0), (14.0, 8.0), (25.0, 35.0)])
def test_hydrogen_sulfide_s_constant_is_that_of_an_independent_library(t, s):
    """PyCO2SYS, H2S of Millero1988 as Yao and Millero 1995 give it, total scale."""
    expected = -math.log10(float(kH2S_TOT_YM95(t + 273.15, s)))
    assert gases.sulfide_pk(t, s) == pytest.approx(expected, abs=1e-6)


def test_half_of_the_sulfide_is_hydrogen_sulfide_at_its_constant():
    """pK1 of about 7.0 at 25 °C in fresh water: from memory of handbook tables."""
    assert gases.sulfide_pk(25.0) == pytest.approx(7.0, abs=0.05)
    assert gases.hydrogen_sulfide(0.2, float(gases.sulfide_pk(14.0)), 14.0).value == pytest.approx(0.1)
    assert gases.hydrogen_sulfide(0.11, float(gases.sulfide_pk(14.0)) - 1, 14.0).value == pytest.approx(0.1)  # 10 of 11
    with pytest.raises(InputErrors) as told:
        gases.hydrogen_sulfide(-1, 20, 80, 0)
    assert len(told.value.faults) == 3


@given(t=st.floats(0, 35), p=st.floats(700, 1060), s=st.floats(0, 40))
def test_water_in_balance_with_the_air_holds_100_percent_of_every_gas(t, p, s):
    found = gases.dissolved_gas(0.0, p, t, s, float(oxygen.saturation_mg_l(t, s, p)))
    assert (found.total_percent, found.oxygen_percent) == pytest.approx((100, 100))
    # Argon and nitrogen are all of dry air but oxygen and 0.04 %.
    assert found.nitrogen_percent == pytest.approx(100, abs=0.06)
    assert found.free_depth_m == 0


def test_gas_pressures_by_the_handbook_s_formula():
    """Standard Methods 2810, from memory: pO2 = 0.5318 C/β mmHg with β 0.03414 L/(L atm) at 15 °C, N2 share 0.7902."""
    air, over, read, vapour = 745.0, 60.0, 12.0, 12.79
    partial = 0.5318 * read / 0.03414
    nitrogen = 100 * (air + over - partial - vapour) / (0.7902 * (air - vapour))
    found = gases.dissolved_gas(over * 1.333224, air * 1.333224, 15.0, 0.0, read)
    assert found.total_percent == pytest.approx(100 * 805 / 745)
    assert found.nitrogen_percent == pytest.approx(nitrogen, abs=0.5)
    assert found.free_depth_m == pytest.approx(0.816, abs=0.001)  # 80.0 hPa under 98.07 hPa a metre


def _beside(alkalinity: float | None, **read: float) -> SheetFacts:
    units = {"temperature": "°C", "ph": "pH", "conductivity": "µS/cm"}
    of = {q: Reported(q, v, units[q], 0.04, Ladder(q).done()) for q, v in read.items()}
    return SheetFacts(of, Water(alkalinity_mg_l=alkalinity))


def test_free_carbon_dioxide_follows_on_a_sheet_whose_site_s_alkalinity_is_known():
    facts = _beside(60.0, ph=7.2, temperature=11.0, conductivity=140.0)
    (found,) = [r for r in derive(facts.read, facts.water) if r.quantity == "carbon_dioxide"]
    assert found.value == pytest.approx(carbonate.free_carbon_dioxide(7.2, 60.0, 11.0, 140.0).value)
    # 0.02 pH is 4.6 %, the site's alkalinity 10 %; k = 2.
    assert found.expanded_uncertainty == pytest.approx(2 * found.value * math.hypot(0.046, 0.1), rel=0.02)
    for alkalinity, read, why in (
        (None, {"ph": 7.2}, ""),
        (60.0, {"ph": 7.2, "conductivity": 20_000.0}, "not fresh"),
        (60.0, {"ph": 3.1}, "pH lies outside"),
    ):
        facts = _beside(alkalinity, temperature=11.0, **read)
        assert not [r for r in derive(facts.read, facts.water) if r.quantity == "carbon_dioxide"]
        said = [n.sentence for n in not_stated(facts) if n.quantity == "carbon_dioxide"]
        assert (why in said[0]) if why else not said


def test_a_spike_is_found_again_and_another_ion_is_taken_off():
    assert mixing.mixed(1.0, 100.0, 101.0, 1.0).value == pytest.approx((100 + 101) / 101)
    assert mixing.recovery_percent(1.0, 100.0, 101.0, 1.0, (100 + 101) / 101) == pytest.approx(100)
    assert mixing.recovery_percent(1.0, 100.0, 101.0, 1.0, 1.0) < 2
    with pytest.raises(InputError, match="adds nothing"):
        mixing.recovery_percent(1.0, 100.0, 5.0, 0.0, 1.0)
    # Nikolsky and Eisenman by hand: 0.005 · 70.906 mg/L / 35.453 g/mol · 14.0067 g/mol = 0.140 mg/L as N.
    worked = ions.less_interference(1.0, 70.906, "nitrate")
    assert worked.value == pytest.approx(1 - 0.1400, abs=1e-3)
    with pytest.raises(InputError, match="Nothing can be said"):
        ions.less_interference(0.5, 600.0, "ammonium")


def test_what_disturbs_a_tip_is_taken_off_on_the_sheet_and_makes_it_less_certain():
    """A site with 70.906 mg/L of chloride: 0.140 mg/L as N of the nitrate are chloride's, known to a factor of two."""
    pair = [ions.IonPoint(210.0 - 57.0 * step, 20.0, 10.0**step) for step in (0, 1)]
    fit = IonFit(ions.fit(pair, ion="nitrate"), 57.0, "pair")
    signal = 190.0
    plain, known = (
        report("nitrate", ReadWith(fit, True, "", 0.5), signal, 20.0, Water(chloride_mg_l=chloride))
        for chloride in (None, 70.906)
    )
    taken = min(0.1400, plain.value)
    assert plain.value - known.value == pytest.approx(taken, abs=1e-3)
    assert known.expanded_uncertainty == pytest.approx((plain.expanded_uncertainty**2 + 0.14**2) ** 0.5, rel=0.01)
    assert [s.symbol for s in known.working.steps][-2:] == ["c'", "U"]
    shown = series("nitrate", fit, [signal], [20.0], Water(chloride_mg_l=70.906))
    assert float(shown[0]) == pytest.approx(known.value)


@pytest.mark.parametrize(
    ("unionised", "kind", "flag"), [(0.9, "pond", 3), (0.1, "raceway", 1), (0.9, "stream", None), (0.61, "hatchery", 3)]
)
def test_ammonia_fish_would_not_live_through_is_a_slip_or_an_alarm(unionised, kind, flag):
    found = sense.ammonia_against_fish(unionised, 9.1, kind)
    assert (int(found.flag) if found else None) == flag
