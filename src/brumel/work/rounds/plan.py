"""The plan of the day: what each probe still needs, in which order, and what cannot make it."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from brumel.core.ions import RESTS_ON
from brumel.core.planning import Task, plan
from brumel.core.quantity_table import IONS
from brumel.core.sentence import PlaceClock, say
from brumel.methods import Method, StepSpec
from brumel.store.rounds import Round
from brumel.store.tables import Probe, Run
from brumel.work import bench, kit
from brumel.work.bench.calibration_sessions import HANDS_MIN, VERDICT_MIN
from brumel.work.rounds.calendar import leaving, today_of
from brumel.work.rounds.outings import Chosen, ProbeChoice, choice

PACK_MIN = 10.0  # common practice, no source


SITE_MIN = 25.0  # a site with the way to it; common practice, no source


@dataclass(frozen=True)
class PlanLine:
    """One step of the plan at its time; `kind` is "hands" or "wait"."""

    what: str
    probe: str
    start: datetime
    end: datetime
    kind: str
    deciding: bool
    late: bool


@dataclass(frozen=True)
class Trouble:
    """Something that cannot make it, and what to do instead."""

    what: str
    instead: str


@dataclass(frozen=True)
class DayPlan:
    """The day up to leaving: steps, when all is ready, when to begin at the latest, and what cannot make it."""

    round: Round
    now: datetime
    leave_at: datetime
    lines: tuple[PlanLine, ...]
    ready_at: datetime
    begin_at: datetime
    back_at: datetime
    chosen: tuple[Chosen, ...]
    missing: tuple[str, ...]
    troubles: tuple[Trouble, ...]

    @property
    def in_time(self) -> bool:
        """Whether all is ready when it is time to leave."""
        return self.ready_at <= self.leave_at


def plan_day(
    session: Session,
    planned_round: Round,
    now: datetime,
    *,
    leave_at: datetime | None = None,
    carried: ProbeChoice | None = None,
    runs: Mapping[uuid.UUID, Run] | None = None,
) -> DayPlan:
    """The plan of a round that leaves at `leave_at` (or on its own hour today), if everything began now.

    Waits that already run count only what is left of them; an open run only its cups still to come. What the caller knows
    of probes and open runs already is not asked again.
    """
    leave = leave_at or leaving(planned_round, today_of(planned_round, now))
    back = leave + timedelta(minutes=SITE_MIN * len(planned_round.stops))
    carried = carried or choice(session, planned_round, now)
    chosen, missing = carried.best(back), carried.missing
    runs = kit.open_runs(session, [c.probe for c in chosen]) if runs is None else runs
    methods = kit.default_methods(session, [c.probe for c in chosen])
    tasks: list[Task] = []
    whose: dict[str, tuple[str, str, str]] = {}
    last: list[str] = []
    ends: dict[str, str] = {}
    warm: tuple[str, ...] = ()
    to_go = bench.steps_to_go(session, [runs[c.probe.id] for c in chosen if c.probe.id in runs])
    for c in chosen:
        # An ion tip rests on pH, ORP and conductivity: it comes after them, as in a calibration session.
        rests = tuple(ends[q] for q in RESTS_ON if q in ends) if c.quantity in IONS else ()
        run = runs.get(c.probe.id)
        under_way = (run, to_go[run.id]) if run is not None else None
        steps = _tasks(c, now, back, under_way, methods[c.probe.id], (*warm, *rests))
        for task, what in steps:
            whose[task.key] = (what, c.probe.name, "hands" if task.hands else "wait")
            tasks.append(task)
        if steps:
            last.append(steps[-1][0].key)
            ends[c.quantity] = steps[-1][0].key
            if c.quantity == "temperature":
                warm = (steps[-1][0].key,)
    tasks.append(Task("pack", PACK_MIN, True, tuple(last)))
    whose["pack"] = ("pack the probes moist, with what is on the list", "", "hands")
    worked = plan(tasks, leave_min=max((leave - now).total_seconds() / 60, 0.0))

    def at(minutes: float) -> datetime:
        return now + timedelta(minutes=minutes)

    lines = tuple(
        PlanLine(
            whose[s.key][0],
            whose[s.key][1],
            at(s.start_min),
            at(s.end_min),
            whose[s.key][2],
            s.key in worked.chain,
            s.key in worked.late,
        )
        for s in worked.slots
    )
    ready = at(worked.ready_min)
    troubles = _troubles(session, carried, chosen, lines, leave, ready)
    troubles += [Trouble(f"Nothing measures {q}.", "Leave it out, or add a probe in Kit.") for q in missing]
    return DayPlan(
        planned_round,
        now,
        leave,
        lines,
        ready,
        leave - (ready - now),
        back,
        tuple(chosen),
        tuple(missing),
        tuple(troubles),
    )


#: A run that has not ended, and the steps it has still before it.
UnderWay = tuple[Run, list[StepSpec]]


def _tasks(
    c: Chosen, now: datetime, until: datetime, under_way: UnderWay | None, usual: Method, warm: tuple[str, ...]
) -> list[tuple[Task, str]]:
    """What a probe still needs before it may go: the rest of a wait, then its cups one by one."""
    lasts = c.trust.valid and c.trust.calibration is not None and c.trust.calibration.valid_until >= until
    if lasts and under_way is None:
        return []
    assert c.trust.facts is not None
    name, tasks = c.probe.name, list[tuple[Task, str]]()
    before = warm if c.quantity != "temperature" else ()
    waiting = c.trust.facts.wait
    if waiting is not None:
        left = (waiting.ready_at - now).total_seconds() / 60
        tasks.append((Task(f"{name}: wait", left), f"{waiting.words}; {waiting.meanwhile or 'waiting'}"))
        before = (*before, f"{name}: wait")
    look = c.trust.facts.look
    if look is None or look.blocks:
        tasks.append((Task(f"{name}: look", 2.0, True), "inspect it"))
        before = (*before, f"{name}: look")
    if under_way is not None and under_way[0].purpose == "calibration":
        steps, method = under_way[1], Method.model_validate(under_way[0].method)
    else:
        method = kit.method_for_probe(usual, c.probe)
        steps = list(method.steps)
    settle = max(method.settling.shortest_s, 30.0) * 1.4 / 60
    for step in steps:
        dip, rest = f"{name}: {step.key}", f"{name}: {step.key} settles"
        tasks.append((Task(dip, HANDS_MIN, True, before), step.title))
        tasks.append((Task(rest, settle, False, (dip,)), f"{step.title} settles"))
        before = (rest,)
    tasks.append((Task(f"{name}: verdict", VERDICT_MIN, True, before), "verdict"))
    return tasks


def _troubles(
    session: Session,
    carried: ProbeChoice,
    chosen: Sequence[Chosen],
    lines: Sequence[PlanLine],
    leave: datetime,
    ready: datetime,
) -> list[Trouble]:
    """What cannot make it, those with the same way out told together."""
    late = {line.probe: max(o.end for o in lines if o.probe == line.probe) for line in lines if line.end > leave}
    others = [c.probe for some in carried.options.values() for c in some] if late else []
    trusts = kit.trusts(session, others, leave) if others else {}
    troubles: dict[str, list[Chosen]] = {}
    for c in chosen:
        if c.probe.name in late:
            alike = [(p, trusts[p.id]) for p in others if p.quantity == c.quantity and p.id != c.probe.id]
            troubles.setdefault(_instead(alike, c, leave, ready), []).append(c)
    return [
        Trouble(
            say(
                "{probes} would be ready at {ready}; leaving is at {leave}.",
                probes=", ".join(c.probe.name for c in group),
                ready=_clock(max(late[c.probe.name] for c in group), leave),
                leave=PlaceClock(leave),
            ),
            instead,
        )
        for instead, group in troubles.items()
    ]


def _clock(at: datetime, leave: datetime) -> PlaceClock:
    """By the clock of the round, as its plan is drawn."""
    return PlaceClock(at.astimezone(leave.tzinfo))


def _instead(others: Sequence[tuple[Probe, kit.Trust]], c: Chosen, leave: datetime, ready: datetime) -> str:
    for probe, trust in others:
        if trust.valid:
            return say("Take {probe}: {words}", probe=probe.name, words=trust.words)
    if c.trust.calibration is not None and c.trust.calibration.usable:
        return say(
            "Leave at {ready}, or take it as it is: its readings have no valid calibration, and say so.",
            ready=_clock(ready, leave),
        )
    return say("Leave at {ready}, or leave this quantity out today.", ready=_clock(ready, leave))
