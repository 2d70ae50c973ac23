"""Simulated ORP metal, ion tips, thermometer and chlorine tip."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from brumel.core.ph import nernst_slope_mv
from brumel.meters.sensors.common import Array, Liquid, Sensor, Start, approach, noise

METAL_FAULTS = {
    "dirty_metal": "dirty metal: slow and off",
    "reference": "contaminated reference: the same offset everywhere",
    "old_standard": "the last standard of the run is old",
}
TIP_FAULTS = {
    "aged_tip": "aged tip: a small gap, slow",
    "not_hydrated": "not hydrated: drifts on and on",
    "swapped_cups": "high and low cup are swapped",
    "warm_cup": "the second cup of the pair is warmer",
    "carry_over": "the high standard was carried into the low one",
}
THERMOMETER_FAULTS = {
    "sensor_off": "the sensor is off by 0.6 °C",
    "ice_wrong": "the ice bath is not at 0 °C",
    "slow": "a slow sleeve",
}
CHLORINE_FAULTS = {"dirty_tip": "a fouled tip: reads low and slow", "second_method": "the second method reads high"}


@dataclass(frozen=True)
class Metal(Sensor):
    """ORP: offset of the reference [mV], a fast and a slow time constant [s] with the slow one's share, noise [mV]."""

    offset_mv: float = 4.0
    tau_s: float = 6.0
    slow_tau_s: float = 35.0
    slow_share: float = 0.15
    thermistor_tau_s: float = 3.0
    noise_mv: float = 0.12

    def sense(self, liquid: Liquid, t_s: Array, start: Start, dip_number: int) -> tuple[Array, Array]:
        """ORP against the probe's own reference [mV], and temperature [°C]."""
        t = np.asarray(t_s, dtype=np.float64)
        offset, slow, share = self.offset_mv, self.slow_tau_s, self.slow_share
        if "dirty_metal" in self.faults:
            offset, slow = offset - 26.0 * self.severity, slow + 135.0 * self.severity
            share = share + 0.3 * self.severity
        if "reference" in self.faults:
            offset = offset + 42.0 * self.severity
        jitter = noise(self.seed, dip_number, t)
        final = liquid.redox_mv + offset
        gap = start.signal - final
        signal = (
            final
            + gap * ((1 - share) * np.exp(-t / self.tau_s) + share * np.exp(-t / slow))
            + self.noise_mv * jitter[0]
        )
        temperature = approach(t, start.temperature_c, liquid.temperature_c, self.thermistor_tau_s)
        return np.round(signal, 1), np.round(temperature + 0.01 * jitter[2], 2)


@dataclass(frozen=True)
class Tip(Sensor):
    """Ion tip: sign, slope efficiency, E0 at 1 mg/L [mV] and its change with temperature, time constants, noise [mV]."""

    sign: float = -1.0
    slope: float = 0.97
    e0_mv: float = 210.0
    e0_mv_per_c: float = 0.35
    tau_s: float = 9.0
    thermistor_tau_s: float = 4.0
    noise_mv: float = 0.05

    def sense(self, liquid: Liquid, t_s: Array, start: Start, dip_number: int) -> tuple[Array, Array]:
        """Signal [mV] and temperature [°C] by Nernst at the tip's own slope."""
        t = np.asarray(t_s, dtype=np.float64)
        slope, tau = self.slope, self.tau_s
        if "aged_tip" in self.faults:
            slope, tau = slope * self.graver(0.76), tau * self.graver(6)
        jitter = noise(self.seed, dip_number, t)
        temperature = approach(t, start.temperature_c, liquid.temperature_c, self.thermistor_tau_s)
        k = np.asarray(nernst_slope_mv(np.clip(temperature, -4, 100)))
        final = (
            self.e0_mv
            + self.e0_mv_per_c * (temperature - 20)
            + self.sign * slope * k * np.log10(max(liquid.ion_mg_l, 1e-4))
        )
        signal = approach(t, start.signal, final, tau)
        if "not_hydrated" in self.faults:
            signal = signal + 2.4 * self.severity * t / 60
        return np.round(signal + self.noise_mv * jitter[0], 1), np.round(temperature + 0.01 * jitter[2], 2)


@dataclass(frozen=True)
class Thermometer(Sensor):
    """Error of the sensor [°C], time constant [s], noise [°C]."""

    error_c: float = 0.04
    tau_s: float = 4.0
    noise_c: float = 0.008

    def sense(self, liquid: Liquid, t_s: Array, start: Start, dip_number: int) -> tuple[Array, Array]:
        """What it shows [°C], twice: signal and temperature are one."""
        t = np.asarray(t_s, dtype=np.float64)
        error = self.error_c + (0.6 * self.severity if "sensor_off" in self.faults else 0.0)
        tau = self.tau_s * (self.graver(9) if "slow" in self.faults else 1)
        shown = (
            approach(t, start.temperature_c, liquid.temperature_c + error, tau)
            + self.noise_c * noise(self.seed, dip_number, t)[0]
        )
        return np.round(shown, 2), np.round(shown, 2)


@dataclass(frozen=True)
class ChlorineTip(Sensor):
    """Gain, time constant [s], noise [mg/L]."""

    gain: float = 0.98
    tau_s: float = 8.0
    noise_mg_l: float = 0.006
    thermistor_tau_s: float = 3.0

    def sense(self, liquid: Liquid, t_s: Array, start: Start, dip_number: int) -> tuple[Array, Array]:
        """Free chlorine as shown [mg/L] and temperature [°C]."""
        t = np.asarray(t_s, dtype=np.float64)
        gain, tau = (self.gain, self.tau_s)
        if "dirty_tip" in self.faults:
            gain, tau = gain * self.graver(0.68), tau * self.graver(4)
        jitter = noise(self.seed, dip_number, t)
        signal = approach(t, start.signal, gain * liquid.chlorine_mg_l, tau) + self.noise_mg_l * jitter[0]
        temperature = approach(t, start.temperature_c, liquid.temperature_c, self.thermistor_tau_s)
        return np.round(signal, 3), np.round(temperature + 0.01 * jitter[2], 2)
