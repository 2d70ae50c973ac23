"""Each fault at the worst moment of each write: all of it done, nothing committed. Then it is sent again with its key.

The database writes to disk as it does in earnest (fsync on); the writer is a process of its own that is killed in earnest,
and so is the database.
"""

import multiprocessing
import os
import signal
import time
import uuid
from datetime import datetime

import psycopg
import pytest
from sqlalchemy import func, select
from sqlalchemy.orm import configure_mappers

from brumel.store.chain import walk
from brumel.store.cluster import Cluster
from brumel.store.migrate import migrate
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import Audit, Reading, User, WriteKey
from brumel.work import bench, demo, kit, rounds
from brumel.work.demo.load import PASSWORD
from brumel.work.desk import Desk
from brumel.work.records import decisions, importing, signing
from tests.conftest import Clock
from tests.work import helpers as h
from tests.work.test_closing_day import close
from tests.work.test_importing import WIDE, brought

LOCK = "select pg_advisory_lock(hashtext('brumel: the audit chain'))"
WRITES = {
    "type": bench.type_reading,
    "accept": bench.accept,
    "finish": bench.finish,
    "visit": rounds.type_readings,
    "sign": signing.sign,
    "decide": decisions.decide,
    "withdraw": bench.withdraw,
    "count": kit.count_stock,
    "import": importing.write,
}


configure_mappers()  # once, not in each writer: those are children of a process that has read this


def write(url, *what):
    """What the writer's process does."""
    return written(make_sessions(make_engine(url, pool_size=1)), *what)


def written(sessions, at, name, actor_id, key, kwargs):
    """One write; also how it is done again."""
    desk = Desk(sessions, lambda: datetime.fromisoformat(at))
    with desk.read() as session:
        actor = session.get_one(User, actor_id)
    return WRITES[name](desk, actor, key, **kwargs)


class World:
    """A practice on a database that keeps what it was told, whatever happens to it."""

    def __init__(self, cluster):
        self.cluster, self.clock = cluster, Clock()
        migrate(cluster.url())
        self.open()
        demo.load_demo(self.desk, weeks=0)
        self.things = h.Things(self.desk)
        self.several = multiprocessing.get_context("forkserver")
        self.several.set_forkserver_preload(["tests.work.test_faults"])

    def open(self):
        self.desk = Desk(make_sessions(make_engine(self.cluster.app_url(), pool_size=2)), self.clock)

    def count(self):
        with self.desk.read() as session:
            return session.scalar(select(func.count()).select_from(Audit))

    def knows(self, key):
        with self.desk.read() as session:
            return session.get(WriteKey, key) is not None

    def begin(self, name, actor, key, kwargs):
        """A writer in a process of its own, as far as the end of its work; and the connection that holds it there."""
        holder = psycopg.connect(self.cluster.url().replace("+psycopg", ""), autocommit=True)
        holder.execute(LOCK)
        line = (self.cluster.app_url(), self.clock().isoformat(), name, actor.id, key, kwargs)
        writer = self.several.Process(target=write, args=line)
        writer.start()
        waits = "select pid from pg_locks where locktype = 'advisory' and not granted"
        for _ in range(600):
            if found := holder.execute(waits).fetchone():
                return writer, holder, found[0]
            assert writer.is_alive(), f"{name} never came as far as its end"
            time.sleep(0.05)
        raise AssertionError(f"{name} never came as far as its end")


@pytest.fixture
def world():
    cluster = Cluster(f"faults-{os.getpid()}")
    cluster.start()
    cluster.ensure_database("brumel")
    yield World(cluster)
    cluster.stop()
    cluster.remove()


def killed(world, writer, holder, backend):
    os.kill(writer.pid, signal.SIGKILL)
    writer.join(10)
    while holder.execute("select exists (select from pg_stat_activity where pid = %s)", [backend]).fetchone() == (
        True,
    ):
        holder.execute("select pg_terminate_backend(%s)", [backend])  # the server has not seen yet that nobody is there
        time.sleep(0.05)
    holder.close()


def cut_off(world, writer, holder, backend):
    holder.execute("select pg_terminate_backend(%s)", [backend])
    writer.join(10)
    holder.close()


def crashed(world, writer, holder, backend):
    world.cluster._ctl("stop", "-m", "immediate")  # as if the power went: nothing is written down in order
    writer.join(10)
    world.cluster._launch()
    world.open()


def unheard(world, writer, holder, backend):
    holder.close()  # it is committed, but its answer reaches nobody
    writer.join(20)


FAULTS = {"killed": killed, "cut off": cut_off, "crashed": crashed, "unheard": unheard}


def run_to(world, step):
    """A typed run as far as one of its writes; what that is called with."""
    things, desk = world.things, world.desk
    with desk.read() as session:
        for probe in kit.probes_in_service(session):
            if (run := kit.open_run(session, probe.id)) is not None:
                bench.abandon(desk, things.ansa, h.key(), run_id=str(run.id), reason="the next is begun")
    world.clock.on(minutes=5)
    run = h.start(desk, things, "B1", source="typed")
    if step == "finish":
        h.type_all(desk, world.clock, things, run, lambda ph: -58.0 * (ph - 7.0))
        return {"run_id": run, "turn": 3, "use": True, "words": "Looked at it."}
    typed = {"signal": "mv", "value": 0.5, "temperature_c": 18.0}
    where = {"run_id": run, "step": "neutral", "turn": 0}
    if step == "type":
        return {**where, "typed": bench.TypedValue(**typed, after_s=20)}
    for after in (20, 45):
        world.clock.on(seconds=25)
        bench.type_reading(desk, things.ansa, h.key(), **where, typed=bench.TypedValue(**typed, after_s=after))
    return where


def visit_to(world, step):
    things, desk = world.things, world.desk
    world.clock.on(minutes=30)
    visit = h.open_typed(desk, things, "pool", ["B1"])
    typed = rounds.TypedSheet([rounds.Typed(things.probes["B1"], "ph", 7.3)], 29.0)
    if step == "visit":
        return {"visit_id": visit, "typed": typed}
    h.type_one(desk, things, visit, value=7.3, temperature_c=29.0)
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit, early=True)
    with desk.read() as session:
        readings = [str(i) for i in session.scalars(select(Reading.id).where(Reading.visit_id == uuid.UUID(visit)))]
    return {"readings": readings, "password": PASSWORD}


def decide_to(world):
    """A day with its closing check, about which the lead decides."""
    world.clock.on(hours=20)
    day = (world.desk, world.clock, world.things)
    h.calibrate(*day)
    h.visit(*day)
    return {"closing_id": close(*day), "decision": "bracket", "reason": "", "name": world.things.ilka.name}


def withdraw_to(world):
    wanted = run_to(world, "finish")
    made = bench.finish(world.desk, world.things.ansa, h.key(), **wanted)
    return {"calibration_id": made.calibration, "reason": "The wrong bottle"}


def import_to(world):
    file = WIDE.replace("2018", str(2000 + world.count() % 17))
    return {"import_id": brought(world.desk, world.things, file), "leave_out": True}


def count_to(world):
    return {"lot_id": world.things.lots["N4-118"], "amount": 300.0, "reason": ""}


PREPARED = {
    "type": lambda world: run_to(world, "type"),
    "accept": lambda world: run_to(world, "accept"),
    "finish": lambda world: run_to(world, "finish"),
    "visit": lambda world: visit_to(world, "visit"),
    "sign": lambda world: visit_to(world, "sign"),
    "decide": decide_to,
    "withdraw": withdraw_to,
    "import": import_to,
    "count": count_to,
}


def test_whatever_happens_it_is_there_once_or_not_at_all(world):
    for step in WRITES:
        for fault, strike in FAULTS.items():
            kwargs = PREPARED[step](world)
            actor = world.things.ilka if step in ("sign", "decide", "import") else world.things.ansa
            key, before = uuid.uuid4(), world.count()
            strike(world, *world.begin(step, actor, key, kwargs))
            is_there = fault == "unheard"
            assert (world.knows(key), world.count()) == (is_there, before + is_there), (step, fault)
            line = (world.desk.sessions, world.clock().isoformat(), step, actor.id, key, kwargs)
            assert written(*line) == written(*line), (step, fault)
            assert world.count() == before + 1, (step, fault)
    assert not walk(world.cluster.url()).broken
