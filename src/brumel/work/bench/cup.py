"""What a probe shows in the cup it stands in: the judgement, the value it should read, and what is suspicious."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from brumel.core.errors import InputError, words_of
from brumel.core.meter_settings import contradictions
from brumel.core.quantity_table import MEASURED
from brumel.core.sentence import as_evidence
from brumel.core.settling import Settling, jumps, settling_time_s
from brumel.core.suspicion import Suspicion, Vessel, unstable_link
from brumel.core.trace import Trace
from brumel.store.tables import Calibration, Lot
from brumel.work import kit
from brumel.work.bench.run_state import RunState, StepState, reference_calibration
from brumel.work.link import samples
from brumel.work.quantities import standards
from brumel.work.quantities.base import CupReading, Earlier


@dataclass(frozen=True)
class CupState:
    """What the present dip shows: its trace, the judgement, the cup's value, and suspicions."""

    trace: Trace
    settling: Settling
    temperature_c: float | None
    expected: float | None
    suspicions: tuple[Suspicion, ...]


def live_cup(
    session: Session, state: RunState, seen: int | None = None, now: datetime | None = None
) -> CupState | None:
    """What the probe shows in the cup it stands in, up to the sample a page had seen; None while it stands in none."""
    if state.dip is None or state.current is None:
        return None
    trace = samples.trace(session, state.dip)
    return judge_cup(state, trace.seen_until(seen), reference_calibration(session, state), now)


def judge_cup(
    state: RunState, trace: Trace, before: Calibration | None, now: datetime | None = None
) -> CupState | None:
    """Judge a trace with everything it is compared with at hand; no database is asked."""
    if state.dip is None or state.current is None:
        return None
    step = state.current
    spec = state.quantity.criteria(state.method, step.spec)
    settling = samples.judge_trace(trace, spec, state.dip.source, signal_words(state.method.quantity))
    if not trace.t_s.size:
        return CupState(trace, settling, None, None, ())
    at = trace.settled_temperature(spec.window_s)
    try:
        expected = state.quantity.vessel_value(step.spec, _lot(step), at, state.case)
    except InputError as error:
        note = Suspicion("out_of_table", words_of(error), "Bring the cup into the table's range.")
        return CupState(trace, settling, at, None, (note,))
    cup = CupState(trace, settling, at, expected, ())
    return replace(cup, suspicions=suspicions(state, before, cup, at, now))


def signal_words(quantity: str) -> str:
    """What the settling sentence calls the signal."""
    return MEASURED[quantity].signal.words


def _lot(step: StepState) -> Lot | None:
    return step.lot.lot if step.lot else None


def suspicions(
    state: RunState, before: Calibration | None, cup: CupState, temperature_c: float, now: datetime | None = None
) -> tuple[Suspicion, ...]:
    """Everything that speaks against taking this point."""
    trace, settling, expected = cup.trace, cup.settling, cup.expected
    step = state.current
    if step is None or state.dip is None:
        return ()
    raised: list[Suspicion | None] = [
        Suspicion("solution", sentence, "Take a fresh lot, or say why this one will do.")
        for sentence in step.objections
    ]
    known = kit.restored(before) if before and before.signal == trace.entered_as else None
    nominal = state.quantity.nominal(step.spec, _lot(step), state.case)
    seen = CupReading(
        trace,
        settling,
        temperature_c,
        expected,
        Vessel(step.name, expected if expected is not None else 0.0),
        nominal if nominal is not None else 0.0,
        _tray(state, step, temperature_c),
        _earlier(state),
        known,
        state.method,
        step.spec,
        state.case,
        state.dip.source,
    )
    raised += state.quantity.suspicions(seen)
    raised += _settings(state, trace.entered_as)
    if state.dip.source == "live":
        raised.append(unstable_link(trace.t_s, (now - state.dip.started_at).total_seconds() if now else None))
    return tuple(s for s in raised if s)


def _settings(state: RunState, entered: str) -> list[Suspicion]:
    """What the meter's settings say against a typed display; a raw signal does not know them."""
    if (
        state.dip is None
        or state.dip.source != "typed"
        or not state.quantity.is_display(entered)
        or not state.case.settings
    ):
        return []
    lots = [s.lot.lot for s in state.steps if s.lot]
    contradicting = contradictions(
        state.case.settings,
        state.method.quantity,
        nominal_per_cm=state.run.probe.nominal,
        typed=entered,
        families=tuple(standards.family(lot, "ph") for lot in lots),
        pressure_hpa=state.run.conditions.pressure_hpa,
    )
    return [
        Suspicion("setting", sentence, "Put the meter right, or say why it may stay so.") for sentence in contradicting
    ]


def _tray(state: RunState, here: StepState, temperature_c: float) -> tuple[Vessel, ...]:
    """The other cups of the run with what they should read at this temperature; those out of their table are left out."""
    tray = []
    for s in state.steps:
        if (
            s is here
            or s.spec.role in ("found", "left")
            or s.lot is None
            or (here.lot and s.lot.lot.id == here.lot.lot.id)
        ):
            continue
        try:
            value = state.quantity.vessel_value(s.spec, s.lot.lot, temperature_c, state.case)
        except InputError:
            continue
        if value is not None:
            tray.append(Vessel(s.name, value))
    return tuple(tray)


def _earlier(state: RunState) -> tuple[Earlier, ...]:
    return tuple(
        Earlier(s.name, s.point.signal, s.point.temperature_c, s.point.expected, s.spec.role)
        for s in state.steps
        if s.point and s.point.signal is not None and s.point.temperature_c is not None and s.point.expected is not None
    )


def settling_record(trace: Trace, settling: Settling, state: RunState) -> dict[str, Any]:
    """The settling of an accepted point, as it is kept."""
    spec = state.quantity.criteria(state.method, state.current.spec) if state.current else state.method.settling
    criteria = spec.criteria(signal_words(state.method.quantity))
    final = settling.value if settling.value is not None else 0.0
    return {
        **as_evidence(settling),
        "state": settling.state.value,
        "settle_s": settling_time_s(trace.t_s, trace.signal, criteria, final),
        "jumps": jumps(trace.t_s, trace.signal, criteria),
        "samples": int(trace.t_s.size),
        "temperature_drift": trace.temperature_drift(),
        "features": state.quantity.trace_features(trace, state.current.spec) if state.current else {},
    }
