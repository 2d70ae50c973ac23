"""The sheet's arithmetic against handbooks and check values: ladders, what follows from them, limits, logger memory."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import conductivity, ions, oxygen, ph
from brumel.core.errors import InputError
from brumel.core.fitness.common import read_each
from brumel.core.fitness.conductivity import CellFit
from brumel.core.fitness.ions import IonFit
from brumel.core.fitness.oxygen import OxygenFit
from brumel.core.fitness.ph import ElectrodeFit
from brumel.core.fitness.redox import OffsetFit
from brumel.core.fitness.temperature import ReferencePoint, ThermometerFit
from brumel.core.logged import days_until_full
from brumel.core.sheet import (
    DERIVED,
    LimitOutcome,
    ReadWith,
    Reported,
    SheetFacts,
    Water,
    against,
    derive,
    not_stated,
    report,
    series,
)
from brumel.core.working import Working

IDEAL = ElectrodeFit(ph.fit([ph.BufferPoint(0.0, 25.0, 7.0)]))
CELL = CellFit(1.0, 0.0, 1.0, "nominal")
AIR = OxygenFit(100.0, 0.0, "ideal")
PAIR = IonFit(
    ions.fit([ions.IonPoint(200.0, 25.0, 10.0), ions.IonPoint(140.84, 25.0, 100.0)], ion="nitrate"), 59.16, "pairs"
)


def worth(quantity, fit, signal, at=25.0, water=None, backed=True, u=0.01):
    return report(quantity, ReadWith(fit, backed, "calibration 1", u), signal, at, water or Water())


def have(**values):
    units = {"conductivity": "µS/cm", "temperature": "°C"}
    return {q: Reported(q, v, units.get(q, ""), 0.1, Working(q, ())) for q, v in values.items()}


@pytest.mark.parametrize(
    ("quantity", "fit", "signal", "at", "water", "value", "within", "source"),
    [
        ("ph", IDEAL, -59.16, 25.0, {}, 8.0, 0.001, "Nernst: 59.16 mV a pH at 25 °C [Buck2002]"),
        ("ph", IDEAL, 54.2, 0.0, {}, 6.0, 0.001, "Nernst: 54.20 mV a pH at 0 °C [Buck2002]"),
        ("conductivity", CELL, 100.0, 10.0, {}, 142.8, 0.1, "EN27888, table of f25: 1.428 at 10 °C, from memory"),
        ("conductivity", CELL, 1000.0, 25.0, {"compensation": "linear"}, 1000.0, 1e-9, "the reference itself"),
        (
            "conductivity",
            CELL,
            42914.0,
            15.0,
            {"compensation": "sea"},
            53065.0,
            60.0,
            "PSS78: S 35; C(35, 25) 53.065 mS/cm",
        ),
        ("oxygen", AIR, 100.0, 20.0, {}, 9.09, 0.005, "DOTABLES: 9.09 mg/L at 20 °C [BK84]"),
        ("oxygen", AIR, 100.0, 25.0, {"salinity": 36.131}, 6.728, 0.002, "SM4500-O table, chlorinity 20, from memory"),
        ("redox", OffsetFit(4.0, -4.0, "offset"), 220.0, 12.0, {}, 224.0, 1e-9, "the offset is added"),
        ("nitrate", PAIR, 170.42, 25.0, {}, 10**1.5, 0.01, "half the gap is half a decade"),
        ("temperature", ThermometerFit((), "ideal"), 11.3, 11.3, {}, 11.3, 1e-9, "as read"),
    ],
)
def test_each_ladder_gives_the_handbook_s_value(quantity, fit, signal, at, water, value, within, source):
    found = worth(quantity, fit, signal, at, Water(**water))
    assert found.value == pytest.approx(value, abs=within), source
    assert found.expanded_uncertainty > 0
    assert found.working.steps[-1].symbol == "U"
    assert worth(quantity, fit, signal, at, Water(**water), backed=False).expanded_uncertainty is None
    drawn = series(quantity, fit, [signal, signal], [at, at], Water(**water))
    assert list(drawn) == pytest.approx([found.value] * 2, rel=1e-9)


@pytest.mark.parametrize(
    ("fit", "low", "high"),
    [
        (ElectrodeFit(ph.fit([(170.0, 18.0, 4.0), (-3.0, 18.0, 7.0), (-172.0, 18.0, 10.0)])), -400, 400),
        (AIR, 0, 200),
        (PAIR, 100, 300),
        (CELL, 0, 50_000),
    ],
)
@given(seed=st.integers(0, 99))
def test_a_trace_is_read_at_once_as_it_would_be_sample_by_sample(fit, low, high, seed):
    dice = np.random.default_rng(seed)
    signals, at_c = dice.uniform(low, high, 20), dice.uniform(0.5, 35, 20)
    one_by_one = [fit.read(float(s), float(t)) for s, t in zip(signals, at_c, strict=True)]
    np.testing.assert_allclose(read_each(fit, signals, at_c), one_by_one, rtol=1e-12)


def test_an_ion_s_activity_becomes_a_concentration_and_says_when_it_cannot():
    bare = worth("nitrate", PAIR, 200.0)
    assert "conductivity was not read" in bare.working.steps[-2].name
    salty = worth("nitrate", PAIR, 200.0, water=Water(conductivity_25_us_cm=1000.0))
    gamma = 10 ** (-0.509 * (math.sqrt(0.013) / (1 + math.sqrt(0.013)) - 0.3 * 0.013))  # Davies at I = 1.3e-5 · EC25
    assert salty.value == pytest.approx(bare.value / gamma, rel=2e-3)


def test_a_checked_thermometer_corrects_only_where_its_method_says_so():
    points = (ReferencePoint(0.3, 0.0, 0.05), ReferencePoint(20.3, 20.0, 0.05))
    assert worth("temperature", ThermometerFit(points, "corrected"), 10.3).value == pytest.approx(10.0)
    assert worth("temperature", ThermometerFit(points, "check"), 10.3).value == pytest.approx(10.3)


@pytest.mark.parametrize(
    ("given_", "raw", "quantity", "value", "within", "source"),
    [
        (dict(conductivity=53065.0, temperature=14.9964), 42914.0, "salinity", 35.0, 0.001, "PSS78: 15 °C of IPTS-68"),
        (dict(conductivity=1413.0), None, "solids", 918.45, 0.01, "factor 0.65"),
        (dict(oxygen=9.09, temperature=20.0), None, "saturation", 100.0, 0.1, "DOTABLES [BK84]"),
        (dict(redox=200.0, temperature=25.0), None, "eh", 399.0, 2.0, "USGS-A6.5: Ag/AgCl in saturated KCl, 199 mV"),
        # An electrode reads NH4+ alone, so NH3 = NH4+ · f / (1 − f): with f 5.38 % it is 0.0569, with 2.65 % it is 0.0272.
        (dict(ammonium=1.0, ph=8.0, temperature=25.0), None, "ammonia", 0.0569, 2e-4, "Emerson1975: 5.38 %"),
        (dict(ammonium=1.0, ph=8.0, temperature=15.0), None, "ammonia", 0.0272, 2e-4, "Emerson1975: 2.65 %"),
        (dict(ammonium=1.0, ph=9.244, temperature=25.0), None, "ammonia", 1.0, 0.01, "pKa 9.24: as much NH3 as NH4+"),
        (dict(total_chlorine=1.8, chlorine=1.5), None, "combined_chlorine", 0.3, 1e-9, "total − free"),
        (dict(chlorine=2.0, ph=7.54, temperature=25.0), None, "hypochlorous", 1.0, 0.02, "Morris1966: half at pH 7.54"),
    ],
)
def test_what_follows_from_the_sheet(given_, raw, quantity, value, within, source):
    found = derive(have(**given_), Water(), raw_us_cm=raw, tds_factor=0.65, electrode="agcl-saturated")
    (one,) = [r for r in found if r.quantity == quantity]
    assert one.value == pytest.approx(value, abs=within), source
    assert one.parents == DERIVED[quantity]
    assert one.expanded_uncertainty >= 0


def test_nothing_follows_from_half_a_sheet_and_swapped_chlorine_is_refused():
    assert derive(have(ph=7.0), Water()) == []
    assert derive(have(conductivity=1000.0), Water()) == []  # no factor, no TDS
    total = derive(have(ammonium=1.0, ph=9.244, temperature=25.0), Water(), total_ammonia=True)
    assert total[0].value == pytest.approx(0.5, abs=0.005)  # a test kit gives both together
    with pytest.raises(InputError, match="swapped"):
        derive(have(total_chlorine=1.0, chlorine=2.0), Water())


@pytest.mark.parametrize(
    ("quantities", "more", "quantity", "words"),
    [
        (dict(redox=200.0, temperature=-4.0), {"electrode": "agcl-3m"}, "eh", "−4.0 °C and the table begins at −2"),
        (dict(redox=200.0, temperature=20.0), {}, "eh", "reference electrode is not on record"),
        (dict(conductivity=900.0, temperature=48.0), {"raw_us_cm": 900.0}, "salinity", "table ends at 45"),
        (dict(conductivity=90e3, temperature=20.0), {"raw_us_cm": 85e3}, "salinity", "scale ends at 42"),
        (dict(ammonium=1.0, ph=8.0, temperature=42.0), {}, "ammonia", "table ends at 40"),
    ],
)
def test_what_cannot_be_stated_says_why(quantities, more, quantity, words):
    facts = SheetFacts(have(**quantities), Water(), **more)
    (said,) = [n for n in not_stated(facts) if n.quantity == quantity]
    assert words in said.sentence
    assert quantity not in [r.quantity for r in derive(facts.read, facts.water, **more)]


@pytest.mark.parametrize(
    ("value", "u", "low", "high", "outcome"),
    [
        (7.0, 0.1, None, None, LimitOutcome.NONE),
        (7.0, 0.1, 6.0, 9.0, LimitOutcome.MET),
        (8.8, 0.05, 6.0, 9.0, LimitOutcome.NEAR),
        (8.97, 0.05, 6.0, 9.0, LimitOutcome.CANNOT_TELL),
        (9.04, 0.05, 6.0, 9.0, LimitOutcome.CANNOT_TELL),
        (9.06, 0.05, 6.0, 9.0, LimitOutcome.EXCEEDED),
        (5.0, 0.1, 6.0, None, LimitOutcome.EXCEEDED),
        (5.0, None, 6.0, None, LimitOutcome.EXCEEDED),
        (0.021, None, None, 0.02, LimitOutcome.EXCEEDED),
    ],
)
def test_a_limit_is_met_near_exceeded_or_cannot_be_told(value, u, low, high, outcome):
    found = against(value, u, low, high)  # JCGM106: guarded by the expanded uncertainty
    assert found.outcome is outcome
    assert ("no stated uncertainty" in found.sentence) == (u is None and outcome is not LimitOutcome.NONE)


@given(st.floats(-50, 50), st.floats(0.001, 5), st.floats(-20, 0), st.floats(1, 20))
def test_the_outcome_never_jumps_over_cannot_tell(value, u, low, high):
    order = [LimitOutcome.MET, LimitOutcome.NEAR, LimitOutcome.CANNOT_TELL, LimitOutcome.EXCEEDED]
    inside = against(value, u, low, high).outcome
    outward = against(value + (0.5 * u if value > (low + high) / 2 else -0.5 * u), u, low, high).outcome
    assert order.index(outward) >= order.index(inside)


def test_swapped_limits_and_impossible_values_are_named():
    with pytest.raises(InputError, match="lies above the upper"):
        against(1.0, 0.1, 5.0, 2.0)
    with pytest.raises(InputError):
        against(math.nan, 0.1, 0.0, 1.0)
    with pytest.raises(InputError, match="Temperature"):
        worth("ph", IDEAL, 0.0, at=300.0)
    assert conductivity.slip(1.413, (1000.0, 2000.0))
    assert oxygen.saturation_mg_l(20.0) == pytest.approx(9.09, abs=0.005)


def test_a_logger_s_memory():
    assert days_until_full(2400, 5) == pytest.approx(8.3, abs=0.05)  # domain: 2 400 records at 5 min
    for bad in ((0, 5), (2400, 0), (math.inf, 5)):
        with pytest.raises(InputError):
            days_until_full(*bad)


def test_saturation_takes_the_salt_into_account():
    """7.40 mg/L at 20 °C fill water of salinity 35, and four fifths of fresh water [BK84: 7.40 and 9.09 mg/L]."""
    read = have(oxygen=7.40, temperature=20.0)
    (salty,), (fresh,) = (derive(read, Water(salinity=s)) for s in (35.0, 0.0))
    assert salty.value == pytest.approx(100.0, abs=0.3)
    assert fresh.value == pytest.approx(81.4, abs=0.3)


def test_a_limit_below_zero_is_near_on_its_inner_side():
    assert against(-95.0, 0.1, -100.0, None).outcome is LimitOutcome.NEAR
    assert against(-85.0, 0.1, -100.0, None).outcome is LimitOutcome.MET


def test_the_uncertainty_of_the_standards_widens_a_reading_s_own():
    """Standards of ±0.01 and ±0.10 (k = 1): the second alone makes at least 0.2 of U (GUM, root of squares)."""
    fine, coarse = (worth("ph", IDEAL, 0.0, u=u).expanded_uncertainty for u in (0.01, 0.10))
    assert fine < 0.15
    assert 0.2 <= coarse < 0.25
