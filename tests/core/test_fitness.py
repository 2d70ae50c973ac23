"""What the points of a run add up to, against worked figures; every fit survives being stored; rows at their limits."""

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import conductivity as ec
from brumel.core import oxygen as do
from brumel.core.errors import CannotFit, InputError
from brumel.core.fitness import (
    CalibrationPoint,
    JudgingTerms,
    chlorine,
    conductivity,
    ions,
    oxygen,
    ph,
    redox,
    temperature,
)
from brumel.core.ph import nernst_slope_mv
from brumel.core.verdict import Outcome
from brumel.methods import load_methods

METHODS = load_methods()


def limits(key):
    return METHODS[key].judged_by()


def rows(found):
    return {r.key: (r.value, r.outcome) for r in found.verdict.rows}


def taken(role, signal, at, expected, **more):
    return CalibrationPoint(role, role, signal, at, expected, **more)


def standard(k, value, at=20.0, role="adjust", leak=0.0):
    """A cell of constant k in a standard [1/cm, µS/cm]."""
    return taken(role, value / k + leak, at, value)


JUMPS = [  # the constant of last time, of now, their change in percent by hand, and what that is
    (1.0, 1.02, 2.0, Outcome.FIT),
    (1.0, 1.07, 7.0, Outcome.CARE),
    (1.0, 0.93, -7.0, Outcome.CARE),
]


@pytest.mark.parametrize(("last", "now", "percent", "outcome"), JUMPS)
def test_a_jump_of_the_constant_and_the_error_as_found_are_judged_in_every_run(last, now, percent, outcome):
    before = conductivity.CellFit(last, 0.0, 1.0, "one standard")
    terms = JudgingTerms(before=before, nominal_per_cm=1.0)
    found = conductivity.assess([standard(now, 1278.0)], limits("ec-one-standard"), terms)
    shown = {r.key: r for r in found.verdict.rows}
    assert (shown["constant_jump"].value, shown["constant_jump"].outcome) == (pytest.approx(percent), outcome)
    assert shown["as_found"].value == pytest.approx(1278.0 * (last / now - 1))  # read by the constant of last time
    first = conductivity.assess([standard(now, 1278.0)], limits("ec-one-standard"), JudgingTerms(nominal_per_cm=1.0))
    assert not {"constant_jump", "as_found"} & {r.key for r in first.verdict.rows}
    # Nothing tells a cell that is off from its only standard: never fit by its own word, and with care beyond 5 %.
    (alone,) = [r for r in first.verdict.rows if r.key == "constant_first"]
    assert alone.outcome is (Outcome.UNKNOWN if outcome is Outcome.FIT else Outcome.CARE)
    two = [standard(now, 1278.0), standard(now, 11_670.0)]
    both = conductivity.assess(two, limits("ec-two-standards"), JudgingTerms(nominal_per_cm=1.0))
    assert "constant_first" not in {r.key for r in both.verdict.rows}


@given(k=st.floats(0.05, 15), leak=st.floats(0, 0.9), at=st.floats(6, 29))
def test_a_cell_is_found_whatever_its_leak_once_the_air_was_read(k, leak, at):
    weak, strong = (float(ec.standard_us_cm(s, at)) for s in ("1413", "12.88 mS"))
    points = [taken("zero", leak, at, 0.0), standard(k, weak, at, leak=leak), standard(k, strong, at, leak=leak)]
    found = conductivity.assess(points, limits("ec-two-standards"), JudgingTerms(nominal_per_cm=k))
    assert found.fit.cell_constant_per_cm == pytest.approx(k, rel=1e-6)
    assert found.fit.read(points[1].signal, at) == pytest.approx(weak, rel=1e-6)
    assert found.verdict.outcome is Outcome.FIT
    again = conductivity.restore(json.loads(json.dumps(found.fit.as_dict())))
    assert again == found.fit
    assert again.cell.conductivity_us_cm(points[2].signal) == pytest.approx(strong, rel=1e-6)


@pytest.mark.parametrize(
    ("change", "outcome"), [(9.9, "fit"), (-9.9, "fit"), (10.1, "care"), (-19.9, "care"), (20.1, "not"), (-20.1, "not")]
)  # domain section 4: ±10 % of nominal fit, ±20 % with care
def test_a_cell_constant_is_judged_against_nominal(change, outcome):
    found = conductivity.assess(
        [standard(1 + change / 100, 1278.0)], limits("ec-one-standard"), JudgingTerms(nominal_per_cm=1.0)
    )
    assert rows(found)["cell_constant"] == (pytest.approx(change), Outcome(outcome))


AS_FOUND = [  # domain section 4: ±5 % or ±5 µS/cm, whichever is greater; it does not decide whether the cell is fit now
    (1413.0, 1.049, "fit"),
    (1413.0, 1.051, "care"),
    (60.0, 1.08, "fit"),
    (60.0, 1.09, "care"),
]


@pytest.mark.parametrize(("value", "factor", "outcome"), AS_FOUND)
def test_as_found_is_judged_by_share_or_by_least(value, factor, outcome):
    before = conductivity.CellFit(factor, 0.0, 1.0, "one standard")
    found = conductivity.assess(
        [standard(1.0, value, role="found"), standard(1.0, value)],
        limits("ec-one-standard"),
        JudgingTerms(before=before),
    )
    error, judged = rows(found)["as_found"]
    assert (error, judged) == (pytest.approx(value * (factor - 1)), Outcome(outcome))


@given(gain=st.floats(0.5, 1.6), zero=st.floats(-1, 3), t=st.floats(1, 34), p=st.floats(650, 1060), s=st.floats(0, 1))
def test_an_oxygen_probe_reads_right_on_another_altitude(gain, zero, t, p, s):
    """The signal follows the partial pressure, so what was set at p reads right at 1013.25 hPa and at any share s."""
    full = float(do.saturation_mg_l(t, 0.0, p))

    def signal(c):
        return gain * oxygen.share_percent(c, t) + zero

    points = [taken("zero", signal(0.0), t, 0.0), taken("adjust", signal(full), t, full)]
    found = oxygen.assess(points, limits("do-zero-air"), JudgingTerms())
    assert found.fit.gain_percent == pytest.approx(100 * gain, rel=1e-6)
    there = s * float(do.saturation_mg_l(t))
    assert found.fit.read(signal(there), t) == pytest.approx(there, abs=1e-6)
    assert oxygen.restore(json.loads(json.dumps(found.fit.as_dict()))) == found.fit


def test_a_line_through_all_points_does_not_hide_a_buffer_that_is_off():
    k = float(nernst_slope_mv(25.0))
    points = [taken("adjust", -k * (true - 7), 25.0, label) for true, label in ((4.0, 4.0), (7.0, 7.0), (9.7, 10.0))]
    terms = JudgingTerms(kind="line")
    found = ph.assess(points, limits("ph-7-4-10-line"), terms).features
    assert found["side_gap_percent"] == pytest.approx(10.0)  # 2.7 of 3 pH on one side: 90 % of an ideal slope
    near = [taken("adjust", -k * (x - 7), 25.0, x + off) for x, off in ((6.86, 0), (7.0, 0.01), (7.4, 0), (9.2, 0))]
    assert "side_gap_percent" not in ph.assess(near, limits("ph-7-4-10-line"), terms).features


def test_a_membrane_that_is_only_checked_gives_as_much_less_as_it_reads_low():
    full = float(do.saturation_mg_l(20.0))
    point = taken("check", 76.0, 20.0, full)
    fit = oxygen.OxygenFit(95.0, 0.0, "saturated")
    found = oxygen.assess([point], limits("do-check-air"), JudgingTerms(before=fit)).features
    assert found["gain_change_percent"] == pytest.approx(-20.0, abs=0.3)


def test_oxygen_s_rows_stand_at_the_domain_s_limits():
    full = float(do.saturation_mg_l(20.0))
    assert round(full, 2) == 9.09  # BK84 as printed

    def judge(gain, zero, water):
        return rows(
            oxygen.assess(
                [taken("zero", zero, 20.0, 0.0), taken("adjust", gain + zero, 20.0, full)],
                limits("do-zero-air"),
                JudgingTerms(first_gain_percent=100.0, water_c=water),
            )
        )

    assert judge(121.0, 0.0, 20.0)["gain"][1] is Outcome.CARE
    assert judge(131.0, 0.0, 20.0)["gain"][1] is Outcome.NOT
    assert judge(100.0, 2.1, 20.0)["zero"] == (pytest.approx(0.19, abs=0.01), Outcome.FIT)  # up to 0.2 mg/L
    assert judge(100.0, 2.4, 20.0)["zero"][1] is Outcome.CARE
    assert judge(100.0, 0.0, 9.9)["air_water"] == (pytest.approx(10.1), Outcome.CARE)  # air and water within 10 °C
    with pytest.raises(CannotFit, match="hardly more than in zero"):
        oxygen.assess([taken("adjust", 1.0, 20.0, full)], limits("do-zero-air"), JudgingTerms())


@pytest.mark.parametrize(("error", "outcome"), [(15.0, "fit"), (-15.1, "care"), (30.0, "care"), (30.1, "not")])
def test_an_orp_check_is_within_its_tolerance(error, outcome):
    found = redox.assess([taken("check", 221.0 + error, 25.0, 221.0)], limits("orp-check"), JudgingTerms())
    assert rows(found)["orp"] == (pytest.approx(error), Outcome(outcome))
    assert found.fit.read(300.0, 25.0) == 300.0  # checked, not adjusted
    offset = redox.assess([taken("adjust", 221.0 + error, 25.0, 221.0)], limits("orp-offset"), JudgingTerms()).fit
    assert offset.read(221.0 + error, 25.0) == pytest.approx(221.0)
    assert redox.restore(json.loads(json.dumps(offset.as_dict()))) == offset


@given(
    slope=st.floats(0.8, 1.1), e0=st.floats(-200, 300), ion=st.sampled_from(["nitrate", "ammonium"]), t=st.floats(3, 12)
)
def test_a_tip_of_four_points_reads_its_standards_warm_and_cold(slope, e0, ion, t):
    sign = -1.0 if ion == "nitrate" else 1.0

    def mv(c, at):
        return e0 + 0.3 * at + sign * slope * float(nernst_slope_mv(at)) * np.log10(c)

    points = [taken("adjust", mv(c, at), at, c) for c, at in ((10.0, 22.0), (100.0, 22.0), (100.0, t), (10.0, t))]
    found = ions.assess(points, limits("no3-four"), JudgingTerms(ion=ion))
    for p in points:
        assert found.fit.read(p.signal, p.temperature_c) == pytest.approx(p.expected, rel=1e-4)
    # 62.7 mV at 43 °C is not health: the gap is put to 25 °C before it is judged (domain section 7).
    assert rows(found)["gap_0"][0] == pytest.approx(slope * 59.16, abs=0.02)
    assert ions.restore(json.loads(json.dumps(found.fit.as_dict()))) == found.fit
    with pytest.raises(InputError):
        ions.assess(points[:1], limits("no3-two"), JudgingTerms(ion=ion))
    with pytest.raises(InputError, match="does not"):
        ions.assess([points[0], taken("adjust", mv(1.0, 22.0), 22.0, 100.0)], limits("no3-two"), JudgingTerms(ion=ion))


def test_prerequisites_name_what_is_missing_and_ask_nothing_of_what_a_meter_has_not():
    assert ions.prerequisites({"ph": True, "redox": True, "conductivity": True}) == ()
    assert ions.prerequisites({"ph": False}) == ("pH not calibrated first",)
    assert len(ions.prerequisites({"ph": False, "redox": False, "conductivity": False})) == 3


@given(offset=st.floats(-0.5, 0.5), tilt=st.floats(-0.01, 0.01), at=st.floats(-1, 30))
def test_a_thermometer_is_corrected_on_a_straight_line_only_where_asked(offset, tilt, at):
    def shown(true):
        return true + offset + tilt * true

    points = [taken("adjust", shown(v), v, v, expanded_uncertainty=0.05) for v in (0.0, 22.0)]
    corrected = temperature.assess(points, limits("temp-corrected"), JudgingTerms()).fit
    assert corrected.read(shown(at), at) == pytest.approx(at, abs=1e-3)
    checked = temperature.assess(
        [CalibrationPoint(**{**p.__dict__, "role": "check"}) for p in points], limits("temp-two-points"), JudgingTerms()
    )
    assert checked.fit.read(shown(at), at) == pytest.approx(shown(at))
    assert temperature.restore(json.loads(json.dumps(corrected.as_dict()))) == corrected


@pytest.mark.parametrize(
    ("shown", "second", "outcome"), [(1.50, 1.60, "fit"), (1.50, 1.62, "fit"), (1.50, 1.66, "not")]
)
def test_a_chlorine_tip_is_held_to_the_normalised_error(shown, second, outcome):
    """En = d / √(0.1² + 0.08²), limit 1 [ISO13528]: 0.128 mg/L apart is the most."""
    found = chlorine.assess(
        [taken("check", shown, 28.0, second, expanded_uncertainty=0.08)],
        limits("cl-check"),
        JudgingTerms(expanded_uncertainty=0.1),
    )
    en, judged = rows(found)["en"]
    assert en == pytest.approx((shown - second) / np.hypot(0.1, 0.08))
    assert judged is Outcome(outcome)
    fit = chlorine.assess(
        [taken("adjust", shown, 28.0, second, expanded_uncertainty=0.08)], limits("cl-adjust"), JudgingTerms()
    ).fit
    assert fit.read(shown, 28.0) == pytest.approx(second)
    assert chlorine.restore(json.loads(json.dumps(fit.as_dict()))) == fit


def test_early_old_missing_and_doubtful_all_make_it_with_care():
    points = [taken("adjust", -59.16 * (p - 7), 25.0, p) for p in (4.0, 7.0, 10.0)]
    sound = ph.assess(points, limits("ph-7-4-10"), JudgingTerms(kind="segments"))
    assert sound.verdict.outcome is Outcome.FIT
    assert ph.span_percent(points) == pytest.approx(100, abs=0.01)
    for terms in (
        JudgingTerms(early=1),
        JudgingTerms(objections=("Buffer",)),
        JudgingTerms(missing=("x",)),
        JudgingTerms(doubts=("It jumped.",)),
    ):
        judged = ph.assess(points, limits("ph-7-4-10"), JudgingTerms(**{**terms.__dict__, "kind": "segments"}))
        assert judged.verdict.outcome is Outcome.CARE
    again = ph.restore(json.loads(json.dumps(sound.fit.as_dict())))
    assert again.read(-100.0, 18.0) == sound.fit.read(-100.0, 18.0)
