"""The simulated electrode: deterministic, in pieces or whole, and obeying Nernst; each fault has its own signature."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from brumel.core import ph
from brumel.core.settling import State, judge
from brumel.meters.simulated import FAULTS, SAMPLES_PER_S, Electrode, Liquid, Start, contaminated, sense
from brumel.methods import load_method

CRITERIA = load_method("ph-7-4-10").settling.criteria("pH signal")
GOOD = Electrode(slope=0.985, offset_mv=3.0, seed=5)


def trace(electrode, liquid, until=90.0, start=None, dip=1):
    t = np.arange(0, until * SAMPLES_PER_S) / SAMPLES_PER_S
    return (t, *sense(electrode, liquid, t, start or Start(), dip))


@given(
    cut=st.integers(1, 120), dip=st.integers(1, 10_000), fault=st.sampled_from([(), ("bubble",), ("clogged_junction",)])
)
def test_a_trace_made_in_pieces_is_the_trace_made_whole(cut, dip, fault):
    electrode = Electrode(seed=9, faults=fault)
    t, mv, c = trace(electrode, Liquid(4.0, 12.0), 70, dip=dip)
    parts = [sense(electrode, Liquid(4.0, 12.0), part, Start(), dip) for part in (t[:cut], t[cut:])]
    assert np.array_equal(np.concatenate([p[0] for p in parts]), mv)
    assert np.array_equal(np.concatenate([p[1] for p in parts]), c)


def test_noise_differs_between_dips_and_probes_but_not_between_runs():
    first = trace(GOOD, Liquid(7.0, 20.0))[1]
    assert np.array_equal(first, trace(GOOD, Liquid(7.0, 20.0))[1])
    assert not np.array_equal(first, trace(GOOD, Liquid(7.0, 20.0), dip=2)[1])
    assert not np.array_equal(first, trace(Electrode(slope=0.985, offset_mv=3.0, seed=6), Liquid(7.0, 20.0))[1])


@given(p=st.floats(3, 11), t=st.floats(4, 35), slope=st.floats(0.85, 1.02), offset=st.floats(-30, 30))
def test_it_ends_at_nernst_s_value_and_the_cup_s_temperature(p, t, slope, offset):
    _, mv, c = trace(Electrode(slope=slope, offset_mv=offset, drift_mv_h=0.0, noise_mv=0.0), Liquid(p, t), 120)
    expected = offset - slope * ph.nernst_slope_mv(t) * (p - 7)
    assert mv[-1] == pytest.approx(expected, abs=0.11)  # display of 0.1 mV
    assert c[-1] == pytest.approx(t, abs=0.06)


def test_it_starts_where_the_last_cup_left_it():
    _, mv, c = trace(GOOD, Liquid(4.0, 12.0), start=Start(-80.0, 25.0))
    assert mv[0] == pytest.approx(-80, abs=0.5)
    assert c[0] == pytest.approx(25, abs=0.05)


def test_a_sound_electrode_settles_between_half_and_one_minute():
    t, mv, _ = trace(GOOD, Liquid(4.0, 18.0), 60)
    assert judge(t, mv, CRITERIA).state is State.SETTLED
    assert judge(t[:50], mv[:50], CRITERIA).state is State.WAITING


SIGNS = {
    "dry_bulb": lambda good, bad, t: (
        abs(bad[-1]) < 0.92 * abs(good[-1]) and np.std(np.diff(bad[-40:])) > np.std(np.diff(good[-40:]))
    ),
    "clogged_junction": lambda good, bad, t: (
        bad[-1] - good[-1] > 25 and abs(bad[20] - bad[-1]) > abs(good[20] - good[-1])
    ),
    "bubble": lambda good, bad, t: np.max(np.abs(np.diff(bad[60:]))) > 5,
    "broken_bulb": lambda good, bad, t: abs(bad[-1]) < 15,
}


@pytest.mark.parametrize("fault", sorted(SIGNS))
def test_each_fault_shows_its_own_signature(fault):
    assert fault in FAULTS
    t, good, _ = trace(GOOD, Liquid(4.0, 18.0), 120)
    bad = trace(Electrode(slope=0.985, offset_mv=3.0, seed=5, faults=(fault,)), Liquid(4.0, 18.0), 120)[1]
    assert SIGNS[fault](good, bad, t)


def test_only_the_alkaline_cup_takes_up_carbon_dioxide():
    assert contaminated(10.01) == pytest.approx(9.61)
    assert (contaminated(7.0), contaminated(4.0)) == (7.0, 4.0)
    assert Electrode.from_body({"slope": 0.9, "cups_c": 18, "faults": ["bubble"]}).faults == ("bubble",)
