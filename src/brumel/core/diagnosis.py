"""From what a run showed to its likely causes: evidence is weighed, causes are ranked."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass


@dataclass(frozen=True)
class Evidence:
    """A feature that speaks for a cause: nothing at `start`, in full from `full` on, with its weight."""

    feature: str
    start: float
    full: float
    weight: float
    words: str

    def strength(self, value: float) -> float:
        """0 to 1; `full` may lie above or below `start`."""
        if self.full == self.start:
            return 1.0 if value >= self.full else 0.0
        return min(1.0, max(0.0, (value - self.start) / (self.full - self.start)))


@dataclass(frozen=True)
class Fault:
    """A known fault: its evidence and what to do about it."""

    key: str
    cause: str
    remedy: str
    evidence: tuple[Evidence, ...]
    source: str
    caution: str = ""
    only: str = ""  # a feature that must have been seen; without it this fault cannot be told


@dataclass(frozen=True)
class Cause:
    """A fault found likely: score 0 to 1 and the words of the evidence that spoke."""

    key: str
    cause: str
    remedy: str
    score: float
    because: tuple[str, ...]
    source: str
    caution: str = ""


def rank(features: Mapping[str, float], faults: Sequence[Fault], *, least: float = 0.25) -> list[Cause]:
    """Likely causes, most likely first.

    `features` maps names to numbers; a feature that was not measured takes no part. Evidence of negative
    weight speaks against. A fault with `only` is judged only where that feature is 1. The score is the weighed
    evidence over the weight of all positive evidence.
    """
    ranked = []
    for fault in faults:
        if fault.only and features.get(fault.only, 0.0) < 0.5:
            continue
        total = sum(e.weight for e in fault.evidence if e.weight > 0)
        score, because = 0.0, []
        for e in fault.evidence:
            if e.feature not in features:
                continue
            strength = e.strength(features[e.feature])
            score += e.weight * strength
            if strength > 0.2 and e.weight > 0:
                because.append(e.words)
        if total > 0 and score / total >= least:
            ranked.append(
                Cause(fault.key, fault.cause, fault.remedy, score / total, tuple(because), fault.source, fault.caution)
            )
    return sorted(ranked, key=lambda c: -c.score)
