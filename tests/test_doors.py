"""The server's doors: who is slow, who watches, and who sends what could be read in two ways, holds up nobody."""

import http.client
import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
import uuid
from contextlib import suppress
from http.cookies import SimpleCookie
from pathlib import Path

import psycopg
import pytest

from brumel.store.cluster import free_port
from brumel.store.sessions import announced_on, make_engine, make_sessions
from brumel.work.desk import Desk
from tests.conftest import as_app, database_copy
from tests.test_two_machines import Person
from tests.work import helpers as h

#: Threads for pages; everything below takes up far more than these, were it to hold one each.
THREADS, MANY = 2, 70


@pytest.fixture(scope="module")
def door(server, present_template, tmp_path_factory):
    log = tmp_path_factory.mktemp("door") / "log"
    with database_copy(server, present_template) as url:
        port = free_port()
        env = os.environ | {
            "DATABASE_URL": as_app(url),
            "BRUMEL_SECRET_KEY": "m" * 40,
            "BRUMEL_PLAIN_HTTP": "1",
            "BRUMEL_TRUSTED_PROXIES": "1",
        }
        line = [sys.executable, "-m", "brumel.cli", "serve", "--workers", "1", "--threads", str(THREADS), "--no-jobs"]
        with log.open("wb") as err:
            started = subprocess.Popen([*line, "--port", str(port)], env=env, start_new_session=True, stderr=err)
        for _ in range(600):
            with suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=1):
                break
            time.sleep(0.1)
        yield port, Desk(make_sessions(make_engine(as_app(url), pool_size=2))), started.pid, log
        with suppress(ProcessLookupError):
            os.killpg(started.pid, signal.SIGKILL)
        started.wait()


def raw(port, data, wait=True):
    """Send bytes as they are; the status line, or the open connection."""
    line = socket.create_connection(("127.0.0.1", port), timeout=20)
    line.sendall(data)
    if not wait:
        return line
    with line:
        return line.recv(65536).split(b"\r\n", 1)[0].decode()


def workers_of(pid):
    children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    return {worker for child in children for worker in Path(f"/proc/{child}/task/{child}/children").read_text().split()}


def test_watchers_and_slow_senders_hold_no_page_up(door):
    port, desk, *_ = door
    things = h.Things(desk)
    run = h.start(desk, things)
    h.bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    person = Person(f"http://127.0.0.1:{port}", "ansa")
    cookie = "; ".join(f"{c.name}={c.value}" for c in person.jar)
    head = f"Host: 127.0.0.1:{port}\r\nCookie: {cookie}\r\n"
    slow = [
        raw(port, f"POST /kit/lots HTTP/1.1\r\n{head}Content-Length: 900\r\n\r\nhalf".encode(), False)
        for _ in range(MANY)
    ]
    slow += [raw(port, b"GET / HTTP/1.1\r\nHost: half", False) for _ in range(MANY)]
    watching = []
    for _ in range(MANY):
        line = raw(port, f"GET /bench/runs/{run}/stream HTTP/1.1\r\n{head}\r\n".encode(), False)
        watching.append(line)
    assert "Kit" in person.get("/kit")
    seen = [line.recv(65536) for line in watching]
    assert all(b"200" in first and b"text/event-stream" in first for first in seen)
    # One that watches is told as the run moves on; one that goes away is forgotten.
    for line in (*slow, *watching[1:]):
        line.close()
    h.bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="the test is over")
    told = seen[0]
    while b"event: moved" not in told:
        more = watching[0].recv(65536)
        assert more, told
        told += more
    assert told.count(b"retry: 1500") == 1
    watching[0].close()
    assert "Kit" in person.get("/kit")


@pytest.mark.parametrize(
    ("request_", "status"),
    [
        (b"GET /sign-in?next=\xe4 HTTP/1.1\r\nHost: x\r\n\r\n", "400"),
        (b"POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 41000000\r\n\r\n", "413"),
        (b"POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: \xb2\r\n\r\n", "400"),
        (
            b"POST /sign-in HTTP/1.1\r\nHost: x\r\nContent-Length: 3\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n",
            "400",
        ),
        (b"GET /healthz HTTP/1.1\r\nHost: x\r\n\r\n", "200"),
        (b"GET /readyz HTTP/1.1\r\nHost: x\r\n\r\n", "200"),
        (b"GET /bench HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n", "302"),
    ],
)
def test_what_could_be_read_in_two_ways_is_refused_at_the_door(door, request_, status):
    assert raw(door[0], request_).split()[1] == status


def test_a_body_in_chunks_is_read_whole_and_no_header_speaks_for_the_proxy(door):
    port, _, _, log = door
    line = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
    line.request("GET", "/sign-in")
    page = line.getresponse()
    cookies = SimpleCookie(page.headers["Set-Cookie"])
    token = page.read().decode().split('name="csrf_token"')[1].split('value="')[1].split('"')[0]
    form = f"csrf_token={token}&username=nobody&password=no".encode()
    number = uuid.uuid4().hex
    headers = {
        "Cookie": f"brumel={cookies['brumel'].value}",
        "Content-Type": "application/x-www-form-urlencoded",
        "X-Forwarded-For": "203.0.113.9",
        "X_Forwarded_For": "198.51.100.7",
        "X-Request-Id": number,
    }
    line.request("POST", "/sign-in", iter([form[:20], form[20:]]), headers, encode_chunked=True)
    assert line.getresponse().status == 401
    lines = [json.loads(each) for each in log.read_text().splitlines() if number in each]
    assert [(each["from"], each["endpoint"], each["status"]) for each in lines] == [
        ("203.0.113.9", "auth.sign_in", 401)
    ]


def test_a_reload_takes_new_workers_in_while_the_old_ones_answer(door):
    port, _, pid, _ = door
    before, refused, asked = workers_of(pid), 0, 0
    os.kill(pid, signal.SIGHUP)
    end = time.monotonic() + 90
    while (now := workers_of(pid)) & before or not now:
        assert time.monotonic() < end, "the old workers are there still"
        try:
            assert raw(port, b"GET /healthz HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").split()[1] == "200"
        except (OSError, IndexError):
            refused += 1  # it waited in the line of an old worker as that closed
        asked += 1
        time.sleep(0.02)
    assert asked > 10
    assert refused <= 1


def test_what_is_announced_is_heard_at_once_and_silence_is_not_looked_into(server):
    """A driver that looks ten times a second would be all that an idle process does."""
    looks = []

    class Line(psycopg.Connection):
        def notifies(self, **given):
            looks.append(given)
            return super().notifies(**given)

    address = server.replace("+psycopg", "")
    with Line.connect(address, autocommit=True) as listens, psycopg.connect(address, autocommit=True) as says:
        listens.execute("listen something")
        assert announced_on(listens, 0.6) == []
        assert len(looks) == 2
        later = threading.Timer(
            0.2, says.execute, ["select pg_notify('something', n::text) from generate_series(1, 3) n"]
        )
        later.start()
        began = time.monotonic()
        assert [note.payload for note in announced_on(listens, 5.0)] == ["1", "2", "3"]
        assert time.monotonic() - began < 2
