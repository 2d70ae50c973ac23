"""Uncertainty of a reading, quantity by quantity, by the law of propagation [GUM, eq. 10].

Each budget takes the standard's uncertainty, the settling noise of standard and sample, the thermometer and the display's
resolution. Errors common to standard and sample (one thermometer) enter once and move both.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from brumel.core import conductivity, ions, oxygen
from brumel.core.uncertainty import Budget, propagate, rectangular


@dataclass(frozen=True)
class CellUncertainties:
    """Standard uncertainties of a conductivity reading, and the step of its display.

    standard_percent, noise_percent : of each standard and of each settled reading [%]
    temperature_c : of the thermometer, in the cups and in the sample alike [°C]
    coefficient_percent : of the compensation's coefficient [%/°C]; 0, since "at 25 °C, 2.0 %/°C" names the one that is meant
    resolution_us_cm : of the display [µS/cm]
    """

    standard_percent: float = 0.5
    noise_percent: float = 0.15
    temperature_c: float = 0.1
    coefficient_percent: float = 0.0
    resolution_us_cm: float = 1.0


@dataclass(frozen=True)
class OxygenUncertainties:
    """Standard uncertainties of an oxygen reading, and the step of its display [%, °C, hPa, practical salinity, mg/L]."""

    noise_percent: float = 0.15
    temperature_c: float = 0.1
    pressure_hpa: float = 1.0
    salinity: float = 0.1
    resolution_mg_l: float = 0.01


def conductivity_budget(
    cell: conductivity.Cell,
    conductance_us: float,
    temperature_c: float,
    *,
    kind: conductivity.Kind = "linear",
    coefficient_percent: float = 2.0,
    u: CellUncertainties = CellUncertainties(),
) -> Budget:
    """Specific conductance at 25 °C [µS, °C] -> [µS/cm]; `u` is what is not known of each input."""

    def again(x: Mapping[str, float]) -> float:
        shift = x["thermometer"]
        points = [
            replace(
                p,
                conductance_us=p.conductance_us * (1 + x[f"noise in standard {i + 1}"] / 100),
                # The standard's own value moves with the temperature it is thought to have, about 2 % per °C.
                standard_us_cm=p.standard_us_cm * (1 + x[f"standard {i + 1}"] / 100) * (1 + 0.02 * shift),
            )
            for i, p in enumerate(cell.points)
        ]
        moved = conductivity.fit_cell(points, air_zero_us=cell.zero_us)
        raw = float(moved.conductivity_us_cm(conductance_us * (1 + x["noise in the sample"] / 100)))
        at_25 = conductivity.to_reference(
            raw, temperature_c + shift, kind=kind, coefficient_percent=x["coefficient"] if kind == "linear" else 0.0
        )
        return float(at_25) + x["rounding of the display"]

    inputs = {
        "thermometer": (0.0, u.temperature_c),
        "noise in the sample": (0.0, u.noise_percent),
        "coefficient": (coefficient_percent, u.coefficient_percent if kind == "linear" else 0.0),
        "rounding of the display": (0.0, rectangular(u.resolution_us_cm / 2)),
    }
    for i in range(len(cell.points)):
        inputs[f"standard {i + 1}"] = (0.0, u.standard_percent)
        inputs[f"noise in standard {i + 1}"] = (0.0, u.noise_percent)
    return propagate(again, inputs)


def oxygen_budget(
    oxygen_mg_l: float,
    temperature_c: float,
    salinity: float = 0.0,
    pressure_hpa: float = 1013.25,
    *,
    calibrated_c: float | None = None,
    u: OxygenUncertainties = OxygenUncertainties(),
) -> Budget:
    """Oxygen read with a probe set in saturated air at `calibrated_c` [mg/L, °C, hPa] -> [mg/L].

    The probe answers to the share of saturation: c = reading · sat(T, S, P) / sat as assumed; the air point's own noise,
    pressure and temperature enter by its target. Source: GUM, BK84.
    """
    air_c = temperature_c if calibrated_c is None else calibrated_c
    share = oxygen_mg_l / float(oxygen.saturation_mg_l(temperature_c, salinity, pressure_hpa))

    def again(x: Mapping[str, float]) -> float:
        t, p = temperature_c + x["thermometer"], pressure_hpa + x["pressure"]
        gain = float(oxygen.saturation_mg_l(air_c + x["thermometer"], 0.0, p)) / float(
            oxygen.saturation_mg_l(air_c, 0.0, pressure_hpa)
        )
        there = float(oxygen.saturation_mg_l(t, max(salinity + x["salinity"], 0.0), pressure_hpa))
        noise = (1 + x["noise in the sample"] / 100) * (1 + x["noise in air"] / 100)
        return share * there * gain * noise + x["rounding of the display"]

    return propagate(
        again,
        {
            "thermometer": (0.0, u.temperature_c),
            "pressure": (0.0, u.pressure_hpa),
            "salinity": (0.0, u.salinity),
            "noise in the sample": (0.0, u.noise_percent),
            "noise in air": (0.0, u.noise_percent),
            "rounding of the display": (0.0, rectangular(u.resolution_mg_l / 2)),
        },
    )


def ion_budget(
    calibration: ions.IonCalibration,
    millivolts: float,
    temperature_c: float,
    *,
    standard_u_percent: float = 0.5,
    noise_u_mv: float = 0.3,
    temperature_u_c: float = 0.1,
) -> Budget:
    """Concentration from an ion-selective electrode, the fit made again with each point moved [mV, °C] -> [mg/L]."""

    def again(x: Mapping[str, float]) -> float:
        points = [
            ions.IonPoint(
                p.millivolts + x[f"signal in standard {i + 1}"],
                p.temperature_c + x["thermometer"],
                p.concentration_mg_l * (1 + x[f"standard {i + 1}"] / 100),
            )
            for i, p in enumerate(calibration.points)
        ]
        moved = ions.fit(points, ion=calibration.ion)
        return float(moved.concentration_mg_l(millivolts + x["signal in the sample"], temperature_c + x["thermometer"]))

    inputs = {"thermometer": (0.0, temperature_u_c), "signal in the sample": (0.0, noise_u_mv)}
    for i in range(len(calibration.points)):
        inputs[f"standard {i + 1}"] = (0.0, standard_u_percent)
        inputs[f"signal in standard {i + 1}"] = (0.0, noise_u_mv)
    return propagate(again, inputs)
