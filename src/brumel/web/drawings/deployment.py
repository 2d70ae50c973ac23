"""Drawings of a deployment: the record before and after its correction, and the course of a day and of a year."""

from __future__ import annotations

import math
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np

from brumel.core.deployed.look import Envelope
from brumel.core.deployed.thinning import thin
from brumel.store.deployments import Channel
from brumel.web.drawings.frame import Frame, ticks
from brumel.web.units import scale
from brumel.work.rounds import deployments as dep

COLUMNS = 560
#: What a day's name needs beside its line.
_LABEL_HALF_PX = 14.0


def before_and_after(told: dep.Reported, whole: dep.Whole, channel: Channel, zone: str) -> dict[str, Any]:
    """The record as recorded and as reported, its visits, and below it what each step takes off."""
    t, shown = told.record.times_s, scale(channel.unit)
    begin, end = float(t[0]), max(float(t[-1]), float(t[0]) + 1)
    gap_s = 1.5 * whole.deployment.interval_s
    raw = np.where(told.record.flags >= 4, np.nan, told.record.values)
    curves = {"recorded": raw, "reported": told.values}
    drawn = {name: thin(t, v, v, (begin, end), COLUMNS, gap_s) for name, v in curves.items()}
    ends = (
        [
            e
            for one in drawn.values()
            for side in (one.low, one.high)
            for e in (np.nanmin(side), np.nanmax(side))
            if e == e
        ]
        if np.isfinite(raw).any()
        else [0.0, 1.0]
    )
    low, high = shown(min(ends)), shown(max(ends))
    pad = max(0.06 * (high - low), 0.01 * max(abs(high), 0.05))
    frame = Frame(66, 16, 610, 170, begin, end, low - pad, high + pad)
    steps = {"fouling": told.fouling, "drift": told.drift, "compensation": told.compensation}
    offs = {n: thin(t, v, v, (begin, end), COLUMNS, gap_s) for n, v in steps.items() if np.abs(v).max(initial=0) > 0}
    most = max((float(np.nanmax(np.abs(v))) for v in steps.values() if v.size), default=0.0) or 1.0
    # A step is a difference: its size is scaled, its zero is not moved.
    size = abs(shown.step(most))
    below = Frame(66, 196, 610, 250, begin, end, -1.1 * size, 1.1 * size)

    return {
        "frame": frame,
        "below": below,
        "unit": shown.unit,
        "recorded": _band(drawn["recorded"], frame, shown),
        "reported": _band(drawn["reported"], frame, shown) if told.state == "corrected" else "",
        "steps": {n: _line(one, below, shown.step) for n, one in offs.items()},
        "y_ticks": ticks(low - pad, high + pad, 4),
        "digits": 0 if high - low >= 20 else 1 if high - low >= 2 else 2,
        "below_ticks": [-size, 0.0, size],
        "below_digits": 0 if size >= 20 else 1 if size >= 2 else 2,
        "days": _days(begin, end, frame, zone),
        "services": [
            {"x": frame.x(s.at.timestamp()), "at": s.at}
            for s in whole.services
            if begin <= s.at.timestamp() <= end + gap_s
        ],
    }


def _runs(drawn: Any) -> list[slice]:
    """Stretches without a gap or a missing value between them."""
    good = np.isfinite(drawn.low)
    cuts = [0]
    for i in range(drawn.times_s.size):
        if not good[i]:
            cuts += [i, i + 1]
        elif drawn.gap_after[i]:
            cuts.append(i + 1)
    cuts.append(drawn.times_s.size)
    return [slice(a, b) for a, b in zip(cuts, cuts[1:], strict=False) if b > a and good[a:b].all()]


def _band(drawn: Any, frame: Frame, shown: Any) -> str:
    """The outline from least to greatest, run by run."""
    paths = []
    for run in _runs(drawn):
        xs = [frame.x(float(x)) for x in drawn.times_s[run]]
        up = [f"{x:.1f},{frame.y(shown(float(v))):.1f}" for x, v in zip(xs, drawn.high[run], strict=True)]
        down = [f"{x:.1f},{frame.y(shown(float(v))):.1f}" for x, v in zip(xs, drawn.low[run], strict=True)]
        paths.append("M" + " L".join(up) + " L" + " L".join(reversed(down)) + " Z")
    return " ".join(paths)


def _line(drawn: Any, frame: Frame, shown: Any) -> str:
    paths = []
    for run in _runs(drawn):
        # Of a column the value farther from nothing: what is taken off has one sign within it.
        far = np.where(np.abs(drawn.low[run]) > np.abs(drawn.high[run]), drawn.low[run], drawn.high[run])
        points = [
            f"{frame.x(float(x)):.1f},{frame.y(shown(float(v))):.1f}"
            for x, v in zip(drawn.times_s[run], far, strict=True)
        ]
        paths.append("M" + " L".join(points))
    return " ".join(paths)


def _days(begin: float, end: float, frame: Frame, zone: str) -> list[dict[str, Any]]:
    local = datetime.fromtimestamp(begin, UTC).astimezone(ZoneInfo(zone))
    day = local.replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(days=1)
    step = timedelta(days=max(math.ceil((end - begin) / 86_400 / 6), 1))
    found = []
    while day.timestamp() <= end:
        x = frame.x(day.timestamp())
        found.append({"x": x, "label": f"{day:%d %b}" if x <= frame.right - _LABEL_HALF_PX else ""})
        day += step
    return found


def envelope(e: Envelope, channel: Channel, *, months: bool = False) -> dict[str, Any]:
    """The spread of values over the hours of a day, or the months of a year."""
    shown = scale(channel.unit)
    there = e.counts > 0
    low, high = shown(float(np.nanmin(e.low))), shown(float(np.nanmax(e.high)))
    pad = max(0.06 * (high - low), 0.01 * max(abs(high), 0.05))
    frame = Frame(44, 12, 300, 120, float(e.parts[0]), float(e.parts[-1]), low - pad, high + pad)

    def outline(lower: Any, upper: Any) -> str:
        paths = []
        for run in _together(there):
            xs = [frame.x(float(p)) for p in e.parts[run]]
            up = [f"{x:.1f},{frame.y(shown(float(v))):.1f}" for x, v in zip(xs, upper[run], strict=True)]
            down = [f"{x:.1f},{frame.y(shown(float(v))):.1f}" for x, v in zip(xs, lower[run], strict=True)]
            paths.append("M" + " L".join(up) + " L" + " L".join(reversed(down)) + " Z")
        return " ".join(paths)

    names = {1: "Jan", 4: "Apr", 7: "Jul", 10: "Oct", 12: "Dec"} if months else {h: f"{h}:00" for h in (0, 6, 12, 18)}
    return {
        "frame": frame,
        "unit": shown.unit,
        "outer": outline(e.low, e.high),
        "inner": outline(e.p10, e.p90),
        "middle": outline(e.median, e.median),
        "y_ticks": ticks(low - pad, high + pad, 3),
        "digits": 0 if high - low >= 20 else 1 if high - low >= 2 else 2,
        "x_ticks": [{"x": frame.x(float(p)), "label": label} for p, label in names.items()],
        "of": "month" if months else "hour of the day",
    }


def _together(there: Any) -> list[slice]:
    edges = np.flatnonzero(np.diff(np.concatenate([[False], there, [False]]).astype(int)))
    return [slice(int(a), int(b)) for a, b in zip(edges[::2], edges[1::2], strict=True)]
