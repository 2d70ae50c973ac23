"""Fifty live runs at two samples a second: from a sample due to its judged number at each page and on a real screen."""

from __future__ import annotations

import http.cookiejar
import itertools
import json
import os
import re
import signal
import subprocess
import sys
import threading
import time
import urllib.parse
import urllib.request
import uuid

import numpy as np
from playwright.sync_api import sync_playwright
from tests.conftest import as_app
from tests.work.helpers import Things, key
from tools.browser import chromium_path

from benchmarks.stopwatch import wait_for_server
from brumel.meters.sensors import SAMPLES_PER_S
from brumel.store.cluster import free_port
from brumel.store.tables import Dip, Probe
from brumel.work import bench, demo, simulator
from brumel.work.desk import Desk

RUNS = 50
WATCH_S = 25.0


def _runs(desk: Desk) -> dict[str, float]:
    """Fifty probes, each dipped in its first cup; run id to the moment its dip began."""
    things = Things(desk)
    made: dict[str, float] = {}
    with desk.sessions.begin() as session:
        simulator.set_truth(session, "clock", {"pace": 1})
        meter = session.get_one(Probe, uuid.UUID(things.probes["A1"])).meter_id
        probes = [
            Probe(
                id=uuid.uuid4(),
                meter_id=meter,
                name=f"Crowd {i}",
                serial=f"X{i}",
                quantity="ph",
                kind="refillable",
                in_service=desk.clock(),
                waits={},
                intervals={},
                limits={},
            )
            for i in range(RUNS)
        ]
        session.add_all(probes)
        session.flush()
        for i, probe in enumerate(probes):
            simulator.set_truth(session, f"probe:{probe.id}", {"seed": 100 + i, "cups_c": 18.0 + 0.05 * i})
    for probe in probes:
        run = bench.start(
            desk, things.ansa, key(), probe_id=str(probe.id), method_key="ph-7-4-10", source="live", cups=things.cups()
        ).id
        dip = bench.dip(desk, things.ansa, key(), run_id=run, step="neutral", turn=0).id
        with desk.read() as session:
            made[run] = session.get_one(Dip, uuid.UUID(dip)).started_at.timestamp()
    return made


class _Page:
    """One page's stream, read as a browser reads it."""

    def __init__(self, opener: urllib.request.OpenerDirector, base: str, run: str, started: float) -> None:
        self.delays: list[float] = []
        self.samples: set[float] = set()
        request = urllib.request.Request(f"{base}/bench/runs/{run}/stream", headers={"Accept": "text/event-stream"})
        self._answer = opener.open(request, timeout=WATCH_S + 30)
        self._started = started

    def read(self, until: float) -> None:
        while time.time() < until:
            line = self._answer.readline()
            if not line:
                return
            if line.startswith(b"data: ") and b'"t"' in line:
                found = json.loads(line[6:])
                self.samples |= set(found["t"])
                if found["t"]:
                    self.delays.append(time.time() - (self._started + found["t"][-1]))


def _sign_in(base: str) -> urllib.request.OpenerDirector:
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(http.cookiejar.CookieJar()))
    page = opener.open(f"{base}/sign-in").read().decode()
    found = re.search(r'name="csrf_token"[^>]*value="([^"]+)"', page)
    assert found
    body = {"csrf_token": found.group(1), "username": "ansa", "password": demo.PASSWORD}
    opener.open(f"{base}/sign-in", urllib.parse.urlencode(body).encode()).read()
    return opener


SCREEN = """
() => {
  window.seen = [];
  const place = document.querySelector("[data-seen]");
  let last = "";
  const look = () => {
    if (place.value !== last) { last = place.value; window.seen.push([Number(last), Date.now()]); }
    requestAnimationFrame(look);
  };
  look();
}
"""


def _screen(base: str, run: str, started: float, out: list[float]) -> None:
    with sync_playwright() as playwright:
        path = chromium_path()
        browser = playwright.chromium.launch(executable_path=path, args=["--no-sandbox", "--disable-gpu"])
        page = browser.new_page(base_url=base)
        page.goto("/sign-in")
        page.get_by_label("User name").fill("ansa")
        page.get_by_label("Password").fill(demo.PASSWORD)
        page.keyboard.press("Enter")
        page.wait_for_url("**/")
        page.goto(f"/bench/runs/{run}")
        page.evaluate(SCREEN)
        page.wait_for_timeout(WATCH_S * 1000)
        out += [at / 1000 - (started + seq / SAMPLES_PER_S) for seq, at in page.evaluate("window.seen")[2:]]
        browser.close()


#: So many people open a page every so often [s] while the runs are watched.
PEOPLE, EVERY_S = 100, 10.0
PAGES = ("/", "/bench", "/kit", "/records", "/rounds")


def _open_pages(
    opener: urllib.request.OpenerDirector, base: str, until: float, every_s: float, into: list[float]
) -> None:
    """Pages opened at even moments, each timed; one that is late does not hold up the next."""

    def one(path: str) -> None:
        start = time.perf_counter()
        opener.open(base + path, timeout=60).read()
        into.append(time.perf_counter() - start)

    threads = []
    for n in itertools.count():
        if time.time() >= until:
            break
        threads.append(threading.Thread(target=one, args=(PAGES[n % len(PAGES)],), daemon=True))
        threads[-1].start()
        time.sleep(every_s)
    for thread in threads:
        thread.join(60)


def main(url: str, desk: Desk) -> None:
    """Print the latencies of fifty watched runs."""
    port = free_port()
    base = f"http://127.0.0.1:{port}"
    env = os.environ | {"DATABASE_URL": as_app(url), "BRUMEL_SECRET_KEY": "b" * 40, "BRUMEL_PLAIN_HTTP": "1"}
    line = [sys.executable, "-m", "brumel.cli"]
    children = [
        subprocess.Popen([*line, "serve", "--port", str(port), "--workers", "2"], env=env, start_new_session=True)
    ]
    screen: list[float] = []
    idle: list[float] = []
    crowded: list[float] = []
    try:
        wait_for_server(port)
        opener = _sign_in(base)
        for path in PAGES * 2:
            opener.open(base + path).read()  # what a process does once
        _open_pages(opener, base, time.time() + 6, 0.4, idle)
        runs = _runs(desk)
        children.append(subprocess.Popen([*line, "meter"], env=env, start_new_session=True))
        pages = [_Page(opener, base, run, started) for run, started in runs.items()]
        until = time.time() + WATCH_S + 8
        threads = [threading.Thread(target=p.read, args=(until,), daemon=True) for p in pages]
        first = next(iter(runs))
        threads.append(threading.Thread(target=_screen, args=(base, first, runs[first], screen), daemon=True))
        for thread in threads:
            thread.start()
        time.sleep(6)
        _open_pages(opener, base, until - 6, EVERY_S / PEOPLE, crowded)
        for thread in threads:
            thread.join(WATCH_S + 60)
    finally:
        for child in children:
            os.killpg(child.pid, signal.SIGKILL)
    settled = np.array([d for p in pages for d in p.delays[6:]])
    print(f"\n{RUNS} live runs at {SAMPLES_PER_S:g} samples a second, all watched, {len(settled)} events")
    print(f"{'Sample due to judged event at the page, median':<58} {np.median(settled) * 1000:>9.0f} ms")
    print(
        f"{'Sample due to judged event at the page, 95th percentile':<58} {np.percentile(settled, 95) * 1000:>9.0f} ms"
    )
    if screen:
        print(
            f"{'Sample due to its number on a real screen among them, 95th':<58} {np.percentile(screen, 95) * 1000:>9.0f} ms"
        )
    quiet, busy = (float(np.percentile(times, 95)) for times in (idle, crowded))
    name = f"A page, {PEOPLE} people opening one every {EVERY_S:g} s meanwhile, 95th"
    print(f"{name:<66} {busy / quiet:>5.1f} x  idle ({busy * 1000:.0f} ms against {quiet * 1000:.0f} ms)")
    short = [len(p.samples) for p in pages]
    print(f"{'Samples each page got, fewest and most':<58} {min(short):>5} / {max(short)}")
    with desk.sessions.begin() as session:
        for run in runs:
            assert bench.load_run(session, run).dip
