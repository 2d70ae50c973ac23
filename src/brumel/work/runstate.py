"""What a run is like now: its steps, its accepted points, the cup the probe stands in, and what it all adds up to."""

from __future__ import annotations

import uuid
from dataclasses import asdict, dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.diagnosis import Cause, rank
from brumel.core.errors import CannotFit, InputError
from brumel.core.fitness import Fitted, Taken, Terms
from brumel.core.meter_settings import contradictions
from brumel.core.settling import Settling, jumps, settling_time_s
from brumel.core.suspicion import Suspicion, Vessel, unstable_link
from brumel.core.verdict import Outcome, Row, Verdict
from brumel.methods import Method, StepSpec, load_faults
from brumel.store.tables import Calibration, Dip, Inspection, Lot, Point, Run, RunEnd, Snapshot
from brumel.work import kit, samples
from brumel.work.desk import NotFound, object_id
from brumel.work.trades import Case, Earlier, Seen, Trade, trade

#: What a vessel without a solution is called.
VESSEL_WORDS = {
    "air": "in air", "saturated_air": "saturated air", "saturated_water": "saturated water",
    "reference": "beside the reference",
}  # fmt: skip


@dataclass(frozen=True)
class StepState:
    """One step of the run: its spec, the lot that stands there (None in air or beside a reference), the standing point."""

    spec: StepSpec
    lot: kit.LotView | None
    point: Point | None

    @property
    def name(self) -> str:
        """The cup by its name."""
        return f"{self.lot.lot.name} ({self.lot.lot.code})" if self.lot else self.spec.title

    @property
    def code(self) -> str:
        """The short name written under the cup."""
        return self.lot.lot.code if self.lot else VESSEL_WORDS[self.spec.vessel]

    @property
    def objections(self) -> tuple[str, ...]:
        """What speaks against the solution."""
        return self.lot.objections if self.lot else ()


@dataclass(frozen=True)
class RunState:
    """A run as it stands. `turn` counts its point rows: a write names the turn it was made for."""

    run: Run
    method: Method
    trade: Trade
    case: Case
    steps: tuple[StepState, ...]
    dip: Dip | None
    turn: int
    end: RunEnd | None
    calibration: Calibration | None

    @property
    def current(self) -> StepState | None:
        """The first step without a standing point; None when all cups are done."""
        return next((s for s in self.steps if s.point is None), None)

    @property
    def done(self) -> int:
        return sum(s.point is not None for s in self.steps)


@dataclass(frozen=True)
class Live:
    """What the present dip shows: its trace, the judgement, the cup's value, and suspicions."""

    trace: samples.Trace
    settling: Settling
    temperature_c: float | None
    expected: float | None
    suspicions: tuple[Suspicion, ...]


@dataclass(frozen=True)
class Result:
    """What the points add up to: a fit with verdict, or the sentence why there is none."""

    fit: Fitted | None
    verdict: Verdict
    causes: tuple[Cause, ...]
    as_found: tuple[dict[str, Any], ...]
    signal: str
    problem: str = ""


def load(session: Session, run_id: str | uuid.UUID, *, lock: bool = False) -> RunState:
    """The run of that id, the front door for everything that names a run. With `lock`, writes take turns."""
    key = object_id(run_id, "run")
    run = session.get(Run, key)
    if run is None:
        raise NotFound("There is no such run.")
    if lock:
        session.execute(select(func.pg_advisory_xact_lock(func.hashtext(str(key)))))
    points = list(session.scalars(select(Point).where(Point.run_id == key).order_by(Point.version)))
    standing: dict[str, Point] = {}
    for point in points:
        standing[point.step] = point
    lots = {
        str(lot.id): lot
        for lot in session.scalars(select(Lot).where(Lot.id.in_([uuid.UUID(v) for v in run.cups.values()])))
    }
    method = Method.model_validate(run.method)
    used = kit.used_before(session, [lot.id for lot in lots.values() if lot.single_use], run)
    steps = tuple(
        StepState(
            spec,
            kit.lot_view(lots[run.cups[spec.key]], run.started_at, used=uuid.UUID(run.cups[spec.key]) in used)
            if spec.key in run.cups
            else None,
            p if (p := standing.get(spec.key)) and not p.withdrawn else None,
        )
        for spec in method.steps
    )
    end = session.get(RunEnd, key)
    calibration = session.scalar(select(Calibration).where(Calibration.run_id == key)) if end else None
    snapshot = session.get(Snapshot, run.snapshot_id) if run.snapshot_id else None
    case = Case(run.probe, run.conditions, snapshot.settings if snapshot else {})
    state = RunState(run, method, trade(method.quantity), case, steps, None, len(points), end, calibration)
    dip = kit.present_dip(session, run.probe_id)
    current = state.current
    taken = {p.dip_id for p in points}
    if dip and not end and current and dip.run_id == key and dip.step == current.spec.key and dip.id not in taken:
        return replace(state, dip=dip)
    return state


def reference(session: Session, state: RunState) -> Calibration | None:
    """The last good calibration before the run, against which cups are recognised."""
    return kit.last_usable(session, state.run.probe_id, full=True, before=state.run.started_at)


def live(session: Session, state: RunState, seen: int | None = None, now: datetime | None = None) -> Live | None:
    """What the probe shows in the cup it stands in, up to the sample a page had seen; None while it stands in none."""
    if state.dip is None or state.current is None:
        return None
    trace = samples.trace(session, state.dip)
    return judge(state, trace.seen_until(seen), reference(session, state), now)


def judge(
    state: RunState, trace: samples.Trace, before: Calibration | None, now: datetime | None = None
) -> Live | None:
    """Judge a trace with everything it is compared with at hand; no database is asked."""
    if state.dip is None or state.current is None:
        return None
    step = state.current
    spec = state.trade.criteria(state.method, step.spec)
    settling = samples.judge_trace(trace, spec, state.dip.source, signal_words(state.method.quantity))
    if not trace.t_s.size:
        return Live(trace, settling, None, None, ())
    at = trace.settled_temperature(spec.window_s)
    try:
        expected = state.trade.vessel_value(step.spec, _lot(step), at, state.case)
    except InputError as error:
        note = Suspicion("out_of_table", str(error), "Bring the cup into the table's range.")
        return Live(trace, settling, at, None, (note,))
    return Live(trace, settling, at, expected, suspicions(state, before, trace, settling, at, expected, now))


def signal_words(quantity: str) -> str:
    """What the settling sentence calls the signal."""
    return {"ph": "pH signal", "redox": "ORP", "conductivity": "conductance"}.get(quantity, f"{quantity} signal")


def _lot(step: StepState) -> Lot | None:
    return step.lot.lot if step.lot else None


def suspicions(
    state: RunState,
    before: Calibration | None,
    trace: samples.Trace,
    settling: Settling,
    at: float,
    expected: float | None,
    now: datetime | None = None,
) -> tuple[Suspicion, ...]:
    """Everything that speaks against taking this point."""
    step = state.current
    if step is None or state.dip is None:
        return ()
    found: list[Suspicion | None] = [
        Suspicion("solution", sentence, "Take a fresh lot, or say why this one will do.")
        for sentence in step.objections
    ]
    known = kit.restored(before) if before and before.signal == trace.entered_as else None
    nominal = state.trade.nominal(step.spec, _lot(step), state.case)
    seen = Seen(
        trace, settling, at, expected, Vessel(step.name, expected if expected is not None else 0.0),
        nominal if nominal is not None else 0.0, _tray(state, step, at), _earlier(state), known, state.method, step.spec,
        state.case, state.dip.source,
    )  # fmt: skip
    found += state.trade.suspicions(seen)
    found += _settings(state, trace.entered_as)
    if state.dip.source == "live":
        found.append(unstable_link(trace.t_s, (now - state.dip.started_at).total_seconds() if now else None))
    return tuple(s for s in found if s)


def _settings(state: RunState, entered: str) -> list[Suspicion]:
    """What the meter's settings say against a typed display; a raw signal does not know them."""
    if (
        state.dip is None
        or state.dip.source != "typed"
        or not state.trade.is_display(entered)
        or not state.case.settings
    ):
        return []
    lots = [s.lot.lot for s in state.steps if s.lot]
    said = contradictions(
        state.case.settings, state.method.quantity, nominal_per_cm=state.run.probe.nominal, typed=entered,
        families=tuple(str((lot.measures.get("ph") or {}).get("family")) for lot in lots),
        pressure_hpa=state.run.conditions.get("pressure_hpa"),
    )  # fmt: skip
    return [Suspicion("setting", sentence, "Put the meter right, or say why it may stay so.") for sentence in said]


def _tray(state: RunState, here: StepState, at: float) -> tuple[Vessel, ...]:
    """The other cups of the run with what they should read at this temperature; those out of their table are left out."""
    found = []
    for s in state.steps:
        if (
            s is here
            or s.spec.role in ("found", "left")
            or s.lot is None
            or (here.lot and s.lot.lot.id == here.lot.lot.id)
        ):
            continue
        try:
            value = state.trade.vessel_value(s.spec, s.lot.lot, at, state.case)
        except InputError:
            continue
        if value is not None:
            found.append(Vessel(s.name, value))
    return tuple(found)


def _earlier(state: RunState) -> tuple[Earlier, ...]:
    return tuple(
        Earlier(s.name, s.point.signal, s.point.temperature_c, s.point.expected, s.spec.role)
        for s in state.steps
        if s.point and s.point.signal is not None and s.point.temperature_c is not None and s.point.expected is not None
    )


def taken_points(state: RunState) -> list[Taken]:
    """The standing points as core judges them."""
    ideal = state.trade.ideal(state.run.probe)
    found = []
    for s in state.steps:
        p = s.point
        if p is None or p.signal is None or p.temperature_c is None or p.expected is None:
            continue
        shown = ideal.read(p.signal, p.temperature_c) if ideal and state.trade.is_display(p.entered_as) else None
        found.append(
            Taken(s.name, s.spec.role, p.signal, p.temperature_c, p.expected, s.spec.key, shown, p.expanded or 0.0)
        )
    return found


def result(session: Session, state: RunState) -> Result:
    """Fit, verdict, causes and as-found of a run whose cups are all done."""
    points = [(s, s.point) for s in state.steps if s.point]
    kinds = {p.entered_as for _, p in points}
    signal = kinds.pop() if len(kinds) == 1 else "mixed"
    before = reference(session, state)
    terms = _terms(session, state, points, before, signal)
    features = _features(state.trade, points) | dict(terms.numbers)
    faults = load_faults(state.method.quantity)
    taken = taken_points(state)
    features |= state.trade.run_features(taken)
    try:
        if signal == "mixed":
            words = f"The cups were entered in different units{state.trade.unit_words}; redo them in one."
            raise CannotFit("points", words)
        found = state.trade.assess(taken, state.method.judged_by(), terms)
    except InputError as error:
        text = " ".join(str(f) for f in error.faults)
        source = "Nernst's law" if state.trade.signal_unit == "mV" else "common practice, no source"
        row = Row("fit", "a fit through the points", None, "", "must be possible", Outcome.NOT, source, text)
        return Result(None, Verdict((row,)), tuple(rank(features, faults)), (), signal, text)
    features |= found.features
    causes = tuple(rank(features, faults)) if found.verdict.outcome is not Outcome.FIT else ()
    return Result(found.fit, found.verdict, causes, _as_found(before, state, signal), signal)


def _terms(
    session: Session, state: RunState, points: list[tuple[StepState, Point]], before: Calibration | None, signal: str
) -> Terms:
    probe, run = state.run.probe, state.run
    known = kit.restored(before) if before and (before.signal == signal or state.method.quantity == "ph") else None
    words = f"calibration {before.number} of {before.at:%d %b %Y}" if before else ""
    water = run.conditions.get("water_c")
    numbers = {}
    if probe.quantity in ("nitrate", "ammonium"):
        tip = kit.hours_since(session, probe, "tip", run.started_at)
        numbers = {"hydrated_h": tip} if tip is not None else {}
    inspection = session.get(Inspection, run.inspection_id) if run.inspection_id else None
    missing = tuple(run.conditions.get("missing", ()))
    if inspection and inspection.blocks:
        missing = (*missing, "a finding of the inspection put right")
    return Terms(
        before=known, before_words=words, kind=state.method.fit, nominal_per_cm=probe.nominal or 1.0,
        first_gain_percent=kit.first_gain(session, probe, run.started_at),
        water_c=float(water) if water is not None else None, ion=state.method.quantity,
        expanded_uncertainty=0.1, early=sum(p.early for _, p in points),
        objections=tuple(s.name for s, _ in points if s.objections), missing=missing, doubts=_doubts(points),
        numbers=numbers,
    )  # fmt: skip


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


def _features(own: Trade, points: list[tuple[StepState, Point]]) -> dict[str, float]:
    """What the traces showed, by the names the fault files use."""
    shown = [(s, p.settling or {}) for s, p in points]
    steady = [r for s, r in shown if s.spec.vessel != "air"]
    found: dict[str, float] = {
        "settle_s": max((r.get("settle_s") or 0.0 for _, r in shown), default=0.0),
        f"noise_{own.suffix}": max((r.get("noise") or 0.0 for r in steady), default=0.0),
        f"drift_abs_{own.suffix}_min": max((abs(r.get("drift_per_min") or 0.0) for r in steady), default=0.0),
        "temperature_drift_abs_c_min": max((abs(r.get("temperature_drift") or 0.0) for r in steady), default=0.0),
        "steps": max((float(r.get("jumps") or 0) for r in steady), default=0.0),
        "cup_suspicions": float(
            sum(any(w["code"] in ("wrong_cup", "same_cup") for w in (p.suspicions or [])) for _, p in points)
        ),
    }
    for _, r in shown:
        for name, value in (r.get("features") or {}).items():
            found[name] = max(found.get(name, 0.0), float(value))
    return found


def _as_found(before: Calibration | None, state: RunState, signal: str) -> tuple[dict[str, Any], ...]:
    """What the calibration in force until now would have read in these cups: the drift before it is adjusted away."""
    if before is None or before.signal != signal:
        return ()
    old = kit.restored(before)
    found = []
    for q in taken_points(state):
        if q.role in ("zero", "left"):
            continue
        read = old.read(q.signal, q.temperature_c)
        found.append({"cup": q.name, "expected": q.expected, "read": read, "error": read - q.expected,
                      "calibration": before.number})  # fmt: skip
    return tuple(found)


def settling_record(trace: samples.Trace, settling: Settling, state: RunState) -> dict[str, Any]:
    """The settling of an accepted point, as it is kept."""
    spec = state.trade.criteria(state.method, state.current.spec) if state.current else state.method.settling
    criteria = spec.criteria(signal_words(state.method.quantity))
    final = settling.value if settling.value is not None else 0.0
    return {
        **asdict(settling),
        "state": settling.state.value,
        "settle_s": settling_time_s(trace.t_s, trace.signal, criteria, final),
        "jumps": jumps(trace.t_s, trace.signal, criteria),
        "samples": int(trace.t_s.size),
        "temperature_drift": trace.temperature_drift(),
        "features": state.trade.trace_features(trace),
    }


def open_runs(session: Session) -> list[Run]:
    """All runs that have not ended, newest first."""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    return list(session.scalars(select(Run).where(~ended).order_by(Run.started_at.desc())))


def timeline(session: Session, run_id: uuid.UUID) -> list[tuple[datetime, Point]]:
    """Every version of every point of a run, in the order they were made."""
    rows = session.scalars(select(Point).where(Point.run_id == run_id).order_by(Point.at, Point.version))
    return [(p.at, p) for p in rows]
