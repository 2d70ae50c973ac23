"""A thermometer against a reference: errors at one or two points, and the correction where the method allows one."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

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
from brumel.core.sentence import Amount, joined, say
from brumel.core.temperature import ReferencePoint, correction_c
from brumel.core.verdict import CriterionRow, Limits, Verdict


@dataclass(frozen=True)
class ThermometerFit:
    """A checked thermometer; corrects by the errors found only where the method says so [°C]."""

    points: tuple[ReferencePoint, ...]
    kind: str

    @property
    def figures(self) -> dict[str, float]:
        """What is followed over the life: the largest error at the reference."""
        return {"error_c": max((p.shown_c - p.reference_c for p in self.points), key=abs, default=0.0)}

    @property
    def sentence(self) -> str:
        """The fit in one line."""
        errors = joined(
            (
                say(
                    "{shown} at {reference}",
                    shown=Amount(p.shown_c - p.reference_c, "°C", "+.2f", difference=True),
                    reference=Amount(p.reference_c, "°C", ".1f"),
                )
                for p in self.points
            ),
            ", ",
        )
        return say("Error {errors}{how}.", errors=errors, how="; corrected for" if self.kind == "corrected" else "")

    def read(self, signal: float, temperature_c: float) -> float:
        """The temperature from what is shown [°C]."""
        door = Door()
        shown = door.number("shown_c", signal, -30, 110)
        door.close()
        return shown + (correction_c(self.points, shown) if self.kind == "corrected" else 0.0)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return asdict(self)


def restore(data: dict[str, Any]) -> ThermometerFit:
    """The inverse of `as_dict`."""
    return ThermometerFit(tuple(ReferencePoint(**p) for p in data["points"]), data["kind"])


def assess(points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> Fitness:
    """Judge one or two reference points [°C]; with adjusting points the errors are corrected for."""
    within = tolerance(limits, "tolerance")
    adjust, checks = of_role(points, "adjust"), of_role(points, "check")
    used = [*adjust, *checks]
    pairs = tuple(ReferencePoint(p.signal, p.expected, p.expanded_uncertainty, p.name) for p in used)
    fitted = ThermometerFit(pairs, "corrected" if adjust else "check")
    errors = [p.signal - p.expected for p in used]
    rows: list[CriterionRow] = as_found_rows(points, terms, within, digits=2)
    rows += [
        within.graded(care=2.0).row(
            "temperature",
            f"error in {p.name}",
            p.signal - p.expected,
            digits=2,
            note="corrected for" if p.role == "adjust" else "read, not adjusted",
        )
        for p in used
    ]
    rows += as_left_rows(points, fitted, within, digits=2)
    rows += common_rows(terms)
    features = {"error_abs_c": max(abs(e) for e in errors)} if errors else {}
    if len(errors) > 1:
        features["points_disagree_c"] = max(errors) - min(errors)
    return Fitness(fitted, Verdict(tuple(rows)), features)
