"""pH against the outside: CODATA slopes, the IUPAC table, known electrodes, and every refusal."""

import math

import numpy as np
import pytest
import scipy.constants as codata
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import ph
from brumel.core.errors import CannotFit, InputErrors, NotANumber, OutOfRange, UnknownName, WrongShape
from brumel.core.settling import State
from brumel.core.verdict import Band, Outcome
from tests.tables import rows

LIMITS = ph.VerdictLimits(Band(92, 102, 85, 105), Band(-25, 25, -45, 45), 0.10, "test", 5.0, "test")


@pytest.mark.parametrize("row", rows("nernst.csv"), ids=lambda r: r["temperature_c"])
def test_nernst_slope_is_the_handbook_s(row):
    t = float(row["temperature_c"])
    # Half the last printed digit; 57.17 at 15 °C is cut from 57.1751, so a hair more.
    assert ph.nernst_slope_mv(t) == pytest.approx(float(row["slope_mv"]), abs=0.0053)
    exact = math.log(10) * codata.R * (t + 273.15) / codata.value("Faraday constant") * 1000
    assert ph.nernst_slope_mv(t) == pytest.approx(exact, rel=1e-9)  # CODATA through scipy


@pytest.mark.parametrize("row", rows("buck2002_table2.csv"), ids=lambda r: r["buffer"])
def test_primary_buffers_are_the_printed_ones(row):
    temperatures = np.array([float(t) for t in row if t != "buffer"])
    printed = np.array([float(row[t]) for t in row if t != "buffer"])
    assert ph.buffer_ph(row["buffer"], temperatures) == pytest.approx(printed, abs=5e-13)
    between = ph.buffer_ph(row["buffer"], (temperatures[:-1] + temperatures[1:]) / 2)
    assert np.all((between - printed[:-1]) * (between - printed[1:]) <= 1e-12)  # never outside its neighbours


def test_technical_families_from_memory_stay_near_the_primary_of_the_same_salt():
    # From memory, cross-checked: 4.01 is phthalate (Buck2002) within the rounding of two decimals, 10.01 carbonate.
    t = np.arange(0, 51, 5.0)
    assert np.max(np.abs(ph.buffer_ph("4.01", t) - ph.buffer_ph("phthalate", t))) <= 0.0135
    assert np.max(np.abs(ph.buffer_ph("10.01", t) - ph.buffer_ph("carbonate", t))) <= 0.0055
    # Families of the same name differ by 0.01 to 0.14 pH: 6.865 is not 7.00.
    assert ph.buffer_ph("7.00", 25.0) - ph.buffer_ph("phosphate", 25.0) == pytest.approx(0.135, abs=1e-9)
    assert ph.buffer_ph("7.01", 20.0) - ph.buffer_ph("7.00", 20.0) == pytest.approx(0.01, abs=1e-9)


def test_a_lot_s_label_wins_and_is_not_stretched():
    label = ph.label_buffer("L1", "own", {15.0: 6.91, 25.0: 6.87})
    assert ph.buffer_ph(label, 20.0) == pytest.approx(6.89)
    assert label.source == "label of the lot"
    one = ph.label_buffer("L2", "own", {25.0: 4.63})
    assert ph.buffer_ph(one, 26.5) == 4.63
    with pytest.raises(OutOfRange, match="Temperature 30 °C is outside 23 to 27 °C"):
        ph.buffer_ph(one, 30.0)
    with pytest.raises(InputErrors) as all_at_once:
        ph.label_buffer("L3", "own", {25.0: 17.0, 99.0: 4.0})
    assert [f.field for f in all_at_once.value.faults] == ["ph", "temperature_c"]


def _points(slope, offset, buffers, temperatures):
    return [
        ph.BufferPoint(offset - slope * ph.nernst_slope_mv(t) * (ph.buffer_ph(b, t) - 7), t, ph.buffer_ph(b, t))
        for b, t in zip(buffers, temperatures, strict=True)
    ]


SETS = [("7.00",), ("7.01", "4.01"), ("4.01", "7.01", "10.01"), ("phthalate", "phosphate", "borax", "carbonate")]


@pytest.mark.parametrize("kind", ["segments", "line"])
@given(
    slope=st.floats(0.5, 1.1),
    offset=st.floats(-60, 60),
    at=st.floats(4, 40),
    apart=st.floats(-3, 3),
    chosen=st.sampled_from(SETS[1:3]),
)
def test_fit_recovers_a_known_electrode(kind, slope, offset, at, apart, chosen):
    temperatures = [at + apart * i / 2 for i in range(len(chosen))]
    points = _points(slope, offset, chosen, temperatures)
    found = ph.fit(points, kind=kind)
    assert found.slope == pytest.approx(slope, rel=1e-9)
    assert found.offset_mv == pytest.approx(offset, abs=1e-9 * max(1, abs(offset)) + 1e-9)
    assert max(abs(r) for r in found.residuals_mv) < 1e-8
    for p in points:  # a reading in a buffer gives the buffer
        assert found.ph(p.millivolts, p.temperature_c) == pytest.approx(p.ph, abs=1e-9)


@given(ph_value=st.floats(0, 14), t=st.floats(0, 60), bend=st.floats(-15, 15))
def test_signal_and_ph_are_inverse_even_with_bent_sides(ph_value, t, bend):
    points = _points(0.97, 5, ("4.01", "7.01", "10.01"), (20, 20, 20))
    bent = [points[0], points[1], ph.BufferPoint(points[2].millivolts + bend, 20.0, points[2].ph)]
    found = ph.fit(bent)
    # At the run's own temperature the sides meet and the inverse is exact; elsewhere it is exact off the seam.
    assert found.ph(found.millivolts(ph_value, 20.0), 20.0) == pytest.approx(ph_value, abs=1e-7)
    if abs(ph_value - 7.04) > 1.0:
        assert found.ph(found.millivolts(ph_value, t), t) == pytest.approx(ph_value, abs=1e-7)


def test_one_point_keeps_the_carried_slope_and_says_so():
    (point,) = _points(0.96, 12, ("7.00",), (18,))
    carried = ph.fit([point], carried=ph.Carried(0.96, "calibration 1001"))
    assert (carried.slope, carried.kind) == (0.96, "offset")
    assert carried.offset_mv == pytest.approx(12)
    assert ph.verdict(carried, LIMITS).rows[0].note.endswith("calibration 1001")
    ideal = ph.fit([point])
    assert ideal.carried is not None
    assert "ideal slope" in ideal.carried.origin
    assert ph.verdict(ideal, LIMITS).outcome is Outcome.CARE


def test_least_squares_line_is_numpy_s_and_survives_storing():
    points = _points(0.95, -8, SETS[3], (22, 23, 24, 25))
    noisy = [
        ph.BufferPoint(p.millivolts + d, p.temperature_c, p.ph)
        for p, d in zip(points, (0.4, -0.7, 0.2, 0.5), strict=True)
    ]
    found = ph.fit(noisy, kind="line")
    x = [ph.nernst_slope_mv(p.temperature_c) * (p.ph - 7) for p in noisy]
    slope, offset = np.polyfit(x, [p.millivolts for p in noisy], 1)
    assert (-found.slope, found.offset_mv) == pytest.approx((slope, offset), rel=1e-9)
    assert sum(found.residuals_mv) == pytest.approx(0, abs=1e-9)
    assert ph.PhFit.from_dict(found.as_dict()) == found


@pytest.mark.parametrize(
    ("points", "error", "words"),
    [
        ([], WrongShape, "there are 0"),
        ([(0, 20, 7)] * 6, WrongShape, "there are 6"),
        ([(0, 20, 7.0), (1, 20, 6.87)], CannotFit, "closer than 1 pH"),
        ([(0, 20, 7.0), (-170, 20, 4.0)], CannotFit, "rises instead of falling"),
        ([(0, 20, 7.0), (2, 20, 4.0)], CannotFit, "hardly changes"),
        ([(math.nan, 20, 7.0)], NotANumber, "Electrode signal must be a number"),
        ([(math.inf, 20, math.nan), (0, 400, 4.0)], InputErrors, "Temperature 400 °C is outside −5 to 105 °C"),
    ],
)
def test_what_cannot_be_fitted_is_said_in_a_sentence(points, error, words):
    with pytest.raises(error, match=words):
        ph.fit(points)


def test_reading_refuses_bad_input_and_names_the_field():
    found = ph.fit(_points(1, 0, ("7.00", "4.01"), (25, 25)))
    for bad in ("abc", None, math.nan, [1.0, math.nan]):
        with pytest.raises(NotANumber) as caught:
            found.ph(bad, 20.0)
        assert caught.value.field == "millivolts"
    with pytest.raises(WrongShape, match="lengths do not match"):
        found.ph(np.zeros(3), np.full(2, 20.0))
    with pytest.raises(WrongShape, match="no values"):
        found.ph([], 20.0)
    with pytest.raises(UnknownName, match="Did you mean “phthalate”"):
        ph.buffer_ph("phtalate", 25.0)
    assert found.ph(np.array([0.0, 59.16]), 25.0).shape == (2,)


def test_uncertainty_of_a_reading_agrees_with_a_monte_carlo():
    points = _points(0.97, 5, ("7.01", "4.01"), (20, 20))
    found = ph.fit(points)
    read = ph.read(found, 60.0, 15.0, u=ph.PhUncertainties(standard_ph=0.01))
    random = np.random.default_rng(5)
    n = 4000
    results = []
    for _ in range(n):  # JCGM 101 style: every input drawn from its own distribution
        shift = random.normal(0, 0.1)
        moved = [
            ph.BufferPoint(p.millivolts + random.normal(0, 0.3), p.temperature_c + shift, p.ph + random.normal(0, 0.01))
            for p in points
        ]
        value = ph.fit(moved).ph(60.0 + random.normal(0, 0.3), 15.0 + shift)
        results.append(value + random.uniform(-0.005, 0.005))
    assert read.budget.standard == pytest.approx(np.std(results), rel=0.05)
    assert read.working.steps[3].result == read.value == found.ph(60.0, 15.0)


def test_wrong_cup_same_cup_and_label_value_speak_up():
    tray = [ph.Cup("buffer 4.01", 4.0), ph.Cup("buffer 10.01", 10.06)]
    seven = ph.Cup("buffer 7.01", 7.02)
    k = ph.nernst_slope_mv(20.0)
    wrong = ph.wrong_cup(3 * k, 20.0, seven, tray)
    assert wrong
    assert "nearer to buffer 4.01" in wrong.sentence
    assert ph.wrong_cup(-0.02 * k, 20.0, seven, tray) is None
    assert ph.wrong_cup(-2 * k, 20.0, ph.Cup("buffer 4.01", 4.0), []).code == "no_cup"
    # An offset electrode is no wrong cup once its last calibration is known.
    off = ph.fit(_points(0.98, 40, ("7.01", "4.01"), (20, 20)))
    assert ph.wrong_cup(float(off.millivolts(7.02, 20.0)), 20.0, seven, tray, off) is None
    assert ph.same_cup(4.0, 4.0, [("buffer 7.01", 2.5, 7.02)], 20.0).code == "same_cup"
    assert ph.same_cup(174.0, 4.0, [("buffer 7.01", 2.5, 7.02)], 20.0) is None
    good = ph.fit(_points(0.98, 4, ("7.01", "4.01"), (20, 20)))
    taken = [(float(good.millivolts(at, 20.0)), 20.0, at) for at in (7.02, 4.0)]
    ten = ph.Cup("buffer 10.01", 10.06)
    spoiled = ph.cup_off(float(good.millivolts(9.66, 20.0)), 20.0, ten, taken)
    assert "this one reads pH 9.66, −0.40 from buffer 10.01" in spoiled.sentence
    assert ph.cup_off(float(good.millivolts(10.0, 20.0)), 20.0, ten, taken) is None
    fallen = ph.fit(_points(0.87, 4, ("7.01", "4.01"), (20, 20)))  # the slope has fallen in every cup: no cup's fault
    weak = [(float(fallen.millivolts(at, 20.0)), 20.0, at) for at in (7.02, 4.0)]
    assert ph.cup_off(float(fallen.millivolts(10.06, 20.0)), 20.0, ten, weak) is None
    assert ph.cup_off(float(fallen.millivolts(10.06, 20.0)), 20.0, ten, weak[:1]) is None  # one cup shows no slope
    assert ph.cup_off(-150.0, 20.0, ten, []) is None
    poured = ph.neighbour_buffer(float(good.millivolts(6.881, 20.0)), 20.0, seven, good)
    assert "reads pH 6.88: like a buffer of 6.88, not like buffer 7.01" in poured.sentence
    assert ph.neighbour_buffer(float(good.millivolts(6.97, 20.0)), 20.0, seven, good) is None
    assert ph.neighbour_buffer(float(good.millivolts(6.88, 20.0)), 20.0, seven, None) is None
    assert ph.restless(State.STEPPING).code == "bubble"
    assert ph.restless(State.NOISY).code == "noisy"
    assert ph.restless(State.SETTLED) is None
    assert ph.label_value_used(7.01, 7.01, 7.05).code == "label_value"
    assert ph.label_value_used(7.05, 7.01, 7.05) is None
    assert ph.temperature_spread([14, 20], 5).code == "cup_temperature"


def test_verdict_is_the_worst_of_its_rows():
    two = ph.fit(_points(0.90, 30, ("7.01", "4.01"), (20, 20)))
    check = ph.CheckPoint("buffer 10.01", -120.0, 20.0, 10.06)
    verdict = ph.verdict(two, LIMITS, checks=(check,), early=1, expired=("buffer 4.01",))
    by_key = {r.key: r.outcome for r in verdict.rows}
    assert by_key == {
        "slope": Outcome.CARE,
        "offset": Outcome.CARE,
        "linearity": Outcome.NOT,
        "early": Outcome.CARE,
        "cup_spread": Outcome.FIT,
        "expired": Outcome.CARE,
    }
    assert verdict.outcome is Outcome.NOT
    assert type(verdict).from_dict(verdict.as_dict()) == verdict
    assert all(r.source for r in verdict.rows)
