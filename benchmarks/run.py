"""Benchmarks: every figure is a ratio or a latency measured side by side in this one run. `./brumel bench`."""

from __future__ import annotations

import os
import shutil
import signal
import statistics
import subprocess
import sys
import threading
import time
import uuid
from datetime import timedelta

import numpy as np
from flask import Flask
from playwright.sync_api import sync_playwright
from sqlalchemy import text
from tests.web.conftest import sign_in
from tests.work.helpers import Things, key

from benchmarks import crowd, growth
from benchmarks.stopwatch import median_s
from brumel.config import Config, sqlalchemy_url
from brumel.core.settling import judge
from brumel.meters.sensors import SAMPLES_PER_S
from brumel.methods import load_method
from brumel.store.cluster import free_port
from brumel.store.migrate import migrate
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import Dip
from brumel.web import create_app
from brumel.work import bench, demo, rounds, simulator
from brumel.work.desk import Desk
from brumel.work.rounds.sheet import watch as sheet_watch


def line(name: str, value: str, note: str = "") -> None:
    print(f"{name:<58} {value:>12}  {note}")


def pages(url: str, desk: Desk) -> None:
    """A Bench and a Rounds page against a bare Flask page with one query."""
    app = create_app(Config(url, "b" * 40, demo=True, insecure_cookies=True))
    client = sign_in(app, "ansa")
    bare = Flask("bare")
    engine = make_engine(url)

    @bare.get("/")
    def one_query() -> str:
        with engine.connect() as connection:
            return f"<p>{connection.execute(text('select count(*) from probes')).scalar()}</p>"

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
    base = median_s(lambda: bare.test_client().get("/"))
    places = (
        ("Bench page, a cup with 90 s of samples", f"/bench/runs/{run}"),
        ("Rounds page, a sheet", f"/rounds/visits/{visit}"),
    )
    for name, path in places:
        own = median_s(lambda path=path: client.get(path))
        line(
            name,
            f"{own / base:.1f} x",
            f"a bare page with one query ({own * 1000:.1f} ms against {base * 1000:.1f} ms)",
        )


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
    with hub.watch(dip) as news:
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
    env = os.environ | {"DATABASE_URL": url, "BRUMEL_SECRET_KEY": "b" * 40, "BRUMEL_PLAIN_HTTP": "1"}
    line = [sys.executable, "-m", "brumel.cli"]
    serve = [*line, "serve", "--port", str(port), "--workers", "1"]
    children = [subprocess.Popen(c, env=env, start_new_session=True) for c in (serve, [*line, "meter"])]
    try:
        with sync_playwright() as playwright:
            path = os.environ.get("BRUMEL_CHROMIUM") or shutil.which("chromium")
            browser = playwright.chromium.launch(executable_path=path, args=["--no-sandbox", "--disable-gpu"])
            page = browser.new_page(base_url=f"http://127.0.0.1:{port}")
            time.sleep(3)
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
    desk = Desk(make_sessions(make_engine(url)))
    demo.load_demo(desk)
    if os.environ.get("BRUMEL_BENCH") == "growth":
        growth.main(url)
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
