"""A chlorine tip against a second method in the same water: the normalised error decides, never "close"."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from brumel.core.agreement import Measured, compare
from brumel.core.checking import Door
from brumel.core.fitness.common import (
    CalibrationPoint,
    Fitness,
    JudgingTerms,
    as_found_rows,
    as_left_rows,
    common_rows,
    of_role,
    tolerance,
)
from brumel.core.sentence import Amount, say
from brumel.core.verdict import CriterionRow, Limits, Outcome, Verdict


@dataclass(frozen=True)
class ChlorineFit:
    """A checked chlorine tip: reads as it shows, or by a gain where the method adjusts; with the error found [mg/L]."""

    gain: float
    error_mg_l: float
    kind: str

    @property
    def figures(self) -> dict[str, float]:
        """What is followed over the life: the difference to the second method."""
        return {"error_mg_l": self.error_mg_l}

    @property
    def sentence(self) -> str:
        """The fit in one line."""
        how = say("; adjusted by {gain}", gain=Amount(self.gain, "", ".2f")) if self.kind == "gain" else ""
        return say("{error} against the second method{how}.", error=Amount(self.error_mg_l, "mg/L", "+.2f"), how=how)

    def read(self, signal: float, temperature_c: float) -> float:
        """Chlorine from what is shown [mg/L]."""
        door = Door()
        shown = door.number("free_mg_l", signal, -1, 200)
        door.close()
        return shown * self.gain

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return asdict(self)


def restore(data: dict[str, Any]) -> ChlorineFit:
    """The inverse of `as_dict`."""
    return ChlorineFit(**data)


def assess(points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> Fitness:
    """Judge a tip beside a second method [mg/L]: En with both uncertainties, and the difference. Source: ISO13528."""
    within = tolerance(limits, "tolerance")
    adjust, checks = of_role(points, "adjust"), of_role(points, "check")
    used = [*adjust, *checks]
    first = used[0] if used else None
    gain = first.expected / first.signal if adjust and first and first.signal > 0.02 else 1.0
    fitted = ChlorineFit(gain, first.signal - first.expected if first else 0.0, "gain" if adjust else "check")
    rows: list[CriterionRow] = as_found_rows(points, terms, within, digits=2)
    for p in used:
        mine, other = (
            Measured(p.signal, terms.expanded_uncertainty, "mg/L"),
            Measured(p.expected, p.expanded_uncertainty, "mg/L"),
        )
        comparison = compare(mine, other)
        limit = tolerance(limits, "en")
        outcome = Outcome.FIT if abs(comparison.en) <= limit.value else Outcome.CARE if adjust else Outcome.NOT
        rows.append(
            within.graded(care=2.0).row(
                "difference",
                f"difference to {p.name}",
                p.signal - p.expected,
                digits=2,
                note="before adjusting" if adjust else "as shown",
            )
        )
        rows.append(
            CriterionRow(
                "en",
                "normalised error En",
                comparison.en,
                "",
                say("within ±{value}", value=Amount(limit.value)),
                outcome,
                limit.source,
                comparison.sentence,
                2,
            )
        )
    rows += as_left_rows(points, fitted, within, digits=2)
    rows += common_rows(terms)
    features = {"difference_mg_l": fitted.error_mg_l, "difference_abs_mg_l": abs(fitted.error_mg_l)}
    if first and first.signal < first.expected:
        features["reads_low_percent"] = 100 * (1 - first.signal / first.expected)
    return Fitness(fitted, Verdict(tuple(rows)), features)
