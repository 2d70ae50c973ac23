"""Calibrations of the demo, made cup by cup through the real code path."""

from __future__ import annotations

import math
import uuid
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor, Future
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy.orm import Session, sessionmaker

from brumel.core.verdict import Outcome
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import Probe, User
from brumel.work import bench, kit, simulator
from brumel.work.bench.conditions import Conditions
from brumel.work.demo.world import Then, clock_of
from brumel.work.desk import Desk
from brumel.work.link import samples


@dataclass(frozen=True)
class Task:
    """One calibration that is to be made: of which probe, by which method, with which lots."""

    probe: uuid.UUID
    method: str
    cups: Mapping[str, str]
    conditions: Conditions | None = None


#: Work for one person at one moment; it runs in a process of its own where there are several.
Chore = Callable[[Desk, User, Any], Any]


class Hands:
    """Whoever does the demo's work. With several of them, processes of their own, it is done side by side."""

    def __init__(self, several: Executor | None = None) -> None:
        self._several = several
        self._meanwhile: list[Future[Any]] = []

    def calibrate(self, desk: Desk, actor: User, tasks: Sequence[Task]) -> list[str]:
        """Begin every task at the desk's moment; the clock goes on to the end of the longest. Returns the runs' ids."""
        clock = clock_of(desk)
        done = [each.result() for each in [self._begin(desk, actor, _calibrate, task) for task in tasks]]
        clock.at = max([clock.at, *(ended for _, ended in done)])
        return [run for run, _ in done]

    def meanwhile(self, desk: Desk, actor: User, chore: Chore, what: Any) -> None:
        """Do this beside what comes next, until `catch_up`."""
        self._meanwhile.append(self._begin(desk, actor, chore, what))

    def catch_up(self) -> None:
        """Wait for what was to be done meanwhile."""
        while self._meanwhile:
            self._meanwhile.pop().result()

    def _begin(self, desk: Desk, actor: User, chore: Chore, what: Any) -> Future[Any]:
        at = clock_of(desk).at
        if self._several is not None:
            url = desk.sessions.kw["bind"].url.render_as_string(hide_password=False)
            return self._several.submit(_there, url, at, actor.id, chore, what)
        done: Future[Any] = Future()
        done.set_result(_done(desk.sessions, at, actor.id, chore, what))
        return done


ONE_HAND = Hands()


@cache
def _sessions(url: str) -> sessionmaker[Session]:
    return make_sessions(make_engine(url, pool_size=2))


def _there(url: str, at: datetime, actor_id: uuid.UUID, chore: Chore, what: Any) -> Any:
    """In a process of its own."""
    return _done(_sessions(url), at, actor_id, chore, what)


def _done(sessions: sessionmaker[Session], at: datetime, actor_id: uuid.UUID, chore: Chore, what: Any) -> Any:
    desk = Desk(sessions, Then(at))
    with desk.read() as session:
        actor = session.get_one(User, actor_id)
    return chore(desk, actor, what)


def _calibrate(desk: Desk, actor: User, task: Task) -> tuple[str, datetime]:
    with desk.read() as session:
        probe = session.get_one(Probe, task.probe)
    run = calibrate(desk, actor, probe, task.method, dict(task.cups), task.conditions)
    return run, clock_of(desk).at


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
