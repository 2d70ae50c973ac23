"""Calibrations of the demo, made cup by cup through the real code path."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import Executor, Future
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any

from sqlalchemy.orm import Session, sessionmaker

from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import Probe, User
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import Desk
from brumel.work.practice.scripted import Then, calibrate, clock_of


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
        return self.together(desk, actor, _calibrate, tasks)

    def together(self, desk: Desk, actor: User, chore: Chore, whats: Sequence[Any]) -> list[Any]:
        """Begin the same chore for each at the desk's moment; the clock goes on to the end of the longest."""
        clock = clock_of(desk)
        done = [each.result() for each in [self._begin(desk, actor, chore, what) for what in whats]]
        clock.at = max([clock.at, *(ended for _, ended in done)])
        return [result for result, _ in done]

    def meanwhile(self, desk: Desk, actor: User, chore: Chore, what: Any) -> None:
        """Do this beside what comes next, until `catch_up`."""
        self._meanwhile.append(self._begin(desk, actor, chore, what))

    def catch_up(self) -> None:
        """Wait for what was to be done meanwhile."""
        while self._meanwhile:
            self._meanwhile.pop().result()

    def _begin(self, desk: Desk, actor: User, chore: Chore, what: Any) -> Future[tuple[Any, datetime]]:
        at = clock_of(desk).at
        if self._several is not None:
            url = desk.sessions.kw["bind"].url.render_as_string(hide_password=False)
            return self._several.submit(_there, url, at, actor.id, chore, what)
        done: Future[tuple[Any, datetime]] = Future()
        done.set_result(_done(desk.sessions, at, actor.id, chore, what))
        return done


ONE_HAND = Hands()


@cache
def _sessions(url: str) -> sessionmaker[Session]:
    return make_sessions(make_engine(url, pool_size=2, hurried=True))


def _there(url: str, at: datetime, actor_id: uuid.UUID, chore: Chore, what: Any) -> tuple[Any, datetime]:
    """In a process of its own."""
    return _done(_sessions(url), at, actor_id, chore, what)


def _done(
    sessions: sessionmaker[Session], at: datetime, actor_id: uuid.UUID, chore: Chore, what: Any
) -> tuple[Any, datetime]:
    """What the chore gave, and the moment at which it was done."""
    desk = Desk(sessions, Then(at))
    with desk.read() as session:
        actor = session.get_one(User, actor_id)
    return chore(desk, actor, what), clock_of(desk).at


def _calibrate(desk: Desk, actor: User, task: Task) -> str:
    with desk.read() as session:
        probe = session.get_one(Probe, task.probe)
    return calibrate(desk, actor, probe, task.method, dict(task.cups), task.conditions)
