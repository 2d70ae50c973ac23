"""A meter that is adjusted itself: what its display showed before and after, and what it says of the probe.

The display of an adjusted meter agrees with the standard it was just set to, whatever the probe is like, so no slope, offset
or cell constant is worked out from it. What the meter tells of itself is judged; what it does not tell is not known.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from brumel.core.fitness.common import CalibrationPoint, Fitness, Fitted, JudgingTerms, common_rows, of_role
from brumel.core.sentence import Amount, say
from brumel.core.verdict import Band, CriterionRow, Outcome, Tolerance, Verdict


@dataclass(frozen=True)
class OwnFigure:
    """A figure the meter tells of its own adjustment.

    value : as the meter shows it, None where it was not told; judged : the same on the scale of the band
    """

    key: str
    name: str
    unit: str
    digits: int
    value: float | None
    judged: float | None
    band: Band
    judged_unit: str = ""


@dataclass(frozen=True)
class AdjustedFit:
    """A display that is taken as it is; `told` are the figures the meter gave of itself, and no others are followed."""

    display: Fitted
    told: tuple[OwnFigure, ...]

    @property
    def kind(self) -> str:
        """How it was made."""
        return "set on the meter"

    @property
    def figures(self) -> dict[str, float]:
        """What the meter told; nothing that was not measured."""
        return {f.key: f.value for f in self.told if f.value is not None}

    @property
    def sentence(self) -> str:
        """The fit in one line."""
        known = [f"{f.name} {f.value:.{f.digits}f} {f.unit}".strip() for f in self.told if f.value is not None]
        missing = [f.name for f in self.told if f.value is None]
        parts = ["The meter was set to these standards; its display is taken as it is."]
        if known:
            parts.append(f"By the meter's own word: {', '.join(known)}.".replace("-", "−"))
        if missing:
            parts.append(f"Not known: {', '.join(missing)}.")
        return " ".join(parts)

    def read(self, signal: float, temperature_c: float) -> float:
        """The quantity as the display shows it."""
        return self.display.read(signal, temperature_c)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing: those of the display's own reading, marked as such."""
        return {**self.display.as_dict(), "display": True}


def assess(
    points: Sequence[CalibrationPoint],
    display: Fitted,
    found: Tolerance,
    left: Tolerance,
    told: Sequence[OwnFigure],
    terms: JudgingTerms,
) -> Fitness:
    """Judge what the display showed in each cup before it was set there and after, and what the meter tells of itself.

    found, left : what an error may be before and after setting, in percent where their unit is "%"
    An error as found does not decide whether the meter is fit now; one as left, a check and the meter's own figures do.
    """
    rows: list[CriterionRow] = []
    for p in of_role(points, "found", "adjust"):
        rows.append(
            found.graded(beyond=Outcome.CARE).row(
                "as_found",
                f"as found in {p.name}",
                _error(p, found),
                note="as the display showed it, before it was set here",
            )
        )
    for p in of_role(points, "left", "check"):
        how = "as left" if p.role == "left" else "checked"
        rows.append(left.graded(care=2.0).row("as_left", f"{how} in {p.name}", _error(p, left), note="as displayed"))
    rows += [_own_row(figure) for figure in told]
    if not of_role(points, "left", "check"):
        limit = say("within ±{value}", value=Amount(left.value, left.unit, difference=True))
        note = "the display was not read again after it was set"
        rows.append(CriterionRow("as_left", "as left", None, left.unit, limit, Outcome.UNKNOWN, left.source, note))
    rows += common_rows(terms)
    return Fitness(AdjustedFit(display, tuple(told)), Verdict(tuple(rows)), {})


def _error(p: CalibrationPoint, limit: Tolerance) -> float:
    shown = p.shown if p.shown is not None else p.signal
    return 100 * (shown / p.expected - 1) if limit.unit == "%" and p.expected else shown - p.expected


def _own_row(figure: OwnFigure) -> CriterionRow:
    name = f"{figure.name}, by the meter's own word"
    if figure.judged is None or figure.value is None:
        empty = figure.band.row(figure.key, name, 0.0, figure.judged_unit or figure.unit)
        note = "not known: the meter did not tell"
        return CriterionRow(figure.key, name, None, empty.unit, empty.limit, Outcome.UNKNOWN, empty.source, note)
    note = "" if figure.judged == figure.value else f"the meter shows {figure.value:.{figure.digits}f} {figure.unit}"
    return figure.band.row(
        figure.key, name, figure.judged, figure.judged_unit or figure.unit, digits=figure.digits, note=note
    )
