"""Databases for the tests: one template a worker, a fresh copy for every test that asks."""

from __future__ import annotations

import os
import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pytest
from hypothesis import HealthCheck, settings

from brumel.config import sqlalchemy_url
from brumel.store.cluster import Cluster
from brumel.store.migrate import migrate
from brumel.store.sessions import make_engine, make_sessions
from brumel.work import demo
from brumel.work.desk import Desk

# Machines are shared and noisy: time is measured in benchmarks/, never in a test.
settings.register_profile("brumel", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("brumel")

START = datetime(2026, 5, 12, 6, 30, tzinfo=UTC)
DATA = Path(__file__).parent / "data"


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
    yield cluster.url("postgres")
    cluster.stop()


def _do(server: str, statement: str) -> None:
    with psycopg.connect(server.replace("+psycopg", ""), autocommit=True) as connection:
        connection.execute(statement)  # type: ignore[call-overload]


def _database(server: str, name: str) -> str:
    return sqlalchemy_url(server.rsplit("/", 1)[0] + "/" + name)


@contextmanager
def _template(server: str, clock: Callable[[], datetime], *, history: bool) -> Iterator[str]:
    name = f"t_{uuid.uuid4().hex[:12]}"
    _do(server, f"create database {name}")
    url = _database(server, name)
    migrate(url)
    engine = make_engine(url)
    demo.load(Desk(make_sessions(engine), clock), history=history)
    engine.dispose()
    yield name
    _do(server, f"drop database {name} with (force)")


@contextmanager
def database_copy(server: str, template: str) -> Iterator[str]:
    """A copy of a template database, gone afterwards."""
    name = f"t_{uuid.uuid4().hex[:12]}"
    _do(server, f"create database {name} template {template}")
    yield _database(server, name)
    _do(server, f"drop database {name} with (force)")


@pytest.fixture(scope="session")
def template(server: str) -> Iterator[str]:
    """A migrated database with the demo's things, without history, as of START."""
    with _template(server, Clock(), history=False) as name:
        yield name


@pytest.fixture(scope="session")
def present_template(server: str) -> Iterator[str]:
    """The same as of the real now, for servers that run on the real clock."""
    with _template(server, lambda: datetime.now(UTC), history=False) as name:
        yield name


@pytest.fixture(scope="session")
def told_template(server: str) -> Iterator[str]:
    """The same with twelve weeks of history."""
    with _template(server, lambda: datetime.now(UTC), history=True) as name:
        yield name


@pytest.fixture
def database_url(server: str, template: str) -> Iterator[str]:
    """A database of this test's own, as of START."""
    with database_copy(server, template) as url:
        yield url


@pytest.fixture
def present_url(server: str, present_template: str) -> Iterator[str]:
    """A database of this test's own, as of now."""
    with database_copy(server, present_template) as url:
        yield url


@pytest.fixture
def told_url(server: str, told_template: str) -> Iterator[str]:
    """A database of this test's own, as of now and with history."""
    with database_copy(server, told_template) as url:
        yield url


@pytest.fixture
def clock() -> Clock:
    return Clock()


@pytest.fixture
def desk(database_url: str, clock: Clock) -> Iterator[Desk]:
    engine = make_engine(database_url, pool_size=3)
    yield Desk(make_sessions(engine), clock)
    engine.dispose()
