"""A real server, a real simulated meter, and Debian's Chromium."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
import time
import urllib.request
import uuid
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest
from playwright.sync_api import expect, sync_playwright
from tools.browser import chromium_path

from brumel.config import sqlalchemy_url
from brumel.store.cluster import free_port
from brumel.store.sessions import make_engine, make_sessions
from brumel.work import people, simulator
from brumel.work.demo.load import PASSWORD
from brumel.work.desk import Desk
from tests.conftest import as_app, do
from tests.work.helpers import Things

AXE = (Path(__file__).parent / "vendor/axe.min.js").read_text("utf-8")
#: What is waited for: many times what it takes, for a machine may be shared with others [ms].
PATIENCE_MS = 90_000
expect.set_options(timeout=PATIENCE_MS)


def pytest_collection_modifyitems(items):
    for item in items:
        if "/browser/" in str(item.fspath):
            item.add_marker(pytest.mark.browser)


class Brumel:
    """One running Brumel: web server and meter. It serves every test of a worker, each on a database of its own."""

    def __init__(self, server: str) -> None:
        self._server, self._name = server, f"browser_{uuid.uuid4().hex[:12]}"
        self.url = sqlalchemy_url(server.rsplit("/", 1)[0] + "/" + self._name)
        self.port = free_port()
        self.base = f"http://127.0.0.1:{self.port}"
        self.env = os.environ | {
            "DATABASE_URL": as_app(self.url),
            "BRUMEL_SECRET_KEY": "b" * 40,
            "BRUMEL_DEMO": "1",
            "BRUMEL_PLAIN_HTTP": "1",
            "BRUMEL_LOG": "warning",
        }
        self.children: list[subprocess.Popen] = []

    def begin(self, template: str, pace: float = 14) -> None:
        """A fresh copy of the template under the name the server knows; the server itself goes on, or starts."""
        do(self._server, f"drop database if exists {self._name} with (force)")
        do(self._server, f"create database {self._name} template {template} strategy file_copy")
        self.engine = make_engine(as_app(self.url), pool_size=2)
        self.desk = Desk(make_sessions(self.engine))
        with self.desk.sessions.begin() as session:
            simulator.set_truth(session, "clock", {"pace": pace})
        with self.desk.read() as session:
            self.things = None if people.is_empty(session) else Things(self.desk)
        if len(self.children) != 2 or any(child.poll() is not None for child in self.children):
            self.kill()
            self.start()

    def end(self) -> None:
        self.kill()
        do(self._server, f"drop database if exists {self._name} with (force)")

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
            with suppress(ProcessLookupError):
                os.killpg(child.pid, how)
            child.wait()
        self.children = []


@pytest.fixture(scope="session")
def running(server) -> Iterator[Brumel]:
    one = Brumel(server)
    yield one
    one.end()


@pytest.fixture
def brumel(running, present_template):
    running.begin(present_template)
    yield running
    running.engine.dispose()


@pytest.fixture
def meter_stands_still(brumel):
    """No sample is stored but what a test puts in by hand."""
    meter = brumel.children[1].pid
    os.killpg(meter, signal.SIGSTOP)
    yield
    os.killpg(meter, signal.SIGCONT)


@pytest.fixture
def empty(running, empty_template):
    running.begin(empty_template)
    yield running
    running.engine.dispose()


@pytest.fixture
def told(running, told_template):
    running.begin(told_template)
    yield running
    running.engine.dispose()


@pytest.fixture(scope="session")
def chromium():
    with sync_playwright() as playwright:
        path = chromium_path()
        arguments = [
            "--no-sandbox",
            "--disable-gpu",
            "--js-flags=--single-threaded",  # two processors are shared by all workers: helpers of the pages only take turns
            "--disable-quic",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--blink-settings=imagesEnabled=false",  # the contours behind each page take a third of its drawing
        ]
        browser = playwright.chromium.launch(executable_path=path, args=arguments)
        yield browser
        browser.close()


def sign_in(context, username):
    """As the page of signing in does it, without drawing that page once more: what it looks like has a test of its own."""
    token = re.search(r'name="csrf_token"[^>]*value="([^"]+)"', context.request.get("/sign-in").text()).group(1)
    form = {"csrf_token": token, "username": username, "password": PASSWORD}
    assert context.request.post("/sign-in", form=form, max_redirects=0).status == 302


@pytest.fixture
def open_page(chromium):
    """A page of a new context, at nothing or at an address; anything its console complains of fails the test."""
    contexts, complaints = [], []

    def make(base: str, username: str | None = "ansa", width: int = 1280, height: int = 800, at: str = "", **options):
        context = chromium.new_context(base_url=base, viewport={"width": width, "height": height}, **options)
        context.set_default_timeout(PATIENCE_MS)
        contexts.append(context)
        page = context.new_page()
        page.on("pageerror", lambda error: complaints.append(str(error)))
        page.on("console", lambda m: complaints.append(m.text) if "Content Security Policy" in m.text else None)
        if username:
            sign_in(context, username)
        if at:
            page.goto(at)
        return page

    yield make
    for context in contexts:
        context.close()
    assert complaints == []


def axe_findings(page, at: str = "", rules: str = "") -> list[str]:
    """What axe finds on this page; injected past the policy, as a browser's own tools would be. `rules` names only some.

    Style sheets are not fetched once more for it: none of the rules that are on by themselves reads them.
    """
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE)
    only = f", runOnly: ['{rules}']" if rules else ""
    options = f"{{resultTypes: ['violations'], preload: false{only}}}"
    found = page.evaluate(f"axe.run(document, {options}).then((found) => found.violations)")
    return [
        f"{at} {v['id']}: {n['target']} {(n.get('any') or n.get('all') or [{}])[0].get('message', '')[:150]}"
        for v in found
        for n in v["nodes"]
    ]


#: Finds every pair of texts of a drawing that lie on one another, and every text that leaves its drawing.
OVERPRINTS = (Path(__file__).parent / "overprints.js").read_text("utf-8")


def overprints(page, at: str = "") -> list[str]:
    """Texts of drawn views that cannot be read because another one lies on them."""
    return [f"{at} {found}" for found in page.evaluate(OVERPRINTS)]


SMALL_TARGETS = (Path(__file__).parent / "small_targets.js").read_text("utf-8")


def small_targets(page, at: str, least: int) -> list[str]:
    """What a finger misses: targets under `least` pixels, with every fold of the page open."""
    page.evaluate("document.querySelectorAll('main details').forEach((each) => { each.open = true; })")
    return [f"{at} {found}" for found in page.evaluate(SMALL_TARGETS, least)]


def check_axe(page, *, at: str = "") -> None:
    """No finding of axe on this page."""
    found = axe_findings(page, at)
    assert not found, "\n".join(found[:8])
