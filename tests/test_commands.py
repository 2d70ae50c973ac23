"""The commands of the README as processes: the demo's first start, its second, a taken port, kill -9, and a fresh one."""

import os
import re
import shutil
import signal
import socket
import stat
import subprocess
import sys
import tempfile
import time
import urllib.request
import uuid
from pathlib import Path

import pytest
from click.testing import CliRunner
from sqlalchemy import select

from brumel import cli
from brumel.store.cluster import Cluster, ClusterError, free_port
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import User
from tests.conftest import do


@pytest.fixture
def data_dir():
    """A place the database account can enter; pytest's own folders are closed to it."""
    base = Path("/var/lib/brumel") if os.geteuid() == 0 else None
    if base:
        base.mkdir(parents=True, exist_ok=True)
    place = Path(tempfile.mkdtemp(prefix="commands-", dir=base))
    place.chmod(0o755)
    yield place
    shutil.rmtree(place, ignore_errors=True)


class Demo:
    """`brumel demo` as a process of its own group."""

    def __init__(self, data_dir: Path, *arguments: str) -> None:
        self.log = data_dir / f"demo-{time.monotonic()}.log"
        self.out = self.log.open("w")
        self.process = subprocess.Popen(
            [sys.executable, "-m", "brumel.cli", "demo", "--no-history", "--workers", "1", *arguments],
            env=os.environ | {"BRUMEL_DATA_DIR": str(data_dir)},
            stdout=self.out,
            stderr=subprocess.STDOUT,
            start_new_session=True,
        )

    def words(self) -> str:
        return self.log.read_text("utf-8")

    def says(self, words: str) -> bool:
        """Whether it says so, now or soon: its first page may come before its demo world is whole."""
        for _ in range(600):
            if words in self.words():
                return True
            assert self.process.poll() is None, self.words()
            time.sleep(0.1)
        return False

    def address(self) -> str:
        for _ in range(600):
            found = re.search(r"http://127\.0\.0\.1:\d+/", self.words())
            if found:
                try:
                    urllib.request.urlopen(found.group() + "sign-in", timeout=2).read()
                    return found.group()
                except OSError:
                    pass
            assert self.process.poll() is None, self.words()
            time.sleep(0.1)
        raise AssertionError(self.words())

    def end(self, how: int) -> int:
        if how == signal.SIGKILL:
            os.killpg(self.process.pid, how)
        else:
            self.process.send_signal(how)
        code = self.process.wait(timeout=30)
        self.out.close()
        return code


def test_the_demo_from_nothing_again_after_kill_and_fresh(data_dir):
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        first = Demo(data_dir, "--port", str(port))
        address = first.address()
        assert address != f"http://127.0.0.1:{port}/"
        assert f"port {port} is taken" in first.words()
        assert first.says("demo world loaded")
        assert "password tarnholt-field-book" in first.words()
        page = urllib.request.urlopen(address + "sign-in").read().decode()
        assert "tarnholt-field-book" in page
        first.end(signal.SIGKILL)

    second = Demo(data_dir, "--port", str(free_port()))
    second.address()
    assert second.says("demo data kept")
    assert second.end(signal.SIGTERM) == 0
    postmaster = data_dir / "demo/pg/postmaster.pid"
    assert not postmaster.exists()  # the last one out stopped the server

    third = Demo(data_dir, "--fresh", "--port", str(free_port()))
    third.address()
    assert "throwing the old demo away" in third.words()
    assert third.says("demo world loaded")
    third.end(signal.SIGTERM)
    for name in ("cookie-secret", "db-password"):
        assert stat.S_IMODE((data_dir / "demo" / name).stat().st_mode) == 0o600


def test_two_users_of_one_cluster_and_the_last_one_stops_it(data_dir, monkeypatch):
    monkeypatch.setenv("BRUMEL_DATA_DIR", str(data_dir))
    one, two = Cluster("shared"), Cluster("shared")
    one.start()
    assert not one.is_shared()
    two.start()
    assert one.is_shared()
    assert two.is_shared()
    assert one.url() == two.url()
    one.ensure_database("twice")
    two.ensure_database("twice")
    one.stop()
    assert two._up()
    two.stop()
    assert not two._up()
    with pytest.raises(ClusterError, match="not running"):
        two.url()
    two.remove()
    assert not two.home.exists()


def test_ports_are_looked_for_upwards():
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        assert free_port(port) > port
    assert 1024 < free_port() < 65536


def test_serving_is_refused_with_a_sentence_to_the_owner_and_on_other_tables(server, database_url, monkeypatch):
    def said(url):
        monkeypatch.setenv("DATABASE_URL", url)
        monkeypatch.setenv("BRUMEL_SECRET_KEY", "k" * 40)
        done = CliRunner().invoke(cli.main, ["serve"])
        assert done.exit_code == 1
        return " ".join(done.output.split())

    assert "could alter the tables" in said(database_url)
    name = f"t_{uuid.uuid4().hex[:12]}"
    do(server, f"create database {name}")
    try:
        assert "Run ./brumel migrate" in said(database_url.rsplit("/", 1)[0] + f"/{name}")
    finally:
        do(server, f"drop database {name} with (force)")
    assert "does not answer" in said("postgresql://brumel_app:x@127.0.0.1:1/none")


def test_a_deployment_is_set_up_by_commands_and_refuses_defaults(database_url, monkeypatch):
    runner = CliRunner()
    for name in ("DATABASE_URL", "BRUMEL_SECRET_KEY", "BRUMEL_DEMO"):
        monkeypatch.delenv(name, raising=False)
    refused = runner.invoke(cli.main, ["serve"])
    assert refused.exit_code == 1
    assert "DATABASE_URL is not set" in refused.output
    assert "BRUMEL_SECRET_KEY must be a secret" in refused.output
    assert runner.invoke(cli.main, ["migrate"]).exit_code == 1
    monkeypatch.setenv("DATABASE_URL", database_url.replace("postgresql+psycopg", "postgresql"))
    monkeypatch.setenv("BRUMEL_SECRET_KEY", "changeme")
    assert "not a default" in runner.invoke(cli.main, ["serve"]).output
    monkeypatch.setenv("BRUMEL_SECRET_KEY", "k" * 40)
    assert "up to date" in runner.invoke(cli.main, ["migrate"]).output
    added = runner.invoke(
        cli.main, ["add-user", "mira", "Mira Holt", "--role", "lead", "--password", "a-long-password"]
    )
    assert "mira added as lead" in added.output
    with make_sessions(make_engine(database_url))() as session:
        user = session.scalar(select(User).where(User.username == "mira"))
        assert user.password_hash.startswith("sealed:")
    assert "demo" in runner.invoke(cli.main, ["help"]).output


PARTING = """
import os, signal, sys, time
from brumel.running import Program, Running, leave

def lives():
    if os.environ["WHO"] != "a child" or signal.getsignal(signal.SIGTERM) is not signal.SIG_DFL:
        sys.exit(9)
    time.sleep(60)

def told_to_end_meanwhile():
    yield Program(lives, ())
    os.kill(os.getpid(), signal.SIGTERM)
    yield Program(lives, ())

running = Running()
signal.signal(signal.SIGTERM, leave)
try:
    if sys.argv[1] == "meanwhile":
        running.start(told_to_end_meanwhile(), os.environ | {"WHO": "a child"})
    else:
        ends = Program(lambda: time.sleep(1) or sys.exit(3), ())
        running.start([Program(lives, ()), ends], os.environ | {"WHO": "a child"})
        print("worst", running.until_one_ends(), flush=True)
except KeyboardInterrupt:
    print("told", flush=True)
finally:
    running.end()
    print(sorted(child.poll() for child in running._children), flush=True)
"""


@pytest.mark.parametrize(("when", "said"), [("meanwhile", {"told", "[-15, -15]"}), ("", {"worst 3", "[-15, 3]"})])
def test_no_child_outlives_what_it_parted_from(when, said):
    done = subprocess.run([sys.executable, "-c", PARTING, when], capture_output=True, text=True, timeout=20, check=True)
    assert set(done.stdout.splitlines()) == said
