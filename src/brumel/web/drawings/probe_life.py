"""A probe's life drawn: strips over one time axis, limits, control limits, run-rule marks, maintenance, the forecast."""

from __future__ import annotations

from datetime import datetime, timedelta
from typing import Any

from brumel.web.drawings.frame import Frame, room
from brumel.work.kit.probe_life import Life, Strand

HEIGHT = 120


LEFT, RIGHT = 80.0, 560.0
#: Height of an axis label, so that two do not overlap.
LABEL_HIGH = 17.0


def views(life: Life, now: datetime) -> list[dict[str, Any]]:
    """One strip a strand, all over the same days; the forecast may reach past now, up to a third of the width."""
    if not life.strands:
        return []
    start = min(s.times[0] for s in life.strands)
    span = max((now - start).total_seconds(), 86400.0)
    ahead = max([s.forecast.crosses_d * 86400 for s in life.strands if s.forecast] + [0.0])
    end = span + min(ahead * 1.05, span / 2)

    def when(at: datetime) -> float:
        return (at - start).total_seconds()

    return [_strip(s, when, start, now, end, life) for s in life.strands]


def _strip(s: Strand, when: Any, start: datetime, now: datetime, end: float, life: Life) -> dict[str, Any]:
    inside = [*s.values, *((s.band.fit_low, s.band.fit_high) if s.band else (0.0,))]
    low, high = min(inside), max(inside)
    pad = 0.1 * max(high - low, 1e-6)
    frame = Frame(LEFT, 12, RIGHT, HEIGHT - 26, 0, end, low - pad, high + pad)
    flagged = {signal.index for signal in s.chart.signals} if s.chart else set()
    dots = [
        {"x": frame.x(when(t)), "y": frame.y(v), "outcome": o, "value": v, "flagged": i in flagged}
        for i, (t, v, o) in enumerate(zip(s.times, s.values, s.outcomes, strict=True))
    ]
    view: dict[str, Any] = {
        "name": s.name,
        "unit": s.unit,
        "digits": s.digits,
        "frame": frame,
        "dots": dots,
        "path": "M" + " L".join(f"{d['x']},{d['y']}" for d in dots),
        "last_x": 614 - room([f"{s.values[-1]:.{s.digits}f}"]),
        "now": frame.x(when(now)),
        "first": start,
        "last": now,
        "maintenance": [{"x": frame.x(when(at)), "words": words} for at, words in life.maintenance if at >= start],
        "band": None,
        "ticks": [],
        "control": None,
        "forecast": None,
    }
    if s.band:
        view["band"] = [{"y": frame.y(v), "value": v} for v in (s.band.fit_high, s.band.fit_low)]
    else:
        low, high = min(s.values), max(s.values)
        # Values that hardly differ share one label: two would be written over each other.
        apart = frame.y(low) - frame.y(high) >= LABEL_HIGH
        view["ticks"] = [{"y": frame.y(v), "value": v} for v in ((low, high) if apart else (high,))]
    if s.chart:
        view["control"] = [_clip(frame, v) for v in s.chart.limits]
    if s.forecast:
        newest = s.times[-1]
        over = newest + timedelta(days=s.forecast.crosses_d)
        limit = s.values[-1] + s.forecast.slope_per_d * s.forecast.crosses_d
        share = min(1.0, (end - when(newest)) / max(when(over) - when(newest), 1.0))
        tip = s.values[-1] + (limit - s.values[-1]) * share
        reached = frame.x(when(newest) + share * (when(over) - when(newest)))
        view["forecast"] = {"path": f"M{dots[-1]['x']},{dots[-1]['y']} L{reached},{_clip(frame, tip)}"}
    return view


def _clip(frame: Frame, value: float) -> float:
    return min(max(frame.y(value), frame.top), frame.bottom)
