"""Two web machines behind one front on one database: one is killed under load, and nobody loses or doubles anything."""

import http.cookiejar
import os
import re
import select
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.parse
import urllib.request
from contextlib import suppress

import pytest
from sqlalchemy import func
from sqlalchemy import select as sql_select

from brumel.store.cluster import free_port
from brumel.store.kit import Count
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import Audit, Lot, WriteKey
from brumel.work.demo.load import PASSWORD
from tests.conftest import as_app, database_copy
from tests.work.helpers import key

PEOPLE, COUNTS = 6, 12


class Front:
    """Stands before the machines: takes them in turn, leaves out one that does not answer the door, retries nothing."""

    def __init__(self, ports):
        self.ports, self.turn, self.served = ports, 0, dict.fromkeys(ports, 0)
        self.door = socket.create_server(("127.0.0.1", 0), backlog=128)
        self.base = f"http://127.0.0.1:{self.door.getsockname()[1]}"
        threading.Thread(target=self._open, daemon=True).start()

    def _open(self):
        while True:
            guest, _ = self.door.accept()
            threading.Thread(target=self._carry, args=(guest,), daemon=True).start()

    def _carry(self, guest):
        self.turn += 1
        with guest:
            for port in self.ports[self.turn % 2 :] + self.ports[: self.turn % 2]:
                with suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=2) as machine:
                    self.served[port] += 1
                    self._pass_on(guest, machine)
                    return

    @staticmethod
    def _pass_on(guest, machine):
        other = {guest: machine, machine: guest}
        while True:
            for one in select.select(list(other), [], [])[0]:
                if not (data := one.recv(65536)):
                    return
                other[one].sendall(data)


class Person:
    """A browser that tries again, with the same key, when its answer did not come."""

    def __init__(self, base, name):
        self.base = base
        self.jar = http.cookiejar.CookieJar()
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(self.jar))
        self.token = self._token("/sign-in")
        self.send("/sign-in", username=name, password=PASSWORD)
        self.token = self._token("/kit")

    def get(self, path):
        for _ in range(80):
            try:
                return self.opener.open(self.base + path, timeout=20).read().decode()
            except (urllib.error.URLError, ConnectionError, OSError):
                time.sleep(0.1)
        raise AssertionError(f"{path} never came")

    def _token(self, path):
        return re.search(r'name="csrf_token"[^>]*value="([^"]+)"', self.get(path)).group(1)

    def send(self, path, **fields):
        body = urllib.parse.urlencode({"csrf_token": self.token, **fields}).encode()
        for _ in range(80):
            try:
                return self.opener.open(self.base + path, body, timeout=20).read().decode()
            except urllib.error.HTTPError:
                raise
            except (urllib.error.URLError, ConnectionError, OSError):
                time.sleep(0.1)
        raise AssertionError(f"{path} never answered")


@pytest.fixture
def machines(server, present_template):
    with database_copy(server, present_template) as url:
        ports = [free_port(), free_port()]
        env = os.environ | {"DATABASE_URL": as_app(url), "BRUMEL_SECRET_KEY": "m" * 40, "BRUMEL_PLAIN_HTTP": "1"}
        line = [sys.executable, "-m", "brumel.cli", "serve", "--workers", "1", "--no-jobs", "--port"]
        started = [subprocess.Popen([*line, str(port)], env=env, start_new_session=True) for port in ports]
        for port in ports:
            for _ in range(600):
                with suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
                    break
                time.sleep(0.1)
        yield url, ports, started
        for each in started:
            with suppress(ProcessLookupError):
                os.killpg(each.pid, signal.SIGKILL)
            each.wait()


def test_one_of_two_machines_is_killed_under_load_and_nothing_is_lost_or_doubled(machines):
    url, ports, started = machines
    front = Front(ports)
    with make_sessions(make_engine(url, pool_size=1))() as session:
        lot = session.scalar(sql_select(Lot.id).where(Lot.code == "N7-121"))
        before = session.scalar(sql_select(func.count()).select_from(Count))
    people = [Person(front.base, "ansa") for _ in range(PEOPLE)]  # one sign-in each; any machine knows it
    keys = [[str(key()) for _ in range(COUNTS)] for _ in people]
    refused = []

    def work(person, own):
        for n, each in enumerate(own):
            try:
                person.send(f"/kit/lots/{lot}/count", key=each, amount=str(100 + n))
            except urllib.error.HTTPError as error:
                refused.append(error.code)

    threads = [threading.Thread(target=work, args=pair) for pair in zip(people, keys, strict=True)]
    for thread in threads:
        thread.start()
    while min(front.served.values()) < PEOPLE + 12:
        time.sleep(0.05)
    os.killpg(started[0].pid, signal.SIGKILL)
    at_the_kill = front.served[ports[1]]
    for thread in threads:
        thread.join(120)
    assert refused == []
    assert front.served[ports[1]] > at_the_kill
    assert all("Kit" in person.get("/kit") for person in people)  # signed in still, by the machine that is left
    with make_sessions(make_engine(url, pool_size=1))() as session:
        assert session.scalar(sql_select(func.count()).select_from(Count)) == before + PEOPLE * COUNTS
        used = set(session.scalars(sql_select(WriteKey.key)))
        assert {k for own in keys for k in own} <= {str(k) for k in used}
        audited = sql_select(func.count()).select_from(Audit).where(Audit.subject == f"lot:{lot}")
        assert session.scalar(audited) == PEOPLE * COUNTS
