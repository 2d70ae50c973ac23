"""The debrief as it is drawn: what each probe showed, and every moment that counted, on one line of time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

LEFT, RIGHT = 62.0, 890.0
TOP, HIGH, GAP = 34.0, 150.0, 46.0
#: Where nothing happens for longer than this the line of time is cut short [s].
LONGEST_STILL_S = 240.0
MARKED = ("act", "point", "verdict", "reading", "decision", "slip")


@dataclass(frozen=True)
class Moment:
    """A numbered moment: where it stands, and whether it was one that cost."""

    x: float
    number: int
    kind: str
    is_bad: bool


@dataclass(frozen=True)
class Strand:
    """What one probe showed."""

    name: str
    unit: str
    top: float
    bottom: float
    path: str
    ticks: tuple[tuple[float, str], ...]
    stands: tuple[tuple[float, str], ...]
    settled: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class DebriefDrawing:
    """All of it; `cuts` are where time was cut short."""

    height: float
    strands: tuple[Strand, ...]
    moments: tuple[Moment, ...]
    ticks: tuple[tuple[float, str], ...]
    cuts: tuple[float, ...]
    expert: tuple[tuple[float, float, str], ...] = ()


def draw(debrief: Mapping[str, Any]) -> DebriefDrawing:
    """The drawing of a debrief as it is kept."""
    numbered = numbered_moments(debrief["moments"])
    turns = sorted({0.0, float(debrief["lasted_s"]), *(m["s"] for _, m in numbered)} | _moves(debrief["traces"]))
    scale, cuts = _still_cut_short(turns)
    settled = [m["settles"] for m in debrief["moments"] if (m.get("settles") or {}).get("s") is not None]
    strands = [_strand(trace, i, scale, settled) for i, trace in enumerate(debrief["traces"])]
    bottom = max((s.bottom for s in strands), default=TOP)
    moments = [
        Moment(scale(m["s"]), number, m["kind"], bool(m.get("unsafe") or m.get("early") or m["kind"] == "slip"))
        for number, m in numbered
    ]
    ticks, last = [], -1e9
    for at in turns:
        if scale(at) - last > 70:
            ticks.append((scale(at), _clock(at)))
            last = scale(at)
    line = debrief.get("expert_line", ())
    expert = [(scale(e["from"]), scale(e["to"]), e["words"]) for e in line if e["to"] <= debrief["lasted_s"]]
    height = bottom + 48 + (24 if expert else 0)
    return DebriefDrawing(height, tuple(strands), tuple(_apart(moments)), tuple(ticks), tuple(cuts), tuple(expert))


def numbered_moments(moments: Sequence[Mapping[str, Any]]) -> list[tuple[int, Mapping[str, Any]]]:
    """The moments that are marked on the drawing, with their numbers."""
    return list(enumerate((m for m in moments if m["kind"] in MARKED), 1))


def _moves(traces: Sequence[Mapping[str, Any]]) -> set[float]:
    return {float(s["s"]) for trace in traces for s in trace["stands"]}


def _still_cut_short(turns: Sequence[float]) -> tuple[Any, list[float]]:
    """A scale of time in which long stretches without a move are short, and where they were."""
    drawn, cuts = [0.0], []
    for before, after in zip(turns, turns[1:], strict=False):
        still = after - before
        if still > LONGEST_STILL_S:
            cuts.append(drawn[-1] + LONGEST_STILL_S / 2)
        drawn.append(drawn[-1] + min(still, LONGEST_STILL_S))
    whole = max(drawn[-1], 1.0)

    def scale(at: float) -> float:
        i = max(0, min(len(turns) - 2, next((k for k in range(len(turns) - 1) if turns[k + 1] >= at), len(turns) - 2)))
        if len(turns) < 2:
            return LEFT
        still = max(turns[i + 1] - turns[i], 1e-9)
        part = drawn[i] + (at - turns[i]) / still * (drawn[i + 1] - drawn[i])
        return round(LEFT + part / whole * (RIGHT - LEFT), 1)

    return scale, [round(LEFT + c / whole * (RIGHT - LEFT), 1) for c in cuts]


def _strand(trace: Mapping[str, Any], number: int, scale: Any, settled: Sequence[Mapping[str, Any]]) -> Strand:
    top = TOP + number * (HIGH + GAP)
    mine = [s for s in settled if s["probe"] == trace["name"] and s["s"] <= trace["t"][-1]]
    low, high = (f([*trace["y"], *(s["value"] for s in mine)]) for f in (min, max))
    room = max(high - low, abs(high) * 0.02, 1e-6)
    low, high = low - 0.06 * room, high + 0.06 * room

    def y(value: float) -> float:
        return round(top + HIGH - (value - low) / (high - low) * HIGH, 1)

    path = "M" + " L".join(f"{scale(t)},{y(v)}" for t, v in zip(trace["t"], trace["y"], strict=True))
    digits = 0 if high - low > 20 else 1 if high - low > 2 else 2
    ticks = [
        (y(low + share * (high - low)), f"{low + share * (high - low):.{digits}f}".replace("-", "−"))
        for share in (0.1, 0.5, 0.9)
    ]
    stands: list[tuple[float, str]] = []
    last = -1e9
    for stand in trace["stands"]:
        x = scale(float(stand["s"]))
        if stands and stands[-1][1] == stand["place"]:
            continue
        if x - last < 34:
            stands = stands[:-1] if stands else stands
        stands.append((x, stand["place"]))
        last = x
    words = {"moist_air": "air", "aired_water": "water", "holder": "–", "water": "site"}
    return Strand(
        trace["name"],
        trace["unit"],
        top,
        top + HIGH,
        path,
        tuple(ticks),
        tuple((x, words.get(place, place)) for x, place in stands),
        tuple((scale(s["s"]), y(s["value"])) for s in mine),
    )


def _apart(moments: Sequence[Moment]) -> list[Moment]:
    """Marks that would lie on each other are moved apart a little, in their order."""
    placed: list[Moment] = []
    for moment in sorted(moments, key=lambda m: (m.x, m.number)):
        least = placed[-1].x + 17 if placed else 0.0
        placed.append(Moment(max(moment.x, least), moment.number, moment.kind, moment.is_bad))
    over = placed[-1].x - (RIGHT + 16) if placed else 0.0
    return [Moment(m.x - max(0.0, over), m.number, m.kind, m.is_bad) for m in placed] if over > 0 else placed


def _clock(seconds: float) -> str:
    if seconds >= 7200:
        return f"{seconds / 3600:.1f} h"
    return f"{int(seconds // 60)}:{int(seconds % 60):02d}"
