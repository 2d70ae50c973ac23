"""Benchmarks: every figure is a ratio or a latency measured side by side in this one run. `./brumel bench`."""

from __future__ import annotations

import os
import queue
import signal
import statistics
import subprocess
import sys
import threading
import time
import uuid
from datetime import timedelta
from typing import Any

import numpy as np
from playwright.sync_api import sync_playwright
from sqlalchemy import event, text
from tests.conftest import Clock, as_app
from tests.web.conftest import sign_in
from tests.work.helpers import Things, key
from tools.browser import chromium_path

from benchmarks import abuse, crowd, growth, judgement, loggers, slowest
from benchmarks.stopwatch import median_s, wait_for_server
from brumel.config import Config, sqlalchemy_url
from brumel.core.settling import judge
from brumel.meters.sensors import SAMPLES_PER_S
from brumel.methods import load_method
from brumel.store.cluster import free_port
from brumel.store.migrate import migrate
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import Dip
from brumel.web import access, create_app
from brumel.work import bench, demo, rounds, simulator
from brumel.work.desk import Desk
from brumel.work.rounds.sheet import watch as sheet_watch


def line(name: str, value: str, note: str = "") -> None:
    print(f"{name:<58} {value:>12}  {note}")


#: What a main page may take, against a signed-in bare page with as many trivial queries, and with one.
AS_MANY, WITH_ONE = 4.0, 12.0


def pages(url: str, desk: Desk) -> None:
    """Each main page against a signed-in page of nothing but queries: as many as its own, and one."""
    app = create_app(Config(url, "b" * 40, demo=True, insecure_cookies=True))
    access.ROLES["bare"] = access.STAFF

    @app.get("/bare/<int:n>", endpoint="bare")
    def bare(n: int) -> str:
        with desk.read() as session:
            return f"<p>{[session.execute(text('select 1')).scalar() for _ in range(n)]}</p>"

    client = sign_in(app, "ilka")
    things = Things(desk)
    run = bench.start(
        desk,
        things.ansa,
        key(),
        probe_id=things.probes["A1"],
        method_key="ph-7-4-10",
        source="live",
        cups=things.cups(),
    ).id
    bench.dip(desk, things.ansa, key(), run_id=run, step="neutral", turn=0)
    visit = rounds.start_visit(
        desk, things.ansa, key(), site_id=things.sites["raceway"], probes=[things.probes["A2"]], source="live"
    ).id
    rounds.dip(desk, things.ansa, key(), visit_id=visit)
    with desk.sessions.begin() as session:
        simulator.set_truth(session, "clock", {"pace": 60})
    time.sleep(1.5)
    simulator.pump(desk)
    places = {"Bench, a cup with 90 s of samples": f"/bench/runs/{run}", "a live sheet": f"/rounds/visits/{visit}"}
    places |= growth.places(desk, things)
    counted: list[int] = []
    event.listen(app.extensions["desk"].sessions.kw["bind"], "before_cursor_execute", lambda *_: counted.append(1))
    one = median_s(lambda: client.get("/bare/1"))
    print(f"{'A signed-in bare page with one query':<58} {one * 1000:>9.1f} ms")
    for name, path in places.items():
        client.get(path)
        counted.clear()
        assert client.get(path).status_code == 200, path
        queries = len(counted)
        own, many, one = _side_by_side(client, path, f"/bare/{queries - 1}", "/bare/1")
        over = "" if own / many <= AS_MANY and own / one <= WITH_ONE else "  OVER"
        line(
            name,
            f"{own / many:.1f} x",
            f"as many queries ({queries}); {own / one:.1f} x one; {own * 1000:.1f} ms{over}",
        )


#: How often a page is asked for before it is timed: PostgreSQL plans a statement anew the first times it is sent.
WARM = 12


def _side_by_side(client: Any, *paths: str, times: int = 15) -> list[float]:
    """Medians of pages asked for in turn, so that a busy moment of the machine meets all of them."""
    for path in paths * WARM:
        client.get(path)
    took: dict[str, list[float]] = {path: [] for path in paths}
    for _ in range(times):
        for path in paths:
            start = time.perf_counter()
            client.get(path)
            took[path].append(time.perf_counter() - start)
    return [statistics.median(took[path]) for path in paths]


def settling() -> None:
    """Judging 10 000 samples against reading them once with plain NumPy."""
    t = np.arange(10_000) * 0.5
    y = 100 - 80 * np.exp(-t / 30) + np.random.default_rng(1).normal(0, 0.05, t.size)
    method = load_method("ph-7-4-10")
    assert method is not None
    criteria = method.settling.criteria("pH signal")
    own = median_s(lambda: judge(t, y, criteria))
    fit = median_s(lambda: np.polyfit(t, y, 1))
    line(
        "Settling judged over 10 000 samples", f"{own / fit:.1f} x", f"one numpy.polyfit of them ({own * 1000:.1f} ms)"
    )


def latency(desk: Desk) -> None:
    """From a sample stored to the judged event a page gets, in process, through PostgreSQL's notice."""
    from brumel.web.live import Hub

    things = Things(desk)
    with desk.sessions.begin() as session:
        simulator.set_truth(session, "clock", {"pace": 1})
    visit = rounds.start_visit(
        desk, things.ansa, key(), site_id=things.sites["pool"], probes=[things.probes["A2"]], source="live"
    ).id
    dip = rounds.dip(desk, things.ansa, key(), visit_id=visit).dip
    seen = sheet_watch.VisitWatch(desk, visit)
    stop = threading.Event()

    def meter() -> None:
        while not stop.is_set():
            simulator.pump(desk)
            time.sleep(0.1)

    delays: list[float] = []
    hub = Hub(os.environ["BRUMEL_TEST_CLUSTER_DB"])
    thread = threading.Thread(target=meter)
    thread.start()
    news: queue.Queue[None] = queue.Queue()
    with hub.watch(lambda: news.put(None), dip):
        end = time.monotonic() + 12
        while time.monotonic() < end:
            found = seen.tick()
            if found and found["t"]:
                due = seen.dip.started_at + timedelta(seconds=found["t"][-1])  # type: ignore[union-attr]
                delays.append((desk.clock() - due).total_seconds())
            try:
                news.get(timeout=1)
            except Exception:
                continue
    stop.set()
    thread.join()
    line(
        "Sample due to judged event, median",
        f"{statistics.median(delays) * 1000:.0f} ms",
        f"{len(delays)} events at 2 a second",
    )
    line("Sample due to judged event, 95th percentile", f"{np.percentile(delays, 95) * 1000:.0f} ms")


WATCH = """
() => {
  window.delays = [];
  const place = document.querySelector("[data-seen]");
  let last = "";
  const look = () => {
    if (place.value !== last) { last = place.value; window.delays.push([Number(last), Date.now()]); }
    requestAnimationFrame(look);
  };
  look();
}
"""


def screen(url: str, desk: Desk) -> None:
    """From a sample due to its number on the screen of a real browser, through gunicorn and server-sent events."""
    things = Things(desk)
    port = free_port()
    env = os.environ | {"DATABASE_URL": as_app(url), "BRUMEL_SECRET_KEY": "b" * 40, "BRUMEL_PLAIN_HTTP": "1"}
    line = [sys.executable, "-m", "brumel.cli"]
    serve = [*line, "serve", "--port", str(port), "--workers", "1"]
    children = [subprocess.Popen(c, env=env, start_new_session=True) for c in (serve, [*line, "meter"])]
    try:
        with sync_playwright() as playwright:
            path = chromium_path()
            browser = playwright.chromium.launch(executable_path=path, args=["--no-sandbox", "--disable-gpu"])
            page = browser.new_page(base_url=f"http://127.0.0.1:{port}")
            wait_for_server(port)
            page.goto("/sign-in")
            page.get_by_label("User name").fill("ansa")
            page.get_by_label("Password").fill(demo.PASSWORD)
            page.keyboard.press("Enter")
            page.wait_for_url("**/")
            visit = rounds.start_visit(
                desk, things.ansa, key(), site_id=things.sites["pool"], probes=[things.probes["A2"]], source="live"
            ).id
            dip = uuid.UUID(rounds.dip(desk, things.ansa, key(), visit_id=visit).dip)
            page.goto(f"/rounds/visits/{visit}")
            page.evaluate(WATCH)
            page.wait_for_timeout(12_000)
            seen = page.evaluate("window.delays")[2:]
            with desk.read() as session:
                started = session.get_one(Dip, dip).started_at.timestamp()
            delays = [at / 1000 - (started + seq / SAMPLES_PER_S) for seq, at in seen]
            browser.close()
    finally:
        for child in children:
            os.killpg(child.pid, signal.SIGKILL)
    line_out = f"{statistics.median(delays) * 1000:.0f} ms"
    line_name = "Sample due to its number on a real screen"
    print(f"{line_name + ', median':<58} {line_out:>12}  {len(delays)} samples")
    print(f"{line_name + ', 95th percentile':<58} {np.percentile(delays, 95) * 1000:>9.0f} ms")


def main() -> None:
    url = sqlalchemy_url(os.environ["BRUMEL_TEST_CLUSTER"])
    migrate(url)
    os.environ["BRUMEL_TEST_CLUSTER_DB"] = url
    if os.environ.get("BRUMEL_BENCH") == "judgement":
        clock = Clock()
        still = Desk(make_sessions(make_engine(url)), clock)
        demo.load_demo(still, weeks=0)
        judgement.main(int(os.environ.get("BRUMEL_BENCH_COUNT", "100")), still, clock)
        return
    desk = Desk(make_sessions(make_engine(url)))
    demo.load_demo(desk)
    if os.environ.get("BRUMEL_BENCH") == "growth":
        growth.main(url)
        return
    if os.environ.get("BRUMEL_BENCH") == "slowest":
        slowest.main(url, desk)
        return
    if os.environ.get("BRUMEL_BENCH") == "loggers":
        loggers.main(url, desk)
        return
    if os.environ.get("BRUMEL_BENCH") == "abuse":
        abuse.main(url, desk)
        return
    if os.environ.get("BRUMEL_BENCH") == "pages":
        pages(url, desk)
        crowd.main(url, desk)
        return
    print(f"Run {uuid.uuid4().hex[:8]} on {os.cpu_count()} cores\n")
    pages(url, desk)
    settling()
    latency(desk)
    screen(url, desk)
    crowd.main(url, desk)
    growth.main(url)
    try:
        from benchmarks import science
    except ImportError:
        return
    science.main()


if __name__ == "__main__":
    main()
