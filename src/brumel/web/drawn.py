"""Geometry of the drawn views: plate, staff, history, day ribbon. Numbers to places on paper; templates only ink them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from brumel.core import ph
from brumel.store.tables import Calibration, Reading


@dataclass(frozen=True)
class Frame:
    """A drawing area: data ranges mapped onto left, top, right, bottom [px]."""

    left: float
    top: float
    right: float
    bottom: float
    x0: float
    x1: float
    y0: float
    y1: float

    def x(self, value: float) -> float:
        return round(self.left + (value - self.x0) / (self.x1 - self.x0) * (self.right - self.left), 1)

    def y(self, value: float) -> float:
        return round(self.bottom - (value - self.y0) / (self.y1 - self.y0) * (self.bottom - self.top), 1)

    def path(self, points: Sequence[tuple[float, float]]) -> str:
        return "M" + " L".join(f"{self.x(a)},{self.y(b)}" for a, b in points)


def ticks(low: float, high: float, about: int = 5) -> list[float]:
    """Round values between low and high."""
    span = max(high - low, 1e-9)
    raw = span / about
    power = 10.0 ** np.floor(np.log10(raw))
    step = next(s for s in (power, 2 * power, 5 * power, 10 * power) if s >= raw)
    first = np.ceil(low / step) * step
    return [round(float(v), 10) for v in np.arange(first, high + step * 1e-6, step)]


def plate(
    fitted: ph.Calibration, limits: Any, checks: Sequence[dict[str, Any]], temperature_c: float
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

    slope = limits.slope
    line = np.linspace(low, high, 61)
    mv = np.asarray(fitted.millivolts(line, temperature_c))
    dots: list[dict[str, Any]] = [
        {"x": frame.x(p.ph), "y": frame.y(p.millivolts), "ph": p.ph, "mv": p.millivolts, "c": p.temperature_c,
         "residual": r, "kind": "point"}
        for p, r in zip(fitted.points, fitted.residuals_mv, strict=True)
    ]  # fmt: skip
    dots += [
        {"x": frame.x(c["ph"]), "y": frame.y(c["mv"]), "ph": c["ph"], "mv": c["mv"], "c": c["c"],
         "residual": c["mv"] - float(fitted.millivolts(c["ph"], c["c"])), "kind": "check"}
        for c in checks
    ]  # fmt: skip
    biggest = max([abs(d["residual"]) for d in dots] + [1.0])
    rest = Frame(58, 368, 590, 428, low, high, -biggest * 1.25, biggest * 1.25)
    for dot in dots:
        dot["ry"] = rest.y(dot["residual"])
    label_x = high - 0.08 * (high - low)
    return {
        "frame": frame, "rest": rest, "dots": dots, "biggest": biggest,
        "x_ticks": [t for t in ticks(low, high, 8) if float(t).is_integer()],
        "y_ticks": ticks(-reach, reach, 6),
        "fit": wedge(*slope.fit), "care_low": wedge(slope.care[0], slope.fit[0]),
        "care_high": wedge(slope.fit[1], slope.care[1]),
        "line": frame.path([(float(a), float(b)) for a, b in zip(line, mv, strict=True)]),
        "labels": [
            {"percent": percent, "x": frame.x(label_x), "y": frame.y(-percent / 100 * k * (label_x - 7))}
            for percent in (slope.fit[0], slope.fit[1])
        ],
        "zero": frame.y(0), "seven": frame.x(7), "temperature_c": temperature_c,
    }  # fmt: skip


def history(calibrations: Sequence[Calibration], limits: Any) -> list[dict[str, Any]] | None:
    """Slope and offset of the last calibrations, oldest first, each on its own strip with its limits."""
    if len(calibrations) < 2:
        return None
    ordered = list(reversed(calibrations))
    start, end = ordered[0].at, ordered[-1].at
    span = max((end - start).total_seconds(), 3600.0)
    strips = []
    for name, unit, values, band in (
        ("slope", "%", [c.slope_percent for c in ordered], limits.slope),
        ("offset", "mV", [c.offset_mv for c in ordered], limits.offset),
    ):
        low, high = min([*values, band.fit[0]]), max([*values, band.fit[1]])
        pad = 0.12 * (high - low)
        frame = Frame(52, 10, 560, 84, -0.03, 1.03, low - pad, high + pad)
        dots = [
            {"x": frame.x((c.at - start).total_seconds() / span), "y": frame.y(v), "outcome": c.outcome, "value": v,
             "number": c.number, "at": c.at, "id": c.id}
            for c, v in zip(ordered, values, strict=True)
        ]  # fmt: skip
        strips.append({
            "name": name, "unit": unit, "frame": frame, "dots": dots, "fit": [frame.y(band.fit[1]), frame.y(band.fit[0])],
            "limits": band.fit, "path": "M" + " L".join(f"{d['x']},{d['y']}" for d in dots), "first": start, "last": end,
        })  # fmt: skip
    return strips


def last_readings(
    readings: Sequence[Reading], ranges: dict[str, Any], now: datetime, zone: str
) -> dict[str, Any] | None:
    """A site's last readings of one quantity with their uncertainty and the usual range."""
    if not readings:
        return None
    ordered = list(reversed(readings))
    start = min(ordered[0].at, now - timedelta(days=7))
    span = (now - start).total_seconds()
    values = [r.value for r in ordered]
    usual = ranges.get("usual")
    us = [r.expanded_uncertainty or 0.0 for r in ordered]
    low = min([v - u for v, u in zip(values, us, strict=True)] + ([usual[0]] if usual else []))
    high = max([v + u for v, u in zip(values, us, strict=True)] + ([usual[1]] if usual else []))
    pad = max(0.1 * (high - low), 0.05)
    frame = Frame(52, 14, 590, 176, 0, 1.02, low - pad, high + pad)
    place = lambda at: frame.x((at - start).total_seconds() / span)  # noqa: E731
    dots = [
        {"x": place(r.at), "y": frame.y(r.value), "up": frame.y(r.value + u), "down": frame.y(r.value - u),
         "backing": r.backing, "flag": r.flag, "value": r.value, "at": r.at, "id": r.id,
         "early": bool(r.settling.get("early"))}
        for r, u in zip(ordered, us, strict=True)
    ]  # fmt: skip
    months = []
    day = start.astimezone(ZoneInfo(zone)).replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    while day <= now:
        day = (day + timedelta(days=32)).replace(day=1)
        if start < day <= now:
            months.append({"x": place(day), "label": f"{day:%b}"})
    return {
        "frame": frame, "dots": dots, "months": months, "y_ticks": ticks(low - pad, high + pad, 4), "now": place(now),
        "usual": [frame.y(usual[1]), frame.y(usual[0])] if usual else None, "limits": usual,
        "path": "M" + " L".join(f"{d['x']},{d['y']}" for d in dots) if len(dots) > 1 else "",
    }  # fmt: skip


def staff(titles: Sequence[str], done: int) -> dict[str, Any]:
    """The upright gauge of a run: one mark a step, the level at what is done."""
    step, top = 64, 26
    marks = [
        {"y": top + (len(titles) - 1 - i) * step, "title": title,
         "state": "done" if i < done else "now" if i == done else "wait"}
        for i, title in enumerate(titles)
    ]  # fmt: skip
    bottom = top + (len(titles) - 1) * step + 40
    level = bottom if done == 0 else top + (len(titles) - done) * step - step // 2 + 2
    return {"marks": marks, "bottom": bottom, "level": max(level, 8), "height": bottom + 10,
            "minor": list(range(top - 16, bottom, 8))}  # fmt: skip


def ribbon(marks: Sequence[tuple[datetime, str, str]], now: datetime, zone: str = "UTC") -> dict[str, Any]:
    """The working day as a strip, 04 to 24 o'clock, with what was done and a now-mark."""
    local = now.astimezone(ZoneInfo(zone))
    first, last = 4.0, 24.0
    frame = Frame(0, 0, 1000, 34, first, last, 0, 1)

    def hour(at: datetime) -> float:
        there = at.astimezone(ZoneInfo(zone))
        return min(max(there.hour + there.minute / 60, first), last)

    return {
        "hours": [{"x": frame.x(h), "label": f"{h:02d}"} for h in range(6, 23, 2)],
        "quarters": [frame.x(first + q / 2) for q in range(1, 40)],
        "marks": [{"x": frame.x(hour(at)), "kind": kind, "title": title} for at, kind, title in marks],
        "now": frame.x(hour(now)), "time": f"{local:%H:%M}", "zone": "UTC" if zone == "UTC" else local.tzname(),
    }  # fmt: skip
