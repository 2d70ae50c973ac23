"""A site reading: from mV to the reported pH, with working and uncertainty."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from brumel.core.ph.electrode import Carried, FitKind, PhFit, Segment, fit, nernst_slope_mv
from brumel.core.uncertainty import Budget, propagate, rectangular
from brumel.core.working import Input, Step, Working

#: How far an electrode's slope lies from the ideal one where none was measured [fraction]: common practice, no source.
IDEAL_SLOPE_U = 0.03


@dataclass(frozen=True)
class PhReading:
    """A reported pH at the sample's own temperature, its budget (k = 2) and its working."""

    value: float
    budget: Budget
    working: Working


@dataclass(frozen=True)
class PhUncertainties:
    """Standard uncertainties behind a pH reading.

    signal_mv : of a settled signal, for cups and sample alike [mV]
    temperature_c : of the thermometer, one error shared by all cups and the sample [°C]
    standard_ph : of each buffer [pH]
    slope : of a carried-over slope, used with one point only [fraction]
    """

    signal_mv: float = 0.3
    temperature_c: float = 0.1
    standard_ph: float = 0.01
    slope: float = 0.02


def read(
    calibration: PhFit,
    millivolts: float,
    temperature_c: float,
    *,
    u: PhUncertainties = PhUncertainties(),
    origin: str = "",
) -> PhReading:
    """The sample's own pH at its temperature; it is not converted to 25 °C.

    Parameters
    ----------
    calibration : the fit in force
    millivolts, temperature_c : settled signal and sample temperature [mV, °C]
    u : what is not known of each input
    origin : which calibration this is, for the working

    Propagation: each point is moved by its uncertainty and the fit is made again [GUM, eq. 10].
    """
    value = float(calibration.ph(millivolts, temperature_c))
    kind: FitKind = "line" if calibration.kind == "line" else "segments"

    def again(x: Mapping[str, float]) -> float:
        shift = x.get("thermometer", 0.0)
        points = [
            replace(
                p,
                millivolts=x[f"signal in pH {p.ph:.2f}"],
                ph=x[f"buffer pH {p.ph:.2f}"],
                temperature_c=p.temperature_c + shift,
            )
            for p in calibration.points
        ]
        carried = Carried(x["carried slope"], "") if calibration.carried else None
        moved = fit(points, kind=kind, carried=carried, isopotential_ph=calibration.isopotential_ph)
        return float(moved.ph(x["signal in the sample"], temperature_c + shift))

    inputs: dict[str, tuple[float, float]] = {
        "signal in the sample": (millivolts, u.signal_mv),
        "thermometer": (0.0, u.temperature_c),
        "display, 0.01 pH": (0.0, 0.0),
    }
    for p in calibration.points:
        inputs[f"signal in pH {p.ph:.2f}"] = (p.millivolts, u.signal_mv)
        inputs[f"buffer pH {p.ph:.2f}"] = (p.ph, u.standard_ph)
    if calibration.carried:
        ideal = calibration.carried.origin.startswith("ideal")
        inputs["carried slope"] = (calibration.slope, max(u.slope, IDEAL_SLOPE_U) if ideal else u.slope)
    budget = propagate(again, inputs)
    resolution = rectangular(0.005)
    budget = replace(
        budget,
        value=value,
        contributions=(
            *budget.contributions,
            replace(
                budget.contributions[0], name="rounding to 0.01 pH", standard_uncertainty=resolution, sensitivity=1.0
            ),
        ),
    )
    return PhReading(value, budget, _working(calibration, millivolts, temperature_c, value, budget, origin))


def _working(
    calibration: PhFit, millivolts: float, temperature_c: float, value: float, budget: Budget, origin: str
) -> Working:
    k = float(nernst_slope_mv(temperature_c))
    line = _segment_for(calibration, value)
    return Working(
        "pH from the electrode's signal",
        (
            Step("E", "settled signal", "as read", (), millivolts, "mV", "reading", 1),
            Step(
                "k",
                "ideal slope at the sample's temperature",
                "k = ln(10) · R · T / F",
                (Input("T", "sample temperature", temperature_c, "°C"),),
                k,
                "mV/pH",
                "CODATA",
                2,
            ),
            Step(
                "s·k",
                "this electrode's slope there",
                "s × k",
                (
                    Input("s", f"slope from {origin or 'the calibration'}", line.slope * 100, "%"),
                    Input("k", "ideal slope", k, "mV/pH"),
                ),
                line.slope * k,
                "mV/pH",
                "Buck2002",
                2,
            ),
            Step(
                "pH",
                "pH of the sample, at its own temperature",
                "pH = pHiso + (E0 − E) / (s·k)",
                (
                    Input("pHiso", "isopotential pH", calibration.isopotential_ph),
                    Input("E0", "offset", line.offset_mv, "mV"),
                    Input("E", "signal", millivolts, "mV"),
                    Input("s·k", "slope", line.slope * k, "mV/pH"),
                ),
                value,
                "",
                "Buck2002",
                3,
            ),
            Step(
                "U",
                "expanded uncertainty, k = 2",
                "U = 2 · √(Σ (c·u)²)",
                tuple(Input("c·u", c.name, c.amount) for c in budget.contributions),
                budget.expanded_uncertainty,
                "pH",
                "GUM",
                3,
            ),
        ),
    )


def _segment_for(calibration: PhFit, ph: float) -> Segment:
    for segment in calibration.segments[:-1]:
        if ph <= segment.high_ph:
            return segment
    return calibration.segments[-1]
