"""Geometry of the drawn views of a site: its history, depth, logged series, and the sketch of the way."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

from brumel.core.geodesy import EARTH_M, distance_m
from brumel.store.tables import Reading
from brumel.web.drawings.frame import Frame, room, ticks
from brumel.web.units import Scale, scale, scale_of
from brumel.work.rounds.site_history import CalibrationSpan
from brumel.work.rounds.sites import PastReading

#: What is drawn over depth and time, in this order.
DEEP = ("temperature", "oxygen", "salinity", "ph")


@dataclass(frozen=True)
class BehindReadings:
    """What a site's readings of one quantity are drawn against.

    ranges, limit : the site's, as they are kept
    spans : of the calibrations, with what became of them
    season : where 8 of 10 readings of a month of earlier years lay, by month
    scale : to the reader's unit
    rests : whether such readings rest on a calibration
    """

    ranges: Mapping[str, Any]
    limit: Mapping[str, Any] = field(default_factory=dict)
    spans: Sequence[CalibrationSpan] = ()
    season: Mapping[int, tuple[float, float]] = field(default_factory=dict)
    scale: Scale = field(default_factory=lambda: Scale(""))
    rests: bool = True


#: A reading as it is drawn.
Drawn = Reading | PastReading


def last_readings(
    readings: Sequence[Drawn], now: datetime, zone: str, behind: BehindReadings, end: str = ""
) -> dict[str, Any] | None:
    """A site's last readings of one quantity and their uncertainty, with all that speaks for or against them behind.

    end : what the right end is called; "now" where it is empty
    """
    if not readings:
        return None
    ordered = list(reversed(readings))
    start = min(ordered[0].at, now - timedelta(days=7))
    shown = behind.scale
    read = _Read.of(ordered, start, shown)
    usual = [shown(float(v)) for v in behind.ranges.get("usual") or ()]
    ends = [shown(float(v)) for v in (behind.limit.get("low"), behind.limit.get("high")) if v is not None]
    season = [(a, b, (shown(pair[0]), shown(pair[1]))) for a, b, pair in _season_in(behind.season, start, now)]
    low, high = _reach(read, [*usual, *ends, *(v for _, _, pair in season for v in pair)])
    digits = next((digits for least, digits in ((20, 0), (2, 1), (0.2, 2)) if (high - low) / 1.2 >= least), 3)
    y_ticks = ticks(low, high, 4)
    tick_digits = _decimals(y_ticks)
    frame = Frame(max(52.0, 14 + room(f"{t:.{tick_digits}f}" for t in y_ticks)), 14, 590, 176, 0, 1.02, low, high)
    span = (now - start).total_seconds()

    def place(at: datetime) -> float:
        return frame.x((at - start).total_seconds() / span)

    def months() -> Iterator[dict[str, Any]]:
        for day, label in _marks(start, now, zone):
            x, half = place(day), room([label]) / 2 + room([end or "now"]) / 2
            yield {"x": x, "label": label if x + half <= place(now) else ""}  # at the end stands another word

    dots = _dots(ordered, read, behind, frame, span)
    return {
        "frame": frame,
        "dots": dots,
        "count": len(ordered),
        "newest": shown(ordered[-1].value),
        "stems": " ".join(f"M{d['x']},{d['up']} V{d['down']}" for d in dots),
        "marks": _marks_of(dots),
        "months": list(months()),
        "y_ticks": y_ticks,
        "tick_digits": tick_digits,
        "now": place(now),
        "end": end,
        "usual": [frame.y(usual[1]), frame.y(usual[0])] if usual else None,
        "limits": usual or None,
        "path": "M" + " L".join(f"{d['x']},{d['y']}" for d in dots) if len(dots) > 1 else "",
        "digits": digits,
        "ends": [(frame.y(e), e) for e in ends],
        "season": [{"x": place(a), "w": max(place(b) - place(a), 1.0), **_band(frame, pair)} for a, b, pair in season],
        "spans": [
            {
                "x": place(max(one.start, start)),
                "w": max(place(min(one.end, now)) - place(max(one.start, start)), 3.0),
                "state": one.state,
                "number": one.number,
            }
            for one in behind.spans
            if one.end > start
        ],
    }


@dataclass(frozen=True)
class _Read:
    """Readings as they are drawn, the oldest first: seconds since the drawing begins, and in the reader's unit."""

    at_s: NDArray[np.float64]
    value: NDArray[np.float64]
    u: NDArray[np.float64]

    @classmethod
    def of(cls, ordered: Sequence[Drawn], start: datetime, shown: Scale) -> _Read:
        began = start.timestamp()
        return cls(
            np.array([r.at.timestamp() - began for r in ordered]),
            np.array([r.value for r in ordered]) * shown.factor + shown.shift,
            np.array([r.expanded_uncertainty or 0.0 for r in ordered]) * abs(shown.factor),
        )


def _reach(read: _Read, sides: Sequence[float]) -> tuple[float, float]:
    """The ends of the value axis: every reading with its uncertainty and whatever is drawn behind, with some room."""
    low = min([float((read.value - read.u).min()), *sides])
    high = max([float((read.value + read.u).max()), *sides])
    pad = max(0.1 * (high - low), 0.05 if high > 1 else 0.02 * max(high, 0.01))
    return low - pad, high + pad


#: More readings than these are drawn some together, for they would cover one another.
MOST_DOTS = 60


def _columns(at_s: NDArray[np.float64], span_s: float) -> NDArray[np.intp]:
    """Where each drawn mark begins among the readings: one by one; of many, those of equal spans of time together."""
    if len(at_s) <= MOST_DOTS:
        return np.arange(len(at_s))
    column = np.minimum(at_s / (span_s / MOST_DOTS), MOST_DOTS - 1).astype(int)
    return np.flatnonzero(np.diff(column, prepend=-1))


#: How a reading is marked, the gravest first: the class it is inked by, and its outline about its place.
MARKS = {
    "cross": ("d-cross", "m-4,-4 l8,8 m0,-8 l-8,8"),
    "open square": ("d-open", "m-3.5,-3.5 h7 v7 h-7 z"),
    "diamond": ("d-filled", "m0,-4.5 l4.5,4.5 l-4.5,4.5 l-4.5,-4.5 z"),
    "disc": ("d-filled", "m-3,0 a3,3 0 1 0 6,0 a3,3 0 1 0 -6,0 z"),
    "square": ("d-filled", "m-3.2,-3.2 h6.4 v6.4 h-6.4 z"),
}
_OF_BACKING = {"doubtful": "cross", "not reported": "cross", "corrected": "diamond", "bracketed": "square"}


_GRAVITY = {mark: place for place, mark in enumerate(MARKS)}


def _mark(reading: Drawn, rests: bool) -> str:
    if reading.flag > 2:
        return "cross"
    if reading.backing == "unbacked" and rests:
        return "open square"
    return _OF_BACKING.get(reading.backing, "disc")


def _dots(
    ordered: Sequence[Drawn], read: _Read, behind: BehindReadings, frame: Frame, span_s: float
) -> list[dict[str, Any]]:
    """Readings with their uncertainty; of several together the middle one, how far they reach, and their gravest mark."""
    first = _columns(read.at_s, span_s)
    after = np.append(first[1:], len(ordered))
    gravity = np.array([_GRAVITY[_mark(r, behind.rests)] for r in ordered])
    middle = [
        a if b - a == 1 else a + int(np.argsort(read.value[a:b], kind="stable")[(b - a) // 2])
        for a, b in zip(first.tolist(), after.tolist(), strict=True)
    ]
    x = frame.across(read.at_s[(first + after) // 2] / span_s)
    y = frame.down(read.value[middle])
    up = frame.down(np.maximum.reduceat(read.value + read.u, first))
    down = frame.down(np.minimum.reduceat(read.value - read.u, first))
    marks, kinds = np.minimum.reduceat(gravity, first).tolist(), list(MARKS)
    places = (np.round(each, 1).tolist() for each in (x, y, up, down))
    return [
        {"x": x, "y": y, "up": up, "down": down, "mark": kinds[mark], "id": ordered[i].id}
        for x, y, up, down, mark, i in zip(*places, marks, middle, strict=True)
    ]


def _marks_of(dots: Sequence[Mapping[str, Any]]) -> list[tuple[str, str]]:
    """The marks of a drawing, one path for each sort: the class it is inked by, and the path."""
    sorts = [(ink, outline, [d for d in dots if d["mark"] == mark]) for mark, (ink, outline) in MARKS.items()]
    return [
        (ink, " ".join(f"M{d['x']},{d['y']} {outline}" for d in some)) for ink, outline, some in sorts[::-1] if some
    ]


def _decimals(values: Sequence[float]) -> int:
    """As many decimals as tell ticks apart and write them whole."""
    steps = [b - a for a, b in pairwise(values)]
    return max(0, math.ceil(-math.log10(min(steps)) - 1e-9)) if steps else 2


def _marks(start: datetime, now: datetime, zone: str) -> list[tuple[datetime, str]]:
    """Where the axis of time is marked, and how: months, or days in a span of two months or less."""
    span = now - start
    if span > timedelta(days=62):
        return [(day, f"{day:%b}") for day in _months(start, now, zone)]
    step = timedelta(days=max(1, math.ceil(span / timedelta(days=5))))
    day = start.astimezone(ZoneInfo(zone)).replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(days=1)
    marks = []
    while day < now - span / 12:  # the end has a mark of its own
        marks.append((day, f"{day.day} {day:%b}"))
        day += step
    return marks


def _months(start: datetime, now: datetime, zone: str) -> list[datetime]:
    """The first of every month between two moments, by the site's clock."""
    firsts = []
    day = start.astimezone(ZoneInfo(zone)).replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    while day <= now:
        day = (day + timedelta(days=32)).replace(day=1)
        if start < day <= now:
            firsts.append(day)
    return firsts


def _band(frame: Frame, pair: tuple[float, float]) -> dict[str, Any]:
    return {"y": frame.y(pair[1]), "h": max(frame.y(pair[0]) - frame.y(pair[1]), 1.0)}


def profile(readings: Sequence[Reading]) -> dict[str, Any] | None:
    """Readings of a visit against depth, one small panel a quantity; None where fewer than two depths were read."""
    rows = [r for r in readings if r.depth_m is not None and r.role == "first"]
    depths = sorted({r.depth_m for r in rows if r.depth_m is not None})
    if len(depths) < 2:
        return None
    panels = []
    wide = 145
    for i, quantity in enumerate(q for q in DEEP if sum(r.quantity == q for r in rows) > 1):
        mine = sorted((r for r in rows if r.quantity == quantity), key=lambda r: r.depth_m or 0.0)
        shown = scale_of(quantity)
        low, high = shown(min(r.value for r in mine)), shown(max(r.value for r in mine))
        pad = max(0.15 * (high - low), 0.05)
        frame = Frame(44 + i * wide, 22, 44 + i * wide + wide - 22, 176, low - pad, high + pad, depths[-1] * 1.06, 0.0)
        dots = [
            {"x": frame.x(shown(r.value)), "y": frame.y(r.depth_m or 0.0), "value": shown(r.value), "depth": r.depth_m}
            for r in mine
        ]
        path = "M" + " L".join(f"{d['x']},{d['y']}" for d in dots)
        panels.append(
            {
                "quantity": quantity,
                "unit": scale(mine[0].unit).unit,
                "frame": frame,
                "dots": dots,
                "path": path,
                "low": low,
                "high": high,
            }
        )
    return {"panels": panels, "depths": depths}


def _season_in(
    season: Mapping[int, tuple[float, float]], start: datetime, end: datetime
) -> list[tuple[datetime, datetime, tuple[float, float]]]:
    """The months between two moments that are known from earlier years."""
    months, at = [], start.replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    while at < end:
        following = (at + timedelta(days=32)).replace(day=1)
        if at.month in season:
            months.append((max(at, start), min(following, end), season[at.month]))
        at = following
    return months


def section(rows: Sequence[tuple[str, datetime, float, float]], zone: str, most: int = 12) -> list[dict[str, Any]]:
    """Depth against time, one panel a quantity: a cell for each depth and visit, the darker the higher its value.

    rows : (quantity, when, depth [m], value); the newest `most` visits are drawn, one column each, with the numbers in them
    """
    panels = []
    for quantity in dict.fromkeys(r[0] for r in rows):
        mine = [r for r in rows if r[0] == quantity]
        times, depths = sorted({r[1] for r in mine})[-most:], sorted({r[2] for r in mine})
        to_reader = scale_of(quantity)
        shown = {(r[1], r[2]): to_reader(r[3]) for r in mine if r[1] in times}
        if len(times) < 2 or len(depths) < 2:
            continue
        low, high = min(shown.values()), max(shown.values())
        wide, tall = 540 / len(times), 26
        cells = []
        for (at, depth), value in shown.items():
            share = (value - low) / (high - low) if high > low else 0.5
            cells.append(
                {
                    "x": round(52 + times.index(at) * wide, 1),
                    "y": 18 + depths.index(depth) * tall,
                    "w": round(wide - 1, 1),
                    "h": tall - 1,
                    "value": value,
                    "ink": round(0.04 + 0.4 * share, 2),
                    "depth": depth,
                    "at": at,
                }
            )
        panels.append(
            {
                "quantity": quantity,
                "cells": cells,
                "height": 18 + len(depths) * tall + 22,
                "depths": [(18 + i * tall + tall / 2 + 4, d) for i, d in enumerate(depths)],
                "columns": [
                    {"x": round(52 + (i + 0.5) * wide, 1), "label": f"{t.astimezone(ZoneInfo(zone)):%d %b}"}
                    for i, t in enumerate(times)
                    if i % 2 == (len(times) - 1) % 2 or len(times) < 8
                ],
                "digits": 0 if high >= 1000 else 1 if high - low >= 1 else 2,
            }
        )
    return panels


def sketch(sites: Sequence[Any]) -> dict[str, Any] | None:
    """A sketch map of sites from their positions, in their order, with a scale bar; None where none has one.

    Degrees are brought to metres about the middle (equirectangular), which is right to 1 % within 50 km. Sites that lie
    over 5 km from the one before are drawn after a broken line, so that two far places share one sheet.
    """
    known = [s for s in sites if s.latitude is not None and s.longitude is not None]
    if not known:
        return None
    groups: list[list[Any]] = []
    for s in known:
        near = groups and _metres(groups[-1][-1], s) < 5_000
        groups[-1].append(s) if near else groups.append([s])
    wide = 600 / len(groups)
    panels = []
    order = {s.id: i for i, s in enumerate(sites, 1)}
    for i, group in enumerate(groups):
        middle = math.radians(sum(s.latitude for s in group) / len(group))
        xs = [math.radians(s.longitude) * EARTH_M * math.cos(middle) for s in group]
        ys = [math.radians(s.latitude) * EARTH_M for s in group]
        span = max(max(xs) - min(xs), (max(ys) - min(ys)) * (wide - 60) / 150, 120.0)
        scale = (wide - 70) / span
        left = 10 + i * wide + (wide - (max(xs) - min(xs)) * scale) / 2 - 20
        dots = [
            {
                "x": left + (x - min(xs)) * scale,
                "y": 40 + (max(ys) - y) * scale,
                "name": s.name,
                "number": order[s.id],
                "up": 1 if j % 2 else -1,
            }
            for j, (s, x, y) in enumerate(zip(group, xs, ys, strict=True))
        ]
        bar = next(
            b for b in (10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000) if b * scale >= 36 or b == 20_000
        )
        panels.append(
            {
                "dots": dots,
                "bar": bar,
                "bar_px": bar * scale,
                "left": 14 + i * wide,
                "path": "M" + " L".join(f"{d['x']:.1f},{d['y']:.1f}" for d in dots),
            }
        )
    return {"panels": panels, "names": [s.name for s in known]}


def _metres(a: Any, b: Any) -> float:
    return distance_m((a.latitude, a.longitude), (b.latitude, b.longitude))


#: How much room a day's name needs beside its line, in the larger letters of a phone.
LABEL_HALF_PX = 12.0


def log_band(band_rows: Any, zone: str, before: Any = None) -> dict[str, Any]:
    """A logged series as a band from least to greatest, bin by bin, with its odd values; `before` it was corrected."""
    log = band_rows.log
    shown = scale(log.unit)
    lows = [shown(v) for v in (*band_rows.low, *(before.low if before else ()))]
    highs = [shown(v) for v in (*band_rows.high, *(before.high if before else ()))]
    low, high = min(lows, default=0.0), max(highs, default=1.0)
    pad = max(0.08 * (high - low), 0.02 * max(abs(high), 0.05))
    start, span = log.starts, max((log.ends - log.starts).total_seconds(), 1.0)
    frame = Frame(52, 14, 590, 150, 0, span, low - pad, high + pad)

    def outline(one: Any) -> str:
        after_s = [(t - start).total_seconds() for t in one.times]
        return frame.outline(after_s, [shown(v) for v in one.low], [shown(v) for v in one.high])

    days, day = (
        [],
        start.astimezone(ZoneInfo(zone)).replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(days=1),
    )
    step = timedelta(days=max(round(span / 86400 / 8), 1))
    while day <= log.ends:
        x = frame.x((day - start).total_seconds())
        # A series that ends soon after midnight has no room for that day's name.
        days.append({"x": x, "label": f"{day:%d %b}" if x <= frame.right - LABEL_HALF_PX else ""})
        day += step

    # What failed its tests does not set the scale: beyond it, it is drawn at the edge.
    def inside(v):
        return min(max(shown(v), low - pad), high + pad)

    odd = [{"x": frame.x((t - start).total_seconds()), "y": frame.y(inside(v)), "flag": f} for t, v, f in band_rows.odd]
    return {
        "log": log,
        "unit": shown.unit,
        "frame": frame,
        "path": outline(band_rows),
        "days": days,
        "before": outline(before) if before else "",
        "odd": odd,
        "y_ticks": ticks(low - pad, high + pad, 4),
        "digits": 0 if high - low >= 20 else 1 if high - low >= 2 else 2,
    }
