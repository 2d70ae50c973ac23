"""Geometry of the drawn views: plate, staff, history, day ribbon. Numbers to places on paper; templates only ink them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray


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

    def across(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """`x` of many at once, not rounded."""
        return self.left + (values - self.x0) * ((self.right - self.left) / (self.x1 - self.x0))

    def down(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """`y` of many at once, not rounded."""
        return self.bottom - (values - self.y0) * ((self.bottom - self.top) / (self.y1 - self.y0))

    def path(self, points: Sequence[tuple[float, float]]) -> str:
        return "M" + " L".join(f"{self.x(a)},{self.y(b)}" for a, b in points)

    def outline(self, x: Sequence[float], low: Sequence[float], high: Sequence[float]) -> str:
        """The path around a band, along its upper edge and back along the lower one; empty where there is none."""
        if not len(x):
            return ""
        across, upper, lower = self.across(np.asarray(x)), self.down(np.asarray(high)), self.down(np.asarray(low))
        around = zip(np.r_[across, across[::-1]].tolist(), np.r_[upper, lower[::-1]].tolist(), strict=True)
        return "M" + " L".join([f"{a:.1f},{b:.1f}" for a, b in around]) + " Z"


#: How wide a letter is where drawings are at their smallest, on a phone, whose letters are larger to stay readable.
LETTER = 11.0


def room(labels: Iterable[str]) -> float:
    """How much width the longest of these labels takes on a phone, in the drawing's own measure."""
    return LETTER * max((len(label) for label in labels), default=0)


def ticks(low: float, high: float, about: int = 5) -> list[float]:
    """Round values between low and high."""
    span = max(high - low, 1e-9)
    raw = span / about
    power = 10.0 ** np.floor(np.log10(raw))
    step = next(s for s in (power, 2 * power, 5 * power, 10 * power) if s >= raw)
    first = np.ceil(low / step) * step
    return [round(float(v), 10) + 0.0 for v in np.arange(first, high + step * 1e-6, step)]  # no minus before nothing


def short_lines(title: str, most: int = 11) -> list[str]:
    """A title in at most two short lines, so that it stays in its drawing."""
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
        {
            "y": top + (len(titles) - 1 - i) * step,
            "title": title,
            "lines": short_lines(title),
            "state": "done" if i < done else "now" if i == done else "wait",
        }
        for i, title in enumerate(titles)
    ]
    bottom = top + (len(titles) - 1) * step + 40
    level = bottom if done == 0 else top + (len(titles) - done) * step - step // 2 + 2
    return {
        "marks": marks,
        "bottom": bottom,
        "level": max(level, 8),
        "height": bottom + 10,
        "minor": list(range(top - 16, bottom, 8)),
    }


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
            {
                "x": frame.x(hour(line.start)),
                "w": max(frame.x(hour(line.end)) - frame.x(hour(line.start)), 1.0),
                "kind": line.kind,
                "deciding": line.deciding,
            }
            for line in (plan.lines if plan else ())
        ],
        "leave": frame.x(hour(plan.leave_at)) if plan else None,
        "back": frame.x(hour(plan.back_at)) if plan else None,
        "now": frame.x(hour(now)),
        "time": f"{local:%H:%M}",
        "zone": "UTC" if zone == "UTC" else local.tzname(),
    }
