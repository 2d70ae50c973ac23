"""Geometry of what a run found: the pH plate with its fan, an ion tip's line, errors of other probes, the history."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from brumel.core import ions, ph
from brumel.core.fitness import CalibrationPoint, Fitted
from brumel.core.fitness.conductivity import CellFit
from brumel.core.fitness.ions import IonFit
from brumel.core.fitness.ph import ElectrodeFit
from brumel.core.verdict import Tolerance
from brumel.methods import Method
from brumel.methods.model import SET, BandSpec
from brumel.web.drawings.frame import Frame, room, ticks
from brumel.work.kit.probe_life import Life
from brumel.work.quantities.base import Quantity

#: Where an ion tip's scale is marked [mg/L].
DECADES = (0.1, 0.3, 1, 3, 10, 30, 100, 300, 1000)


def draw(
    fitted: Fitted,
    method: Method,
    points: Sequence[CalibrationPoint],
    before: Fitted | None,
    quantity: Quantity,
    stored: Mapping[str, Any],
) -> dict[str, Any] | None:
    """The plate of a run: its kind says which picture is inked. `stored` is the fit as it is kept."""
    if stored.get("display"):
        return _displayed(method, points, quantity)
    if isinstance(fitted, ElectrodeFit):
        checks = [{"ph": p.expected, "mv": p.signal, "c": p.temperature_c} for p in points if p.role == "check"]
        middle = float(np.mean([p.temperature_c for p in fitted.calibration.points]))
        return _ph_plate(fitted.calibration, method.band("slope"), checks, middle)
    if isinstance(fitted, IonFit):
        return _ion_plate(fitted, points)
    return _errors(fitted, method, points, before, quantity)


def _displayed(method: Method, points: Sequence[CalibrationPoint], quantity: Quantity) -> dict[str, Any] | None:
    """Error of the display in each cup before the meter was set there (open) and after (filled)."""
    left = {p.key.removesuffix(SET): p for p in points if p.role == "left"}
    limit = method.judged_by()[quantity.left_limit]
    percent = isinstance(limit, Tolerance) and limit.unit == "%"

    def error(p: CalibrationPoint | None) -> float | None:
        if p is None or p.shown is None or not p.expected:
            return None
        return 100 * (p.shown / p.expected - 1) if percent else p.shown - p.expected

    rows = [
        {"name": p.name, "role": p.role, "found": error(p), "left": error(left.get(p.key))}
        for p in points
        if p.role in ("adjust", "check")
    ]
    return _error_frame(rows, limit.value if isinstance(limit, Tolerance) else 1.0, percent, quantity)


def _errors(
    fitted: Fitted, method: Method, points: Sequence[CalibrationPoint], before: Fitted | None, quantity: Quantity
) -> dict[str, Any] | None:
    """Error in each cup before adjusting (open) and after (filled), with what the method allows."""
    shown = [p for p in points if p.role != "zero" and p.expected]
    if not shown:
        return None
    percent = isinstance(fitted, CellFit)
    limit = method.judged_by()[quantity.error_limit]
    allowed = limit.value if isinstance(limit, Tolerance) else 1.0

    def error(read: float, p: CalibrationPoint) -> float:
        return 100 * (read / p.expected - 1) if percent else read - p.expected

    rows: list[dict[str, Any]] = []
    for p in shown:
        old = before.read(p.signal, p.temperature_c) if before is not None else p.shown
        rows.append(
            {
                "name": p.name,
                "role": p.role,
                "found": None if old is None else error(old, p),
                "left": error(fitted.read(p.signal, p.temperature_c), p),
            }
        )
    return _error_frame(rows, allowed, percent, quantity)


def _error_frame(rows: list[dict[str, Any]], allowed: float, percent: bool, quantity: Quantity) -> dict[str, Any]:
    """Rows of errors, found and left, placed on one axis."""
    reach = max([allowed * 1.6] + [abs(v) * 1.15 for r in rows for v in (r["found"], r["left"]) if v is not None])
    frame = Frame(70, 16, 590, 60 + 62 * len(rows), -reach, reach, 0, 1)
    for i, row in enumerate(rows):
        row["y"] = frame.top + 40 + 62 * i
        row["found_x"] = None if row["found"] is None else frame.x(row["found"])
        row["left_x"] = None if row["left"] is None else frame.x(row["left"])
    return {
        "kind": "errors",
        "frame": frame,
        "rows": rows,
        "unit": "%" if percent else quantity.unit,
        "digits": 1 if percent else quantity.digits,
        "allowed": [frame.x(-allowed), frame.x(allowed)],
        "limit": allowed,
        "zero": frame.x(0),
        "x_ticks": [(frame.x(t), t) for t in ticks(-reach, reach, 6)],
        "height": frame.bottom + 40,
    }


def _ion_plate(fitted: IonFit, points: Sequence[CalibrationPoint]) -> dict[str, Any]:
    """Signal against activity on a decade scale, with Nernst's slope through the pair's middle."""
    used = [p for p in points if p.expected > 0]
    logs = [float(np.log10(p.expected)) for p in used]
    low, high = min(logs) - 0.4, max(logs) + 0.4
    signals = [p.signal for p in used]
    pad = max(0.25 * (max(signals) - min(signals)), 15.0)
    frame = Frame(58, 14, 590, 330, low, high, min(signals) - pad, max(signals) + pad)
    grid = np.array([low, high])
    c = fitted.calibration
    k = ions.SIGN[c.ion] * float(ph.nernst_slope_mv(c.reference_c))
    mine = c.e0_mv + c.efficiency * k * grid
    centre = float(np.mean(logs[:2]))
    nernst = c.e0_mv + c.efficiency * k * centre + k * (grid - centre)
    return {
        "kind": "ions",
        "frame": frame,
        "unit": "mg/L as N, activity",
        "x_ticks": [(frame.x(float(np.log10(t))), t) for t in DECADES if low <= np.log10(t) <= high],
        "y_ticks": [(frame.y(t), t) for t in ticks(frame.y0, frame.y1, 5)],
        "line": frame.path([(float(a), float(b)) for a, b in zip(grid, mine, strict=True)]),
        "nernst": frame.path([(float(a), float(b)) for a, b in zip(grid, nernst, strict=True)]),
        "dots": [
            {"x": frame.x(lg), "y": frame.y(p.signal), "mv": p.signal, "c": p.temperature_c, "role": p.role}
            for p, lg in zip(used, logs, strict=True)
        ],
        "temperature_c": c.reference_c,
    }


def history(life: Life, count: int = 10) -> list[dict[str, Any]] | None:
    """The last ten of every strand that has a limit, oldest first, each on its own strip."""
    strips = []
    for strand in life.strands:
        values, times, outcomes = strand.values[-count:], strand.times[-count:], strand.outcomes[-count:]
        if strand.band is None or len(values) < 2:
            continue
        start, end = times[0], times[-1]
        span = max((end - start).total_seconds(), 3600.0)
        band = (strand.band.fit_low, strand.band.fit_high)
        low, high = min([*values, band[0]]), max([*values, band[1]])
        pad = 0.12 * max(high - low, 1e-9)
        left = max(52.0, 14 + room(f"{v:.4g}" for v in band))
        right = min(560.0, 606 - room([f"{values[-1]:.{strand.digits}f}"]))
        frame = Frame(left, 10, right, 84, -0.03, 1.03, low - pad, high + pad)
        dots = [
            {"x": frame.x((at - start).total_seconds() / span), "y": frame.y(v), "outcome": o, "value": v, "at": at}
            for at, v, o in zip(times, values, outcomes, strict=True)
        ]
        strips.append(
            {
                "name": strand.name,
                "unit": strand.unit,
                "digits": strand.digits,
                "frame": frame,
                "dots": dots,
                "fit": [frame.y(band[1]), frame.y(band[0])],
                "limits": band,
                "first": start,
                "last": end,
                "path": "M" + " L".join(f"{d['x']},{d['y']}" for d in dots),
            }
        )
    return strips or None


def _ph_plate(
    fitted: ph.PhFit, slope: BandSpec, checks: Sequence[dict[str, Any]], temperature_c: float
) -> dict[str, Any]:
    """Points against the fitted line and the ideal fan: slopes the method calls fit, through 0 mV at pH 7."""
    phs = [p.ph for p in fitted.points] + [c["ph"] for c in checks]
    low, high = min([*phs, 6.0]) - 1.0, max([*phs, 8.0]) + 1.0
    k = float(ph.nernst_slope_mv(temperature_c))
    reach = max(abs(low - 7), abs(high - 7)) * k * 1.08
    frame = Frame(58, 14, 590, 330, low, high, -reach, reach)

    def ray(percent: float) -> list[tuple[float, float]]:
        return [(low, -percent / 100 * k * (low - 7)), (high, -percent / 100 * k * (high - 7))]

    def wedge(a: float, b: float) -> str:
        first, second = ray(a), ray(b)
        left = [first[0], (7.0, 0.0), second[0]]
        right = [first[1], (7.0, 0.0), second[1]]
        return f"{frame.path(left)} Z {frame.path(right)} Z"

    line = np.linspace(low, high, 61)
    mv = np.asarray(fitted.millivolts(line, temperature_c))
    dots: list[dict[str, Any]] = [
        {
            "x": frame.x(p.ph),
            "y": frame.y(p.millivolts),
            "ph": p.ph,
            "mv": p.millivolts,
            "c": p.temperature_c,
            "residual": r,
            "kind": "point",
        }
        for p, r in zip(fitted.points, fitted.residuals_mv, strict=True)
    ]
    dots += [
        {
            "x": frame.x(c["ph"]),
            "y": frame.y(c["mv"]),
            "ph": c["ph"],
            "mv": c["mv"],
            "c": c["c"],
            "residual": c["mv"] - float(fitted.millivolts(c["ph"], c["c"])),
            "kind": "check",
        }
        for c in checks
    ]
    biggest = max([abs(d["residual"]) for d in dots] + [1.0])
    rest = Frame(58, 368, 590, 428, low, high, -biggest * 1.25, biggest * 1.25)
    for dot in dots:
        dot["ry"] = rest.y(dot["residual"])
    label_x = high - 0.08 * (high - low)
    return {
        "kind": "ph",
        "frame": frame,
        "rest": rest,
        "dots": dots,
        "biggest": biggest,
        "x_ticks": [t for t in ticks(low, high, 8) if float(t).is_integer()],
        "y_ticks": ticks(-reach, reach, 6),
        "fit": wedge(*slope.fit),
        "care_low": wedge(slope.care[0], slope.fit[0]),
        "care_high": wedge(slope.fit[1], slope.care[1]),
        "line": frame.path([(float(a), float(b)) for a, b in zip(line, mv, strict=True)]),
        "labels": [
            {"percent": percent, "x": frame.x(label_x), "y": frame.y(-percent / 100 * k * (label_x - 7))}
            for percent in (slope.fit[0], slope.fit[1])
        ],
        "zero": frame.y(0),
        "seven": frame.x(7),
        "temperature_c": temperature_c,
    }
