"""A simulated conductivity cell: geometry, the water's temperature, bubbles, coating, wet contacts."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brumel.meters.sensors.common import Array, Liquid, Sensor, Start, approach, noise

FAULTS = {
    "bubble": "an air bubble in the cell: reads low and jumps",
    "coated": "coated electrodes: read low, more so in a strong standard",
    "wet_contacts": "water in the plug: conducts in air",
    "old_standard": "the standard has dried in: 7 % too strong",
    "wrong_cup": "the last cup of the run is not what its label says",
}


@dataclass(frozen=True)
class ConductivitySensor(Sensor):
    """Cell constant [1/cm], leak in air [µS], time constants [s], relative noise."""

    cell_constant: float = 1.02
    leak_us: float = 0.05
    tau_s: float = 1.2
    thermistor_tau_s: float = 4.0
    noise_share: float = 0.0004
    temperature_share: float = 0.02

    def sense(self, liquid: Liquid, t_s: Array, start: Start, dip_number: int) -> tuple[Array, Array]:
        """Conductance [µS] and temperature [°C]; while the cell still warms, so does the film in it."""
        t = np.asarray(t_s, dtype=np.float64)
        temperature = approach(t, start.temperature_c, liquid.temperature_c, self.thermistor_tau_s)
        kappa = 0.0 if liquid.vessel == "air" else liquid.conductivity_us_cm
        inside = kappa * (1 + self.temperature_share * (temperature - liquid.temperature_c) * 0.5)
        conductance = inside / self.cell_constant
        jitter = noise(self.seed, dip_number, t)
        if "coated" in self.faults:
            film = 0.06 + 0.06 * np.log10(np.maximum(conductance, 1.0)) / 3
            conductance = conductance / (1 + self.severity * film)
        if "bubble" in self.faults and kappa:
            hidden = (0.88 + 0.01 * jitter[1]) * np.where((t % 22) > 18, 0.93, 1.0)
            conductance = conductance * hidden**self.severity
        leak = self.leak_us + (14.0 * self.severity if "wet_contacts" in self.faults else 0.0)
        signal = approach(t, start.signal, conductance + leak, self.tau_s)
        signal = signal * (1 + self.noise_share * jitter[0]) + 0.02 * jitter[0]
        return np.round(signal, 2), np.round(temperature + 0.01 * jitter[2], 2)
