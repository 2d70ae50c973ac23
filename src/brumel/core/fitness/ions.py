"""Nitrate and ammonium tips: pairs of standards, their gap at 25 °C and 10:1, temperatures, and what had to come first."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from brumel.core import ions
from brumel.core.checking import Floats
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
    tolerance,
)
from brumel.core.ions import RESTS_ON
from brumel.core.quantity_table import MEASURED
from brumel.core.sentence import Amount, say
from brumel.core.verdict import CriterionRow, Limits, Tolerance, Verdict


@dataclass(frozen=True)
class IonFit:
    """A fitted tip; reads what its standards were stated in, as activity [mg/L as N]."""

    calibration: ions.IonCalibration
    gap_mv: float
    kind: str

    @property
    def figures(self) -> dict[str, float]:
        """What is followed over the life: the gap at 25 °C and 10:1, and the slope."""
        return {"gap_mv": self.gap_mv, "slope_percent": 100 * self.calibration.efficiency}

    @property
    def sentence(self) -> str:
        """The fit in one line."""
        slope = self.calibration.slope_mv_per_decade
        return say(
            "Slope {slope} at 25 °C, gap {gap}.",
            slope=Amount(slope, "mV a decade", ".1f"),
            gap=Amount(self.gap_mv, "mV", ".1f"),
        )

    def read(self, signal: float, temperature_c: float) -> float:
        """Activity from the signal [mV, °C] -> [mg/L as N]."""
        return float(self.calibration.concentration_mg_l(signal, temperature_c))

    def read_all(self, signals: Floats, temperatures_c: Floats) -> Floats:
        """The same of many signals [mV, °C] -> [mg/L as N]."""
        return self.calibration.concentration_mg_l(signals, temperatures_c)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return asdict(self)


def restore(data: dict[str, Any]) -> IonFit:
    """The inverse of `as_dict`."""
    inner = data["calibration"]
    points = tuple(ions.IonPoint(**p) for p in inner["points"])
    return IonFit(ions.IonCalibration(**{**inner, "points": points}), data["gap_mv"], data["kind"])


def assess(points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> Fitness:
    """Judge 2, 3 or 4 standards: the first two are the room pair, a third and fourth stand near the sample's temperature.

    Raises CannotFit for equal concentrations, swapped cups, or further points at the room's temperature.
    """
    adjust = [ions.IonPoint(p.signal, p.temperature_c, p.expected) for p in of_role(points, "adjust")]
    if len(adjust) < 2:
        raise CannotFit("points", "A tip needs at least a high and a low standard.")
    pairs = [sorted(adjust[:2], key=_strength)[::-1]]
    if len(adjust) == 4:
        pairs.append(sorted(adjust[2:], key=_strength)[::-1])
    fitted_ions = ions.fit(adjust, ion=terms.ion)
    pair = ions.pair(*pairs[0])
    fitted = IonFit(fitted_ions, pair.normalised_mv, f"{len(adjust)} points")
    gap, apart = band(limits, "gap"), tolerance(limits, "pair_apart")
    rows: list[CriterionRow] = as_found_rows(points, terms, _share(points, limits), digits=2)
    for number, (high, low) in enumerate(pairs):
        where = ("room pair", "pair near the sample")[number]
        shown = ions.pair(high, low)
        rows.append(
            gap.row(
                f"gap_{number}",
                f"gap of the {where}, at 25 °C and 10:1",
                shown.normalised_mv,
                "mV",
                note=say("as read {gap}", gap=Amount(shown.gap_mv, "mV", ".1f"))
                + ("; the tip has aged: replace it" if shown.normalised_mv < gap.care_low else ""),
            )
        )
        rows.append(
            apart.graded(signed=False).row(
                f"pair_c_{number}",
                f"temperatures of the {where} apart",
                high.temperature_c - low.temperature_c,
                digits=2,
            )
        )
    for p in of_role(points, "check"):
        read = fitted.read(p.signal, p.temperature_c)
        limit = tolerance(limits, "as_found")
        share = Tolerance(limit.value, "%", limit.source)
        error = 100 * (read / p.expected - 1)
        rows.append(
            share.graded(care=2.0).row("check", f"error in {p.name}", error, digits=1, note="read, not adjusted")
        )
    rows += as_left_rows(points, fitted, _share(points, limits), digits=2)
    rows += common_rows(terms)
    features = {"gap_mv": pair.normalised_mv, "pair_c": max(abs(h.temperature_c - w.temperature_c) for h, w in pairs)}
    return Fitness(fitted, Verdict(tuple(rows)), features)


def _strength(point: ions.IonPoint) -> float:
    return point.concentration_mg_l


def _share(points: Sequence[CalibrationPoint], limits: Limits) -> Tolerance:
    """The percent tolerance as mg/L at the first point that was read as found or as left."""
    limit = tolerance(limits, "as_found")
    mine = of_role(points, "found", "left")
    return Tolerance(limit.value / 100 * (mine[0].expected if mine else 1.0), "mg/L", limit.source)


def prerequisites(calibrated: dict[str, bool]) -> tuple[str, ...]:
    """What must be calibrated before a tip is: pH, ORP and conductivity of the same meter; the ones that are missing.

    Common practice, no source. A quantity the meter has no probe for is not in the mapping.
    """
    return tuple(f"{MEASURED[q].words} not calibrated first" for q in RESTS_ON if calibrated.get(q) is False)
