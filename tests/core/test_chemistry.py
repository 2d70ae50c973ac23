"""ORP, ions, ammonia and chlorine against published figures and PyCO2SYS."""

import numpy as np
import PyCO2SYS
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from brumel.core import chlorine, conductivity, ions, redox, temperature
from brumel.core.errors import CannotFit, InputError, OutOfRange, UnknownName
from brumel.core.ph import nernst_slope_mv
from brumel.core.verdict import Outcome
from tests.tables import rows


def test_half_cells_and_zobell_are_the_published_ones():
    table = {row["electrode"]: float(row["millivolts"]) for row in rows("half_cells_25c.csv")}
    assert {e: redox.reference_electrode_mv(e, 25) for e in redox.ELECTRODES} == table
    for electrode in redox.ELECTRODES:  # all fall with temperature, none faster than 1.1 mV/°C
        steps = np.diff(redox.reference_electrode_mv(electrode, np.arange(10, 41, 1.0)))
        assert np.all((steps < 0) & (steps > -1.1))
    # Nordstrom1977: 430.28 mV at 25 °C, and by hand 0.43028 + 0.025157 - 0.00037979 = 455.06 mV at 15 °C.
    assert redox.zobell_mv(np.array([25.0, 15.0])) == pytest.approx([430.28, 455.057], abs=1e-3)
    # Handbook ORP of quinhydrone with Ag/AgCl, saturated KCl, at 25 °C: 86 mV in pH 7 and 263 in pH 4 (common practice).
    found = [redox.quinhydrone_mv(p) - redox.reference_electrode_mv("agcl-saturated", 25) for p in (7.0, 4.0)]
    assert found == pytest.approx([86, 263], abs=2)
    # The same table at other temperatures, the buffers at their own pH there: 92 and 268 at 20 °C, 79 and 258 at 30 °C.
    for temperature_c, buffers, shown in ((20, (7.02, 4.00), (92, 268)), (30, (6.99, 4.01), (79, 258))):
        half = redox.reference_electrode_mv("agcl-saturated", temperature_c)
        found = [redox.quinhydrone_mv(p, temperature_c) - half for p in buffers]
        assert found == pytest.approx(shown, abs=3)


def test_a_half_cell_is_followed_below_its_table_and_the_more_uncertain_there():
    assert redox.reference_electrode_mv("agcl-saturated", np.array([0.0, 5.0, 10.0])) == pytest.approx([224, 219, 214])
    assert redox.half_cell_u_mv(np.array([0.0, 10.0, 25.0])) == pytest.approx([3.0, 1.0, 1.0])
    with pytest.raises(OutOfRange):
        redox.reference_electrode_mv("agcl-3m", -5.0)


def test_demal_solutions_follow_a_curve():
    """The 1413 table is KCl of nearly the same strength; between its points a line would be 0.5 % off at 10 °C."""
    t = np.array([5.0, 10.0, 15.0, 20.0])
    shape = np.asarray(conductivity.standard_us_cm("1413", t)) / 1413 * 1408.2
    assert conductivity.standard_us_cm("demal-0.01", t) == pytest.approx(shape, rel=0.004)
    assert conductivity.standard_us_cm("demal-0.01", 18.0) == pytest.approx(1219.9)  # OIML-R56


@given(orp=st.floats(-500, 800), t=st.floats(10, 40), electrode=st.sampled_from(redox.ELECTRODES))
def test_eh_and_its_inverse(orp, t, electrode):
    eh = redox.eh_mv(orp, electrode, t)
    assert redox.expected_mv(eh, electrode, t) == pytest.approx(orp, abs=1e-9)
    assert redox.explain(orp, electrode, t).value == eh


def test_orp_check_states_its_tolerance():
    assert redox.verdict(228, 222, 15, "test").outcome is Outcome.FIT
    assert redox.verdict(248, 222, 15, "test").outcome is Outcome.CARE
    assert redox.verdict(268, 222, 15, "test").outcome is Outcome.NOT
    with pytest.raises(UnknownName, match="Did you mean “agcl-3m”"):
        redox.eh_mv(200, "agcl-3n", 25)
    with pytest.raises(OutOfRange, match="table of half-cells"):
        redox.eh_mv(200, "agcl-3m", -4)


def _signal(ion, efficiency, e0, t, c):
    return e0 + ions.SIGN[ion] * efficiency * nernst_slope_mv(t) * np.log10(c)


@given(
    ion=st.sampled_from(["nitrate", "ammonium"]),
    efficiency=st.floats(0.7, 1.05),
    e0=st.floats(-200, 400),
    t=st.floats(18, 28),
    cold=st.floats(2, 12),
    drift=st.floats(-1, 1),
    count=st.sampled_from([2, 3, 4]),
    sample=st.floats(0.5, 200),
)
def test_a_known_ion_electrode_is_recovered(ion, efficiency, e0, t, cold, drift, count, sample):
    assume(t - cold > 4)
    there = e0 + drift * (cold - t)
    points = [(_signal(ion, efficiency, e0, t, c), t, c) for c in (100.0, 10.0)]
    points += [(_signal(ion, efficiency, there, cold, c), cold, c) for c in (100.0, 10.0)][: count - 2]
    found = ions.fit(points, ion=ion)
    assert found.slope_mv_per_decade == pytest.approx(ions.SIGN[ion] * efficiency * nernst_slope_mv(25.0), rel=1e-7)
    assert found.concentration_mg_l(_signal(ion, efficiency, e0, t, sample), t) == pytest.approx(sample, rel=1e-6)
    if count > 2:  # the further points make it right near the sample's temperature too
        assert found.concentration_mg_l(_signal(ion, efficiency, there, cold, sample), cold) == pytest.approx(
            sample, rel=1e-6
        )


def test_pair_rules_and_nernst_normalisation():
    limits = ions.PairLimits(gap_low_mv=50, gap_high_mv=65, apart_c=0.5, source="test")
    # Domain section 7: a 62.7 mV gap at 43 °C is not health; 58.2 is what it would be at 25 °C.
    hot = ions.pair(ions.IonPoint(120, 43, 10), ions.IonPoint(182.7, 43, 100))
    assert hot.normalised_mv == pytest.approx(62.7 * 298.15 / 316.15, abs=1e-6)
    healthy = ions.verdict(ions.IonPoint(100, 21, 100), ions.IonPoint(157, 21.4, 10), "nitrate", limits)
    assert healthy.outcome is Outcome.FIT
    old = ions.verdict(ions.IonPoint(100, 21, 100), ions.IonPoint(141, 21.8, 10), "nitrate", limits)
    assert [r.outcome for r in old.rows] == [Outcome.NOT, Outcome.NOT, Outcome.FIT]
    swapped = ions.verdict(ions.IonPoint(157, 21, 100), ions.IonPoint(100, 21, 10), "nitrate", limits)
    assert swapped.rows[2].outcome is Outcome.NOT
    with pytest.raises(CannotFit, match="must fall with nitrate"):
        ions.fit([(157, 21, 100), (100, 21, 10)])
    with pytest.raises(CannotFit, match="less than a factor of two"):
        ions.fit([(157, 21, 10), (100, 21, 11)])
    with pytest.raises(CannotFit, match="too near"):
        ions.fit([(100, 21, 100), (157, 21, 10), (101, 21.5, 100)])


def test_activity_by_davies_and_ionic_strength_by_griffin():
    # Davies at I = 0.1 mol/L: log γ = -0.509 (0.31623/1.31623 - 0.03) = -0.10702, γ = 0.7816, by hand.
    assert ions.activity_coefficient(0.1) == pytest.approx(0.7816, abs=1e-4)
    assert ions.activity_coefficient(0.01, 2) == pytest.approx(ions.activity_coefficient(0.01) ** 4)
    assert ions.activity_coefficient(0.0) == 1
    assert ions.ionic_strength_mol_l(1000) == pytest.approx(0.013)  # Griffin1973
    assert "chloride" in ions.interference(3000, "nitrate")
    assert ions.interference(900, "ammonium") == ""
    assert ions.as_nitrogen_mg_l(1.2878) == pytest.approx(1.0, abs=1e-3)  # NH4 is 1.288 times its N


def test_unionised_ammonia_in_fresh_water_is_emerson_s():
    # Domain section 7 [Emerson1975]: pH 8.0: 5.4 % at 25 °C, 2.7 % at 15 °C.
    assert ions.unionised_ammonia_fraction(8.0, 25) * 100 == pytest.approx(5.4, abs=0.05)
    assert ions.unionised_ammonia_fraction(8.0, 15) * 100 == pytest.approx(2.7, abs=0.05)
    # And close to the salt form as the salt goes out.
    assert ions.ammonia_pka(20.0, 0.001) == pytest.approx(ions.ammonia_pka(20.0), abs=0.02)


@pytest.mark.parametrize("sal", [5.0, 20.0, 35.0])
@pytest.mark.parametrize("t", [5.0, 15.0, 25.0])
def test_unionised_ammonia_in_salt_water_agrees_with_pyco2sys(sal, t):
    result = PyCO2SYS.sys(
        par1=2200.0,
        par2=8.0,
        par1_type=1,
        par2_type=3,
        salinity=sal,
        temperature=t,
        total_ammonia=100.0,
        opt_pH_scale=1,
        opt_k_carbonic=10,
    )
    share = float(result["alkalinity_ammonia"]) / 100.0
    assert ions.unionised_ammonia_fraction(8.0, t, sal) == pytest.approx(share, rel=2e-3)


def test_hypochlorous_is_half_at_7_54():
    # Morris1966 through the domain's figure: half at pH 7.54, 25 °C.
    assert chlorine.hypochlorous_fraction(7.54, 25) == pytest.approx(0.5, abs=0.004)
    ph = np.linspace(5, 10, 60)
    assert np.all(np.diff(chlorine.hypochlorous_fraction(ph, 28)) < 0)


def test_free_above_total_is_refused_beyond_their_joint_uncertainty():
    assert chlorine.combined_mg_l(1.5, 1.1) == pytest.approx(0.4)
    assert chlorine.combined_mg_l(1.50, 1.55) == 0
    with pytest.raises(InputError, match="swapped"):
        chlorine.combined_mg_l(1.1, 1.5)


def test_saturation_index_agrees_with_the_older_hand_formula():
    # Hand formula in wide use: pHs = (9.3 + A + B) - (C + D) with A = (log TDS - 1)/10, B = -13.12 log T + 34.55,
    # C = log Ca - 0.4, D = log alk; common practice, no source. Its constants
    # are older: up to 0.27 apart.
    for ph, t, ca, alk, tds in ((7.5, 25, 150, 34, 320), (7.4, 28, 250, 100, 1000), (8.0, 12, 80, 60, 200)):
        a, b = (np.log10(tds) - 1) / 10, -13.12 * np.log10(t + 273) + 34.55
        hand = ph - ((9.3 + a + b) - (np.log10(ca) - 0.4 + np.log10(alk)))
        assert chlorine.saturation_index(ph, t, ca, alk, tds).value == pytest.approx(hand, abs=0.28)
    # Plummer and Busenberg 1982, from memory: pK2 10.625, 10.490, 10.329 and pKs 8.381, 8.410, 8.480 at 0, 10 and 25 °C.
    for t, pk2, pks in ((0, 10.625, 8.381), (10, 10.490, 8.410), (25, 10.329, 8.480)):
        steps = {s.symbol: s.result for s in chlorine.saturation_index(7.5, t, 100, 100, 500).working.steps}
        assert (steps["pK2"], steps["pKs"]) == pytest.approx((pk2, pks), abs=0.005)


def test_thermometer_check_and_correction():
    points = [temperature.ReferencePoint(0.3, 0.0), temperature.ReferencePoint(20.1, 20.0)]
    verdict = temperature.verdict(points, 0.2)
    assert [r.outcome for r in verdict.rows] == [Outcome.CARE, Outcome.FIT]
    assert temperature.correction_c(points, 10.2) == pytest.approx(-0.2, abs=1e-9)
    assert temperature.correction_c(points[:1], 15) == pytest.approx(-0.3)
    assert temperature.budget(10, points[0]).standard == pytest.approx(
        np.sqrt(0.02**2 + 0.05**2 + (0.05 / np.sqrt(3)) ** 2)
    )
