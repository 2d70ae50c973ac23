"""A simulated pH electrode: Nernst's law, a first-order response, noise, drift, and the faults of its trade."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brumel.core.ph import nernst_slope_mv
from brumel.meters.sensors.common import Array, Liquid, Sensor, Start, approach, noise

FAULTS = {
    "dry_bulb": "dry bulb: weak and slow",
    "clogged_junction": "clogged junction: offset, slow, wandering",
    "contaminated_buffer": "the pH 10 cup has taken up CO2",
    "bubble": "a bubble at the bulb: noise and jumps",
    "wrong_cup": "the second cup of the run is not what its label says",
    "broken_bulb": "broken bulb: hardly any signal",
}


@dataclass(frozen=True)
class Electrode(Sensor):
    """The hidden truth of a probe: slope efficiency, offset [mV], time constants [s], noise [mV], drift [mV/h]."""

    slope: float = 0.985
    offset_mv: float = 3.0
    tau_s: float = 5.0
    thermistor_tau_s: float = 3.0
    noise_mv: float = 0.06
    drift_mv_h: float = 0.3

    def sense(self, liquid: Liquid, t_s: Array, start: Start, dip_number: int) -> tuple[Array, Array]:
        """Signal and temperature at times after the dip, rounded to the display's 0.1 mV and 0.01 °C."""
        t = np.asarray(t_s, dtype=np.float64)
        slope, offset, tau, sigma = self.slope, self.offset_mv, self.tau_s, self.noise_mv
        wander = 0.0
        if "dry_bulb" in self.faults:
            slope, tau = slope * self.graver(0.87), tau * self.graver(5)
            sigma += 0.22 * self.severity
        if "clogged_junction" in self.faults:
            offset, tau = offset + 33.0 * self.severity, tau * self.graver(4.5)
            wander = 0.9 * self.severity
        if "broken_bulb" in self.faults:
            slope, sigma = slope * 0.04, sigma + 0.1
        temperature = approach(t, start.temperature_c, liquid.temperature_c, self.thermistor_tau_s)
        final = offset - slope * np.asarray(nernst_slope_mv(np.clip(temperature, -4, 100))) * (liquid.ph - 7.0)
        signal = approach(t, start.signal, final, tau) + self.drift_mv_h * t / 3600
        signal = signal + wander * np.sin(2 * np.pi * t / 170.0)
        jitter = noise(self.seed, dip_number, t)
        signal = signal + sigma * jitter[0]
        if "bubble" in self.faults:
            signal = signal + self.severity * (0.9 * jitter[1] + np.where((t % 30) > 24, 9.0, 0.0))
        return np.round(signal, 1), np.round(temperature + 0.01 * jitter[2], 2)


def contaminated(ph: float) -> float:
    """What a pH 10 cup has become after taking up CO2; other cups hardly change."""
    return ph - 0.4 if ph > 9 else ph
