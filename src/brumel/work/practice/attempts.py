"""Attempts at a scenario: begun in a fresh world, looked after while they last, and ended by a finding."""

from __future__ import annotations

import secrets
import uuid
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session, sessionmaker

from brumel.core.errors import InputError, InputErrors
from brumel.methods.scenarios import Event, Scenario, draw, load_scenarios, scenario_of, vocabulary
from brumel.store import practice_world
from brumel.store.practice import PracticeAttempt, PracticeResult, PracticeScenario
from brumel.store.tables import Calibration, Point, Reading, Run, User, Visit
from brumel.work import simulator
from brumel.work.desk import Clock, Desk, NotFound, Refused, Write, Written, alone_with, object_id, writes
from brumel.work.link import samples
from brumel.work.practice import clock as world_clock
from brumel.work.practice import judging, world
from brumel.work.practice import table as bench_table

HOW_SURE = {"guess": "a guess", "likely": "likely", "certain": "certain"}
LONGEST_WORDS = 600


@dataclass(frozen=True)
class Finding:
    """What a learner says before the truth is shown."""

    cause: str
    sure: str
    next: str
    words: str = ""


@dataclass(frozen=True)
class WorldView:
    """A world as its pages show it: whose attempt, the task, the table, how fast time runs, what happened meanwhile."""

    attempt: str
    scenario: Scenario
    table: bench_table.Table
    pace: int
    now: datetime
    begun: datetime
    source: str
    hints: bool
    news: tuple[str, ...]
    guide: str = ""

    @property
    def minutes(self) -> float:
        """How long the attempt has lasted [min]."""
        return (self.now - self.begun).total_seconds() / 60


# -- the scenarios


def scenarios(session: Session) -> dict[str, Scenario]:
    """All that are offered: those shipped, and the lead's own in use, which may replace one shipped by its key."""
    newest = (
        select(PracticeScenario)
        .distinct(PracticeScenario.key)
        .order_by(PracticeScenario.key, PracticeScenario.version.desc())
    )
    known = dict(load_scenarios())
    for row in session.scalars(newest):
        known.pop(row.key, None)
        if row.in_use:
            known[row.key] = scenario_of(row.body, row.key)
    return dict(sorted(known.items(), key=lambda pair: (pair[1].grade, pair[1].quantity, pair[1].title)))


def scenario(session: Session, key: str) -> Scenario:
    """One that is offered. Raises NotFound."""
    found = scenarios(session).get(key)
    if found is None:
        raise NotFound("There is no such scenario.")
    return found


# -- beginning


@writes("practice.begin", Written)
def begin(w: Write, *, scenario_key: str, source: str, hints: bool, seed: int | None = None) -> Written:
    """Begin an attempt: its hidden truth is drawn by the seed. Raises NotFound, InputError. The world is laid after it."""
    told = scenario(w.session, scenario_key)
    if source not in told.meter.links:
        raise InputError("source", f"This scenario is done {' or '.join(told.meter.links)}.", value=source[:20])
    row = PracticeAttempt(
        id=uuid.uuid4(),
        person_id=w.actor.id,
        scenario=told.key,
        told=told.model_dump(mode="json"),
        seed=secrets.randbelow(1_000_000) if seed is None else seed,
        source=source,
        hints=hints,
        at=w.now,
    )
    w.session.add(row)
    w.record(f"practice:{row.id}", {"scenario": told.key, "source": source})
    return Written(str(row.id))


def lies_on_table(desk: Desk, person: User, attempt_id: str) -> bool:
    """Whether this attempt's table is laid in the person's world already."""
    with desk.read() as session:
        if not practice_world.is_there(session, person.id):
            return False
    with practice_world.sessions_in(desk.sessions.kw["bind"], person.id)() as session:
        return bool(simulator.truth(session, world.ATTEMPT).get("id") == attempt_id)


def lay_world(desk: Desk, person: User, attempt_id: str, pace: int = 1) -> None:
    """Make the person's world anew and lay this attempt's table in it; whatever was practised there before is gone.

    A second send of the same beginning finds the table as it stands by now, and leaves it so.
    """
    if lies_on_table(desk, person, attempt_id):
        return
    with desk.sessions.begin() as session:
        row = attempt_of(session, person, attempt_id)
        practice_world.make(session, person.id)
    world.lay(
        practice_world.sessions_in(desk.sessions.kw["bind"], person.id),
        person,
        scenario_of(row.told),
        attempt=row.id,
        seed=row.seed,
        source=row.source,
        pace=pace,
        real=desk.clock(),
        hints=row.hints,
    )


def attempt_of(session: Session, person: User, attempt_id: str | uuid.UUID) -> PracticeAttempt:
    """An attempt, for its person and for leads. Raises NotFound."""
    row = session.get(PracticeAttempt, object_id(attempt_id, "attempt"))
    if row is None or (row.person_id != person.id and person.role != "lead"):
        raise NotFound("There is no such attempt.")
    return row


def result_of(session: Session, attempt_id: uuid.UUID) -> PracticeResult | None:
    """How an attempt went; None while it lasts."""
    return session.get(PracticeResult, attempt_id)


# -- while it lasts


def desk_of_world(sessions: sessionmaker[Session], real: Clock) -> Desk:
    """The desk of a world: its own sessions, and its own clock as it stands."""
    with Desk(sessions, real).read() as session:
        clock = world_clock.clock_of_world(session, real)
    return Desk(sessions, clock, real)


def look(desk: Desk) -> WorldView | None:
    """Bring a world up to this moment: what probes show is stored, what was to happen happens. None where none is laid."""
    with desk.sessions.begin() as session:
        attempt = simulator.truths(session).get(world.ATTEMPT)
        if not attempt:
            return None
        told = scenario_of(attempt["scenario"])
        if len(attempt["told"]) < len(told.events):
            alone_with(session, "practice table")  # what happens must not undo what hands do at this moment
            session.expire_all()
            attempt = simulator.truth(session, world.ATTEMPT)
        now, table = desk.clock(), bench_table.load(session)
        _store_samples(session, table, now)
        begun = datetime.fromisoformat(attempt["begun"])
        news = _events(session, attempt, told, table, now - begun)
        return WorldView(
            attempt["id"],
            told,
            table,
            world_clock.pace(session),
            now,
            begun,
            attempt["source"],
            attempt["hints"],
            news,
            _guide(session, told, table, begun),
        )


def _store_samples(session: Session, table: bench_table.Table, now: datetime) -> None:
    for dip in samples.simulated_dips(session, now):
        probe = table.probes.get(dip.probe_id)
        while probe is not None:
            rows = bench_table.samples_of(probe, dip, samples.next_seq(session, dip), now, simulator.MOST_AT_ONCE)
            samples.store_samples(session, dip, rows)
            if len(rows) < simulator.MOST_AT_ONCE:
                break


def _events(
    session: Session, attempt: dict[str, Any], told: Scenario, table: bench_table.Table, lasted: timedelta
) -> tuple[str, ...]:
    done, before = list(attempt["told"]), len(attempt["told"])
    begun = datetime.fromisoformat(attempt["begun"])
    for number, event in enumerate(told.events):
        if number not in done and _is_due(session, event, begun, lasted):
            done.append(number)
            _happen(table, event, number, begun + lasted)
    if len(done) != before:
        bench_table.keep(session, table)
        simulator.set_truth(session, world.ATTEMPT, {**attempt, "told": done})
    return tuple(told.events[number].says for number in done)


def _is_due(session: Session, event: Event, begun: datetime, lasted: timedelta) -> bool:
    if event.after == "minutes":
        return lasted >= timedelta(minutes=event.minutes)
    kind: Any = {"first_cup": Point, "calibrated": Calibration, "read": Reading}[event.after]
    return session.scalar(select(kind.id).where(kind.at >= begun).limit(1)) is not None


def _happen(table: bench_table.Table, event: Event, number: int, now: datetime) -> None:
    """Set what an event sets; a probe it befalls feels it at once, wherever it stands."""
    for key, body in event.sets.items():
        drawn = draw(dict(body), table.seed, f"event{number}.{key}")
        if key == "site":
            table.water = {**table.water, **drawn}
        for probe in table.probes.values():
            if probe.key == key:
                probe.body = {**probe.body, **drawn}
                bench_table.again(probe, now)


def _guide(session: Session, told: Scenario, table: bench_table.Table, begun: datetime) -> str:
    """What the tour says now: the sentence after the last thing that was done, whatever was left out before it."""
    kinds: dict[str, Any] = {
        "run": (Run, Run.started_at),
        "first_cup": (Point, Point.at),
        "calibrated": (Calibration, Calibration.at),
        "visit": (Visit, Visit.at),
        "read": (Reading, Reading.written_at),
    }

    def is_done(until: str) -> bool:
        if until in ("inspected", "poured"):
            return any(a.act == {"inspected": "inspect", "poured": "pour"}[until] for a in table.acts)
        if until == "found":
            return False
        kind, at = kinds[until]
        return session.scalar(select(kind.id).where(at >= begun).limit(1)) is not None

    done = [number for number, step in enumerate(told.guide, 1) if is_done(step.until)]
    return told.guide[max(done, default=0)].says if told.guide else ""


# -- ending


def checked(told: Scenario, finding: Finding) -> Finding:
    """A finding as it is kept. Raises all faults at once."""
    known, faults = vocabulary(), []
    if finding.cause not in known.causes_of(told.quantity):
        faults.append(InputError("cause", "Choose what you found from the list.", value=finding.cause[:40]))
    if finding.sure not in HOW_SURE:
        faults.append(InputError("sure", "Say how sure you are.", value=finding.sure[:20]))
    if finding.next not in {s.key for s in known.steps}:
        faults.append(InputError("next", "Choose what is to be done next from the list.", value=finding.next[:40]))
    if len(finding.words) > LONGEST_WORDS:
        faults.append(
            InputError("words", f"Your words have {len(finding.words)} characters; {LONGEST_WORDS} are kept.")
        )
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return replace(finding, words=" ".join(finding.words.split()))


@dataclass(frozen=True)
class Given:
    """A finding that was given, and whether the attempt passed."""

    passed: bool


@writes("practice.finding", Given)
def give_finding(w: Write, *, attempt_id: str, finding: Finding, told: Mapping[str, Any]) -> Given:
    """End an attempt: the finding, the criteria it meets and the debrief. One a attempt.

    told : what `judged` made of the world
    """
    row = attempt_of(w.session, w.actor, attempt_id)
    if row.person_id != w.actor.id:
        raise NotFound("There is no such attempt of yours.")
    if result_of(w.session, row.id) is not None:
        raise Refused("The finding of this attempt was given already; its debrief stands.")
    passed = all(c["ok"] for c in told["criteria"] if c["must"])
    w.session.add(
        PracticeResult(
            attempt_id=row.id,
            finding={"cause": finding.cause, "sure": finding.sure, "next": finding.next, "words": finding.words},
            criteria={"rows": told["criteria"]},
            debrief=told["debrief"],
            passed=passed,
            at=w.now,
        )
    )
    w.record(f"practice:{row.id}", {"scenario": row.scenario, "passed": passed})
    return Given(passed)


def judged(desk: Desk, attempt: PracticeAttempt, finding: Finding) -> dict[str, Any]:
    """What a world says of an attempt. Raises Refused where it is another's, or what it asks for was not done yet."""
    view = look(desk)
    if view is None or view.attempt != str(attempt.id):
        raise Refused("The table of this attempt is cleared away; begin it anew to give a finding.")
    good = checked(view.scenario, finding)
    with desk.read() as session:
        if words := judging.still_to_do(session, view.scenario, view.begun):
            raise Refused(words)
        return judging.judge_attempt(session, view.scenario, view.table, view.begun, view.now, good.cause, good.next)
