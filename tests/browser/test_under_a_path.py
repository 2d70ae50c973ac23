"""Brumel under a path of a host: every address stays below it, and a round's page opens without a signal there too."""

import re
import threading

import pytest
from playwright.sync_api import expect
from werkzeug.serving import make_server

from brumel.config import Config
from brumel.web import create_app
from brumel.work.demo.load import PASSWORD
from brumel.work.rounds import calendar, outings
from tests.conftest import as_app, database_copy
from tests.web.test_every_page import Page
from tests.work import helpers as h

UNDER = "/field-book"


@pytest.fixture(scope="module")
def app(server, present_template):
    with database_copy(server, present_template) as url:
        config = Config(as_app(url), "t" * 40, demo=True, insecure_cookies=True, path=UNDER)
        app = create_app(config)
        app.testing = True
        yield app


def signed_in(app):
    client = app.test_client()
    page = client.get("/kit")
    assert page.headers["Location"] == f"{UNDER}/sign-in?next={UNDER}/kit"
    page = client.get("/sign-in").text
    token = re.search(r'name="csrf_token"[^>]*value="([^"]+)"', page).group(1)
    form = {"csrf_token": token, "username": "ilka", "password": PASSWORD}
    answer = client.post(f"/sign-in?next={UNDER}/kit", data=form)
    assert answer.headers["Location"] == f"{UNDER}/kit"
    return client


def test_every_address_lies_below_the_path(app):
    client = signed_in(app)
    waiting, seen = [f"{UNDER}/"], set()
    while waiting and len(seen) < 60:
        path = waiting.pop(0)
        kind = re.sub(r"[0-9a-f-]{36}|\?.*", "*", path)
        if kind in seen:
            continue
        seen.add(kind)
        answer = client.get(path if len(seen) % 2 else path.removeprefix(UNDER))  # a proxy takes it off, or does not
        if answer.status_code in (301, 302, 303, 308):
            assert answer.headers["Location"].startswith(f"{UNDER}/"), path
            continue
        assert answer.status_code == 200, path
        if answer.mimetype == "text/html":
            page = Page(answer.text)
            own = [link for link in (*page.links, *(action for action, _ in page.forms)) if link.startswith("/")]
            assert [link for link in own if not link.startswith(f"{UNDER}/")] == [], path
            waiting += [link.split("#")[0] for link in own if link in page.links]
    assert len(seen) > 50
    assert client.get("/look").headers["Location"] == f"{UNDER}/theme"  # an address of before
    assert client.get("/practice/world/table").headers["Location"] == f"{UNDER}/practice"
    assert client.get("/rounds/brumel.webmanifest").json["scope"] == f"{UNDER}/"


def test_a_round_under_a_path_opens_without_a_signal(app, chromium):
    desk = app.extensions["desk"]
    things = h.Things(desk)
    with desk.read() as session:
        lagoon = next(r for r in calendar.rounds(session) if r.name == "Lagoon")
        out = outings.start(desk, things.ilka, h.key(), round_id=str(lagoon.id)).id
    front = make_server("127.0.0.1", 0, app, threaded=True)
    threading.Thread(target=front.serve_forever, daemon=True).start()
    context = chromium.new_context(viewport={"width": 390, "height": 800})
    try:
        page, astray = context.new_page(), []
        page.on("request", lambda r: None if f"{UNDER}/" in r.url else astray.append(r.url))
        page.goto(f"http://127.0.0.1:{front.server_port}{UNDER}/rounds/outings/{out}/field")
        page.fill("input[name=username]", "ilka")
        page.fill("input[name=password]", PASSWORD)
        page.press("input[name=password]", "Enter")
        page.wait_for_url(f"**{UNDER}/rounds/outings/{out}/field")
        expect(page.locator("[data-net]")).to_contain_text("it opens without one")
        context.set_offline(True)
        page.reload()
        expect(page.locator("[data-net]")).to_contain_text("signal")
        expect(page.get_by_role("heading", level=1)).to_contain_text("Lagoon")
        context.set_offline(False)
        assert astray == []
    finally:
        context.close()
        front.shutdown()
