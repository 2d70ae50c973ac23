"""Geometry of the drawn views: plate, staff, history, day ribbon. Numbers to places on paper; templates only ink them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from brumel.store.tables import Reading


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


def last_readings(
    readings: Sequence[Reading], ranges: dict[str, Any], now: datetime, zone: str, limit: dict[str, Any] | None = None
) -> dict[str, Any] | None:
    """A site's last readings of one quantity with their uncertainty, the usual range, and the site's limits."""
    if not readings:
        return None
    ordered = list(reversed(readings))
    start = min(ordered[0].at, now - timedelta(days=7))
    span = (now - start).total_seconds()
    values = [r.value for r in ordered]
    usual = ranges.get("usual")
    us = [r.expanded_uncertainty or 0.0 for r in ordered]
    ends = [float(v) for v in ((limit or {}).get("low"), (limit or {}).get("high")) if v is not None]
    low = min([v - u for v, u in zip(values, us, strict=True)] + ([usual[0]] if usual else []) + ends)
    high = max([v + u for v, u in zip(values, us, strict=True)] + ([usual[1]] if usual else []) + ends)
    pad = max(0.1 * (high - low), 0.05 if high > 1 else 0.02 * max(high, 0.01))
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
        "digits": 0 if high - low >= 20 else 1 if high - low >= 2 else 2 if high - low >= 0.2 else 3,
        "ends": [(frame.y(e), e) for e in ends],
    }  # fmt: skip


def profile(readings: Sequence[Reading]) -> dict[str, Any] | None:
    """Readings of a visit against depth, one small panel a quantity; None where fewer than two depths were read."""
    rows = [r for r in readings if r.depth_m is not None and r.role == "first"]
    depths = sorted({r.depth_m for r in rows if r.depth_m is not None})
    if len(depths) < 2:
        return None
    panels = []
    shown = ("temperature", "oxygen", "salinity", "ph")
    wide = 145
    for i, quantity in enumerate(q for q in shown if sum(r.quantity == q for r in rows) > 1):
        mine = sorted((r for r in rows if r.quantity == quantity), key=lambda r: r.depth_m or 0.0)
        low, high = min(r.value for r in mine), max(r.value for r in mine)
        pad = max(0.15 * (high - low), 0.05)
        frame = Frame(44 + i * wide, 22, 44 + i * wide + wide - 22, 176, low - pad, high + pad, depths[-1] * 1.06, 0.0)
        dots = [
            {"x": frame.x(r.value), "y": frame.y(r.depth_m or 0.0), "value": r.value, "depth": r.depth_m} for r in mine
        ]
        path = "M" + " L".join(f"{d['x']},{d['y']}" for d in dots)
        panels.append({"quantity": quantity, "unit": mine[0].unit, "frame": frame, "dots": dots, "path": path,
                       "low": low, "high": high})  # fmt: skip
    return {"panels": panels, "depths": depths}


def _lines(title: str, most: int = 13) -> list[str]:
    """A title in at most two short lines, so that it stays on the staff."""
    if len(title) <= most:
        return [title]
    words = title.replace(", ", " ").split()
    first = ""
    while words and len(first) + len(words[0]) < most:
        first = f"{first} {words.pop(0)}".strip()
    first = first or words.pop(0)[: most - 1] + "…"
    second = " ".join(words)
    return [first] if not second else [first, second if len(second) <= most else second[: most - 1] + "…"]


def staff(titles: Sequence[str], done: int) -> dict[str, Any]:
    """The upright gauge of a run: one mark a step, the level at what is done."""
    step, top = 64, 26
    marks = [
        {"y": top + (len(titles) - 1 - i) * step, "title": title, "lines": _lines(title),
         "state": "done" if i < done else "now" if i == done else "wait"}
        for i, title in enumerate(titles)
    ]  # fmt: skip
    bottom = top + (len(titles) - 1) * step + 40
    level = bottom if done == 0 else top + (len(titles) - done) * step - step // 2 + 2
    return {"marks": marks, "bottom": bottom, "level": max(level, 8), "height": bottom + 10,
            "minor": list(range(top - 16, bottom, 8))}  # fmt: skip


def ribbon(
    marks: Sequence[tuple[datetime, str, str]], now: datetime, zone: str = "UTC", plan: Any = None
) -> dict[str, Any]:
    """The working day as a strip, 04 to 24 o'clock: what was done, the plan up to leaving and coming home, a now-mark."""
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
        "bars": [
            {"x": frame.x(hour(line.start)), "w": max(frame.x(hour(line.end)) - frame.x(hour(line.start)), 1.0),
             "kind": line.kind, "deciding": line.deciding}
            for line in (plan.lines if plan else ())
        ],
        "leave": frame.x(hour(plan.leave_at)) if plan else None, "back": frame.x(hour(plan.back_at)) if plan else None,
        "now": frame.x(hour(now)), "time": f"{local:%H:%M}", "zone": "UTC" if zone == "UTC" else local.tzname(),
    }  # fmt: skip


def sketch(sites: Sequence[Any]) -> dict[str, Any] | None:
    """A sketch map of sites from their positions, in their order, with a scale bar; None where none has one.

    Degrees are brought to metres about the middle (equirectangular), which is right to 1 % within 50 km. Sites that lie
    over 20 km from the one before are drawn after a broken line, so that two far places share one sheet.
    """
    known = [s for s in sites if s.latitude is not None and s.longitude is not None]
    if not known:
        return None
    groups: list[list[Any]] = []
    for s in known:
        near = groups and _metres(groups[-1][-1], s) < 20_000
        groups[-1].append(s) if near else groups.append([s])
    wide = 600 / len(groups)
    panels = []
    order = {s.id: i for i, s in enumerate(sites, 1)}
    for i, group in enumerate(groups):
        middle = math.radians(sum(s.latitude for s in group) / len(group))
        xs = [math.radians(s.longitude) * 6_371_000 * math.cos(middle) for s in group]
        ys = [math.radians(s.latitude) * 6_371_000 for s in group]
        span = max(max(xs) - min(xs), (max(ys) - min(ys)) * (wide - 60) / 150, 120.0)
        scale = (wide - 70) / span
        left = 10 + i * wide + (wide - (max(xs) - min(xs)) * scale) / 2 - 20
        dots = [
            {"x": left + (x - min(xs)) * scale, "y": 40 + (max(ys) - y) * scale, "name": s.name, "number": order[s.id],
             "up": 1 if j % 2 else -1}
            for j, (s, x, y) in enumerate(zip(group, xs, ys, strict=True))
        ]  # fmt: skip
        bar = next(
            b for b in (10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000) if b * scale >= 36 or b == 20_000
        )
        panels.append({"dots": dots, "bar": bar, "bar_px": bar * scale, "left": 14 + i * wide,
                       "path": "M" + " L".join(f"{d['x']:.1f},{d['y']:.1f}" for d in dots)})  # fmt: skip
    return {"panels": panels, "names": [s.name for s in known]}


def _metres(a: Any, b: Any) -> float:
    middle = math.radians((a.latitude + b.latitude) / 2)
    return 6_371_000 * math.hypot(
        math.radians(a.latitude - b.latitude), math.radians(a.longitude - b.longitude) * math.cos(middle)
    )


def log_band(found: Any, zone: str, before: Any = None) -> dict[str, Any]:
    """A logged series as a band from least to greatest, bin by bin, with its odd values; `before` it was corrected."""
    log = found.log
    lows, highs = [*found.low, *(before.low if before else ())], [*found.high, *(before.high if before else ())]
    low, high = min(lows, default=0.0), max(highs, default=1.0)
    pad = max(0.08 * (high - low), 0.02 * max(abs(high), 0.05))
    start, span = log.starts, max((log.ends - log.starts).total_seconds(), 1.0)
    frame = Frame(52, 14, 590, 150, 0, span, low - pad, high + pad)

    def outline(one: Any) -> str:
        xs = [frame.x((t - start).total_seconds()) for t in one.times]
        up = [f"{x:.1f},{frame.y(v):.1f}" for x, v in zip(xs, one.high, strict=True)]
        down = [f"{x:.1f},{frame.y(v):.1f}" for x, v in zip(xs, one.low, strict=True)]
        return "M" + " L".join(up) + " L" + " L".join(reversed(down)) + " Z" if up else ""

    days, day = (
        [],
        start.astimezone(ZoneInfo(zone)).replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(days=1),
    )
    step = timedelta(days=max(round(span / 86400 / 8), 1))
    while day <= log.ends:
        days.append({"x": frame.x((day - start).total_seconds()), "label": f"{day:%d %b}"})
        day += step
    # What failed its tests does not set the scale: beyond it, it is drawn at the edge.
    inside = lambda v: min(max(v, low - pad), high + pad)  # noqa: E731
    odd = [{"x": frame.x((t - start).total_seconds()), "y": frame.y(inside(v)), "flag": f} for t, v, f in found.odd]
    return {
        "log": log, "frame": frame, "path": outline(found), "days": days,
        "before": outline(before) if before else "",
        "odd": odd, "y_ticks": ticks(low - pad, high + pad, 4),
        "digits": 0 if high - low >= 20 else 1 if high - low >= 2 else 2,
    }  # fmt: skip
