"""A logger's file of a million rows against COPY of the same, and views of ten million samples. `BRUMEL_BENCH=loggers`."""

from __future__ import annotations

import os
import time
import uuid
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
import psycopg
from tests.web.conftest import sign_in
from tests.work.helpers import Things, key

from benchmarks.stopwatch import median_s
from brumel.config import Config
from brumel.formats import logger_files
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import FileIntake, LoggerFile
from brumel.web import create_app
from brumel.work.desk import Desk
from brumel.work.rounds import deployments as dep
from brumel.work.rounds.deployments import files

ROWS = int(os.environ.get("BRUMEL_BENCH_ROWS", "1000000"))
SAMPLES = int(os.environ.get("BRUMEL_BENCH_SAMPLES", "10000000"))
VIEW_MS = 200.0


def main(url: str, desk: Desk) -> None:
    things = Things(desk)
    _file(url, desk, things)
    _views(url, desk, things)


def _out(
    desk: Desk, things: Things, name: str, meter: str, start: datetime, every_s: float, quantities: list[str]
) -> str:
    """A deployment that was started at `start`."""
    then = Desk(desk.sessions, lambda: start)
    new = dep.NewDeployment(
        things.sites["reed"], things.meters[meter], name, every_s, start, start + timedelta(days=900),
        [dep.PlannedChannel(q) for q in quantities],
    )  # fmt: skip
    id_ = dep.save(then, things.ansa, key(), new=new).id
    looked_at = [s.key for s in load_deployments().settings]
    dep.configure(then, things.ansa, key(), deployment_id=id_, looked_at=looked_at, at=start, ahead_s=0.0)
    dep.start(then, things.ansa, key(), deployment_id=id_, at=start)
    return id_


def _rows(count: int, start: datetime, every_s: float) -> tuple[Any, ...]:
    t = start.timestamp() + every_s * np.arange(count)
    n = np.arange(count)
    rng = np.random.default_rng(3)
    return (
        t,
        np.round(12 + 4 * np.sin(n / 2_880) + rng.normal(0, 0.05, count), 2),
        np.round(9 + 1.2 * np.sin(n / 2_880 + 1) + rng.normal(0, 0.05, count), 2),
        np.round(1_400 + 30 * np.sin(n / 9_000) + rng.normal(0, 4, count), 0),
        np.round(7.9 + 0.2 * np.sin(n / 2_880) + rng.normal(0, 0.01, count), 2),
    )


QUANTITIES = ["temperature", "oxygen", "conductivity", "ph"]


def _file(url: str, desk: Desk, things: Things) -> None:
    start = datetime.now(UTC).replace(microsecond=0) - timedelta(days=400)
    every = 30.0
    columns = _rows(ROWS, start, every)
    stamps = [f"{datetime.fromtimestamp(x, UTC):%Y-%m-%d %H:%M:%S}" for x in columns[0]]
    lines = [f"{s},{c},{o},{k},{p}" for s, c, o, k, p in zip(stamps, *(v.tolist() for v in columns[1:]), strict=True)]
    data = ("time_utc,Temp (°C),DO (mg/L),Cond (µS/cm),pH\n" + "\n".join(lines) + "\n").encode()
    copied = _copy(url, lines)
    id_ = _out(desk, things, "A million rows", "Bench set B", start, every, QUANTITIES)
    begun = time.perf_counter()
    file = dep.arrive(desk, things.ansa, key(), deployment_id=id_, name="million.csv", data=data).id
    kept = time.perf_counter() - begun
    with desk.read() as session:
        guess, _ = dep.guess(session, dep.file_of(session, file))
    shape = guess.shape.as_dict() | {"zone": "UTC"}
    told: list[int] = []
    begun = time.perf_counter()
    dep.take_in(
        desk, things.ansa, key(), file_id=file, shape=shape, put_clock_right=False, tell=lambda n, _of: told.append(n)
    )
    taken = time.perf_counter() - begun
    print(f"{f'{ROWS:,} rows of 4 channels: COPY of the rows as text':<58} {copied:>9.2f} s")
    print(
        f"{'the file read, tested, packed and written':<58} {taken:>9.2f} s  {taken / copied:.2f} × (asked: at most 3)"
    )
    print(
        f"{'keeping the file as it came, before':<58} {kept:>9.2f} s  {len(data) / 1e6:.0f} MB; {len(told)} steps told"
    )


def _copy(url: str, lines: list[str]) -> float:
    """The same rows into a table of their own, indexed by time as ours are."""
    body = ("\n".join(lines) + "\n").encode()
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        connection.execute("create table copied (at timestamptz primary key, a float8, b float8, c float8, d float8)")
        begun = time.perf_counter()
        with connection.cursor().copy("copy copied from stdin (format csv)") as copy:
            for first in range(0, len(body), 1 << 20):
                copy.write(body[first : first + (1 << 20)])
        connection.commit()
        taken = time.perf_counter() - begun
        connection.execute("drop table copied")
    return taken


def _views(url: str, desk: Desk, things: Things) -> None:
    """Ten million samples of one channel at 5 s, put there as blocks; then the page's own request for any span."""
    every = 5.0
    start = datetime.now(UTC).replace(microsecond=0) - timedelta(seconds=every * SAMPLES + 86_400)
    id_ = _out(desk, things, "Ten million", "Pool set C", start, every, ["temperature"])
    t, values = _rows(SAMPLES, start, every)[:2]
    us = (t * 1e6).astype(np.int64)
    with desk.sessions.begin() as session:
        d = dep.deployment_of(session, id_)
        file = LoggerFile(
            id=uuid.uuid4(), deployment_id=d.id, name="long", sha256="0" * 64, size=1, body=b"", at=start,
            by_id=things.ansa.id,
        )  # fmt: skip
        session.add(file)
        session.flush()
        flags = np.ones(us.size, dtype=np.int8)
        files._write_blocks(session, file, d.channels[0], us, values, flags)
        shape = logger_files.Shape("utf-8", ",", ".", "", 1, 0, 0, None, "ymd", "UTC", ())
        session.add(
            FileIntake(
                file_id=file.id, shape=shape.as_dict(), clock={}, starts=start,
                ends=datetime.fromtimestamp(float(t[-1]), UTC), at=start, by_id=things.ansa.id,
                told={"rows": SAMPLES, "new": SAMPLES, "there": 0, "same": 0, "gaps": 0, "interval_s": every, "missing": {}},
            )
        )  # fmt: skip
    client = sign_in(create_app(Config(url, "b" * 40, demo=True, insecure_cookies=True)), "ilka")
    whole = float(t[-1] - t[0])
    for share in (1.0, 0.5, 0.1, 0.02, 0.005, 0.0005, 0.00001):
        width = whole * share
        since = float(t[0]) + (whole - width) * 0.4
        path = f"/rounds/deployments/{id_}/look.json?since={since}&until={since + width}&columns=1000"
        answer = client.get(path)
        assert answer.status_code == 200, answer.text[:200]
        level = answer.json["channels"][0]["level"]
        took = 1000 * median_s(lambda path=path: client.get(path), 9)
        mark = "" if took <= VIEW_MS else "  over the 200 ms asked"
        print(f"{f'a view of {100 * share:g} % of {SAMPLES:,} samples':<58} {took:>8.0f} ms  from {level}{mark}")
