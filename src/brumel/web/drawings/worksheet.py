"""Geometry of the Worksheet's pictures: curves with marks, and a logarithmic rule."""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from brumel.web.drawings.frame import Frame, room, ticks
from brumel.work.worksheet.model import AnswerChart, ChartScale

WIDTH, HEIGHT = 620, 330


def picture(drawn: AnswerChart | ChartScale) -> dict[str, Any]:
    """What the templates ink; `kind` says which view it is."""
    return chart(drawn) if isinstance(drawn, AnswerChart) else scale(drawn)


def chart(drawn: AnswerChart) -> dict[str, Any]:
    """Curves, marks, a band and bars on one frame with round ticks."""
    bars = [(x, y, u) for x, y, u in drawn.error_bars]
    xs = [v for c in drawn.curves for v in c.x] + [x for x, _, _ in drawn.marks]
    ys = [v for c in drawn.curves for v in c.y] + [y for _, y, _ in drawn.marks]
    ys += [y + s * u for _, y, u in bars for s in (-1, 1)] + list(drawn.band or ())
    x0, x1 = min(xs), max(xs)
    if bars:
        x0, x1 = x0 - 0.7, x1 + 0.7
    y0, y1 = min(ys), max(ys)
    pad = max((y1 - y0) * 0.07, abs(y1) * 1e-3, 1e-6)
    if x1 - x0 < 1e-9:
        x0, x1 = x0 - 1, x1 + 1
    y_ticks = ticks(y0 - pad, y1 + pad, 5)
    left = max(58.0, 14 + room(f"{t:g}" for t in y_ticks))
    frame = Frame(left, 24, 560, HEIGHT - 40, x0, x1, y0 - pad, y1 + pad)
    curves = [
        {
            "path": frame.path(list(zip(c.x, c.y, strict=True))),
            "label": c.label,
            "bold": c.bold,
            "x": min(frame.x(c.x[-1]) + 5, WIDTH - 4 - room([c.label])),
            "y": min(frame.y(c.y[-1]) + 4, frame.bottom - 8),
        }
        for c in drawn.curves
    ]
    _part(curves, frame.bottom - 8, [frame.y(y) - 10 for _, y, label in drawn.marks if label])
    return {
        "kind": "chart",
        "title": drawn.title,
        "x_label": drawn.x_label,
        "y_label": drawn.y_label,
        "frame": frame,
        "curves": curves,
        "band": [frame.y(drawn.band[1]), frame.y(drawn.band[0])] if drawn.band else None,
        "marks": [
            {"x": frame.x(x), "y": frame.y(y), "label": label, "left": frame.x(x) + 10 + room([label]) > WIDTH}
            for x, y, label in drawn.marks
        ],
        "bars": [{"x": frame.x(x), "up": frame.y(y + u), "down": frame.y(y - u)} for x, y, u in bars],
        "x_ticks": [] if bars else [(frame.x(t), t) for t in ticks(x0, x1, 6)],
        "y_ticks": [(frame.y(t), t) for t in y_ticks],
    }


def _part(curves: list[dict[str, Any]], lowest: float, taken: Sequence[float]) -> None:
    """Move labels at the curves' ends apart, so that none lies on another, on a mark's, or on the ticks under the axis."""
    low = -math.inf
    labelled = sorted((c for c in curves if c["label"]), key=lambda c: c["y"])
    for curve in labelled:
        for y in taken:
            if abs(curve["y"] - y) < 15:
                curve["y"] = y - 15 if curve["y"] < y else y + 15
        low = curve["y"] = max(curve["y"], low + 15)
    for curve in reversed(labelled):
        lowest = curve["y"] = min(curve["y"], lowest)
        lowest -= 15


def scale(drawn: ChartScale) -> dict[str, Any]:
    """A logarithmic rule across the page, landmarks above it in two rows, the mark below."""
    frame = Frame(24, 0, 596, 100, math.log10(drawn.low), math.log10(drawn.high), 0, 1)

    def at(value):
        return frame.x(math.log10(min(max(value, drawn.low), drawn.high)))

    decades = range(math.ceil(math.log10(drawn.low)), math.floor(math.log10(drawn.high)) + 1)
    landmarks = [
        {"x": at(value), "label": label, "y": 30 + 20 * (i % 3)}
        for i, (value, label) in enumerate(sorted(drawn.landmarks))
    ]
    return {
        "kind": "scale",
        "title": drawn.title,
        "unit": drawn.unit,
        "mark": at(drawn.mark),
        "mark_left": at(drawn.mark) + 14 + room([f"{drawn.mark:.5g} {drawn.unit}"]) > WIDTH,
        "value": drawn.mark,
        "landmarks": landmarks,
        "decades": [{"x": at(10.0**d), "label": f"{10.0**d:g}"} for d in decades],
        "minor": [at(10.0**d * k) for d in decades for k in range(2, 10) if 10.0**d * k <= drawn.high],
    }
