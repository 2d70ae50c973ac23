"""Oxygen, salinity and conductivity against printed tables, UNESCO check values, gsw and seawater."""

import warnings

import gsw
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import conductivity as c
from brumel.core import oxygen as o
from brumel.core import salinity as s
from brumel.core.errors import CannotFit, InputError, InputErrors, NotANumber, OutOfRange, UnknownName, WrongShape
from tests.tables import DATA, rows

with warnings.catch_warnings():
    warnings.simplefilter("ignore")
    import seawater

PRINTED = {
    float(t): float(v)
    for line in (DATA / "oxygen_fresh.csv").read_text("utf-8").splitlines()
    if not line.startswith("#")
    for t, v in (pair.split(":") for pair in line.split(","))
}


def test_fresh_water_agrees_with_the_printed_table_to_its_last_digit():
    t = np.array(list(PRINTED))
    printed = np.array(list(PRINTED.values()))
    # Two decimals, as field tables print it: half of the last digit; the remembered third decimal within 0.0015.
    assert np.max(np.abs(np.round(o.saturation_mg_l(t), 2) - printed)) <= 0.005 + 1e-9
    assert np.max(np.abs(o.saturation_mg_l(t) - printed)) <= 0.0015
    # The remembered figures themselves are held to gsw's Garcia and Gordon 1992 (0.1 %).
    umol_kg = gsw.O2sol_SP_pt(0.0, t) * gsw.rho_t_exact(0.0, t, 0) * 31.9988e-6
    assert np.max(np.abs(printed / umol_kg - 1)) < 1e-3
    # Two decimals as the domain's figures [BK84, as used by USGS]: 9.09, 14.62, 7.56, and 7.40 at salinity 35.
    assert [round(float(v), 2) for v in o.saturation_mg_l(np.array([20, 0, 30]))] == [9.09, 14.62, 7.56]
    assert round(o.saturation_mg_l(20, 35), 2) == 7.40


def test_whole_range_agrees_with_gsw_within_0_15_percent():
    t, sal = np.meshgrid(np.linspace(0, 40, 81), np.linspace(0, 40, 41))
    sa = gsw.SR_from_SP(sal)
    density = gsw.rho(sa, gsw.CT_from_t(sa, t, 0), 0)
    umol_kg = gsw.O2sol_SP_pt(sal, t)  # Garcia and Gordon 1992, Benson and Krause coefficients, µmol/kg
    independent = umol_kg * density * 31.9988e-6
    assert np.max(np.abs(o.saturation_mg_l(t, sal) / independent - 1)) < 0.0015
    assert np.max(np.abs(o.saturation_mg_l_gg92(t, sal) / independent - 1)) < 0.0015


@given(t=st.floats(0, 40), sal=st.floats(0, 40), p=st.floats(600, 1100), share=st.floats(0, 300))
def test_pressure_follows_the_dry_air_and_every_way_leads_back(t, sal, p, share):
    # Independent: Henry's law on dry air, vapour pressure from gsw's neighbour formula (Magnus); theta adds up to 0.1 %.
    vapour = 6.112 * np.exp(17.62 * t / (243.12 + t))
    simple = (p - vapour) / (1013.25 - vapour)
    full = o.saturation_mg_l(t, sal, p)
    assert full / o.saturation_mg_l(t, sal) == pytest.approx(simple, rel=2e-3)
    for meaning, whole in (("local", full), ("standard", o.saturation_mg_l(t, sal))):
        c_mg = share / 100 * whole
        if c_mg <= 100:
            assert o.percent_saturation(c_mg, t, sal, p, relative_to=meaning) == pytest.approx(share, abs=1e-9)
    there = o.recompute_mg_l(8.0, t, salinity=sal, pressure_hpa=p)
    back = o.recompute_mg_l(there, t, salinity=0.0, pressure_hpa=1013.25, preset_salinity=sal, preset_pressure_hpa=p)
    assert back == pytest.approx(8.0, rel=1e-12)


def test_station_and_sea_level_pressure_are_told_apart():
    for row in rows("iso2533.csv"):
        assert o.station_pressure_hpa(float(row["altitude_m"])) == pytest.approx(float(row["pressure_hpa"]), abs=0.06)
    assert o.station_from_sea_level_hpa(1020, 612) == pytest.approx(1020 * o.station_pressure_hpa(612) / 1013.25)
    assert "reduced to sea level" in o.looks_like_sea_level(1018, 612)
    assert o.looks_like_sea_level(942, 612) == ""
    assert o.looks_like_sea_level(1018, 30) == ""
    # Asked about, not refused, from 100 m: 1013 at 220 m, where 987 is usual; not a fine day's 995 there, nor under 100 m.
    assert "Is it a weather report's" in o.may_be_sea_level(1013, 220)
    assert [o.may_be_sea_level(p, h) for p, h in ((995, 220), (1018, 95), (1000, 112), (942, 612))] == [""] * 4


def test_target_is_worked_out_never_rounded_to_a_whole_number():
    target = o.target(14.0, 0.0, o.station_pressure_hpa(612))
    assert (
        target.oxygen_mg_l
        == round(target.worked.value, 2)
        == round(o.saturation_mg_l(14, 0, o.station_pressure_hpa(612)), 2)
    )
    assert [step.source for step in target.worked.working.steps] == ["BK84"] * 4
    assert target.percent_local == 100
    assert target.percent_standard < 94
    assert o.target(20, share=0).oxygen_mg_l == 0


def test_unesco_check_values_of_the_practical_salinity_scale():
    for row in rows("unesco44.csv"):
        ratio, t68, p, expected = (float(v) for v in row.values())
        found = s.practical_salinity(ratio * 42914.0, t68 / 1.00024, p)
        assert found == pytest.approx(expected, abs=2e-6)
        assert seawater.salt(ratio, t68 / 1.00024, p) == pytest.approx(expected, abs=2e-6)  # the older library agrees


@pytest.mark.parametrize("t", [-2.0, 0.0, 12.0, 25.0, 35.0])
def test_pure_water_has_no_salinity_and_is_no_fault(t):
    """The extension for fresh water [Hill1986] ends near 1.5 µS/cm; deionised water conducts 0.05 to 5."""
    found = [s.practical_salinity(c, t) for c in (0.0, 0.05, 0.8, 1.5, 3.0, 5.0)]
    assert found == sorted(found)
    assert found[0] == 0.0
    assert found[-1] < 0.005


@given(sal=st.floats(0.05, 41.9), t=st.floats(-1, 34))
def test_salinity_and_conductivity_are_inverse_also_below_two(sal, t):
    # Hill1986 below 2: gsw's own accuracy of the inverse is 1e-8 or so.
    assert s.practical_salinity(s.conductivity_of_us_cm(sal, t), t) == pytest.approx(sal, abs=1e-6)


def test_beyond_the_scale_it_refuses_with_a_clear_word():
    with pytest.raises(OutOfRange, match="scale ends there"):
        s.practical_salinity(90_000, 20)
    with pytest.raises(InputErrors) as caught:
        s.practical_salinity(-5, 99)
    assert [f.field for f in caught.value.faults] == ["conductivity_us_cm", "temperature_c"]
    # Handbook: 0.1 mol/L NaCl, 106.69 S cm2/mol at 25 °C, is 10 669 µS/cm and 5844 mg/L.
    assert s.nacl_mg_l(10_669) == pytest.approx(5844.3, abs=0.1)
    assert s.percent_of_sea_water(35) == 100
    assert s.reference_salinity_g_kg(35) == pytest.approx(35.16504, abs=1e-5)  # TEOS-10


def test_standards_are_taken_at_the_cup_s_own_temperature():
    assert c.standard_us_cm("1413", np.array([5, 15, 25])) == pytest.approx([896, 1147, 1413])
    assert c.standard_us_cm("12.88 mS", 20) == 11670
    assert c.standard_us_cm(84, 20) == pytest.approx(84 * 1278 / 1413)
    # From memory, cross-checked: molar and demal KCl of the same strength have the same temperature shape within 0.2 %.
    ratio = c.standard_us_cm("1413", 18.0) / 1413
    assert c.standard_us_cm("demal-0.01", 18.0) / 1408.2 == pytest.approx(ratio, rel=2e-3)
    assert c.standard_us_cm("demal-0.1", 18.0) / 12852 == pytest.approx(
        c.standard_us_cm("12880", 18.0) / 12880, rel=3e-3
    )
    with pytest.raises(OutOfRange, match="ends there"):
        c.standard_us_cm("1413", 40)
    with pytest.raises(UnknownName, match="Did you mean “1413”"):
        c.standard_us_cm("1431", 25)


@given(k=st.floats(0.05, 12), zero=st.floats(-2, 2), t=st.floats(5, 30))
def test_a_cell_is_recovered_with_air_zero_and_two_standards(k, zero, t):
    values = [c.standard_us_cm(x, t) for x in ("1413", "12880")]
    points = [c.CellPoint(v / k + zero, t, v) for v in values]
    cell = c.fit_cell(points, air_zero_us=zero)
    assert cell.cell_constant_per_cm == pytest.approx(k, rel=1e-9)
    assert max(map(abs, cell.residuals_percent)) < 1e-7
    assert cell.conductivity_us_cm(points[0].conductance_us) == pytest.approx(values[0], rel=1e-9)


def test_cells_and_standards_that_make_no_sense_are_refused():
    with pytest.raises(CannotFit, match="no more than in air"):
        c.fit_cell([c.CellPoint(0.4, 20, 1278)], air_zero_us=0.5)
    with pytest.raises(WrongShape, match="there are 0"):
        c.fit_cell([])
    assert c.choose_standard(640).standard.key == "1000"
    assert c.choose_standard(640, ["1413", "12880"]).standard.key == "1413"
    assert "not bracketed" in c.choose_standard(250_000).sentence
    assert "more than ten times" in c.choose_standard(30, ["12880"]).sentence
    assert [c.nominal_cell_constant(v) for v in (5, 1000, 50_000)] == [0.1, 1.0, 10.0]


def test_compensation_of_every_kind():
    assert c.to_reference(1000, 20) == pytest.approx(1000 / 0.9)
    assert c.to_reference(1000, 20, coefficient_percent=1.91, reference_c=20) == pytest.approx(1000)
    # EN 27888, from memory: 1.918 at 0, 1.116 at 20, 1 at 25 °C; within 2 % of the ratio of PSS-78 at salinity 0.3.
    assert c.to_reference(1000.0, np.array([0.0, 20.0, 25.0]), kind="natural") == pytest.approx(
        [1918, 1116, 1000], abs=1.5
    )
    t = np.linspace(0, 35, 71)
    ratio = gsw.C_from_SP(0.3, 25, 0) / gsw.C_from_SP(0.3, t, 0)
    assert np.max(np.abs(c.to_reference(np.ones(71), t, kind="natural") / ratio - 1)) < 0.02
    # Sea water: salinity 30 measured at 8 °C is what salinity 30 conducts at 25 °C (gsw).
    at_8 = float(gsw.C_from_SP(30, 8, 0)) * 1000
    assert c.to_reference(at_8, 8, kind="sea") == pytest.approx(float(gsw.C_from_SP(30, 25, 0)) * 1000, rel=1e-6)
    with pytest.raises(OutOfRange, match="20 and 25"):
        c.to_reference(1000, 20, reference_c=18)
    with pytest.raises(OutOfRange, match="Temperature"):
        c.to_reference(1000, 1, coefficient_percent=4)  # 4 %/°C from 25: the denominator runs out at 2.5 °C
    assert c.reference_label("linear", 2.0, 25.0) == "at 25 °C, 2.0 %/°C"


def test_one_water_on_every_scale():
    # Domain section 4: 0.57 mS/cm is 285 mg/L on 0.5 and 399 on 0.7; 12.88 mS/cm is 6.44 g/L on 0.5.
    assert (c.tds_mg_l(570, 0.5), c.tds_mg_l(570, 0.7)) == pytest.approx((285, 399))
    assert c.tds_mg_l(12_880, 0.5) == pytest.approx(6440)
    assert c.from_tds_us_cm(285, 0.5) == pytest.approx(570)
    assert c.resistivity_kohm_cm(0.0548) == pytest.approx(18_248, rel=1e-3)  # pure water at 25 °C: 18.2 MΩ·cm
    assert c.accuracy_us_cm(400, percent_full_scale=2, full_scale_us_cm=2000) == pytest.approx((40, 10))
    assert "mS/cm taken for µS/cm" in c.slip(0.57, (100, 2000))
    assert c.slip(570, (100, 2000)) == ""
    worked = c.explain(500, 12, tds_factor=0.5)
    assert worked.working.steps[-1].result == worked.value == pytest.approx(500 / 0.74 * 0.5)


BAD = [
    (lambda: o.saturation_mg_l(float("nan")), NotANumber, "Temperature must be a number"),
    (lambda: o.saturation_mg_l(1013, 20), OutOfRange, "Temperature 1013 °C"),  # swapped
    (lambda: o.saturation_mg_l(20, 0, 760), None, ""),
    (lambda: o.saturation_mg_l(20, 0, 29.92), OutOfRange, "Station pressure is meant, in hPa"),
    (lambda: o.saturation_mg_l([], 0), WrongShape, "no values"),
    (lambda: o.saturation_mg_l([1, 2], [1, 2, 3]), WrongShape, "lengths do not match"),
    (lambda: o.percent_saturation(8, 20, relative_to="here"), UnknownName, "local"),
    (lambda: s.practical_salinity("salty", 20), NotANumber, "Conductivity must be a number"),
    (lambda: c.tds_mg_l(500, 5), OutOfRange, "TDS factor 5 is outside 0.4 to 1"),
    (lambda: c.to_reference(float("inf"), 20), NotANumber, "Conductivity"),
    (lambda: c.accuracy_us_cm(3000, percent_full_scale=2, full_scale_us_cm=2000), OutOfRange, "outside 0 to 2000"),
]


@pytest.mark.parametrize("i", range(len(BAD)))
def test_bad_input_is_one_sentence_with_field_value_and_range(i):
    call, error, words = BAD[i]
    if error is None:
        assert np.isfinite(call())
        return
    with pytest.raises(InputError) as caught:
        call()
    assert isinstance(caught.value, error)
    assert words in str(caught.value)
