"""A simulated pH meter: a deterministic model of an electrode in a cup or in a water.

Every sample is a pure function of the truth, the dip and its time, so a restarted meter goes on with the very
same trace, and two senders cannot disagree.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.ph import nernst_slope_mv

SAMPLES_PER_S = 2.0
FAULTS = {
    "dry_bulb": "dry bulb: weak and slow",
    "clogged_junction": "clogged junction: offset, slow, wandering",
    "contaminated_buffer": "the pH 10 cup has taken up CO2",
    "bubble": "a bubble at the bulb: noise and jumps",
    "wrong_cup": "the second cup of the run is not what its label says",
    "broken_bulb": "broken bulb: hardly any signal",
}


@dataclass(frozen=True)
class Electrode:
    """The hidden truth of a probe: slope efficiency, offset [mV], time constants [s], noise [mV], drift [mV/h]."""

    slope: float = 0.985
    offset_mv: float = 3.0
    tau_s: float = 5.0
    thermistor_tau_s: float = 3.0
    noise_mv: float = 0.06
    drift_mv_h: float = 0.3
    seed: int = 1
    faults: tuple[str, ...] = ()

    @classmethod
    def from_body(cls, body: dict[str, Any]) -> Electrode:
        known = {k: v for k, v in body.items() if k in cls.__dataclass_fields__}
        return cls(**{**known, "faults": tuple(known.get("faults", ()))})


@dataclass(frozen=True)
class Liquid:
    """What the probe stands in: true pH and temperature [°C]."""

    ph: float
    temperature_c: float


@dataclass(frozen=True)
class Start:
    """Where signal and thermistor were when the probe went in [mV, °C]."""

    millivolts: float = 0.0
    temperature_c: float = 20.0


def sense(
    electrode: Electrode, liquid: Liquid, t_s: NDArray[np.float64], start: Start, dip_number: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Signal and temperature at times `t_s` after the dip, 1-d, rounded to the display's 0.1 mV and 0.01 °C.

    First-order approach from `start`; noise is drawn per sample from (seed, dip, index), so any part of the
    trace can be made on its own.
    """
    t = np.asarray(t_s, dtype=np.float64)
    slope, offset, tau, noise = electrode.slope, electrode.offset_mv, electrode.tau_s, electrode.noise_mv
    wander = 0.0
    if "dry_bulb" in electrode.faults:
        slope, tau, noise = slope * 0.87, tau * 5, noise + 0.22
    if "clogged_junction" in electrode.faults:
        offset, tau, wander = offset + 33.0, tau * 4.5, 0.9
    if "broken_bulb" in electrode.faults:
        slope, noise = slope * 0.04, noise + 0.1
    temperature = liquid.temperature_c + (start.temperature_c - liquid.temperature_c) * np.exp(
        -t / electrode.thermistor_tau_s
    )
    final = offset - slope * np.asarray(nernst_slope_mv(np.clip(temperature, -4, 100))) * (liquid.ph - 7.0)
    signal = final + (start.millivolts - final) * np.exp(-t / tau) + electrode.drift_mv_h * t / 3600
    signal = signal + wander * np.sin(2 * np.pi * t / 170.0)
    jitter = _noise(electrode.seed, dip_number, t)
    signal = signal + noise * jitter[0]
    if "bubble" in electrode.faults:
        signal = signal + 0.9 * jitter[1] + np.where((t % 30) > 24, 9.0, 0.0)
    return np.round(signal, 1), np.round(temperature + 0.01 * jitter[2], 2)


def _noise(seed: int, dip_number: int, t: NDArray[np.float64]) -> NDArray[np.float64]:
    """Three rows of standard normal noise, one column a sample."""
    index = np.rint(t * SAMPLES_PER_S).astype(int)
    columns = [np.random.default_rng([seed, dip_number, int(i)]).standard_normal(3) for i in index]
    return np.array(columns).T.reshape(3, -1)


def contaminated(ph: float) -> float:
    """What a pH 10 cup has become after taking up CO2; other cups hardly change."""
    return ph - 0.4 if ph > 9 else ph
