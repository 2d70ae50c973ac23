"""What a probe shows in the cup it stands in: the judgement, the value it should read, and what is suspicious."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from brumel.core.errors import InputError, words_of
from brumel.core.meter_settings import contradictions, stated_accuracy
from brumel.core.quantity_table import MEASURED
from brumel.core.sentence import Amount, as_evidence, say
from brumel.core.settling import Settling, jumps, settling_time_s
from brumel.core.suspicion import Suspicion, Vessel, unstable_link
from brumel.core.trace import Trace
from brumel.core.typed import slip
from brumel.store.tables import Calibration, Lot
from brumel.work import kit
from brumel.work.bench.run_state import RunState, StepState, reference_calibration
from brumel.work.link import samples
from brumel.work.quantities import standards
from brumel.work.quantities.base import CupReading, Earlier
from brumel.work.quantities.book import quantity_of


@dataclass(frozen=True)
class CupState:
    """What the present dip shows: its trace, the judgement, the cup's value, and suspicions.

    read : what the last good calibration makes of the signal
    """

    trace: Trace
    settling: Settling
    temperature_c: float | None
    expected: float | None
    suspicions: tuple[Suspicion, ...]
    read: float | None = None


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
    words = signal_words(state.method.quantity)
    settling = samples.judge_trace(trace, spec, state.dip.source, words, display_step(state, trace))
    if not trace.t_s.size:
        return CupState(trace, settling, None, None, ())
    at = trace.settled_temperature(spec.window_s)
    try:
        expected = state.quantity.vessel_value(step.spec, _lot(step), at, state.case)
    except InputError as error:
        note = Suspicion("out_of_table", words_of(error), "Bring the cup into the table's range.")
        return CupState(trace, settling, at, None, (note,))
    cup = CupState(trace, settling, at, expected, (), _read(before, trace, settling, at))
    return replace(cup, suspicions=suspicions(state, before, cup, at, now))


def stands_in(state: RunState, suspicions: Sequence[Suspicion]) -> StepState | None:
    """The cup of this run that the probe seems to stand in instead of the one in turn; None where it is none of them."""
    names = [s.vessel for s in suspicions if s.vessel]
    return next((s for s in state.steps if s.name in names and s is not state.current), None)


def _read(before: Calibration | None, trace: Trace, settling: Settling, at_c: float) -> float | None:
    if (
        before is None
        or not quantity_of(before.run.probe.quantity).can_read(before, trace.entered_as)
        or settling.value is None
    ):
        return None
    return kit.restored(before).read(settling.value, at_c)


def display_uncertainty(state: RunState, trace: Trace, before: Calibration | None) -> float:
    """Expanded uncertainty (k = 2) that one step of the typed display brings, in the quantity's unit: step / √3."""
    step = display_step(state, trace)
    same = before is not None and quantity_of(before.run.probe.quantity).can_read(before, trace.entered_as)
    reader = kit.restored(before) if same and before is not None else state.quantity.ideal(state.run.probe)
    if not step or reader is None:
        return 0.0
    signal, at = float(trace.signal[-1]), float(trace.temperature_c[-1])
    return abs(reader.read(signal + step, at) - reader.read(signal, at)) / math.sqrt(3)


def should_show(state: RunState, entered: str, expected: float, at_c: float) -> str:
    """What the display should show in this cup, with its unit; empty where the unit does not tell."""
    value = state.quantity.should_show(entered, expected, at_c, state.case)
    if value is None:
        return ""
    entry = state.quantity.entries[entered]
    digits = max(0, round(-math.log10(entry.step(value))))
    shown = f"{value:.{digits}f} {entry.label.split(',')[0]}".replace("-", "−")
    accuracy = stated_accuracy(state.case.settings, state.method.quantity, expected)
    if accuracy is None or not expected or (state.quantity.unit == "pH") != (entry.unit == "pH"):
        return shown
    # The same share of what is shown, where the display is in another unit than the quantity.
    around = accuracy if state.quantity.unit == entry.unit else accuracy / abs(expected) * abs(value)
    return f"{shown}, ±{float(f'{around:.2g}'):g} by its stated accuracy"


def display_step(state: RunState, trace: Trace) -> float:
    """What one step of the display is worth that the last value was typed from, in the signal's unit; 0 for live ones."""
    if state.dip is None or state.dip.source != "typed" or not trace.t_s.size:
        return 0.0
    shown, at = typed_value(trace), float(trace.temperature_c[-1])
    return state.quantity.display_step(trace.entered_as, shown, at, state.case)


def typed_value(trace: Trace) -> float:
    """The last value as it was typed, in the unit of its cup."""
    shown = trace.displayed[-1]
    return float(trace.signal[-1]) if shown is None else shown


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
    known = (
        kit.restored(before)
        if before and quantity_of(before.run.probe.quantity).can_read(before, trace.entered_as)
        else None
    )
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
    if state.dip.source == "typed":
        raised.append(_slip(seen))
    if state.dip.source == "live":
        raised.append(unstable_link(trace.t_s, (now - state.dip.started_at).total_seconds() if now else None))
    return tuple(s for s in raised if s)


def _slip(seen: CupReading) -> Suspicion | None:
    """A lost sign or a lost point, where it explains what was typed."""
    quantity, trace = quantity_of(seen.method.quantity), seen.trace
    reader = seen.known or quantity.ideal(seen.case.probe)
    if seen.expected is None or reader is None or not trace.t_s.size or seen.step.vessel == "air":
        return None
    entry, expected = quantity.entries[trace.entered_as], seen.expected

    def near(value: float) -> bool:
        if not entry.low <= value <= entry.high:
            return False
        return quantity.is_near(reader.read(entry.to_signal(value, seen.at_c, seen.case), seen.at_c), expected)

    found = slip(typed_value(trace), near)
    if found is None:
        return None
    words, meant = found
    unit = entry.label.split(",")[0]
    return Suspicion(
        "typed_slip",
        say(
            "{shown} was typed: {words}. Was it {meant}?",
            shown=Amount(typed_value(trace), unit, f".{entry.digits}f"),
            words=words,
            meant=Amount(meant, unit, f".{entry.digits}f"),
        ),
        "Strike it out and type it again, or say why it is right.",
    )


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
        for s in state.taken
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
