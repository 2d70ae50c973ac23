"""The link program: it runs where the meter is plugged in, asks it for its values, and posts them with a token.

What was read is written to a small file before it is sent and struck out when the server has it, so a network that goes
away, or a restart, loses nothing; every row has its session and its moment, so a resend doubles nothing.
"""

from __future__ import annotations

import http.client
import json
import sqlite3
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import serial

from brumel.meters import sdi12

BATCH = 400
MOST_KEPT = 500_000
MOST_SILENT = 8
_TABLE = "create table if not exists rows (id integer primary key, session text, body text, refused integer default 0)"
#: What is kept in memory while the file cannot be written; the newest are kept [rows].
MOST_IN_MEMORY = 20_000
#: Why rows were kept aside: the token was not known, which a new one mends; what they say, which somebody looks at;
#: the clock they were timed by, which nothing mends.
BY_TOKEN, BY_CONTENT, BY_CLOCK = 1, 2, 3
#: So far apart the session's clock and the server's may be, the line's own delay apart [s].
MOST_OFF_S = 2.0
#: A comparison is asked for so often where the line is slow: its error is half of the time it took.
COMPARISONS = 3


def moment() -> float:
    """Seconds on a clock that nobody sets and that goes on while the machine sleeps, where there is one."""
    clock = getattr(time, "CLOCK_BOOTTIME", None)
    return time.monotonic() if clock is None else time.clock_gettime(clock)


class ServerRefused(Exception):
    """The server will not have it; the message says why.

    by_token : another token would do
    by_clock : the session's clock is not believed, another session would do
    """

    def __init__(self, words: str, *, by_token: bool = False, by_clock: bool = False) -> None:
        super().__init__(words)
        self.by_token, self.by_clock = by_token, by_clock


@dataclass
class Spool:
    """Rows that are not yet with the server, in a file."""

    path: Path
    _lock: threading.Lock = field(default_factory=threading.Lock)
    _unwritten: list[tuple[str, str]] = field(default_factory=list)

    def __post_init__(self) -> None:
        self._db = sqlite3.connect(self.path, check_same_thread=False)
        self._db.execute("pragma journal_mode=wal")
        self._db.execute(_TABLE)
        self._db.commit()

    def add(self, session: str, rows: list[list[Any]]) -> None:
        """Keep rows; the oldest go when the file would grow without end.

        Raises sqlite3.Error where the file cannot be written, as on a full disk: they are kept in memory meanwhile.
        """
        with self._lock:
            self._unwritten += [(session, json.dumps(row)) for row in rows]
            del self._unwritten[:-MOST_IN_MEMORY]
            try:
                self._db.executemany("insert into rows (session, body) values (?, ?)", self._unwritten)
                self._db.execute("delete from rows where id <= (select max(id) from rows) - ?", (MOST_KEPT,))
                self._db.commit()
            except sqlite3.Error:
                self._db.rollback()
                raise
            self._unwritten.clear()

    def oldest(self) -> tuple[str, list[int], list[list[Any]]]:
        """The oldest rows of one session, in order."""
        with self._lock:
            first = self._db.execute("select session from rows where refused = 0 order by id limit 1").fetchone()
            if first is None:
                return "", [], []
            rows = self._db.execute(
                "select id, body from rows where session = ? and refused = 0 order by id limit ?", (first[0], BATCH)
            ).fetchall()
        return first[0], [r[0] for r in rows], [json.loads(r[1]) for r in rows]

    def sent(self, ids: list[int]) -> None:
        """The server has them."""
        with self._lock:
            self._db.executemany("delete from rows where id = ?", [(i,) for i in ids])
            self._db.commit()

    def refused(self, ids: list[int], why: int = BY_CONTENT) -> None:
        """The server will not have them: kept aside, so that nothing is lost and nothing is blocked."""
        with self._lock:
            self._db.executemany("update rows set refused = ? where id = ?", [(why, i) for i in ids])
            self._db.commit()

    def of_another_moment(self, session: str) -> int:
        """A session's clock is not believed: what it timed and is not sent is kept aside for good; returns how many rows."""
        with self._lock:
            found = self._db.execute(
                "update rows set refused = ? where session = ? and refused = 0", (BY_CLOCK, session)
            )
            self._db.commit()
            return found.rowcount

    def again(self, why: int | None = None) -> int:
        """Send what was kept aside once more: what was for this reason, or all whose moments are believed; how many rows."""
        with self._lock:
            found = self._db.execute(
                "update rows set refused = 0 where refused not in (0, ?) and (refused = ? or ? is null)",
                (BY_CLOCK, why, why),
            )
            self._db.commit()
            return found.rowcount

    def aside(self) -> int:
        """How many rows were kept aside."""
        with self._lock:
            return int(self._db.execute("select count(*) from rows where refused <> 0").fetchone()[0])

    def waiting(self) -> int:
        """How many rows are not yet with the server."""
        with self._lock:
            return int(self._db.execute("select count(*) from rows where refused = 0").fetchone()[0])


@dataclass(frozen=True)
class Place:
    """A probe on the link: at which address, by which command, and which of the values are its signal and temperature."""

    name: str
    address: str
    how: str = "R0"
    signal: int = 1
    temperature: int = 2

    def row(self, at_s: float, values: Sequence[float]) -> list[Any] | None:
        """What is sent of a measurement; None where it holds too few values."""
        if max(self.signal, self.temperature) > len(values):
            return None
        return [self.name, at_s, values[self.signal - 1], values[self.temperature - 1]]


@dataclass
class Agent:
    """One meter on one port, sending to one server. `say` gets a line when something changes."""

    server: str
    token: str
    port: str
    spool: Spool
    every_s: float = 0.5
    idle_every_s: float = 30.0
    baud: int = 1200
    #: The first wait after a failure; each further one is twice as long, 15 s at most.
    retry_s: float = 0.5
    say: Callable[[str], None] = lambda _: None
    name: str = "brumel link"
    places: tuple[Place, ...] = ()
    #: Session and the moment it began, always exchanged together: a reading belongs to one pair.
    _base: tuple[str, float] = ("", 0.0)
    #: The last rows came late, or were refused for their clock: it is compared before the next, for a line may be slow.
    _doubtful: bool = True
    _state: str = ""
    #: Why rows were kept aside, the newest reason.
    _refusal: str = ""
    #: No probe of the meter stands anywhere: the meter is read now and then, until the server says that one was dipped.
    _idle: bool = False
    _hurry: threading.Event = field(default_factory=threading.Event)
    _added: threading.Event = field(default_factory=threading.Event)

    def run(self, stop: threading.Event) -> None:
        """Read and send until told to stop. Raises Refused where the token is not known."""
        self._hello(stop)
        for work, name in ((self._send_all, "link-sender"), (self._wait_for_work, "link-waiter")):
            threading.Thread(target=self._go_on, args=(work, stop), daemon=True, name=name).start()
        self._go_on(self._read, stop)

    def _go_on(self, work: Callable[[threading.Event], None], stop: threading.Event) -> None:
        """Do a part of the work for ever: whatever goes wrong is said, and begun again. A link never ends in silence."""
        while not stop.is_set():
            try:
                work(stop)
            except sqlite3.Error as error:
                self._tell(f"the file of what is not sent cannot be written ({error}); it is kept in memory meanwhile")
            except (OSError, serial.SerialException) as error:
                self._tell(f"the meter does not answer ({error}); trying again")
            except Exception as error:
                self._tell(f"something unforeseen ({type(error).__name__}: {error}); trying again")
            stop.wait(2.0)

    def _hello(self, stop: threading.Event) -> None:
        """Open a session: the server says which addresses it knows."""
        wait = self.retry_s
        while not stop.is_set():
            asked = moment()
            try:
                answer = self._post("/link/hello", {"agent": self.name}, needs=("session", "addresses", "meter"))
            except ServerRefused:
                raise
            except (OSError, ValueError):
                self._tell("no line to the server; trying again")
                stop.wait(wait)
                wait = min(wait * 2, 15.0)
                continue
            self._base = (answer["session"], (asked + moment()) / 2)
            self._doubtful = True
            told = answer.get("places") or [{"name": each, "address": each} for each in answer["addresses"]]
            self.places = tuple(Place(**each) for each in told)
            self._idle = bool(answer.get("idle"))
            self.spool.again(BY_TOKEN)  # this token is known: what another was refused for is sent once more
            self._tell(
                f"linked as {answer['meter']}, addresses {''.join(dict.fromkeys(p.address for p in self.places)) or 'none'}"
            )
            return

    def _read(self, stop: threading.Event) -> None:
        with serial.serial_for_url(self.port, baudrate=self.baud, bytesize=7, parity="E", timeout=0.6) as line:
            due, silent, recorder = time.monotonic(), 0, sdi12.Recorder(line)
            while not stop.is_set():
                rows, (session, started) = [], self._base
                for (address, how), wanted in self._by_command().items():
                    try:
                        values = recorder.values(address, how)
                    except sdi12.LinkFault as error:
                        silent = 0
                        self._tell(f"address {address}: {error}")
                        continue
                    silent = silent + 1 if values is None else 0
                    if silent >= MOST_SILENT:
                        raise OSError("silence on the port")
                    at = round(moment() - started, 3)
                    for place in wanted if values else ():
                        if row := place.row(at, values or ()):
                            rows.append(row)
                if rows:
                    self.spool.add(session, rows)
                    self._added.set()
                due = max(due + (self.idle_every_s if self._idle else self.every_s), time.monotonic())
                if self._hurry.wait(due - time.monotonic()):
                    self._hurry.clear()
                    due = time.monotonic()

    def _by_command(self) -> dict[tuple[str, str], list[Place]]:
        """What is asked, each once, and whose values are in the answer."""
        asked: dict[tuple[str, str], list[Place]] = {}
        for place in self.places:
            asked.setdefault((place.address, place.how), []).append(place)
        return asked

    def _wait_for_work(self, stop: threading.Event) -> None:
        """While idle, ask the server to say when a probe is dipped; a server that cannot is read for at full pace."""
        while not stop.is_set():
            if not self._idle:
                stop.wait(self.every_s)
                continue
            try:
                answer = self._post("/link/wait", {}, timeout_s=40)
            except ServerRefused:
                self._idle = False
                return
            except (OSError, ValueError):
                stop.wait(2.0)
                continue
            if not answer.get("idle"):
                self._idle = False
                self._hurry.set()

    def _send_all(self, stop: threading.Event) -> None:
        wait = self.retry_s
        while not stop.is_set():
            session, ids, rows = self.spool.oldest()
            if not rows:
                self._added.wait(2.0)
                self._added.clear()
                continue
            (now, started), clock = self._base, {}
            try:
                clock = self._clock(session, started) if session == now else {}
                asked = moment()
                answer = self._post(
                    "/link/samples", {"session": session, "rows": rows, **clock, **self._how_it_stands()}
                )
            except ServerRefused as error:
                self._refusal = str(error)
                if error.by_clock and clock and "off" not in clock:
                    self._doubtful = True  # nothing was stored: compare, and send them once more
                    continue
                if error.by_clock:
                    self._tell(f"{self.spool.of_another_moment(session)} rows kept aside: {error}")
                    if session == self._base[0]:
                        self._hello(stop)
                    continue
                self.spool.refused(ids, BY_TOKEN if error.by_token else BY_CONTENT)
                self._tell(f"{len(ids)} rows kept aside: {error}")
                continue
            except (OSError, ValueError):
                self._tell(f"no line to the server; {self.spool.waiting()} rows wait")
                stop.wait(wait)
                wait = min(wait * 2, 15.0)
                continue
            self._doubtful = moment() - asked > MOST_OFF_S / 2
            self.spool.sent(ids)
            self._idle = bool(answer.get("idle"))
            wait = self.retry_s
            if self._state.startswith("no line"):
                self._tell("the line is back")
        self._hurry.set()  # whoever waits to read again sees that it is over

    def _clock(self, session: str, started: float) -> dict[str, float]:
        """The session's clock as it is sent with samples: now, and where it is doubtful how far from the server's [s].

        It is compared just then and by short requests, for samples may take long on a slow line: only their own lateness
        cannot tell a slow line from a clock that was set. Raises ServerRefused where it is off.
        """
        if not self._doubtful:
            return {"now": round(moment() - started, 3)}
        off, shortest = 0.0, float("inf")
        for _ in range(COMPARISONS):
            asked = moment()
            theirs = float(self._post("/link/clock", {"session": session}, needs=("at_s",))["at_s"])
            took = moment() - asked
            if took < shortest:
                shortest, off = took, theirs - (asked + took / 2 - started)
            if shortest < MOST_OFF_S / 2:
                break
        if abs(off) - shortest / 2 > MOST_OFF_S:
            words = f"the clock here is {abs(off):.1f} s off since its session began; a new one begins"
            raise ServerRefused(words, by_clock=True)
        return {"now": round(moment() - started, 3), "off": round(off, 3)}

    def _how_it_stands(self) -> dict[str, Any]:
        """What the meter's page shows of the link besides what it reads."""
        return {"waiting": self.spool.waiting(), "refused": self.spool.aside(), "words": self._refusal[:200]}

    def _post(
        self, path: str, body: dict[str, Any], timeout_s: float = 10, needs: tuple[str, ...] = ()
    ) -> dict[str, Any]:
        """The server's answer.

        Raises:
            ServerRefused: it will not have what was sent.
            OSError: no answer, or one cut short: it is not known whether the server has it, so it is sent again.
            ValueError: an answer that is not the server's own, such as a page of a network's sign-in.
        """
        request = urllib.request.Request(  # noqa: S310 - the command line takes http and https only
            self.server.rstrip("/") + path,
            data=json.dumps(body).encode(),
            method="POST",
            headers={"Content-Type": "application/json", "Authorization": f"Bearer {self.token}"},
        )
        try:
            with urllib.request.urlopen(request, timeout=timeout_s) as answer:  # noqa: S310
                reply = json.load(answer)
        except urllib.error.HTTPError as error:
            reason = _reason(error) if error.code in (401, 403, 404, 409, 410, 422) else ""
            if reason:  # in Brumel's own words; a proxy's page of the same number passes
                raise ServerRefused(reason, by_token=error.code == 401, by_clock=error.code == 409) from error
            raise OSError(f"answer {error.code}") from error
        except http.client.HTTPException as error:
            raise OSError(f"an answer cut short ({type(error).__name__})") from error
        if not isinstance(reply, dict) or any(name not in reply for name in needs):
            raise ValueError("an answer of another kind")
        return reply

    def _tell(self, words: str) -> None:
        if words != self._state:
            self._state = words
            self.say(words)


def _reason(error: urllib.error.HTTPError) -> str:
    """Brumel's sentence of a refusal; empty for an answer that is none of its own."""
    try:
        return str(json.load(error)["error"])
    except (OSError, http.client.HTTPException, ValueError, KeyError, TypeError):
        return ""
