"""The simulated sensors: deterministic, in pieces or whole, true to their physics; each fault has its own signature."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from brumel.core import ph
from brumel.core.settling import State, judge
from brumel.meters.sensors import FAULTS, MODELS, SAMPLES_PER_S, Liquid, Start, sensor
from brumel.meters.sensors.glass import Electrode, contaminated
from brumel.methods import load_method
from brumel.methods.settling import load_settling

CRITERIA = load_method("ph-7-4-10").settling.criteria("pH signal")
GOOD = Electrode(slope=0.985, offset_mv=3.0, seed=5)
RICH = Liquid(
    18.0, ph=4.0, conductivity_us_cm=1230.0, oxygen_percent=95.0, redox_mv=230.0, ion_mg_l=10.0, chlorine_mg_l=1.5
)


def trace(electrode, liquid, until=90.0, start=None, dip=1):
    t = np.arange(0, until * SAMPLES_PER_S) / SAMPLES_PER_S
    return (t, *electrode.sense(liquid, t, start or Start(), dip))


@pytest.mark.parametrize("quantity", MODELS)
@settings(max_examples=12)
@given(cut=st.integers(1, 120), dip=st.integers(1, 10_000), fault=st.integers(0, 5))
def test_a_trace_made_in_pieces_is_the_trace_made_whole(quantity, cut, dip, fault):
    names = list(FAULTS[quantity])
    own = sensor(quantity, {"seed": 9, "cups_c": 18, "faults": names[fault : fault + 1]})
    t, signal, c = trace(own, RICH, 70, dip=dip)
    parts = [own.sense(RICH, part, Start(), dip) for part in (t[:cut], t[cut:])]
    assert np.array_equal(np.concatenate([p[0] for p in parts]), signal)
    assert np.array_equal(np.concatenate([p[1] for p in parts]), c)


def test_noise_differs_between_dips_and_probes_but_not_between_runs():
    first = trace(GOOD, Liquid(20.0, ph=7.0))[1]
    assert np.array_equal(first, trace(GOOD, Liquid(20.0, ph=7.0))[1])
    assert not np.array_equal(first, trace(GOOD, Liquid(20.0, ph=7.0), dip=2)[1])
    assert not np.array_equal(first, trace(Electrode(slope=0.985, offset_mv=3.0, seed=6), Liquid(20.0, ph=7.0))[1])


@given(p=st.floats(3, 11), t=st.floats(4, 35), slope=st.floats(0.85, 1.02), offset=st.floats(-30, 30))
def test_it_ends_at_nernst_s_value_and_the_cup_s_temperature(p, t, slope, offset):
    _, mv, c = trace(Electrode(slope=slope, offset_mv=offset, drift_mv_h=0.0, noise_mv=0.0), Liquid(t, ph=p), 120)
    expected = offset - slope * ph.nernst_slope_mv(t) * (p - 7)
    assert mv[-1] == pytest.approx(expected, abs=0.11)  # display of 0.1 mV
    assert c[-1] == pytest.approx(t, abs=0.06)


ENDS = {
    "conductivity": ({"cell_constant": 1.02, "leak_us": 0.0}, 1230.0 / 1.02, 2.0),  # G = kappa / K
    "oxygen": ({"gain": 0.9, "zero_percent": 0.4}, 0.9 * 95.0 + 0.4, 0.3),
    "redox": ({"offset_mv": 6.0}, 236.0, 1.0),
    "nitrate": ({"slope": 1.0, "e0_mv": 200.0, "e0_mv_per_c": 0.0}, 200.0 - ph.nernst_slope_mv(18.0), 0.4),
    "ammonium": ({"slope": 1.0, "e0_mv": -60.0, "e0_mv_per_c": 0.0}, -60.0 + ph.nernst_slope_mv(18.0), 0.4),
    "temperature": ({"error_c": 0.1}, 18.1, 0.05),
    "chlorine": ({"gain": 0.9}, 1.35, 0.03),
}


@pytest.mark.parametrize("quantity", ENDS)
def test_each_sensor_ends_where_its_law_says_and_settles_in_its_time(quantity):
    body, final, within = ENDS[quantity]
    t, signal, c = trace(sensor(quantity, {**body, "seed": 4}), RICH, 400)
    assert signal[-1] == pytest.approx(final, abs=within)
    assert c[-1] == pytest.approx(18.1 if quantity == "temperature" else 18.0, abs=0.06)
    spec = load_settling()["ions" if quantity in ("nitrate", "ammonium") else quantity]
    judged = [judge(t[:n], signal[:n], spec.criteria(quantity)).state for n in (200, 400, 700)]
    assert State.SETTLED in judged


def test_it_starts_where_the_last_cup_left_it():
    _, mv, c = trace(GOOD, Liquid(12.0, ph=4.0), start=Start(-80.0, 25.0))
    assert mv[0] == pytest.approx(-80, abs=0.5)
    assert c[0] == pytest.approx(25, abs=0.05)


def test_a_sound_electrode_settles_between_half_and_one_minute():
    t, mv, _ = trace(GOOD, Liquid(18.0, ph=4.0), 60)
    assert judge(t, mv, CRITERIA).state is State.SETTLED
    assert judge(t[:50], mv[:50], CRITERIA).state is State.WAITING


def test_still_water_sinks_at_a_membrane_and_not_in_air_or_moving_water():
    own = sensor("oxygen", {"seed": 3, "gain": 1.0, "zero_percent": 0.0})
    still = trace(own, Liquid(18.0, oxygen_percent=95.0, stirred=False), 240)[1]
    moving = trace(own, Liquid(18.0, oxygen_percent=95.0), 240)[1]
    assert still[-1] < 0.9 * moving[-1]
    assert still.max() > still[-1] + 3


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
    assert fault in FAULTS["ph"]
    t, good, _ = trace(GOOD, Liquid(18.0, ph=4.0), 120)
    bad = trace(Electrode(slope=0.985, offset_mv=3.0, seed=5, faults=(fault,)), Liquid(18.0, ph=4.0), 120)[1]
    assert SIGNS[fault](good, bad, t)


def test_only_the_alkaline_cup_takes_up_carbon_dioxide():
    assert contaminated(10.01) == pytest.approx(9.61)
    assert (contaminated(7.0), contaminated(4.0)) == (7.0, 4.0)
    assert Electrode.from_body({"slope": 0.9, "cups_c": 18, "faults": ["bubble"]}).faults == ("bubble",)
