"""Engine and sessions, and the channel on which new samples are announced."""

from __future__ import annotations

import select
from collections.abc import Sequence
from typing import Any

import psycopg
from pydantic_core import from_json
from sqlalchemy import Engine, create_engine
from sqlalchemy.orm import Session, sessionmaker

# Tables of one file name those of another: whoever opens a session knows them all.
from brumel.store import deployments, documents, imports, jobs, logger, practice, records, rounds, standing, webhooks  # noqa: F401

#: Names a dip that has new samples, or a probe that was dipped.
SAMPLES_CHANNEL = "brumel_samples"
#: Names a job that waits to be done.
JOBS_CHANNEL = "brumel_jobs"


def announced_on(connection: psycopg.Connection, seconds: float | None = None) -> list[psycopg.Notify]:
    """What is announced on a connection that listens; waits for it so long, or without end [s].

    The driver itself would look ten times a second whether something has come, which is what an idle process is busy with.
    """
    if heard := list(connection.notifies(timeout=0)):
        return heard
    comes = select.poll()
    comes.register(connection.fileno(), select.POLLIN)
    comes.poll(None if seconds is None else seconds * 1000)
    return list(connection.notifies(timeout=0))


class Announcements:
    """What is announced on a channel, for a process that has nothing to do meanwhile."""

    def __init__(self, url: str, channel: str = SAMPLES_CHANNEL) -> None:
        self._url, self._channel = url.replace("+psycopg", ""), channel
        self._connection: psycopg.Connection | None = None

    def wait(self, seconds: float) -> bool:
        """Wait for the next announcement; False where none came. A new line counts as one: it may have missed some."""
        try:
            if self._connection is None:
                self._connection = psycopg.connect(self._url, autocommit=True)
                self._connection.execute(f"listen {self._channel}")
                return True
            return bool(announced_on(self._connection, seconds))
        except psycopg.Error:
            self._connection = None
            raise


#: How long a write waits for another's, and how long one may stand open doing nothing [s].
LONGEST_LOCK_S, LONGEST_IDLE_S = 10.0, 60.0


class _Columns(Sequence[psycopg.Column]):
    """What is known of the columns of a result, made as it is looked at: of a statement that was read before, never."""

    def __init__(self, cursor: _Cursor, count: int) -> None:
        self._cursor, self._count = cursor, count

    def __len__(self) -> int:
        return self._count

    def __getitem__(self, index: Any) -> Any:
        numbers = range(self._count)[index]
        if isinstance(numbers, range):
            return [psycopg.Column(self._cursor, number) for number in numbers]
        return psycopg.Column(self._cursor, numbers)


class _Cursor(psycopg.Cursor[Any]):
    """SQLAlchemy asks for the description of every result; of a wide one it takes longer than reading it."""

    @property
    def description(self) -> Any:
        found = self.pgresult
        return _Columns(self, found.nfields) if found and found.nfields else super().description


def make_engine(url: str, *, pool_size: int = 10, longest_s: float | None = None, hurried: bool = False) -> Engine:
    """An engine that checks a connection before use, so a restarted database is no error.

    The connection last used is taken first: it knows the plans of the statements that are asked most. Just-in-time
    compiling is off: it costs more than these short queries take. Errors do not tell what was sent.

    hurried : a commit does not wait for the disk; for what is made anew where it was cut short, and nothing else
    longest_s : a statement that takes longer is given up [s]; with it go limits for waiting and for doing nothing
    """
    options = ["-c jit=off"]
    if hurried:
        options.append("-c synchronous_commit=off")
    if longest_s is not None:
        limits = {
            "statement_timeout": longest_s,
            "lock_timeout": LONGEST_LOCK_S,
            "idle_in_transaction_session_timeout": LONGEST_IDLE_S,
        }
        options += [f"-c {name}={round(seconds * 1000)}" for name, seconds in limits.items()]
    return create_engine(
        url,
        pool_pre_ping=True,
        pool_size=pool_size,
        pool_use_lifo=True,
        max_overflow=20,
        pool_timeout=8,
        hide_parameters=True,
        json_deserializer=from_json,
        connect_args={"options": " ".join(options), "cursor_factory": _Cursor},
    )


def make_sessions(engine: Engine) -> sessionmaker[Session]:
    """Sessions whose objects stay readable after the commit."""
    return sessionmaker(engine, expire_on_commit=False)
