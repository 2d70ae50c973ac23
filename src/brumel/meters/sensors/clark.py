"""A simulated oxygen probe: membrane, zero current, oxygen use in still water, polarising, and their faults."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brumel.meters.sensors.common import Array, Liquid, Sensor, Start, approach, noise

FAULTS = {
    "wet_tip": "a drop on the membrane: low and slow in air",
    "torn_membrane": "torn membrane: high, restless, no real zero",
    "not_polarised": "not polarised: starts high and drifts down",
    "still_water": "the water stands still at the membrane",
    "spent_zero": "the zero solution is spent",
    "aged": "aged membrane and electrolyte: low gain",
}


@dataclass(frozen=True)
class Clark(Sensor):
    """Gain [1], zero [% sat], time constants [s], share of oxygen used up in still water, noise [% sat]."""

    gain: float = 0.97
    zero_percent: float = 0.5
    tau_s: float = 9.0
    thermistor_tau_s: float = 5.0
    consumption: float = 0.14
    noise_percent: float = 0.05

    def sense(self, liquid: Liquid, t_s: Array, start: Start, dip_number: int) -> tuple[Array, Array]:
        """Raw signal in percent of saturated air at 1013.25 hPa, and temperature [°C]."""
        t = np.asarray(t_s, dtype=np.float64)
        gain, zero, tau, sigma = self.gain, self.zero_percent, self.tau_s, self.noise_percent
        there = liquid.oxygen_percent
        if "aged" in self.faults:
            gain, tau = gain * self.graver(0.66), tau * self.graver(1.6)
        if "torn_membrane" in self.faults:
            gain, zero = gain * self.graver(1.38), zero + 9.0 * self.severity
            sigma += 0.5 * self.severity
        if "spent_zero" in self.faults and there < 5:
            there = there + 8.0 * self.severity
        if "wet_tip" in self.faults and liquid.vessel == "saturated_air":
            gain, tau = gain * self.graver(0.87), tau * self.graver(2.6)
        jitter = noise(self.seed, dip_number, t)
        temperature = approach(t, start.temperature_c, liquid.temperature_c, self.thermistor_tau_s)
        final = np.full_like(t, gain * there + zero)
        if not liquid.stirred or ("still_water" in self.faults and liquid.vessel != "saturated_air"):
            grave = self.severity if "still_water" in self.faults else 1.0
            final = final * (1 - grave * self.consumption * (1 - np.exp(-t / 55.0)))
        if "not_polarised" in self.faults:
            final = final * (1 + 0.30 * self.severity * np.exp(-t / 900.0))
        signal = approach(t, start.signal, final, tau) + sigma * jitter[0]
        return np.round(signal, 2), np.round(temperature + 0.01 * jitter[2], 2)
