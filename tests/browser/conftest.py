"""A real server, a real simulated meter, and Debian's Chromium."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

import pytest
from playwright.sync_api import expect, sync_playwright

from brumel.store.cluster import free_port
from brumel.store.sessions import make_engine, make_sessions
from brumel.work import simulator
from brumel.work.demo.load import PASSWORD
from brumel.work.desk import Desk
from tests.work.helpers import Things

AXE = (Path(__file__).parent / "vendor/axe.min.js").read_text("utf-8")
expect.set_options(timeout=40_000)


def pytest_collection_modifyitems(items):
    for item in items:
        if "/browser/" in str(item.fspath):
            item.add_marker(pytest.mark.browser)


class Brumel:
    """One running Brumel: web server and meter, which can be killed and started again on the same database."""

    def __init__(self, url: str, pace: float) -> None:
        self.port = free_port()
        self.base = f"http://127.0.0.1:{self.port}"
        self.env = os.environ | {
            "DATABASE_URL": url,
            "BRUMEL_SECRET_KEY": "b" * 40,
            "BRUMEL_DEMO": "1",
            "BRUMEL_PLAIN_HTTP": "1",
        }
        engine = make_engine(url, pool_size=2)
        self.desk = Desk(make_sessions(engine))
        self.engine = engine
        with self.desk.sessions.begin() as session:
            simulator.set_truth(session, "clock", {"pace": pace})
        self.things = Things(self.desk)
        self.children: list[subprocess.Popen] = []

    def start(self) -> None:
        line = [sys.executable, "-m", "brumel.cli"]
        self.children = [
            subprocess.Popen(
                [*line, "serve", "--port", str(self.port), "--workers", "1"], env=self.env, start_new_session=True
            ),
            subprocess.Popen([*line, "meter"], env=self.env, start_new_session=True),
        ]
        for _ in range(600):
            try:
                urllib.request.urlopen(f"{self.base}/sign-in", timeout=2)
                return
            except OSError:
                time.sleep(0.1)
        raise AssertionError("the server did not come up")

    def kill(self, how: int = signal.SIGKILL) -> None:
        for child in self.children:
            os.killpg(child.pid, how)
            child.wait()
        self.children = []


@pytest.fixture
def brumel(present_url):
    running = Brumel(present_url, pace=14)
    running.start()
    yield running
    running.kill()
    running.engine.dispose()


@pytest.fixture
def told(told_url):
    running = Brumel(told_url, pace=14)
    running.start()
    yield running
    running.kill()
    running.engine.dispose()


@pytest.fixture(scope="session")
def chromium():
    with sync_playwright() as playwright:
        path = os.environ.get("BRUMEL_CHROMIUM") or shutil.which("chromium")
        arguments = [
            "--no-sandbox",
            "--disable-gpu",
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
        ]
        browser = playwright.chromium.launch(executable_path=path, args=arguments)
        yield browser
        browser.close()


@pytest.fixture
def open_page(chromium):
    """A page of a new context; anything its console complains of fails the test."""
    contexts, complaints = [], []

    def make(base: str, username: str | None = "ansa", width: int = 1280, height: int = 800, **options):
        context = chromium.new_context(base_url=base, viewport={"width": width, "height": height}, **options)
        contexts.append(context)
        page = context.new_page()
        page.on("pageerror", lambda error: complaints.append(str(error)))
        page.on("console", lambda m: complaints.append(m.text) if "Content Security Policy" in m.text else None)
        if username:
            page.goto("/sign-in")
            page.get_by_label("User name").fill(username)
            page.get_by_label("Password").fill(PASSWORD)
            page.keyboard.press("Enter")
            page.wait_for_url(base + "/")
        return page

    yield make
    for context in contexts:
        context.close()
    assert complaints == []


def axe_findings(page, at: str = "", rules: str = "") -> list[str]:
    """What axe finds on this page; injected past the policy, as a browser's own tools would be. `rules` names only some."""
    page.evaluate(AXE)
    only = f", runOnly: ['{rules}']" if rules else ""
    found = page.evaluate(f"axe.run(document, {{resultTypes: ['violations']{only}}})")
    return [
        f"{at} {v['id']}: {n['target']} {(n.get('any') or n.get('all') or [{}])[0].get('message', '')[:150]}"
        for v in found["violations"]
        for n in v["nodes"]
    ]


def check_axe(page, *, at: str = "") -> None:
    """No finding of axe on this page."""
    found = axe_findings(page, at)
    assert not found, "\n".join(found[:8])
