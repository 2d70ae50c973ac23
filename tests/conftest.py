"""Databases for the tests: templates made once a run, a fresh copy under the worker's own name for every test that asks."""

from __future__ import annotations

import fcntl
import gc
import os
import tempfile
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import cache, cached_property
from pathlib import Path
from typing import Any

import psycopg
import pytest
from argon2 import PasswordHasher
from hypothesis import HealthCheck, settings
from sqlalchemy import Engine

from brumel.config import sqlalchemy_url
from brumel.store.cluster import Cluster
from brumel.store.migrate import migrate
from brumel.store.sessions import make_engine, make_sessions
from brumel.work import demo, people
from brumel.work.desk import Desk

# Machines are shared and noisy: time is measured in benchmarks/, never in a test.
settings.register_profile("brumel", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("brumel")

# Signing in costs what the hash says; the tests do it by the hundred and are not who it protects.
people.accounts._hasher = PasswordHasher(time_cost=1, memory_cost=1024, parallelism=1)

START = datetime(2026, 5, 12, 6, 30, tzinfo=UTC)
DATA = Path(__file__).parent / "data"


#: Longest first, so that none of them is what the end of a run waits for; while the first makes the history of five weeks,
#: the next ones are such as do without it.
SLOWEST = (
    "nothing_overflows[390-sun]",
    "survives_the_server_going_away",
    "the_main_school_of_every_quantity_live",
    "a_whole_meter_in_one_session",
    "a_whole_day_from_the_plan",
    "killed_halfway",
    "test_faults",
    "test_campaign",
    "leads_somewhere_at_a_price",
    "nothing_overflows",
    "/browser/",
    "test_commands",
    "test_hostile",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    def rank(item: pytest.Item) -> int:
        return next(
            (i for i, part in enumerate(SLOWEST) if part in item.nodeid or part in str(item.path)), len(SLOWEST)
        )

    items.sort(key=rank)


def pytest_collection_finish() -> None:
    """What is read by now is never garbage, and need not be looked through for it again and again; the rest seldom."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(20_000, 20, 50)


class Clock:
    """A clock that stands still until a test moves it."""

    def __init__(self, at: datetime = START) -> None:
        self.at = at

    def __call__(self) -> datetime:
        return self.at

    def on(self, **delta: float) -> None:
        self.at += timedelta(**delta)


@pytest.fixture(scope="session")
def server() -> Iterator[str]:
    """URL of the test cluster's maintenance database; `./brumel test` hands one in."""
    if given := os.environ.get("BRUMEL_TEST_CLUSTER"):
        yield given
        return
    cluster = Cluster("test")
    cluster.start()
    os.environ["BRUMEL_TEST_APP"] = cluster.app_url("postgres")
    yield cluster.url("postgres")
    cluster.stop()


@cache
def _maintenance(server: str) -> psycopg.Connection[tuple[Any, ...]]:
    """The one connection by which a worker makes databases and lets them go."""
    return psycopg.connect(server.replace("+psycopg", ""), autocommit=True)


def do(server: str, statement: str) -> None:
    """One statement outside a transaction, as creating a database wants it."""
    _maintenance(server).execute(statement)  # type: ignore[call-overload]


def _database(server: str, name: str) -> str:
    return sqlalchemy_url(server.rsplit("/", 1)[0] + "/" + name)


def as_app(url: str) -> str:
    """The same database as the role the application signs in as: it owns nothing, and the tests work as it does."""
    return sqlalchemy_url(os.environ["BRUMEL_TEST_APP"].rsplit("/", 1)[0] + "/" + url.rsplit("/", 1)[1])


def _make(server: str, name: str, clock: Callable[[], datetime], weeks: int | None) -> None:
    do(server, f"create database {name}")
    url = _database(server, name)
    migrate(url)
    _few_partitions(url, clock())
    if weeks is None:
        return
    engine = make_engine(as_app(url))
    demo.load_demo(Desk(make_sessions(engine), clock), weeks=weeks)
    engine.dispose()


def _few_partitions(url: str, now: datetime) -> None:
    """Months far from the test's own are let go, so that copying and planning are quick; the catch-all stays."""
    with psycopg.connect(url.replace("+psycopg", ""), autocommit=True) as connection:
        query = "select relname from pg_class where relname ~ '^samples_[0-9]{4}_[0-9]{2}$' and relkind = 'r'"
        for (name,) in connection.execute(query).fetchall():
            if not name.endswith(f"{now:%Y_%m}"):
                connection.execute(f"drop table {name}")  # type: ignore[call-overload]


def _template(server: str, kind: str, clock: Callable[[], datetime], weeks: int | None = 0) -> str:
    """The name of a template database: made by the first worker that asks, used by all of them."""
    run = os.getppid() if "PYTEST_XDIST_WORKER" in os.environ else os.getpid()
    name = f"template_{kind}_{run}"
    with (Path(tempfile.gettempdir()) / f"brumel-{kind}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        there = _ask(server, "select datname from pg_database where datname like 'template\\_%'")
        if name not in there:
            for old in (n for n in there if n.startswith("template_") and not _alive(n.rsplit("_", 1)[1])):
                do(server, f"drop database if exists {old} with (force)")  # of a run that has ended
            _make(server, name, clock, weeks)
    return name


def _alive(pid: str) -> bool:
    return pid.isdigit() and Path(f"/proc/{pid}").exists()


def _ask(server: str, query: str) -> list[str]:
    return [row[0] for row in _maintenance(server).execute(query)]  # type: ignore[call-overload]


@contextmanager
def database_copy(server: str, template: str) -> Iterator[str]:
    """A copy of a template database, gone afterwards."""
    name = f"t_{uuid.uuid4().hex[:12]}"
    _copy(server, template, name)
    yield _database(server, name)
    _drop(server, name)


def _copy(server: str, template: str, name: str) -> None:
    do(server, f"create database {name} template {template} strategy file_copy")


def _drop(server: str, name: str) -> None:
    do(server, f"drop database if exists {name} with (force)")


@pytest.fixture(scope="session")
def template(server: str) -> str:
    """A migrated database with the demo's things, without history, as of START."""
    return _template(server, "start", Clock())


@pytest.fixture(scope="session")
def present_template(server: str) -> str:
    """The same as of the real now, for servers that run on the real clock."""
    return _template(server, "present", lambda: datetime.now(UTC))


@pytest.fixture(scope="session")
def told_template(server: str) -> str:
    """The same with a history of five weeks: a new membrane, a failed check, a probe that ages."""
    return _template(server, "told", lambda: datetime.now(UTC), weeks=5)


@pytest.fixture(scope="session")
def empty_template(server: str) -> str:
    """A migrated database in which nobody and nothing is yet, as of the real now."""
    return _template(server, "empty", lambda: datetime.now(UTC), weeks=None)


@pytest.fixture
def empty_url(server: str, empty_template: str) -> Iterator[str]:
    """An empty database of this test's own."""
    with database_copy(server, empty_template) as url:
        yield url


@dataclass
class Place:
    """What a worker makes once and every test finds as new: a name for its database, a clock, and what is made on them.

    A fresh engine would compile every statement again, a fresh application read every template again.
    """

    server: str
    name: str = field(default_factory=lambda: f"t_{uuid.uuid4().hex[:12]}")
    clock: Clock = field(default_factory=Clock)
    #: of the application, which has one of its own
    other_engines: list[Engine] = field(default_factory=list)
    #: what `begun` has laid once: its database, the time then, and what it gave
    begun: dict[Callable[..., Any], tuple[str, datetime, Any]] = field(default_factory=dict)

    @cached_property
    def url(self) -> str:
        return _database(self.server, self.name)

    @cached_property
    def engine(self) -> Engine:
        return make_engine(as_app(self.url), pool_size=3)

    def renew(self, template: str, at: datetime) -> None:
        _drop(self.server, self.name)
        _copy(self.server, template, self.name)
        self.clock.at = at

    def let_go(self) -> None:
        """Nobody is connected any more: a database can be copied, or another one take its name."""
        for engine in (self.engine, *self.other_engines):
            engine.dispose()

    def begin(self, make: Callable[[Desk], Any], desk: Desk) -> Any:
        """What several tests begin with: lived through by the real calls once a worker, then copied."""
        if make not in self.begun:
            given, name = make(desk), f"begun_{uuid.uuid4().hex[:12]}"
            self.let_go()
            # Nobody may be connected to what is copied: who listens for samples is sent away, and kept from coming back.
            do(self.server, f"alter database {self.name} with allow_connections false")
            do(self.server, f"select pg_terminate_backend(pid) from pg_stat_activity where datname = '{self.name}'")
            _copy(self.server, self.name, name)
            do(self.server, f"alter database {self.name} with allow_connections true")
            self.begun[make] = name, self.clock.at, given
        else:
            name, at, given = self.begun[make]
            self.let_go()
            self.renew(name, at)
        return given

    def leave(self) -> None:
        for name in (self.name, *(name for name, *_ in self.begun.values())):
            _drop(self.server, name)


@pytest.fixture(scope="session")
def place(server: str) -> Iterator[Place]:
    one = Place(server)
    yield one
    one.leave()


@pytest.fixture
def database_url(place: Place, template: str) -> str:
    """A database of this test's own, as of START."""
    place.renew(template, START)
    return place.url


@pytest.fixture
def clock(place: Place) -> Clock:
    place.clock.at = START
    return place.clock


@pytest.fixture
def desk(place: Place, database_url: str, clock: Clock) -> Iterator[Desk]:
    yield Desk(make_sessions(place.engine), clock)
    place.let_go()


@pytest.fixture
def begun(place: Place, desk: Desk) -> Callable[[Callable[[Desk], Any]], Any]:
    """`begun(make)`: what several tests begin with, by `make(desk)`. Asked for before anything else looks at the database."""
    return lambda make: place.begin(make, desk)
