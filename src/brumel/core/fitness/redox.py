"""An ORP probe: checked in a standard, or adjusted by one offset; the tolerance is the method's, with its source."""

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
    band,
    common_rows,
    of_role,
    spread_row,
    tolerance,
)
from brumel.core.sentence import Amount, say
from brumel.core.verdict import CriterionRow, Limits, Verdict


@dataclass(frozen=True)
class OffsetFit:
    """What is added to every reading [mV]; 0 where the probe was only checked."""

    offset_mv: float
    error_mv: float
    kind: str

    @property
    def figures(self) -> dict[str, float]:
        """What is followed over the life: the error in the standard before anything was adjusted."""
        return {"error_mv": self.error_mv}

    @property
    def sentence(self) -> str:
        """The fit in one line."""
        if self.kind == "check":
            return say("Checked, not adjusted: {error} in the standard.", error=Amount(self.error_mv, "mV", "+.0f"))
        return say("Offset {offset}.", offset=Amount(self.offset_mv, "mV", "+.0f"))

    def read(self, signal: float, temperature_c: float) -> float:
        """ORP against the probe's own reference electrode [mV]."""
        door = Door()
        e = door.number("orp_mv", signal, -2000, 2000)
        door.close()
        return e + self.offset_mv

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return asdict(self)


def restore(data: dict[str, Any]) -> OffsetFit:
    """The inverse of `as_dict`."""
    return OffsetFit(**data)


def assess(points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> Fitness:
    """Judge a check, or a one-point offset, in one or two standards [mV]."""
    adjust, checks = of_role(points, "adjust"), of_role(points, "check")
    standards = [*adjust, *checks]
    errors = [p.signal - p.expected for p in standards]
    within = tolerance(limits, "tolerance")
    rows: list[CriterionRow] = as_found_rows(points, terms, within, digits=0)
    if adjust:
        fitted = OffsetFit(adjust[0].expected - adjust[0].signal, errors[0], "offset")
        rows.append(band(limits, "offset").row("offset", "offset applied", fitted.offset_mv, "mV", digits=0))
    else:
        fitted = OffsetFit(0.0, errors[0] if errors else 0.0, "check")
    rows += [
        within.graded(care=2.0).row(
            "orp",
            f"error in {p.name}",
            fitted.read(p.signal, p.temperature_c) - p.expected,
            digits=0,
            note="read, not adjusted",
        )
        for p in checks
    ]
    if len(errors) > 1:
        gap = max(errors) - min(errors)
        rows.append(
            within.graded(care=2.0, signed=False).row(
                "standards_gap", "standards apart, against what they should be", gap, digits=0
            )
        )
    rows += as_left_rows(points, fitted, within, digits=0)
    rows += spread_row(points, tolerance(limits, "cup_spread"))
    rows += common_rows(terms)
    features = {"error_mv": errors[0], "error_abs_mv": max(abs(e) for e in errors)} if errors else {}
    if len(errors) > 1:
        features["standards_gap_mv"] = max(errors) - min(errors)
    return Fitness(fitted, Verdict(tuple(rows)), features)
