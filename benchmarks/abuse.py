"""Hundreds of live pages, hundreds of senders that never finish, photos at once: what every other page takes meanwhile."""

from __future__ import annotations

import io
import os
import re
import selectors
import signal
import socket
import statistics
import subprocess
import sys
import threading
import time
import uuid
from pathlib import Path

import numpy as np
import requests
from PIL import Image
from sqlalchemy import select
from tests.conftest import as_app
from tests.work.helpers import Things, key

from brumel.store.cluster import free_port
from brumel.work import demo, rounds
from brumel.work.desk import Desk

from .crowd import PAGES, _runs

STREAMS, SLOW, PHOTOS, WATCH_S = 300, 500, 8, 15.0
EVERY_S = 0.2


def main(url: str, desk: Desk) -> None:
    """Print how long pages take under each kind of abuse, as a multiple of the same server at rest."""
    port = free_port()
    env = os.environ | {
        "DATABASE_URL": as_app(url),
        "BRUMEL_SECRET_KEY": "b" * 40,
        "BRUMEL_PLAIN_HTTP": "1",
        "BRUMEL_LOG": "warning",
    }
    line = [sys.executable, "-m", "brumel.cli"]
    serve = [*line, "serve", "--port", str(port), "--workers", "2", "--no-jobs"]
    children = [subprocess.Popen(serve, env=env, start_new_session=True)]
    try:
        person = _sign_in(port)
        for path in PAGES * 3:
            person.get(_at(port, path), timeout=60)
        rest = _pages(person, port, 6)
        _say("At rest", rest, rest)
        runs = list(_runs(desk))
        children.append(subprocess.Popen([*line, "meter"], env=env, start_new_session=True))
        with _Streams(person, port, runs) as streams:
            streams.wait_until_all_have_begun()
            _say(f"{STREAMS} live pages of {len(runs)} runs", _pages(person, port, WATCH_S), rest)
            print(
                f"  {streams.events / streams.seconds:.0f} events a second to all of them, {streams.closed} of them closed"
            )
        children.pop().kill()
        slow = [_half(port) for _ in range(SLOW)]
        _say(f"{SLOW} requests that are never sent whole", _pages(person, port, WATCH_S), rest)
        for each in slow:
            each.close()
        _photos(person, port, desk, children[0].pid, rest)
    finally:
        for child in children:
            os.killpg(child.pid, signal.SIGKILL)


def _at(port: int, path: str) -> str:
    return f"http://127.0.0.1:{port}{path}"


def _sign_in(port: int) -> requests.Session:
    person = requests.Session()
    for _ in range(300):
        try:
            page = person.get(_at(port, "/sign-in"), timeout=10).text
            break
        except requests.ConnectionError:
            time.sleep(0.1)
    token = re.search(r'name="csrf_token"[^>]*value="([^"]+)"', page).group(1)
    person.post(
        _at(port, "/sign-in"), data={"csrf_token": token, "username": "ansa", "password": demo.PASSWORD}, timeout=20
    )
    return person


def _pages(person: requests.Session, port: int, seconds: float) -> list[float]:
    """Pages opened at even moments, each timed; one that is late does not hold up the next."""
    took: list[float] = []
    cookies = person.cookies.get_dict()

    def one(path: str) -> None:
        start = time.perf_counter()
        answer = requests.get(_at(port, path), cookies=cookies, timeout=60)
        took.append(time.perf_counter() - start if answer.status_code == 200 else 60.0)

    threads = []
    for n in range(int(seconds / EVERY_S)):
        threads.append(threading.Thread(target=one, args=(PAGES[n % len(PAGES)],), daemon=True))
        threads[-1].start()
        time.sleep(EVERY_S)
    for thread in threads:
        thread.join(90)
    return took


def _say(what: str, took: list[float], rest: list[float]) -> None:
    median, late = statistics.median(took), float(np.percentile(took, 95))
    print(
        f"{what:<44} median {median * 1000:>6.0f} ms ({median / statistics.median(rest):.1f}), "
        f"95th percentile {late * 1000:>6.0f} ms ({late / float(np.percentile(rest, 95)):.1f}), {len(took)} pages"
    )


class _Streams:
    """Live pages as sockets that are read by one thread."""

    def __init__(self, person: requests.Session, port: int, runs: list[str]) -> None:
        self.events = self.closed = 0
        self._heard: set[int] = set()
        cookie = "; ".join(f"{name}={value}" for name, value in person.cookies.get_dict().items())
        self._all, self._over = selectors.DefaultSelector(), False
        for n in range(STREAMS):
            line = socket.create_connection(("127.0.0.1", port), timeout=60)
            where = f"/bench/runs/{runs[n % len(runs)]}/stream"
            line.sendall(f"GET {where} HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nCookie: {cookie}\r\n\r\n".encode())
            self._all.register(line, selectors.EVENT_READ)
        self._begun = time.monotonic()
        threading.Thread(target=self._read, daemon=True).start()

    def wait_until_all_have_begun(self, longest_s: float = 60.0) -> None:
        """Opening three hundred pages in a moment is another matter than watching them."""
        end = time.monotonic() + longest_s
        while len(self._heard) < STREAMS and time.monotonic() < end:
            time.sleep(0.2)
        print(f"  {len(self._heard)} live pages begun after {self.seconds:.0f} s")
        self.events, self._begun = 0, time.monotonic()

    @property
    def seconds(self) -> float:
        return time.monotonic() - self._begun

    def _read(self) -> None:
        while not self._over:
            for chosen, _ in self._all.select(timeout=0.5):
                data = chosen.fileobj.recv(65536)  # type: ignore[union-attr]
                self.events += data.count(b"event: reading")
                self._heard.add(chosen.fd)
                if not data:
                    self.closed += 1
                    self._all.unregister(chosen.fileobj)

    def __enter__(self) -> _Streams:
        return self

    def __exit__(self, *_: object) -> None:
        self._over = True
        for chosen in list(self._all.get_map().values()):
            chosen.fileobj.close()  # type: ignore[union-attr]


def _half(port: int) -> socket.socket:
    line = socket.create_connection(("127.0.0.1", port), timeout=60)
    line.sendall(f"POST /sign-in HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nContent-Length: 4000\r\n\r\nusername=".encode())
    return line


def _photos(person: requests.Session, port: int, desk: Desk, pid: int, rest: list[float]) -> None:
    things, out = Things(desk), io.BytesIO()
    visit = rounds.start_visit(
        desk, things.ansa, key(), site_id=things.sites["lagoon"], probes=[things.probes["B1"]], source="typed"
    ).id
    Image.effect_noise((2200, 1650), 60).resize((8800, 6600)).convert("RGB").save(out, "JPEG", quality=60)
    page = person.get(_at(port, f"/rounds/visits/{visit}"), timeout=60).text
    token = re.search(r'name="csrf_token"[^>]*value="([^"]+)"', page).group(1)
    before, most, over = _memory(pid), 0.0, threading.Event()

    def watch() -> None:
        nonlocal most
        while not over.wait(0.05):
            most = max(most, _memory(pid))

    def send() -> None:
        requests.post(
            _at(port, f"/rounds/visits/{visit}/photos"),
            cookies=person.cookies.get_dict(),
            data={"csrf_token": token, "key": str(uuid.uuid4())},
            files={"photo": ("p.jpg", out.getvalue(), "image/jpeg")},
            timeout=120,
        )

    threads = [threading.Thread(target=send) for _ in range(PHOTOS)]
    threading.Thread(target=watch, daemon=True).start()
    start = time.perf_counter()
    for thread in threads:
        thread.start()
    took = _pages(person, port, 6)
    for thread in threads:
        thread.join()
    over.set()
    _say(f"{PHOTOS} photos of 58 megapixels at once", took, rest)
    with desk.read() as session:
        from brumel.store.rounds import Photo

        kept = len(session.scalars(select(Photo.id).where(Photo.visit_id == uuid.UUID(visit))).all())
    print(f"  {kept} kept after {time.perf_counter() - start:.0f} s; the server grew by {most - before:.0f} MB at most")


def _memory(pid: int) -> float:
    """What a process and its children hold of their own [MB]."""
    total = 0
    for of in _family(pid):
        try:
            text = Path(f"/proc/{of}/smaps_rollup").read_text()
        except OSError:
            continue
        total += sum(int(n) for n in re.findall(r"^Private_(?:Dirty|Clean): +(\d+)", text, re.MULTILINE))
    return total / 1024


def _family(pid: int) -> list[int]:
    try:
        children = [
            int(n) for task in Path(f"/proc/{pid}/task").iterdir() for n in (task / "children").read_text().split()
        ]
    except OSError:
        return [pid]
    return [pid, *(each for child in children for each in _family(child))]
