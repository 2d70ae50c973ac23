"""Signing in with two factors, audited tries, known devices, guessable passwords, keys that change."""

import re
from dataclasses import replace
from datetime import timedelta

import pyotp
import pytest
from sqlalchemy import func, select

from brumel.config import Config
from brumel.core.errors import InputError
from brumel.store.desk import RecoveryCode
from brumel.store.tables import Audit, User
from brumel.web import create_app, sign_in_limit
from brumel.work import people
from brumel.work.demo.load import PASSWORD
from brumel.work.people import second_factor
from brumel.work.people.accounts import check_password
from brumel.work.sealing import Seal
from tests.conftest import as_app
from tests.web.conftest import csrf, made_app, sign_in
from tests.web.test_people import post


def give_password(app, who="ilka", password=PASSWORD, client=None):
    client = client or app.test_client()
    answer = client.post("/sign-in", data={"csrf_token": csrf(client), "username": who, "password": password})
    return client, answer


def give_code(client, code):
    return client.post("/sign-in/code", data={"csrf_token": csrf(client, "/sign-in/code"), "one_time": code})


@pytest.fixture
def lead(app, clock):
    """A lead with a second factor: their seed, and the codes for a lost device."""
    client = sign_in(app, "ilka")
    page = client.get("/account/second-factor").text
    seed = re.search(r'name="seed" value="([A-Z2-7]{32})"', page).group(1)
    assert "<svg" in page
    assert "style=" not in page.split("<svg")[1]
    wrong = post(client, "/account/second-factor", seed=seed, one_time="000000")
    assert (wrong.status_code, seed in wrong.text) == (422, True)  # the drawing stays as it was scanned
    done = post(client, "/account/second-factor", seed=seed, one_time=pyotp.TOTP(seed).at(clock()))
    codes = re.findall(r"<code>([0-9a-f]{5} [0-9a-f]{5})</code>", done.text)
    assert len(codes) == 8
    assert client.get("/account/second-factor").headers["Location"] == "/account"
    return seed, codes


def test_two_factors_let_in_and_each_code_once(app, clock, desk, lead):
    seed, codes = lead
    clock.on(minutes=2)
    client, answer = give_password(app)
    assert answer.headers["Location"].startswith("/sign-in/code")
    assert client.get("/kit").status_code == 302, "a password alone lets nobody in"
    for wrong in ("", "12345", "abcdef", "１２３４５６", pyotp.TOTP(seed).at(clock() - timedelta(minutes=5))):
        assert give_code(client, wrong).status_code == 401
    now = pyotp.TOTP(seed).at(clock())
    assert give_code(client, f" {now[:3]} {now[3:]} ").status_code == 302
    assert client.get("/kit").status_code == 200
    thief, _ = give_password(app)
    assert give_code(thief, now).status_code == 401, "seen over a shoulder, it is worth nothing"
    with desk.read() as session:
        kept = session.scalars(select(RecoveryCode.token_hash)).all()
        assert {h[:7] for h in kept} == {"sealed:"}
        user = session.scalars(select(User).where(User.username == "ilka")).one()
        assert user.totp_secret.startswith("sealed:")
    for expected in (302, 401):
        again, _ = give_password(app)
        assert give_code(again, codes[0]).status_code == expected
    late, _ = give_password(app)
    clock.on(minutes=6)
    assert give_code_without_page(late, pyotp.TOTP(seed).at(clock())).headers["Location"].startswith("/sign-in")
    with desk.read() as session:
        told = [a.action for a in session.scalars(select(Audit).order_by(Audit.seq))]
        assert told.count("person.sign_in_refused") == 7
        kept = "".join(str(a.changes) + str(a.detail) for a in session.scalars(select(Audit)))
        assert "recovery_codes:" in kept
        assert not [secret for secret in (seed, "sealed:", "$argon2id") if secret in kept]


def test_a_seed_is_sealed_by_the_present_key_and_outlives_a_change_of_keys(app, clock, lead, desk):
    seed, _ = lead
    old = Seal(("t" * 40,))

    def kept(user=None):
        with desk.sessions.begin() as session:
            row = session.scalars(select(User).where(User.username == "ilka")).one()
            row.totp_secret = user or row.totp_secret
            return row.totp_secret, row.id

    sealed, user_id = kept()
    assert old.open(sealed) == seed
    assert seed not in sealed
    present = Seal(("n" * 40, "t" * 40))
    with desk.read() as session:
        there = session.scalar(select(func.count()).select_from(User))  # each has a hash, which lies open in the demo
    assert people.seal_anew(replace(desk, seal=present)) == (there + 1, 0)
    assert people.seal_anew(replace(desk, seal=present)) == (0, 0)
    assert people.sign_in(desk, "ilka", PASSWORD) is None, "the database alone opens nothing"
    assert people.sign_in(replace(desk, seal=present), "ilka", PASSWORD)
    sealed, _ = kept()
    assert (Seal(("n" * 40,)).open(sealed), old.opens(sealed)) == (seed, False)
    clock.on(minutes=2)
    code = pyotp.TOTP(seed).at(clock())
    assert not second_factor.is_right(replace(desk, seal=old), user_id, code), "by another key it is no seed"
    kept(seed)  # of before there were seals
    assert people.seal_anew(replace(desk, seal=present)) == (1, 0)
    assert second_factor.is_right(replace(desk, seal=present), user_id, code)
    assert people.seal_anew(replace(desk, seal=Seal(("x" * 40,)))) == (0, there + 1), "told, and left as it is"


def give_code_without_page(client, code):
    token = csrf(client, "/sign-in")
    return client.post("/sign-in/code", data={"csrf_token": token, "one_time": code})


@pytest.mark.parametrize("seed", ["", "x" * 60_000, "a" * 32, "<b>" + "A" * 29])
def test_a_seed_that_is_none_of_ours_is_refused_and_never_drawn(app, seed):
    answer = post(sign_in(app, "ilka"), "/account/second-factor", seed=seed, one_time="123456")
    assert answer.status_code == 422
    assert seed == "" or f'value="{seed}"' not in answer.text


def test_the_codes_of_a_form_that_is_sent_twice_are_shown_once(app, clock):
    client = sign_in(app, "ilka")
    page = client.get("/account/second-factor").text
    seed, key, token = (
        re.search(f'name="{name}"[^>]*value="([^"]+)"', page).group(1) for name in ("seed", "key", "csrf_token")
    )
    form = {"seed": seed, "key": key, "csrf_token": token, "one_time": pyotp.TOTP(seed).at(clock())}
    first, again = (client.post("/account/second-factor", data=form) for _ in range(2))
    assert (first.status_code, again.status_code) == (200, 200)
    assert len(re.findall("<li><code>", first.text)) == 8
    assert "<li><code>" not in again.text
    assert "They were shown already" in again.text


def test_a_device_is_known_after_both_factors(app, clock, lead):
    seed, _ = lead
    clock.on(minutes=2)
    client, _ = give_password(app)
    give_code(client, pyotp.TOTP(seed).at(clock()))
    with app.test_request_context(
        "/sign-in",
        method="POST",
        data={"username": "ilka"},
        headers={"Cookie": f"brumel-device={client.get_cookie('brumel-device').value}"},
    ):
        assert sign_in_limit._named() in sign_in_limit._known_here()


def test_it_is_taken_off_by_a_code_and_by_an_invitation(app, clock, lead, desk):
    seed, codes = lead
    clock.on(minutes=1)
    client, _ = give_password(app)
    give_code(client, codes[1])
    assert post(client, "/account/second-factor/off", one_time="000000").status_code == 422
    post(client, "/account/second-factor/off", one_time=pyotp.TOTP(seed).at(clock()))
    assert give_password(app)[1].headers["Location"] == "/"


def test_where_leads_need_two_a_lead_sets_it_up_first(database_url, clock):
    config = Config(as_app(database_url), "t" * 40, demo=True, insecure_cookies=True, leads_need_two=True)
    app = create_app(config, clock=clock)
    lead, technician = sign_in(app, "ilka"), sign_in(app, "ansa")
    assert lead.get("/kit").headers["Location"] == "/account/second-factor"
    assert lead.get("/account/second-factor").status_code == 200
    assert technician.get("/kit").status_code == 200


def test_a_stranger_s_failures_slow_no_known_device_down(app, monkeypatch):
    naps = []
    monkeypatch.setattr(sign_in_limit, "nap", naps.append)
    mine, _ = give_password(app, "ansa")
    mine.post("/sign-out", data={"csrf_token": csrf(mine, "/account")})
    for _ in range(7):
        give_password(app, "ansa", "a guess of theirs")
    assert len(naps) == 1
    assert give_password(app, "ansa", client=mine)[1].status_code == 302
    assert len(naps) == 1
    mine.set_cookie("brumel-device", mine.get_cookie("brumel-device").value[:-3] + "abc")
    mine.post("/sign-out", data={"csrf_token": csrf(mine, "/account")})
    give_password(app, "ansa", client=mine)
    assert len(naps) == 2, "a cookie that was touched is nobody's"


@pytest.mark.parametrize(
    "word", ["password123", "1234567890", "qwertyuiop", "brumelbrumel", "merrikansa", "aaaaaaaaaaaa", "short"]
)
def test_passwords_that_anybody_would_try_are_refused(word):
    with pytest.raises(InputError, match="Password"):
        check_password(word, of=("ansa", "Ansa Merrik"))


def test_signing_out_clears_what_a_browser_shows_and_never_what_waits(app):
    client = sign_in(app, "ansa")
    gone = client.post("/sign-out", data={"csrf_token": csrf(client, "/account")})
    assert gone.headers["Clear-Site-Data"] == '"cache", "cookies"'


def test_a_session_lives_through_a_change_of_the_key_and_not_through_two(database_url, clock):
    def made(key, *old):
        config = Config(as_app(database_url), key, demo=True, insecure_cookies=True, old_secret_keys=old)
        return create_app(config, clock=clock)

    client = sign_in(made("t" * 40), "ansa")
    cookie = client.get_cookie("brumel").value
    for app, code in ((made("u" * 40, "t" * 40), 200), (made("v" * 40, "u" * 40), 302)):
        other = app.test_client()
        other.set_cookie("brumel", cookie)
        assert other.get("/kit").status_code == code


def test_behind_tls_the_cookie_is_this_host_s_alone(database_url):
    app = create_app(Config(as_app(database_url), "t" * 40))
    cookie = app.test_client().get("/sign-in", base_url="https://brumel.example").headers["Set-Cookie"]
    assert cookie.startswith("__Host-brumel=")
    assert {"Secure", "HttpOnly", "Path=/", "SameSite=Lax"} <= set(cookie.split("; "))
    assert "Domain" not in cookie


def test_figures_and_readiness_are_for_who_runs_it(database_url, clock, monkeypatch):
    config = Config(as_app(database_url), "t" * 40, demo=True, insecure_cookies=True, metrics_token="m" * 32)
    app = create_app(config, clock=clock)
    client = sign_in(app, "ansa")
    assert client.get("/metrics").status_code == made_app(database_url).test_client().get("/metrics").status_code == 404
    told = client.get("/metrics", headers={"Authorization": "Bearer " + "m" * 32}).text
    assert 'brumel_requests_total{endpoint="auth.sign_in",method="POST",status="302"}' in told
    assert 'brumel_jobs{state="waiting"} 0.0' in told
    assert client.get("/readyz").json["ready"] is True
    monkeypatch.setattr("brumel.web.watching.routes.newest_version", lambda: "9999")
    assert (client.get("/readyz").status_code, client.get("/healthz").status_code) == (503, 200)


def test_a_log_line_has_a_number_and_no_secret(database_url, clock, capfd):
    config = Config(as_app(database_url), "t" * 40, demo=True, insecure_cookies=True, log_level="info")
    app = create_app(config, clock=clock)
    client = app.test_client()
    answer = client.get("/invited/a-token-of-somebody?x=secret-words", headers={"X-Request-Id": "someone-elses-number"})
    client.post("/sign-in", data={"csrf_token": csrf(client), "username": "ansa", "password": "a wrong secret"})
    said = capfd.readouterr().err
    assert f'"request_id": "{answer.headers["X-Request-Id"]}"' in said
    assert '"rule": "/invited/<token>"' in said
    for secret in ("a-token-of-somebody", "secret-words", "a wrong secret", "someone-elses-number"):
        assert secret not in said


def test_whoever_signs_in_is_told_what_happened_meanwhile(app, clock):
    client, _ = give_password(app)
    assert "Since you last" not in client.get("/").text
    clock.on(minutes=1)
    for _ in range(2):
        give_password(app, password="not-this-one-either")
    client, _ = give_password(app)
    page = client.get("/").text
    assert "2 tries to sign in as you were refused" in page
    assert "a browser not known before" in page
    clock.on(minutes=1)
    again, _ = give_password(app, client=client_of_the_same_browser(app, client))
    assert "Since you last signed in" in again.get("/").text  # the last one was on a browser that was new then
    clock.on(minutes=1)
    third, _ = give_password(app, client=client_of_the_same_browser(app, again))
    assert "Since you last" not in third.get("/").text


def client_of_the_same_browser(app, client):
    other = app.test_client()
    other.set_cookie("brumel-device", client.get_cookie("brumel-device").value)
    return other


def test_a_password_is_judged_while_it_is_typed(app):
    client = app.test_client()
    form = {"csrf_token": csrf(client, "/sign-in"), "of": "ilka Ilka Torvend"}

    def judged(password):
        return client.post("/password-strength", data={**form, "password": password}).json

    assert judged("kettle") == {"score": 1, "words": "6 more characters"}
    assert judged("ilkatorvend") == {"score": 1, "words": "1 more character"}
    assert judged("seven wet mittens on a rope")["words"] == "strong"
    assert client.post("/password-strength", data={"password": "x"}).status_code == 400, "not without its token"
