"""A scripted technician: calibrations cup by cup through the real code path, by a clock that goes on when told."""

from __future__ import annotations

import math
import uuid
from datetime import datetime, timedelta

from brumel.core.verdict import Outcome
from brumel.store.tables import Probe, User
from brumel.work import bench, kit, simulator
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import Desk
from brumel.work.link import samples


class Then:
    """A clock that stands still until it is told to go on."""

    def __init__(self, at: datetime) -> None:
        self.at = at

    def __call__(self) -> datetime:
        return self.at

    def on(self, **delta: float) -> None:
        """Go on by so much."""
        self.at += timedelta(**delta)


def clock_of(desk: Desk) -> Then:
    """The clock of a desk whose time goes on only when told to."""
    assert isinstance(desk.clock, Then)
    return desk.clock


def calibrate(
    desk: Desk, actor: User, probe: Probe, method: str, cups: dict[str, str], conditions: Conditions | None = None
) -> str:
    """One live calibration from the first cup to the verdict, at the desk's own pace. Returns the run's id."""
    run = bench.start(
        desk,
        actor,
        uuid.uuid4(),
        probe_id=str(probe.id),
        method_key=method,
        source="live",
        cups=cups,
        conditions=conditions,
    ).id
    state = take_cups(desk, clock_of(desk), actor, run, probe)
    with desk.read() as session:
        outcome = bench.run_result(session, state).verdict.outcome
    words = {
        Outcome.CARE: "Good enough for the raceway; watched.",
        Outcome.NOT: "Put away until its cause is found.",
    }.get(outcome, "")
    bench.finish(desk, actor, uuid.uuid4(), run_id=run, turn=state.turn, use=outcome is not Outcome.NOT, words=words)
    return str(run)


def take_cups(desk: Desk, clock: Then, actor: User, run: str, probe: Probe) -> bench.RunState:
    """Every cup of a run, one after another; the run as it then stands."""
    while True:
        with desk.read() as session:
            state = bench.load_run(session, run)
        if state.current is None:
            return state
        step = state.current.spec
        clock.on(seconds=25)
        bench.dip(desk, actor, uuid.uuid4(), run_id=run, step=step.key, turn=state.turn)
        settled = _wait(desk, clock, run)
        reference = None
        if step.vessel == "reference":
            with desk.read() as session:
                dip = kit.present_dip(session, probe.id)
                reference = simulator.reference_shows(session, dip) if dip else None
        bench.accept(
            desk,
            actor,
            uuid.uuid4(),
            run_id=run,
            step=step.key,
            turn=state.turn,
            how=bench.Acceptance(
                early=not settled,
                answer="Looked at, carried on for the record.",
                reference=reference,
                reference_u=None if reference is None else 0.05 if probe.quantity == "temperature" else 0.08,
            ),
        )


def _wait(desk: Desk, clock: Then, run: str) -> bool:
    """Let the meter run until the cup has settled; False after ten minutes."""
    with desk.read() as session:
        state = bench.load_run(session, run)
        before = bench.reference_calibration(session, state)
    if state.dip is None or state.current is None:
        return False
    spec = state.quantity.criteria(state.method, state.current.spec)
    clock.on(seconds=math.ceil(spec.shortest_s / 10) * 10)
    with desk.read() as session:
        stands = simulator.standing(session, state.dip)
    settled, rows = False, list[samples.SampleRow]()
    for _ in range(60):
        elapsed = (clock.at - state.dip.started_at).total_seconds()
        rows += simulator.shows(stands, state.dip, elapsed, len(rows))
        seen = bench.judge_cup(state, samples.trace_of(state.dip, rows), before)
        settled = seen is not None and seen.settling.settled
        if settled or elapsed > spec.longest_s:
            break
        clock.on(seconds=10)
    with desk.sessions.begin() as session:
        samples.store_samples(session, state.dip, rows)
    return settled
