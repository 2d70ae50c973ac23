"""The plan of the day: what each probe still needs, in which order, and what cannot make it."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from brumel.core.ions import RESTS_ON
from brumel.core.planning import Plan, Task, plan
from brumel.core.quantity_table import IONS
from brumel.core.sentence import PlaceClock, say
from brumel.methods import Method, StepSpec
from brumel.store.rounds import Round
from brumel.store.tables import Lot, Probe, Run
from brumel.work import bench, kit
from brumel.work.bench.calibration_sessions import HANDS_MIN, VERDICT_MIN
from brumel.work.bench.offers import offers_for, usual_cups
from brumel.work.rounds.calendar import day_out, leaving, today_of
from brumel.work.rounds.outings import Chosen, ProbeChoice, choice

PACK_MIN = 10.0  # common practice, no source


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
    """The day up to leaving: steps, when all is ready, when to begin at the latest, and what cannot make it.

    starts_at : when the steps are reckoned from: now, or where the round leaves on another day, just in time for that
    """

    round: Round
    now: datetime
    leave_at: datetime
    lines: tuple[PlanLine, ...]
    ready_at: datetime
    begin_at: datetime
    starts_at: datetime
    back_at: datetime
    day_words: str
    chosen: tuple[Chosen, ...]
    missing: tuple[str, ...]
    troubles: tuple[Trouble, ...]

    @property
    def in_time(self) -> bool:
        """Whether all is ready when it is time to leave."""
        return self.ready_at <= self.leave_at


@dataclass(frozen=True)
class AlreadyKnown:
    """What the caller has asked the database already, None for what it has not.

    carried : the probes that could be carried; runs : open runs by probe; lots : the bottles on the shelf
    poured : what the cups of each probe and method held last
    """

    carried: ProbeChoice | None = None
    runs: Mapping[uuid.UUID, Run] | None = None
    lots: Sequence[kit.LotView] | None = None
    poured: Mapping[tuple[uuid.UUID, str], Mapping[str, str]] | None = None


def plan_day(
    session: Session,
    planned_round: Round,
    now: datetime,
    *,
    leave_at: datetime | None = None,
    known: AlreadyKnown | None = None,
) -> DayPlan:
    """The plan of a round that leaves at `leave_at` (or on its own hour today), if everything began now.

    Waits that already run count only what is left of them; an open run only its cups still to come. What is `known` is
    not asked again.
    """
    known = known or AlreadyKnown()
    leave = leave_at or leaving(planned_round, today_of(planned_round, now))
    out = day_out(planned_round)
    back = leave + timedelta(minutes=out.minutes)
    carried = known.carried or choice(session, planned_round, now)
    chosen, missing = carried.best(back), carried.missing
    runs = kit.open_runs(session, [c.probe for c in chosen]) if known.runs is None else known.runs
    methods = kit.default_methods(session, [c.probe for c in chosen])
    shelf = _Shelf.of(session, now, [c.probe for c in chosen if _needs(c, back, runs)], known)
    to_go = bench.steps_to_go(session, [runs[c.probe.id] for c in chosen if c.probe.id in runs])
    under_way = {c.probe.id: (runs[c.probe.id], to_go[runs[c.probe.id].id]) for c in chosen if c.probe.id in runs}
    still = {
        c.probe.id: _still_of(c, shelf, under_way.get(c.probe.id), methods) for c in chosen if _needs(c, back, runs)
    }
    todo = _Todo(chosen, still)
    worked, whose = _schedule(todo, now, leave)
    begin = leave - timedelta(minutes=worked.ready_min)
    starts = now
    if begin > now and begin.date() != now.astimezone(leave.tzinfo).date():
        # Another day: begun just in time for it, when the waits that run now are over or nearly so.
        starts = begin = leave - timedelta(minutes=_schedule(todo, leave, leave)[0].ready_min)
        worked, whose = _schedule(todo, starts, leave)

    def at(minutes: float) -> datetime:
        return starts + timedelta(minutes=minutes)

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
    troubles = _troubles(carried, chosen, lines, leave, ready)
    troubles += [Trouble(f"Nothing measures {q}.", "Leave it out, or add a probe in Kit.") for q in missing]
    return DayPlan(
        planned_round,
        now,
        leave,
        lines,
        ready,
        begin,
        starts,
        back,
        out.words,
        tuple(chosen),
        tuple(missing),
        tuple(troubles),
    )


@dataclass(frozen=True)
class _Shelf:
    """The lots at hand, and which of them each probe's cups held last, by probe and method."""

    lots: Sequence[kit.LotView]
    poured: Mapping[tuple[uuid.UUID, str], Mapping[str, str]]

    @classmethod
    def of(cls, session: Session, now: datetime, probes: Sequence[Probe], known: AlreadyKnown) -> _Shelf:
        if not probes:
            return cls((), {})
        return cls(
            kit.lots_on_shelf(session, now) if known.lots is None else known.lots,
            kit.last_cups_of(session, probes) if known.poured is None else known.poured,
        )

    def cups(self, probe: Probe, method: Method, steps: Sequence[StepSpec], run: Run | None) -> dict[str, str]:
        """What to do at each step, by its key: "in buffer 7.01 (N7-121)"."""
        offers = {s.key: offers_for(s, self.lots, probe) for s in steps if s.vessel == "solution"}
        before = run.cups if run else self.poured.get((probe.id, method.key), {})
        lots = {str(view.lot.id): view.lot for view in self.lots}
        taken = {**usual_cups(offers, before), **({k: v for k, v in run.cups.items() if v in lots} if run else {})}
        return {step.key: _stands(step, lots.get(taken.get(step.key, "")), taken) for step in steps}


#: First words of a bottle's name that are no names of their own, and so are small within a sentence.
_COMMON = ("Buffer", "Own", "Combined", "Standard", "Solution", "Nitrate", "Ammonium", "Sulfite", "Quinhydrone")


def _stands(step: StepSpec, lot: Lot | None, taken: Mapping[str, str]) -> str:
    """Where the probe stands at a step; steps of one bottle are told apart by their titles."""
    if step.vessel != "solution":
        return step.title if step.vessel == "air" else f"in {step.title}"
    if lot is None:
        return f"in {step.title} (no bottle of it is at hand)"
    first, _, rest = lot.name.partition(" ")
    name = " ".join((first.lower() if first in _COMMON else first, rest)).strip()
    shared = list(taken.values()).count(str(lot.id)) > 1
    return f"in {name} ({lot.code})" + (f", {step.title}" if shared else "")


#: A run that has not ended, and the steps it has still before it.
UnderWay = tuple[Run, list[StepSpec]]


@dataclass(frozen=True)
class _Still:
    """A probe's cups still to come: the steps, where it stands at each, and how long it settles in one [min]."""

    steps: Sequence[StepSpec]
    stands: Mapping[str, str]
    settle_min: float


def _still_of(c: Chosen, shelf: _Shelf, under_way: UnderWay | None, methods: Mapping[uuid.UUID, Method]) -> _Still:
    if under_way is not None and under_way[0].purpose == "calibration":
        run, steps = under_way
        method = Method.model_validate(run.method)
    else:
        run, method = None, kit.method_for_probe(methods[c.probe.id], c.probe)
        steps = list(method.steps)
    settle_min = max(method.settling.shortest_s, 30.0) * 1.4 / 60
    return _Still(steps, shelf.cups(c.probe, method, steps, run), settle_min)


@dataclass(frozen=True)
class _Todo:
    """What is to be scheduled: the probes, and the cups of those that need some; the same whenever it is begun."""

    chosen: Sequence[Chosen]
    still: Mapping[uuid.UUID, _Still]


#: What a task is, whose probe's, and whether it takes hands or waits.
Whose = dict[str, tuple[str, str, str]]


def _schedule(todo: _Todo, start: datetime, leave: datetime) -> tuple[Plan, Whose]:
    """The tasks in their order, begun at `start`; waits that run count what is left of them then."""
    tasks: list[Task] = []
    whose: Whose = {}
    last: list[str] = []
    ends: dict[str, str] = {}
    warm: tuple[str, ...] = ()
    for c in todo.chosen:
        # An ion tip rests on pH, ORP and conductivity: it comes after them, as in a calibration session.
        rests = tuple(ends[q] for q in RESTS_ON if q in ends) if c.quantity in IONS else ()
        steps = _tasks(todo, c, start, (*warm, *rests))
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
    return plan(tasks, leave_min=max((leave - start).total_seconds() / 60, 0.0)), whose


def _lasts(c: Chosen, until: datetime) -> bool:
    return c.trust.valid and c.trust.calibration is not None and c.trust.calibration.valid_until >= until


def _needs(c: Chosen, until: datetime, runs: Mapping[uuid.UUID, Run]) -> bool:
    """Whether a probe has something to be done before it goes: a run of it is open, or it does not last."""
    return c.probe.id in runs or not _lasts(c, until)


def _tasks(todo: _Todo, c: Chosen, start: datetime, after: tuple[str, ...]) -> list[tuple[Task, str]]:
    """What a probe still needs before it may go: the rest of a wait, then its cups one by one."""
    still = todo.still.get(c.probe.id)
    if still is None:
        return []
    assert c.trust.facts is not None
    name, tasks = c.probe.name, list[tuple[Task, str]]()
    before = after if c.quantity != "temperature" else ()
    waiting = c.trust.facts.wait
    if waiting is not None and waiting.ready_at > start:
        left = (waiting.ready_at - start).total_seconds() / 60
        tasks.append((Task(f"{name}: wait", left), f"{waiting.words}; {waiting.meanwhile or 'waiting'}"))
        before = (*before, f"{name}: wait")
    look = c.trust.facts.look
    if look is None or look.blocks:
        tasks.append((Task(f"{name}: look", 2.0, True), "inspect it"))
        before = (*before, f"{name}: look")
    for step in still.steps:
        dip, rest = f"{name}: {step.key}", f"{name}: {step.key} settles"
        tasks.append((Task(dip, HANDS_MIN, True, before), still.stands[step.key]))
        tasks.append((Task(rest, still.settle_min, False, (dip,)), f"settles {still.stands[step.key]}"))
        before = (rest,)
    tasks.append((Task(f"{name}: verdict", VERDICT_MIN, True, before), "verdict"))
    return tasks


def _trust_then(c: Chosen, leave: datetime) -> kit.Trust:
    """What a probe can be trusted for when it is time to leave, as far as it is known now."""
    facts = c.trust.facts
    assert facts is not None
    if facts.wait is not None and facts.wait.ready_at <= leave:
        facts = replace(facts, wait=None)
    return kit.trust_by(c.probe, facts, leave)


def _troubles(
    carried: ProbeChoice, chosen: Sequence[Chosen], lines: Sequence[PlanLine], leave: datetime, ready: datetime
) -> list[Trouble]:
    """What cannot make it, those with the same way out told together."""
    late = {line.probe: max(o.end for o in lines if o.probe == line.probe) for line in lines if line.end > leave}
    others = [c for some in carried.options.values() for c in some] if late else []
    troubles: dict[str, list[Chosen]] = {}
    for c in chosen:
        if c.probe.name in late:
            alike = [
                (o.probe, _trust_then(o, leave))
                for o in others
                if o.quantity == c.quantity and o.probe.id != c.probe.id
            ]
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
