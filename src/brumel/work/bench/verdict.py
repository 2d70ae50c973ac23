"""What the points of a run add up to: fit, verdict, likely causes, as found."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy.orm import Session

from brumel.core.ageing import next_of
from brumel.core.diagnosis import Cause, rank
from brumel.core.errors import CannotFit, InputError
from brumel.core.fitness import CalibrationPoint, Fitted, JudgingTerms
from brumel.core.quantity_table import IONS
from brumel.core.sentence import Span, say
from brumel.core.settling import State
from brumel.core.verdict import CriterionRow, Outcome, Verdict
from brumel.methods import load_faults
from brumel.methods.model import SET
from brumel.store.tables import Calibration, Inspection, Point
from brumel.work import kit
from brumel.work.bench.run_state import RunState, StepState, reference_calibration

#: How far a cause must be borne out to be named: beside a verdict that needs one, and beside one that is fit. Chosen.
HINTED, PLAIN = 0.25, 0.5


@dataclass(frozen=True)
class RunResult:
    """What the points add up to: a fit with verdict, or the sentence why there is none."""

    fit: Fitted | None
    verdict: Verdict
    causes: tuple[Cause, ...]
    as_found: tuple[dict[str, Any], ...]
    signal: str
    problem: str = ""


def taken_points(state: RunState) -> list[CalibrationPoint]:
    """The standing points as core judges them."""
    own = is_set_on_the_meter(state)
    ideal = state.quantity.display(state.case) if own else state.quantity.ideal(state.run.probe)
    points = []
    for s in state.steps:
        p = s.point
        if p is None or p.signal is None or p.temperature_c is None or p.expected is None:
            continue
        shown = ideal.read(p.signal, p.temperature_c) if ideal and state.quantity.is_display(p.entered_as) else None
        points.append(
            CalibrationPoint(
                s.name,
                s.spec.role,
                p.signal,
                p.temperature_c,
                p.expected,
                s.spec.key,
                shown,
                p.expanded_uncertainty or 0.0,
            )
        )
    return points


def run_result(session: Session, state: RunState) -> RunResult:
    """Fit, verdict, causes and as-found of a run whose cups are all done."""
    points = [(s, s.point) for s in state.steps if s.point]
    scales = {state.quantity.scale_of(p.entered_as): p.entered_as for _, p in points}
    signal = next(iter(scales.values())) if len(scales) == 1 else "mixed"
    before = reference_calibration(session, state)
    terms = _terms(session, state, points, before, signal)
    features = _features(state, points) | dict(terms.numbers)
    faults = load_faults(state.method.quantity)
    taken = taken_points(state)
    if not is_set_on_the_meter(state):
        features |= state.quantity.run_features(taken)
    try:
        if signal == "mixed":
            words = f"The cups were entered in different units{state.quantity.unit_words}; redo them in one."
            raise CannotFit("points", words)
        limits = state.method.judged_by()
        if is_set_on_the_meter(state):
            fit = state.quantity.assess_adjusted(taken, limits, terms, state.case, state.told)
        else:
            fit = state.quantity.assess(taken, limits, terms)
    except InputError as error:
        text = " ".join(str(f) for f in error.faults)
        source = "Nernst's law" if state.quantity.signal_unit == "mV" else "common practice, no source"
        row = CriterionRow("fit", "a fit through the points", None, "", "must be possible", Outcome.NOT, source, text)
        return RunResult(None, Verdict((row,)), tuple(rank(features, faults)), (), signal, text)
    if fit.fit.kind not in _CARRIED:
        own = _own_record(session, state, fit.fit, signal)
        fit = replace(fit, verdict=Verdict((*fit.verdict.rows, *own)))
    features |= fit.features
    # What is fit may still show plain signs of a fault, such as a slow thermometer.
    least = PLAIN if fit.verdict.outcome is Outcome.FIT else HINTED
    causes = tuple(rank(features, faults, least=least))
    found = _as_found_shown(state) if is_set_on_the_meter(state) else _as_found(before, state, signal)
    return RunResult(fit.fit, fit.verdict, causes, found, signal)


#: Kinds of fit that find no figure of the probe's own.
_CARRIED = ("check", "ideal")
#: From how many calibrations of its own on a probe is held against their chart; below it against the last one.
_FEWEST = 5


def _own_record(session: Session, state: RunState, fit: Fitted, signal: str) -> list[CriterionRow]:
    """What was found against the probe's own calibrations: their chart, or the last one where there are few."""
    scale = state.quantity.scale_of(signal)
    past = [
        c
        for c in kit.calibrations_before(session, state.run.probe, state.run.started_at)
        if state.quantity.scale_of(c.signal) == scale and not is_adjusted(c)
    ]
    rows = []
    for strand in state.quantity.strands:
        found = [float(c.figures[strand.key]) for c in past if kit.measured(strand.key, c)]
        # A zero of exactly nothing was not looked for.
        values, value = [v for v in found if v or "zero" not in strand.key], fit.figures.get(strand.key)
        if (
            value is None
            or (value == 0 and "zero" in strand.key)
            or not values
            or (strand.key == "slope_percent" and fit.kind == "offset")
        ):
            continue
        if len(values) >= _FEWEST:
            centre, _, reach = next_of(values, strand.smallest_sigma)
            words, source = f"by its own last {len(values)} calibrations", "ISO7870"
        elif strand.step:
            centre, reach = values[-1], strand.step
            words, source = "from the last calibration", "common practice, no source"
        else:
            continue
        span = Span(centre - reach, centre + reach, strand.unit, f".{strand.digits}f")
        outcome = Outcome.FIT if abs(value - centre) <= reach else Outcome.CARE
        rows.append(
            CriterionRow(
                "own_record",
                f"{strand.name} {words}",
                value,
                strand.unit,
                say("{span}", span=span),
                outcome,
                source,
                "" if outcome is Outcome.FIT else "the probe, a cup or the solution is not what it was",
                strand.digits,
            )
        )
    return rows


def is_adjusted(calibration: Calibration) -> bool:
    """Whether a calibration holds the display of a meter that adjusted itself, and no figure of the probe."""
    return bool(calibration.fit.get("display"))


def is_set_on_the_meter(state: RunState) -> bool:
    """Whether the meter itself was adjusted in this run, cup by cup, so that its display tells nothing of the probe.

    Runs of earlier versions said so of themselves without reading the display again; they are judged as they were.
    """
    return state.run.conditions.adjusted and any(s.spec.key.endswith(SET) for s in state.steps)


def _terms(
    session: Session, state: RunState, points: list[tuple[StepState, Point]], before: Calibration | None, signal: str
) -> JudgingTerms:
    probe, run = state.run.probe, state.run
    known = (
        kit.restored(before)
        if before and (state.quantity.can_read(before, signal) or state.method.quantity == "ph")
        else None
    )
    words = say("calibration {number} of {at:date}", number=before.number, at=before.at) if before else ""
    water = run.conditions.water_c
    numbers = {}
    if probe.quantity in IONS:
        tip = kit.hours_since(session, probe, "tip", run.started_at)
        numbers = {"hydrated_h": tip} if tip is not None else {}
    inspection = session.get(Inspection, run.inspection_id) if run.inspection_id else None
    missing = run.conditions.missing
    if inspection and inspection.blocks:
        missing = (*missing, "a finding of the inspection put right")
    return JudgingTerms(
        before=known,
        before_words=words,
        kind=state.method.fit,
        nominal_per_cm=probe.nominal or 1.0,
        first_gain_percent=kit.first_gain(session, probe, run.started_at),
        water_c=float(water) if water is not None else None,
        ion=state.method.quantity,
        expanded_uncertainty=0.1,
        early=sum(p.early for _, p in points),
        objections=tuple(s.name for s, _ in points if s.objections),
        missing=missing,
        doubts=_doubts(points),
        numbers=numbers,
    )


#: Suspicions that have a verdict row of their own.
_ROWS_OF_THEIR_OWN = ("solution", "cup_temperature", "pair_temperature", "air_water")


def _doubts(points: list[tuple[StepState, Point]]) -> tuple[str, ...]:
    """What spoke against points that were taken all the same, each with the reason that was given."""
    return tuple(
        f"{s.code}: {w['sentence']} Taken because: {p.reason}"
        for s, p in points
        for w in p.suspicions or []
        if w["code"] not in _ROWS_OF_THEIR_OWN
    )


def _features(state: RunState, points: list[tuple[StepState, Point]]) -> dict[str, float]:
    """What the traces showed, by the names the fault files use."""
    quantity = state.quantity
    shown = [(s, p.settling or {}) for s, p in points]
    steady = [r for s, r in shown if s.spec.vessel != "air"]
    # One that settled was judged by what remained; its slope while it still came down from the cup before tells nothing.
    drifting = [r for r in steady if r.get("state") == State.DRIFTING.value]
    features: dict[str, float] = {
        f"noise_{quantity.suffix}": max((r.get("noise") or 0.0 for r in steady), default=0.0),
        f"drift_abs_{quantity.suffix}_min": max((abs(r.get("drift_per_min") or 0.0) for r in drifting), default=0.0),
        "temperature_drift_abs_c_min": max((abs(r.get("temperature_drift") or 0.0) for r in steady), default=0.0),
        "steps": max((float(r.get("jumps") or 0) for r in steady), default=0.0),
        "cup_suspicions": float(
            sum(any(w["code"] in ("wrong_cup", "same_cup") for w in (p.suspicions or [])) for _, p in points)
        ),
    }
    if state.run.source == "live":  # a few typed values cannot tell how long it took
        features["settle_s"] = max((r.get("settle_s") or 0.0 for _, r in shown), default=0.0)
    for _, r in shown:
        for name, value in (r.get("features") or {}).items():
            features[name] = max(features.get(name, 0.0), float(value))
    return features


def _as_found_shown(state: RunState) -> tuple[dict[str, Any], ...]:
    """What the display showed in each cup before it was set there."""
    return tuple(
        {"cup": p.name, "expected": p.expected, "read": p.shown, "error": p.shown - p.expected, "calibration": None}
        for p in taken_points(state)
        if p.role == "adjust" and p.shown is not None
    )


def _as_found(before: Calibration | None, state: RunState, signal: str) -> tuple[dict[str, Any], ...]:
    """What the calibration in force until now would have read in these cups: the drift before it is adjusted away."""
    if before is None or not state.quantity.can_read(before, signal):
        return ()
    old = kit.restored(before)
    rows = []
    for q in taken_points(state):
        if q.role in ("zero", "left"):
            continue
        read = old.read(q.signal, q.temperature_c)
        rows.append(
            {
                "cup": q.name,
                "expected": q.expected,
                "read": read,
                "error": read - q.expected,
                "calibration": before.number,
            }
        )
    return tuple(rows)
