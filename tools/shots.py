"""Take the pictures of docs/screenshots from a fresh demo world. Run by `./brumel shots`."""

import os
import re
import signal
import subprocess
import sys
import time
import urllib.request
import uuid
from datetime import date, timedelta
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright
from tests.conftest import as_app
from tools.browser import chromium_path

from brumel.config import sqlalchemy_url
from brumel.store.cluster import ROOT, free_port
from brumel.store.migrate import migrate
from brumel.store.sessions import make_engine, make_sessions
from brumel.work import demo, simulator
from brumel.work.desk import Desk

OUT = ROOT / "docs/screenshots"


def _serve(url: str, port: int) -> list[subprocess.Popen[bytes]]:
    env = os.environ | {
        "DATABASE_URL": as_app(url),
        "BRUMEL_SECRET_KEY": uuid.uuid4().hex * 2,
        "BRUMEL_DEMO": "1",
        "BRUMEL_ZONE": "Europe/Oslo",
        "BRUMEL_PLAIN_HTTP": "1",
        "BRUMEL_LOG": "warning",
    }
    line = [sys.executable, "-m", "brumel.cli"]
    children = [
        subprocess.Popen([*line, "serve", "--port", str(port), "--workers", "1"], env=env, start_new_session=True),
        subprocess.Popen([*line, "meter"], env=env, start_new_session=True),
    ]
    for _ in range(150):
        try:
            urllib.request.urlopen(f"http://127.0.0.1:{port}/sign-in", timeout=2)
            return children
        except OSError:
            time.sleep(0.1)
    raise SystemExit("the server did not come up")


def _sign_in(page: Page, username: str) -> None:
    page.goto("/sign-in")
    page.get_by_label("User name").fill(username)
    page.get_by_label("Password").fill(demo.PASSWORD)
    page.keyboard.press("Enter")
    page.wait_for_url(re.compile(r"/$"))


def _settled(page: Page) -> None:
    page.wait_for_selector("[data-main][aria-disabled=false]", timeout=90_000)


def _take(page: Page, name: str, *, full: bool = False) -> None:
    page.wait_for_timeout(500)
    page.screenshot(path=OUT / f"{name}.png", full_page=full)
    print("·", name)


def _story(wide: Page, phone: Page) -> None:
    _take(wide, "today")
    wide.goto("/bench")
    wide.get_by_role("link", name="Calibrate pH probe A1").click()
    wide.get_by_text("the meter's settings are as on").click()
    wide.get_by_role("button", name="Start the run").click()
    for cup in range(3):
        wide.get_by_role("button", name="The probe is in the cup").click()
        if cup == 1:
            wide.wait_for_timeout(4000)
            _take(wide, "bench-cup")
            phone.goto(wide.url)
            phone.wait_for_timeout(500)
            _take(phone, "bench-phone")
            phone.goto("about:blank")  # it would follow the run to its record, while it is sent elsewhere
        _settled(wide)
        wide.locator("[data-main]").click()
    wide.wait_for_selector("svg.d-plate")
    _take(wide, "bench-verdict")
    wide.get_by_role("button", name="Use this calibration").click()
    wide.wait_for_url(re.compile("/records/calibrations/"))
    wide.goto("/rounds")
    wide.get_by_role("link", name="Farm and lido").first.click()
    _take(wide, "round")
    wide.get_by_role("button", name="Begin: pack, then go").click()
    phone.goto(f"{wide.url}/field")
    phone.wait_for_selector("text=This page is kept")
    phone.get_by_label(re.compile("Water temperature")).fill("7.4")
    phone.get_by_label(re.compile("pH probe .* shows")).first.fill("7.21")
    phone.get_by_role("button", name="Keep this, read another depth").click()
    for asked in phone.locator("[data-question] input").all():  # on some weekdays the river is not what was typed
        asked.fill("Read twice; it rained in the night")
    if not phone.locator("[data-sets] li").count():
        phone.get_by_role("button", name="Keep this, read another depth").click()
    phone.wait_for_selector("[data-sets] li")
    _take(phone, "field-phone")
    wide.get_by_role("link", name="Raceway 3, inflow", exact=True).first.click()
    _take(wide, "site")
    wide.get_by_role("button", name="Open the sheet").click()
    wide.get_by_role("button", name="The probes are in the water").click()
    wide.wait_for_selector("[data-main-all][aria-disabled=false]", timeout=90_000)
    wide.get_by_role("link", name="pH", exact=True).click()
    wide.wait_for_selector(".ladder")
    wide.wait_for_selector("[data-main-all][aria-disabled=false]", timeout=90_000)
    _take(wide, "sheet")
    phone.goto(wide.url)
    phone.wait_for_selector("[data-main-all][aria-disabled=false]", timeout=90_000)
    _take(phone, "sheet-phone")
    wide.goto("/records?rows=compact")
    _take(wide, "records")
    wide.goto("/kit")
    wide.get_by_role("link", name="pH probe A2").click()
    _take(wide, "probe")
    for name, path in (("kit", "/kit"), ("worksheet", "/worksheet/conductivity")):
        wide.goto(path)
        _take(wide, name)
    _practice(wide)


def _practice(wide: Page) -> None:
    """The table of a practice world beside a run, and the debrief of it."""
    wide.goto("/practice")
    wide.get_by_label("Time runs").select_option("20")
    wide.get_by_role("button", name=re.compile("Again|^Begin.*A first calibration")).first.click()

    def hand(name: str) -> None:
        before = wide.locator(".table-said").inner_text()
        wide.locator("[data-drawn]").get_by_role("button", name=name, exact=True).click()
        expect(wide.locator(".table-said")).not_to_have_text(before)

    wide.get_by_role("link", name="Go to Bench").click()
    wide.get_by_text("the meter's settings are as on record").click()
    wide.get_by_role("button", name=re.compile("^Start")).first.click()
    for bottle, cup in (("Buffer 7.01 P7-201", "A"), ("Buffer 4.01 P4-118", "B")):
        for name in ("holder", "Rinse with pure water", "Blot", f"Pour a cup of {bottle}", f"cup {cup}"):
            hand(name)
        wide.get_by_role("button", name="The probe is in the cup").click()
        if cup == "B":
            wide.wait_for_timeout(900)
            _take(wide, "practice-run")
        _settled(wide)
        wide.locator("[data-main]").click()
    wide.get_by_role("button", name="Use this calibration").click()
    wide.wait_for_url(re.compile("/records/calibrations/"))
    wide.get_by_role("link", name="Say what you found").click()
    wide.get_by_label(re.compile("Nothing is wrong")).check()
    wide.get_by_label("certain").check()
    wide.get_by_label("What comes next").select_option("use")
    wide.get_by_role("button", name="Give this finding").click()
    wide.wait_for_selector(".d-debrief")
    _take(wide, "practice-debrief", full=True)


def _deployments(lead: Page) -> None:
    """A record of four weeks looked at, and its channel as it was corrected."""
    lead.goto("/rounds/deployments")
    lead.get_by_role("link", name="Creek mouth salt, October").click()
    shown = lead.url
    lead.get_by_role("link", name="Look at the record").click()
    lead.wait_for_selector(".chart canvas")
    _take(lead, "deployment")
    lead.goto(shown)
    lead.get_by_role("link", name="corrected, version 1").click()
    _take(lead, "correction")


def main() -> None:
    url = sqlalchemy_url(os.environ["BRUMEL_TEST_CLUSTER"])
    migrate(url)
    engine = make_engine(url)
    desk = Desk(make_sessions(engine))
    demo.load_demo(desk)
    with desk.sessions.begin() as session:
        simulator.set_truth(session, "clock", {"pace": 5})
    port = free_port()
    children = _serve(url, port)
    try:
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(
                executable_path=chromium_path(),
                args=["--no-sandbox", "--disable-gpu", "--disable-background-networking"],
            )
            base = f"http://127.0.0.1:{port}"
            wide = browser.new_context(base_url=base, viewport={"width": 1280, "height": 800}).new_page()
            phone = browser.new_context(base_url=base, viewport={"width": 390, "height": 844}).new_page()
            _sign_in(wide, "ansa")
            _sign_in(phone, "ansa")
            _story(wide, phone)
            lead = browser.new_context(base_url=base, viewport={"width": 1280, "height": 800}).new_page()
            _sign_in(lead, "ilka")
            lead.goto("/records/review")
            lead.locator("a[href*='/records/visits/']").first.click()
            lead.wait_for_selector("[name=password]")
            _take(lead, "review")
            lead.goto("/records/documents")
            lead.get_by_label("Report for").select_option(label="Skarn Char Farm")
            lead.get_by_label("from").fill((date.today() - timedelta(days=31)).isoformat())
            lead.get_by_label("up to and with").fill(date.today().isoformat())
            lead.get_by_role("button", name="Look at it").click()
            lead.wait_for_selector("h1")
            _take(lead, "document")
            _deployments(lead)
            browser.close()
    finally:
        for child in children:
            os.killpg(child.pid, signal.SIGKILL)


if __name__ == "__main__":
    Path(OUT).mkdir(parents=True, exist_ok=True)
    main()
