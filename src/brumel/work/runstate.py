"""What a run is like now: its steps, its accepted points, the cup the probe stands in, and what it all adds up to."""

from __future__ import annotations

import uuid
from dataclasses import asdict, dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core import ph
from brumel.core.diagnosis import Cause, rank
from brumel.core.errors import CannotFit, InputError
from brumel.core.settling import Settling, jumps, settling_time_s
from brumel.core.verdict import Outcome, Row, Verdict
from brumel.methods import Method, StepSpec, load_faults
from brumel.store.tables import Calibration, Dip, Lot, Point, Run, RunEnd
from brumel.work import kit, samples
from brumel.work.desk import NotFound, object_id


@dataclass(frozen=True)
class StepState:
    """One cup of the run: its spec, the lot in it, and the point that stands for it now."""

    spec: StepSpec
    lot: kit.LotView
    point: Point | None

    @property
    def cup(self) -> ph.Cup:
        """The cup by its name, at the point's temperature or at 25 °C."""
        at = self.point.temperature_c if self.point and self.point.temperature_c is not None else 25.0
        return ph.Cup(f"{self.lot.lot.name} ({self.lot.lot.code})", kit.lot_ph(self.lot.lot, at))


@dataclass(frozen=True)
class RunState:
    """A run as it stands. `turn` counts its point rows: a write names the turn it was made for."""

    run: Run
    method: Method
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
    expected_ph: float | None
    suspicions: tuple[ph.Suspicion, ...]


@dataclass(frozen=True)
class Result:
    """What the points add up to: a fit with verdict, or the sentence why there is none."""

    fit: ph.Calibration | None
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
    used = kit.used_before(session, [lot.id for lot in lots.values() if lot.single_use], key)
    steps = tuple(
        StepState(
            spec,
            kit.lot_view(lots[run.cups[spec.key]], run.started_at, used=uuid.UUID(run.cups[spec.key]) in used),
            p if (p := standing.get(spec.key)) and not p.withdrawn else None,
        )
        for spec in method.steps
    )
    end = session.get(RunEnd, key)
    calibration = session.scalar(select(Calibration).where(Calibration.run_id == key)) if end else None
    state = RunState(run, method, steps, None, len(points), end, calibration)
    dip = kit.present_dip(session, run.probe_id)
    current = state.current
    taken = {p.dip_id for p in points}
    if dip and not end and current and dip.run_id == key and dip.step == current.spec.key and dip.id not in taken:
        return RunState(run, method, steps, dip, len(points), end, calibration)
    return state


def reference(session: Session, state: RunState) -> Calibration | None:
    """The last good calibration before the run, against which cups are recognised."""
    return kit.last_usable(session, state.run.probe_id, full=True, before=state.run.started_at)


def live(session: Session, state: RunState, seen: int | None = None) -> Live | None:
    """What the probe shows in the cup it stands in, up to the sample a page had seen; None while it stands in none."""
    if state.dip is None or state.current is None:
        return None
    trace = samples.trace(session, state.dip.id, state.dip.started_at)
    return judge(state, trace.seen_until(seen), reference(session, state))


def judge(state: RunState, trace: samples.Trace, before: Calibration | None) -> Live | None:
    """Judge a trace with everything it is compared with at hand; no database is asked."""
    if state.dip is None or state.current is None:
        return None
    settling = samples.judge_trace(trace, state.method.settling, state.dip.source)
    if not trace.t_s.size:
        return Live(trace, settling, None, None, ())
    at = trace.settled_temperature(state.method.settling.window_s)
    try:
        expected = kit.lot_ph(state.current.lot.lot, at)
    except InputError as error:
        note = ph.Suspicion("out_of_table", str(error), "Bring the cup into the table's range.")
        return Live(trace, settling, at, None, (note,))
    return Live(trace, settling, at, expected, suspicions(state, before, trace, settling, at, expected))


def suspicions(
    state: RunState,
    before: Calibration | None,
    trace: samples.Trace,
    settling: Settling,
    at: float,
    expected: float,
) -> tuple[ph.Suspicion, ...]:
    """Everything that speaks against taking this point."""
    step = state.current
    if step is None:
        return ()
    found: list[ph.Suspicion | None] = [
        ph.Suspicion("solution", sentence, "Take a fresh lot, or say why this one will do.")
        for sentence in step.lot.objections
    ]
    signal = settling.forecast if settling.forecast is not None else settling.value
    if signal is not None and settling.elapsed_s >= min(15.0, state.method.settling.shortest_s):
        known = ph.Calibration.from_dict(before.fit) if before and before.signal == trace.entered_as else None
        here = ph.Cup(step.cup.name, expected)
        tray = [ph.Cup(s.cup.name, kit.lot_ph(s.lot.lot, at)) for s in state.steps if s is not step]
        found.append(ph.wrong_cup(signal, at, here, tray, known))
        earlier = [
            (s.cup.name, s.point.millivolts, s.point.expected_ph)
            for s in state.steps
            if s.point and s.point.millivolts is not None and s.point.expected_ph is not None
        ]
        found.append(ph.same_cup(signal, expected, earlier, at))
        if not any(found):
            before_points = [
                (s.point.millivolts, s.point.temperature_c, s.point.expected_ph)
                for s in state.steps
                if s.point
                and s.point.millivolts is not None
                and s.point.temperature_c is not None
                and s.point.expected_ph is not None
            ]
            found.append(ph.cup_off(signal, at, here, before_points, known))
    found.append(ph.restless(settling.state))
    temperatures = [s.point.temperature_c for s in state.steps if s.point and s.point.temperature_c is not None]
    if settling.elapsed_s >= 10 or state.run.source == "typed":
        found.append(ph.temperature_spread([*temperatures, at], state.method.limits.cup_spread.value))
    if trace.entered_as == "ph" and trace.displayed_ph[-1] is not None:
        found.append(ph.label_value_used(trace.displayed_ph[-1], step.lot.buffer.nominal_ph, expected))
    return tuple(s for s in found if s)


def result(session: Session, state: RunState) -> Result:
    """Fit, verdict, causes and as-found of a run whose cups are all done."""
    points = [(s, s.point) for s in state.steps if s.point]
    kinds = {p.entered_as for _, p in points}
    signal = kinds.pop() if len(kinds) == 1 else "mixed"
    adjust = [_buffer_point(s, p) for s, p in points if s.spec.role == "adjust"]
    checks = tuple(
        ph.CheckPoint(s.cup.name, q.millivolts, q.temperature_c, q.ph)
        for s, p in points
        if s.spec.role == "check"
        for q in [_buffer_point(s, p)]
    )
    before = reference(session, state)
    carried = None
    if state.method.fit == "offset" and before:
        origin = f"calibration {before.number} of {before.at:%d %b %Y}"
        carried = ph.Carried(ph.Calibration.from_dict(before.fit).slope, origin)
    features = _features(points)
    faults = load_faults("ph")
    try:
        if signal == "mixed":
            raise CannotFit("points", "Some cups were entered in mV and some as displayed pH; redo them in one way.")
        fitted = ph.fit(adjust, kind="line" if state.method.fit == "line" else "segments", carried=carried)
    except CannotFit as error:
        row = Row(
            "fit",
            "a line through the points",
            None,
            "",
            "must be possible",
            Outcome.NOT,
            "Buck2002",
            str(error),
        )
        return Result(None, Verdict((row,)), tuple(rank(features, faults)), (), signal, str(error))
    expired = tuple(s.cup.name for s, _ in points if s.lot.objections)
    verdict = ph.verdict(
        fitted, state.method.limits.for_verdict(), checks=checks,
        early=sum(p.early for _, p in points), expired=expired,
    )  # fmt: skip
    features |= _fit_features(fitted, checks)
    as_found = _as_found(before, points, signal)
    causes = tuple(rank(features, faults)) if verdict.outcome is not Outcome.FIT else ()
    return Result(fitted, verdict, causes, as_found, signal)


def _buffer_point(step: StepState, point: Point) -> ph.BufferPoint:
    return ph.BufferPoint(
        float(point.millivolts or 0.0),
        float(point.temperature_c or 0.0),
        float(point.expected_ph or 0.0),
        step.spec.key,
    )


def _features(points: list[tuple[StepState, Point]]) -> dict[str, float]:
    """What the traces showed, by the names the fault files use."""
    shown = [p.settling or {} for _, p in points]
    found: dict[str, float] = {
        "settle_s": max((s.get("settle_s") or 0.0 for s in shown), default=0.0),
        "noise_mv": max((s.get("noise") or 0.0 for s in shown), default=0.0),
        "drift_abs_mv_min": max((abs(s.get("drift_per_min") or 0.0) for s in shown), default=0.0),
        "steps": max((float(s.get("jumps") or 0) for s in shown), default=0.0),
        "cup_suspicions": float(
            sum(any(w["code"] in ("wrong_cup", "same_cup") for w in (p.suspicions or [])) for _, p in points)
        ),
    }
    signals = [(p.millivolts, p.expected_ph) for _, p in points if p.millivolts is not None]
    if len(signals) > 1:
        low, high = min(signals, key=lambda s: s[1] or 0), max(signals, key=lambda s: s[1] or 0)
        ideal = float(ph.nernst_slope_mv(25.0)) * ((high[1] or 0) - (low[1] or 0))
        if ideal > 30:
            found["span_percent"] = ((low[0] or 0) - (high[0] or 0)) / ideal * 100
    return found


def _fit_features(fitted: ph.Calibration, checks: tuple[ph.CheckPoint, ...]) -> dict[str, float]:
    found = {"slope_percent": fitted.slope_percent, "offset_abs_mv": abs(fitted.offset_mv)}
    if len(fitted.segments) > 1:
        slopes = [s.slope_percent for s in fitted.segments]
        found["side_gap_percent"] = max(slopes) - min(slopes)
    if checks:
        found["linearity_abs_ph"] = max(abs(ph.linearity_error(fitted, c)) for c in checks)
    if fitted.kind == "line":
        found["residual_abs_mv"] = max(abs(r) for r in fitted.residuals_mv)
    return found


def _as_found(
    before: Calibration | None, points: list[tuple[StepState, Point]], signal: str
) -> tuple[dict[str, Any], ...]:
    """What the calibration in force until now would have read in these cups: the drift before it is adjusted away."""
    if before is None or before.signal != signal:
        return ()
    old = ph.Calibration.from_dict(before.fit)
    found = []
    for step, point in points:
        q = _buffer_point(step, point)
        read = float(old.ph(q.millivolts, q.temperature_c))
        found.append({"cup": step.cup.name, "expected": q.ph, "read": read, "error": read - q.ph,
                      "calibration": before.number})  # fmt: skip
    return tuple(found)


def settling_record(trace: samples.Trace, settling: Settling, method: Method) -> dict[str, Any]:
    """The settling of an accepted point, as it is kept."""
    criteria = method.settling.criteria("pH signal")
    final = settling.value if settling.value is not None else 0.0
    return {
        **asdict(settling),
        "state": settling.state.value,
        "settle_s": settling_time_s(trace.t_s, trace.millivolts, criteria, final),
        "jumps": jumps(trace.t_s, trace.millivolts, criteria),
        "samples": int(trace.t_s.size),
    }


def open_runs(session: Session) -> list[Run]:
    """All runs that have not ended, newest first."""
    ended = select(RunEnd.run_id).where(RunEnd.run_id == Run.id).exists()
    return list(session.scalars(select(Run).where(~ended).order_by(Run.started_at.desc())))


def timeline(session: Session, run_id: uuid.UUID) -> list[tuple[datetime, Point]]:
    """Every version of every point of a run, in the order they were made."""
    rows = session.scalars(select(Point).where(Point.run_id == run_id).order_by(Point.at, Point.version))
    return [(p.at, p) for p in rows]
