"""Who may see what, made from the running application; headers, CSRF, sign-in and hostile requests."""

import html
import re
import uuid

import pytest
from flask import request
from sqlalchemy import delete

from brumel import cli
from brumel.config import Config, ConfigError
from brumel.core.errors import BrumelError, InputError
from brumel.store.tables import Truth
from brumel.web import access, create_app
from brumel.work import questions, rounds, simulator
from brumel.work.demo.load import HISTORY, PASSWORD
from brumel.work.desk import Desk
from tests.web.conftest import csrf, sign_in
from tests.work import helpers as h


def test_every_route_has_its_row_and_no_row_is_idle(app):
    worlds = app.extensions["worlds"]()  # the practice worlds: the same places, and the table besides
    here, there = ({r.endpoint for r in each.url_map.iter_rules()} for each in (app, worlds))
    assert here | there == set(access.ROLES)
    assert there - here == {"table.show", "table.act", "table.now", "table.set_pace"}
    assert here <= there


def test_each_role_sees_its_rows_and_nothing_else(app):
    """Every GET route, by everyone; ids that do not exist are 404 for those who may ask."""
    clients = {"anyone": app.test_client(), "technician": sign_in(app, "ansa"), "lead": sign_in(app, "ilka")}
    for rule in app.url_map.iter_rules():
        if "GET" not in rule.methods or rule.endpoint == "static":
            continue
        path = re.sub(r"<[^>]+>", str(uuid.uuid4()), rule.rule)
        for role, client in clients.items():
            code = client.get(path).status_code
            if rule.endpoint.startswith("api.") and rule.endpoint != "api.openapi":
                assert code == 401, (path, role, code)  # a sign-in is no token
                continue
            if role in access.ROLES[rule.endpoint]:
                leads_on = rule.endpoint in ("auth.sign_in", "auth.second_factor", "rounds.running") and code == 302
                assert code in (200, 404) or leads_on, (path, role, code)
            else:
                assert code == (302 if role == "anyone" else 403), (path, role, code)


def test_writing_needs_a_sign_in_and_a_csrf_token(app, client):
    for rule in app.url_map.iter_rules():
        if (
            "POST" in rule.methods
            and rule.endpoint != "auth.sign_in"
            and not rule.endpoint.startswith(("link.", "api."))
        ):
            path = re.sub(r"<[^>]+>", str(uuid.uuid4()), rule.rule)
            assert client.post(path).status_code == 400, path
            assert app.test_client().post(path).status_code in (400, 401), path


def test_the_link_is_closed_without_its_token(client):
    for path in ("/link/hello", "/link/samples"):
        for headers in (
            {},
            {"Authorization": "Bearer "},
            {"Authorization": "Bearer guess"},
            {"Authorization": "x" * 4000},
        ):
            answer = client.post(path, json={"agent": "x", "rows": [["1", 0.5, 1.0, 20.0]]}, headers=headers)
            assert (answer.status_code, list(answer.json)) == (401, ["error"]), path
        assert client.post(path, data="{").status_code == 422
        assert client.get(path).status_code == 405


def test_headers_forbid_inline_script_and_framing(app, client):
    for path in ("/", "/sign-in", "/records", "/nowhere"):
        answer = client.get(path)
        policy = answer.headers["Content-Security-Policy"]
        assert "script-src 'self'" in policy
        assert "unsafe" not in policy
        assert "frame-ancestors 'none'" in policy
        assert answer.headers["X-Content-Type-Options"] == "nosniff"
        assert not re.search(r"<script(?![^>]*src=)|\son\w+=|\sstyle=|<style", answer.text), path


def test_cookies_are_closed_to_scripts_and_secure_outside_plain_http(database_url):
    app = create_app(Config(database_url, "t" * 40))
    cookie = app.test_client().get("/sign-in", base_url="https://localhost").headers["Set-Cookie"]
    assert "HttpOnly" in cookie
    assert "Secure" in cookie
    assert "SameSite=Lax" in cookie
    page = app.test_client().get("/sign-in", base_url="https://localhost").text
    assert "tarnholt-field-book" not in page  # the demo accounts are offered in demo mode only


@pytest.mark.parametrize("secret", ["", "secret", "changeme", "demo", "short"])
def test_it_refuses_to_start_on_a_default_secret(secret):
    with pytest.raises(ConfigError) as caught:
        Config.from_env({"BRUMEL_SECRET_KEY": secret, "BRUMEL_DEMO": "1"})
    assert "DATABASE_URL" in str(caught.value)
    assert "BRUMEL_SECRET_KEY" in str(caught.value)


@pytest.fixture
def naps(monkeypatch):
    """The waits of the sign-in, told instead of slept."""
    found = []
    monkeypatch.setattr("brumel.web.sign_in_limit.nap", found.append)
    return found


def try_sign_in(client, username, password="x" * 12, address="127.0.0.1"):
    data = {"csrf_token": csrf(client), "username": username, "password": password}
    return client.post("/sign-in", data=data, environ_base={"REMOTE_ADDR": address})


def test_a_stranger_is_limited_and_locks_out_nobody_else(app, naps):
    stranger = app.test_client()
    codes = [try_sign_in(stranger, "ansa", address="127.9.9.9").status_code for _ in range(12)]
    assert codes == [401] * 10 + [429] * 2
    # The same name from elsewhere: slowed down a little, never shut out.
    naps.clear()
    assert try_sign_in(app.test_client(), "ansa", "tarnholt-field-book").status_code == 302
    assert 0 < sum(naps) <= 1.5
    # Another name from the stranger's own address still gets its answer, up to the limit of the address.
    assert try_sign_in(app.test_client(), "ilka", "tarnholt-field-book", "127.9.9.9").status_code == 302
    others = [try_sign_in(stranger, f"n{i}", address="127.9.9.9").status_code for i in range(40)]
    assert others[-1] == 429
    assert try_sign_in(app.test_client(), "ilka", "tarnholt-field-book").status_code == 302


def test_sign_in_tells_nothing(app):
    sentences = set()
    for name in ("ansa", "nobody"):
        answer = try_sign_in(app.test_client(), name, "y" * 12)
        sentences.add(re.search(r'role="alert".*?<li[^>]*>(.*?)</li>', answer.text, re.S).group(1))
    assert len(sentences) == 1


@pytest.mark.parametrize(("proxies", "counted"), [(0, "127.0.0.1"), (1, "198.51.100.7"), (2, "203.0.113.5")])
def test_only_so_many_proxies_are_believed(database_url, proxies, counted):
    app = create_app(Config(database_url, "t" * 40, demo=True, insecure_cookies=True, trusted_proxies=proxies))
    with app.test_request_context():
        pass
    seen = []
    app.before_request_funcs[None].insert(0, lambda: seen.append(request.remote_addr))
    app.test_client().get("/sign-in", headers={"X-Forwarded-For": "192.0.2.1, 203.0.113.5, 198.51.100.7"})
    assert seen == [counted]


def test_a_session_is_bound_to_no_network_and_ends_on_the_server(app, clock):
    client = sign_in(app, "ansa")
    token = csrf(client, "/practice")
    moved = {"environ_base": {"REMOTE_ADDR": "203.0.113.77", "HTTP_USER_AGENT": "another"}}
    assert client.get("/bench", **moved).status_code == 200
    copied = client.get_cookie("brumel").value
    client.post("/sign-out", data={"csrf_token": token}, **moved)
    thief = app.test_client()
    thief.set_cookie("brumel", copied)
    assert thief.get("/bench").status_code == 302


def test_next_cannot_lead_elsewhere(app):
    for target in ("//evil.example", "https://evil.example", "/\\evil.example", "javascript:1", "/\x09/evil.example"):
        client = app.test_client()
        answer = client.post(
            "/sign-in",
            query_string={"next": target},
            data={"csrf_token": csrf(client), "username": "ansa", "password": "tarnholt-field-book"},
        )
        assert answer.headers["Location"] == "/"


HOSTILE = [
    "",
    "abc",
    "NaN",
    "inf",
    "1e999",
    "-",
    "7,0,1",
    "1,413",
    "9" * 400,
    "<b>7</b>",
    "=1+1",
    "7.1 psi",
    "７",
    "\x00",
]


@pytest.mark.parametrize("value", HOSTILE)
def test_hostile_values_get_a_sentence_and_store_nothing(app, client, value):
    desk: Desk = app.extensions["desk"]
    things = h.Things(desk)
    run = h.start(desk, things, "B1", source="typed")
    page = f"/bench/runs/{run}"
    answer = client.post(
        f"{page}/type/neutral",
        data={
            "csrf_token": csrf(client, page),
            "key": str(uuid.uuid4()),
            "turn": "0",
            "signal": "mv",
            "value": value,
            "temperature_c": "18",
        },
    )
    assert answer.status_code == 422
    if value == "\x00":  # refused at the door, before there is a form to show
        assert "holds a character that cannot be kept" in answer.text
        return
    alert = html.unescape(re.search(r'role="alert".*?<li[^>]*>(.*?)</li>', answer.text, re.S).group(1))
    assert re.search(r"[Vv]alue|signal|Electrode|number", alert), alert
    assert "<b>7</b>" not in answer.text
    assert h.state_of(desk, run).dip is None


def test_bad_queries_forms_and_sizes_are_sentences_not_errors(client):
    for path, code in (
        ("/records?since=yesterday&quantity=taste&page=-3", 422),
        ("/records?site=zzz", 404),
        ("/bench/runs/../..", 404),
        ("/records/readings.csv?page=0", 422),
        ("/bench/probes/1?method=none", 404),
        ("/records/audit", 403),
    ):
        answer = client.get(path)
        assert answer.status_code == code, path
        assert "Traceback" not in answer.text
    faults = client.get("/records?since=yesterday&quantity=taste&page=-3").text
    for word in ("Since", "Quantity", "Page"):
        assert word in faults
    token = csrf(client, "/practice")
    for data in ({}, {"key": "x"}, {"key": str(uuid.uuid4()), "pace": "1e9", "probe": "?"}):
        assert client.post("/practice", data={"csrf_token": token, **data}).status_code in (404, 422)
    assert client.post("/practice", data={"csrf_token": token, "note": "x" * 2_000_000}).status_code == 413


def test_notes_are_escaped_everywhere(app, client, clock):
    desk: Desk = app.extensions["desk"]
    things = h.Things(desk)
    evil = "<script>alert(1)</script>\"'=cmd|x"
    visit = h.visit(desk, clock, things)
    result = rounds.HandResult(quantity="ammonium", value=49.0, method=evil, reason=evil)
    made = rounds.by_hand(desk, things.ansa, h.key(), visit_id=visit, result=result).id
    for page in ("/records", f"/records/readings/{made}", f"/rounds/visits/{visit}"):
        assert "<script>alert" not in client.get(page).text
    assert client.get(f"/records/readings/{made}").text.count("&lt;script&gt;") >= 3


def test_every_error_has_its_page_message():
    def kinds(root):
        for kind in root.__subclasses__():
            yield kind
            yield from kinds(kind)

    from brumel.core import errors

    made = {
        errors.NotANumber: errors.NotANumber("ph", "x"),
        errors.OutOfRange: errors.OutOfRange("ph", 99, 0, 14),
        errors.UnknownName: errors.UnknownName("buffer", "x", ["y"]),
        errors.InputErrors: errors.InputErrors([errors.NotANumber("ph", None), errors.OutOfRange("ph", -1, 0, 14)]),
    }
    for kind in kinds(BrumelError):
        if issubclass(kind, questions.Unanswered):
            error = kind([questions.Question("ph:unusual", "pH 3 is unusual here.")])
            assert str(error).startswith("pH 3 is unusual here. Repeat it")
            continue
        error = made.get(kind) or (kind("f", "A sentence.") if issubclass(kind, InputError) else kind("A sentence."))
        assert str(error).endswith("."), kind


def test_nobody_signs_in_to_a_demo_whose_history_is_being_made(app, desk, database_url):
    with desk.sessions.begin() as session:
        simulator.set_truth(session, HISTORY, {"week": 5, "of": 12})
    assert cli._is_half_made(database_url)
    client = app.test_client()
    assert "week 5 of 12" in client.get("/sign-in").text
    assert client.get("/sign-in/history").json == {"n": 5, "of": 12}
    given = {"csrf_token": csrf(client), "username": "ansa", "password": PASSWORD}
    refused = client.post("/sign-in", data=given)
    assert refused.status_code == 409
    assert "still being made, week 5 of 12" in refused.text
    with desk.sessions.begin() as session:
        session.execute(delete(Truth).where(Truth.subject == HISTORY))
    assert client.get("/sign-in/history").json == {}
    assert client.post("/sign-in", data=given).status_code == 302
    assert not cli._is_half_made(database_url)
    assert cli._has_people(database_url)
