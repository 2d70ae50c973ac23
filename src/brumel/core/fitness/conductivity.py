"""A conductivity cell: its constant against the nominal one, standards against each other, and a check without adjusting."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np

from brumel.core.checking import Door
from brumel.core.conductivity import Cell, CellPoint, fit_cell
from brumel.core.errors import CannotFit
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
from brumel.core.verdict import CriterionRow, Limits, Outcome, Tolerance, Verdict


@dataclass(frozen=True)
class CellFit:
    """A cell constant in force [1/cm], its zero in air [µS], and how it was come by; reads uncompensated µS/cm."""

    cell_constant_per_cm: float
    zero_us: float
    nominal_per_cm: float
    kind: str
    points: tuple[CellPoint, ...] = ()
    residuals_percent: tuple[float, ...] = ()

    @property
    def change_percent(self) -> float:
        """The constant against the nominal one, signed."""
        return 100 * (self.cell_constant_per_cm / self.nominal_per_cm - 1)

    @property
    def figures(self) -> dict[str, float]:
        """What is followed over the life: the constant, and the zero in air."""
        return {"cell_constant": self.cell_constant_per_cm, "zero_us": self.zero_us}

    @property
    def sentence(self) -> str:
        """The fit in one line."""
        how = (
            "carried over, not adjusted"
            if self.kind == "check"
            else say("{change} from nominal", change=Amount(self.change_percent, "%", "+.1f"))
        )
        return say(
            "Cell constant {cell_constant}, {how}.",
            cell_constant=Amount(self.cell_constant_per_cm, "/cm", ".4f"),
            how=how,
        )

    def read(self, signal: float, temperature_c: float) -> float:
        """Uncompensated conductivity from what the cell conducts; the temperature plays no part [µS, °C] -> [µS/cm]."""
        door = Door()
        g = door.number("conductance_us", signal, -100, 10_000_000)
        door.close()
        return self.cell_constant_per_cm * (g - self.zero_us)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return asdict(self)

    @property
    def cell(self) -> Cell:
        """The cell as the budgets take it."""
        return Cell(
            self.points,
            self.cell_constant_per_cm,
            self.zero_us,
            self.residuals_percent,
            tuple(p.standard_us_cm / (p.conductance_us - self.zero_us) for p in self.points),
            self.kind,
        )


def restore(data: dict[str, Any]) -> CellFit:
    """The inverse of `as_dict`."""
    return CellFit(
        **{
            **data,
            "points": tuple(CellPoint(**p) for p in data["points"]),
            "residuals_percent": tuple(data["residuals_percent"]),
        }
    )


def assess(points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> Fitness:
    """Judge a run in one or two standards, with or without the air zero; without adjusting points it is a check.

    Calibrated on the uncompensated value at the cup's temperature, so that no compensation error enters. Raises
    CannotFit where the cell conducts no more than in air.
    """
    zero = of_role(points, "zero")
    air_us = zero[0].signal if zero else 0.0
    adjust = of_role(points, "adjust")
    fitted = _fit(adjust, air_us, terms)
    rows = _as_found(points, limits, terms)
    if adjust:
        shown = band(limits, "cell_constant")
        note = say(
            "{cell_constant}; nominal {nominal}",
            cell_constant=Amount(fitted.cell_constant_per_cm, "/cm", ".4f"),
            nominal=Amount(terms.nominal_per_cm, "/cm"),
        )
        rows.append(shown.row("cell_constant", "cell constant, from nominal", fitted.change_percent, "%", note=note))
        rows += _jump(fitted, limits, terms)
    if zero:
        rows.append(
            tolerance(limits, "air_zero")
            .graded(beyond=Outcome.CARE, signed=False)
            .row("air_zero", "conducts in air, dry", air_us, digits=2)
        )
    if len(fitted.residuals_percent) > 1:
        gap = max(fitted.residuals_percent) - min(fitted.residuals_percent)
        rows.append(
            tolerance(limits, "standards_gap")
            .graded(care=2.0, signed=False)
            .row("standards_gap", "constants of the standards apart", gap, digits=1)
        )
    for p in of_role(points, "check"):
        error = fitted.read(p.signal, p.temperature_c) - p.expected
        rows.append(
            _error_limit(p, limits)
            .graded(care=2.0)
            .row("check", f"error in {p.name}", error, digits=1, note="read, not adjusted")
        )
    rows += as_left_rows(points, fitted, _absolute(points, limits, "left"), digits=1)
    rows += spread_row([p for p in points if p.role != "zero"], tolerance(limits, "cup_spread"))
    rows += common_rows(terms)
    return Fitness(fitted, Verdict(tuple(rows)), _features(points, fitted, air_us if zero else None, terms))


def _as_found(points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> list[CriterionRow]:
    """What the last calibration reads in the standards before it is replaced, whether or not that was asked for."""
    found = of_role(points, "found")
    if not found and terms.before is not None:
        found = [replace(p, role="found") for p in of_role(points, "adjust")]
    # Each standard by its own size: 5 % of the weak one is nothing in the strong one.
    return [row for p in found for row in as_found_rows([p], terms, _error_limit(p, limits), digits=1)]


def _jump(fitted: CellFit, limits: Limits, terms: JudgingTerms) -> list[CriterionRow]:
    """The constant against that of the last good calibration: a cell's constant does not move by itself."""
    limit = tolerance(limits, "as_found")
    if not isinstance(terms.before, CellFit):
        return _first_of_cell(fitted, limit)
    last = terms.before.cell_constant_per_cm
    change = 100 * (fitted.cell_constant_per_cm / last - 1)
    note = say(
        "{now}; {last} by {words}" + (": film, a bubble, or another standard" if abs(change) > limit.value else ""),
        now=Amount(fitted.cell_constant_per_cm, "/cm", ".4f"),
        last=Amount(last, "/cm", ".4f"),
        words=terms.before_words or "the last one",
    )
    share = Tolerance(limit.value, "%", limit.source).graded(beyond=Outcome.CARE)
    return [share.row("constant_jump", "cell constant, from the last calibration", change, digits=1, note=note)]


def _first_of_cell(fitted: CellFit, limit: Tolerance) -> list[CriterionRow]:
    """Without a record one standard alone cannot be told from a cell that is off; two that agree can."""
    if len(fitted.points) > 1:
        return []
    note = "One standard and no earlier calibration: a standard that is off would look the same. Read a second one."
    share = Tolerance(limit.value, "%", limit.source).graded(beyond=Outcome.CARE)
    row = share.row("constant_first", "first calibration, from nominal", fitted.change_percent, digits=1, note=note)
    return [replace(row, outcome=Outcome.UNKNOWN) if row.outcome is Outcome.FIT else row]


def _fit(adjust: Sequence[CalibrationPoint], air_us: float, terms: JudgingTerms) -> CellFit:
    if not adjust:
        before = terms.before
        if isinstance(before, CellFit):
            return CellFit(before.cell_constant_per_cm, before.zero_us, terms.nominal_per_cm, "check")
        return CellFit(terms.nominal_per_cm, 0.0, terms.nominal_per_cm, "check")
    if any(p.signal <= 0 for p in adjust):
        raise CannotFit("points", "In a standard the cell conducts nothing. Is it wetted, and plugged in?")
    cell = fit_cell([CellPoint(p.signal, p.temperature_c, p.expected, p.key) for p in adjust], air_zero_us=air_us)
    return CellFit(
        cell.cell_constant_per_cm, air_us, terms.nominal_per_cm, cell.kind, cell.points, cell.residuals_percent
    )


def _error_limit(point: CalibrationPoint, limits: Limits) -> Tolerance:
    """± percent of the standard or ± µS/cm, whichever is greater."""
    share, least = tolerance(limits, "as_found"), tolerance(limits, "as_found_least")
    return Tolerance(max(share.value / 100 * point.expected, least.value), "µS/cm", share.source)


def _absolute(points: Sequence[CalibrationPoint], limits: Limits, role: str) -> Tolerance:
    mine = of_role(points, role)
    return _error_limit(mine[0], limits) if mine else Tolerance(1.0, "µS/cm")


def _features(
    points: Sequence[CalibrationPoint], fitted: CellFit, air_us: float | None, terms: JudgingTerms
) -> dict[str, float]:
    standards = [p for p in points if p.role in ("adjust", "check", "found") and p.expected > 0]
    features: dict[str, float] = {}
    if standards:
        # A cell that reads low needs a larger constant: the change is that of the reading against nominal, turned round.
        reads = [p.expected / max(p.signal - fitted.zero_us, 1e-9) / terms.nominal_per_cm for p in standards]
        change = 100 * (float(np.median(reads)) - 1)
        features |= {"cell_change_percent": change, "cell_change_abs_percent": abs(change)}
        if len(standards) > 1:
            features["two_standards_gap_percent"] = 100 * (max(reads) - min(reads))
        if isinstance(terms.before, CellFit):
            shift = [100 * (1 - terms.before.read(p.signal, p.temperature_c) / p.expected) for p in standards]
            features["cell_change_percent"] = float(np.median(shift))
            features["cell_change_abs_percent"] = abs(features["cell_change_percent"])
    if air_us is not None:
        features["air_zero_us"] = abs(air_us)
    return features
