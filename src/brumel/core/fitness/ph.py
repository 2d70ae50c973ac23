"""A pH electrode: slope by side, offset, linearity, cups apart; the fit itself is `core.ph.fit`."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

from brumel.core import ph
from brumel.core.checking import Floats
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
from brumel.core.sentence import Amount, say
from brumel.core.verdict import CriterionRow, Limits, Verdict


@dataclass(frozen=True)
class ElectrodeFit:
    """A fitted electrode as all fits are used; reads pH at the sample's own temperature."""

    calibration: ph.PhFit

    @property
    def kind(self) -> str:
        """How it was fitted."""
        return self.calibration.kind

    @property
    def figures(self) -> dict[str, float]:
        """What is followed over the life: slope and offset."""
        return {"slope_percent": self.calibration.slope_percent, "offset_mv": self.calibration.offset_mv}

    @property
    def sentence(self) -> str:
        """The fit in one line."""
        c = self.calibration
        carried = f"; the slope is carried over from {c.carried.origin}" if c.carried else ""
        return say(
            "Slope {slope}, offset {offset}{carried}.",
            slope=Amount(c.slope_percent, "%", ".1f"),
            offset=Amount(c.offset_mv, "mV", ".1f"),
            carried=carried,
        )

    def read(self, signal: float, temperature_c: float) -> float:
        """pH from the signal [mV, °C]."""
        return float(self.calibration.ph(signal, temperature_c))

    def read_all(self, signals: Floats, temperatures_c: Floats) -> Floats:
        """The same of many signals [mV, °C]."""
        return self.calibration.ph(signals, temperatures_c)

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return self.calibration.as_dict()


def restore(data: dict[str, Any]) -> ElectrodeFit:
    """The inverse of `as_dict`."""
    return ElectrodeFit(ph.PhFit.from_dict(data))


def assess(points: Sequence[CalibrationPoint], limits: Limits, terms: JudgingTerms) -> Fitness:
    """Judge 1 to 5 buffers, `terms.kind` "segments", "line" or "offset". Raises CannotFit as `core.ph.fit` does."""
    carried = None
    if terms.kind == "offset" and isinstance(terms.before, ElectrodeFit):
        carried = ph.Carried(terms.before.calibration.slope, terms.before_words)
    adjust = [ph.BufferPoint(p.signal, p.temperature_c, p.expected, p.key) for p in of_role(points, "adjust")]
    fitted = ph.fit(adjust, kind="line" if terms.kind == "line" else "segments", carried=carried)
    checks = tuple(ph.CheckPoint(p.name, p.signal, p.temperature_c, p.expected) for p in of_role(points, "check"))
    linearity, spread = tolerance(limits, "linearity"), tolerance(limits, "cup_spread")
    judged = ph.verdict(
        fitted,
        ph.VerdictLimits(
            band(limits, "slope"),
            band(limits, "offset"),
            linearity.value,
            linearity.source,
            spread.value,
            spread.source,
        ),
        checks=checks,
    )
    whole = ElectrodeFit(fitted)
    found_limit = tolerance(limits, "as_found")
    rows: list[CriterionRow] = as_found_rows(points, terms, found_limit, digits=2)
    rows += judged.rows
    rows += as_left_rows(points, whole, linearity, digits=2)
    rows += common_rows(terms)
    return Fitness(whole, Verdict(tuple(rows)), _features(points, fitted, checks))


def _features(
    points: Sequence[CalibrationPoint], fitted: ph.PhFit, checks: Sequence[ph.CheckPoint]
) -> dict[str, float]:
    features = {"slope_percent": fitted.slope_percent, "offset_abs_mv": abs(fitted.offset_mv)}
    slopes = _side_slopes(points, fitted)
    if len(slopes) > 1:
        features["side_gap_percent"] = max(slopes) - min(slopes)
        features["acid_over_base_percent"] = slopes[0] - slopes[-1]
    if checks:
        features["linearity_abs_ph"] = max(abs(ph.linearity_error(fitted, c)) for c in checks)
    if fitted.kind == "line":
        features["residual_abs_mv"] = max(abs(r) for r in fitted.residuals_mv)
    return features


#: Buffers nearer to each other say little of the slope between them [pH], chosen.
_FAR_APART = 2.0


def _side_slopes(points: Sequence[CalibrationPoint], fitted: ph.PhFit) -> list[float]:
    """The slope of each side, from the acid one on; one line through all of them hides that one is off."""
    if fitted.kind != "line":
        return [s.slope_percent for s in fitted.segments]
    taken = sorted(of_role(points, "adjust"), key=lambda p: p.expected)
    if len(taken) < 3 or any(b.expected - a.expected < _FAR_APART for a, b in pairwise(taken)):
        return []
    sides = [ph.BufferPoint(p.signal, p.temperature_c, p.expected, p.key) for p in taken]
    return [s.slope_percent for s in ph.fit(sides, kind="segments").segments]


def span_percent(points: Sequence[CalibrationPoint]) -> float | None:
    """The signal between the outermost buffers as percent of an ideal electrode's; None for buffers close together."""
    if len(points) < 2:
        return None
    low, high = min(points, key=lambda p: p.expected), max(points, key=lambda p: p.expected)
    ideal = float(ph.nernst_slope_mv(25.0)) * (high.expected - low.expected)
    return (low.signal - high.signal) / ideal * 100 if ideal > 30 else None
