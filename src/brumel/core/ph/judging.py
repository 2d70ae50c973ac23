"""Is the electrode fit? Verdict rows of a pH run, from the method's limits."""

from __future__ import annotations

from dataclasses import dataclass

from brumel.core.ph.electrode import PhFit
from brumel.core.sentence import Amount, Span, say
from brumel.core.verdict import Band, CriterionRow, Outcome, Verdict


@dataclass(frozen=True)
class VerdictLimits:
    """The method's limits: bands of slope [%] and offset [mV], linearity [pH], cup temperatures [°C]."""

    slope_percent: Band
    offset_mv: Band
    linearity_ph: float
    linearity_source: str
    cup_spread_c: float
    cup_spread_source: str


@dataclass(frozen=True)
class CheckPoint:
    """An unadjusted buffer read after the fit: name, signal [mV], temperature [°C], its pH."""

    name: str
    millivolts: float
    temperature_c: float
    ph: float


def linearity_error(calibration: PhFit, check: CheckPoint) -> float:
    """What the calibration reads in the unadjusted buffer, minus what the buffer is [pH]."""
    return float(calibration.ph(check.millivolts, check.temperature_c)) - check.ph


def verdict(
    calibration: PhFit,
    limits: VerdictLimits,
    *,
    checks: tuple[CheckPoint, ...] = (),
    early: int = 0,
    expired: tuple[str, ...] = (),
) -> Verdict:
    """Judge a fit by the method's limits; every criterion is a row, the worst decides.

    `early` counts points accepted before they had settled, `expired` names solutions past their date.
    """
    rows: list[CriterionRow] = []
    if calibration.carried:
        rows.append(
            CriterionRow(
                "slope_carried",
                "slope, carried over",
                calibration.slope_percent,
                "%",
                "a full calibration in its own time",
                Outcome.CARE if calibration.slope == 1.0 else Outcome.FIT,
                "common practice, no source",
                f"not measured in this run: {calibration.carried.origin}",
            )
        )
        rows.append(limits.slope_percent.row("slope", "slope", calibration.slope_percent, "%"))
    elif len(calibration.segments) > 1:
        rows += [
            limits.slope_percent.row(
                f"slope_{i}",
                say("slope, {side} side (pH {span})", side=s.side, span=Span(s.low_ph, s.high_ph, "", ".1f")),
                s.slope_percent,
                "%",
            )
            for i, s in enumerate(calibration.segments)
        ]
    else:
        rows.append(limits.slope_percent.row("slope", "slope", calibration.slope_percent, "%"))
    rows.append(limits.offset_mv.row("offset", "offset at pH 7", calibration.offset_mv, "mV"))
    for check in checks:
        error = linearity_error(calibration, check)
        inside = abs(error) <= limits.linearity_ph + 1e-9
        rows.append(
            CriterionRow(
                "linearity",
                f"linearity check in {check.name}",
                error,
                "pH",
                say("within ±{linearity}", linearity=Amount(limits.linearity_ph, "pH")),
                Outcome.FIT if inside else Outcome.NOT,
                limits.linearity_source,
                "read, not adjusted",
                2,
            )
        )
    temperatures = [p.temperature_c for p in calibration.points] + [c.temperature_c for c in checks]
    if len(temperatures) > 1:
        spread = max(temperatures) - min(temperatures)
        rows.append(
            CriterionRow(
                "cup_spread",
                "cup temperatures apart",
                spread,
                "°C",
                say("up to {cup_spread}", cup_spread=Amount(limits.cup_spread_c, "°C", difference=True)),
                Outcome.FIT if spread <= limits.cup_spread_c else Outcome.CARE,
                limits.cup_spread_source,
            )
        )
    if early:
        rows.append(
            CriterionRow(
                "early",
                "points accepted before settling",
                early,
                "",
                "0",
                Outcome.CARE,
                "common practice, no source",
                "recorded as early",
                0,
            )
        )
    for name in expired:
        rows.append(
            CriterionRow(
                "expired", f"{name} past its date", None, "", "in date", Outcome.CARE, "label of the lot", "", 0
            )
        )
    return Verdict(tuple(rows))
