"""Every writing route with every kind of rubbish: a sentence or a refusal, never an error of ours, and nothing written."""

import random
import re
import uuid

import pytest
from sqlalchemy import func, select

from brumel.core.errors import InputError
from brumel.formats import series_csv
from brumel.store.tables import Audit, Meter
from brumel.web import access
from brumel.work import rounds
from brumel.work.desk import token_hash
from tests.web.conftest import csrf, sign_in
from tests.work import helpers as h

RUBBISH = [
    "",
    " ",
    "\x00",
    "0",
    "-1",
    "NaN",
    "1e400",
    "9" * 300,
    "<script>",
    "' or 1=1 --",
    "../../etc/passwd",
    "２",
    "yes",
    "{{7*7}}",
    "=1+1",
    "\u202eabc",
    "a" * 5000,
    "2026-13-45",
    "25: 7.01\n25: 7.02",
    "null",
    "²",
    "0001-01-01",
    "9999-12-31",
    "1" * 5000,
    "12:²",
]
FIELDS = (
    "key",
    "turn",
    "signal",
    "value",
    "temperature_c",
    "after_s",
    "reason",
    "early",
    "seen",
    "use",
    "method",
    "source",
    "probe",
    "dip",
    "raw",
    "cup-neutral",
    "fault",
    "pace",
    "what",
    "hours",
    "code",
    "name",
    "family",
    "label",
    "expires_on",
    "open_days",
    "expanded_uncertainty",
    "single_use",
    "container",
    "basis",
    "against",
    "strength",
    "altitude_m",
    "pressure_hpa",
    "pressure_from",
    "water_c",
    "reference",
    "reference_u",
    "serial",
    "link",
    "kind",
    "nominal",
    "cable_m",
    "reference_electrode",
    "address",
    "meter_id",
    "limit",
    "fit_low",
    "days",
    "step-0-title",
    "step-0-order",
    "limit-slope-fit-low",
    "settling-noise",
    "tds_factor",
    "cell_constant",
    "item-bulb",
    "theme",
    "next",
)


#: A name or a reason in any words is what these ask for, and the lead may give it.
WORDS = {
    "site.retire",
    "site.restore",
    "meter.battery",
    "meter.retire",
    "meter.restore",
    "probe.retire",
    "probe.restore",
    "method.retire",
    "method.restore",
}


@pytest.mark.parametrize("seed", range(4))
def test_rubbish_in_every_field_of_every_form(app, clock, seed):
    desk = app.extensions["desk"]
    things = h.Things(desk)
    run = h.start(desk, things)
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["pool"], probes=[things.probes["B1"]], source="typed"
    ).id
    real = {
        "run_id": run,
        "visit_id": visit,
        "probe_id": things.probes["A2"],
        "lot_id": things.lots["N4-118"],
        "step": "neutral",
        "site_id": things.sites["pool"],
        "reading_id": str(uuid.uuid4()),
        "method_key": "ph-7-4-10",
        "meter_id": things.meters["Bench set B"],
    }
    client = sign_in(app, "ilka")
    chance = random.Random(seed)
    token = csrf(client, "/practice")
    with desk.read() as session:
        before = session.scalar(select(func.count()).select_from(Audit))
    for rule in app.url_map.iter_rules():
        by_token = rule.endpoint.startswith("api.")  # a sign-in is no token; its own fuzzer is in test_api
        if "POST" not in rule.methods or rule.endpoint in ("auth.sign_out", "auth.sign_in") or by_token:
            continue
        for _ in range(6):
            ids = {name: chance.choice([real.get(name, "x"), chance.choice(RUBBISH[8:14])]) for name in rule.arguments}
            path = re.sub(r"<(?:\w+:)?(\w+)>", lambda m, ids=ids: ids[m.group(1)].replace("/", "%2F"), rule.rule)
            data = {name: chance.choice(RUBBISH) for name in FIELDS if chance.random() < 0.8}
            if chance.random() < 0.7:
                data["key"] = str(uuid.uuid4())
            answer = client.post(path, data={**data, "csrf_token": token})
            judged = (200,) if rule.endpoint == "auth.strength" else ()  # it changes nothing, whatever it is given
            fine = (302, 303, 308, 400, 403, 404, 405, 409, 413, 422, *judged)
            assert answer.status_code in fine, (path, data, answer.status_code)
            assert "Traceback" not in answer.text
            assert "<script>" not in answer.text.replace('<script type="module"', "").replace("<script src", "")
    with desk.read() as session:
        written = list(session.scalars(select(Audit.action).order_by(Audit.id)))[before:]
    # What rubbish may do: dip the probe again (no values needed), and name a reason in any words.
    assert set(written) <= {
        "run.dip",
        "run.abandon",
        "visit.dip",
        "lot.open",
        "lot.discard",
        "practice.tour",
        "token.calendar",
        *WORDS,
    }, written


@pytest.mark.parametrize("seed", range(2))
def test_rubbish_in_every_query(app, seed):
    client = sign_in(app, "ilka")
    chance = random.Random(seed)
    names = (
        "site",
        "quantity",
        "backing",
        "since",
        "until",
        "page",
        "method",
        "source",
        "next",
        "t",
        "t_unit",
        "c",
        "kind",
        "way",
        "client",
        "round",
        "person",
        "worth",
        "decision",
        "signed",
        "words",
        "sort",
        "rows",
        "visit",
    )
    for rule in app.url_map.iter_rules():
        by_token = rule.endpoint.startswith("api.") and rule.endpoint != "api.openapi"
        if (
            "GET" not in rule.methods
            or rule.endpoint == "static"
            or "lead" not in access.ROLES[rule.endpoint]
            or by_token
        ):
            continue
        for _ in range(5):
            path = re.sub(
                r"<[^>]+>", lambda _m: chance.choice(["x", "oxygen", str(uuid.uuid4()), "%00", "a" * 300]), rule.rule
            )
            query = {name: chance.choice(RUBBISH) for name in names if chance.random() < 0.6}
            answer = client.get(path, query_string=query)
            assert answer.status_code in (200, 302, 400, 404, 422), (path, query, answer.status_code)


DEEP = "[" * 100_000
BODIES = [
    "",
    "{",
    "[]",
    "null",
    "{" * 5000,
    f'{{"a": {DEEP}',
    '{"a": ' * 40 + "1" + "}" * 40,
    '{"agent": "\\ud800"}',
    '{"agent": "\\u0000", "rows": [["\\u0000", 1, 2, 3]]}',
    '{"rows": [["\\udc80", 1, 2, 3]]}',
    '{"rows": [["1", ' + "9" * 400 + ", 1, 2]]}",
    '{"rows": [["1", 1e999, 1, 2]]}',
    '{"now": ' + "9" * 400 + "}",
    '{"key": "x", "site": "\\ud800", "at": "0001-01-01T00:00:00+14:00", "temperature_c": 1, "rows": []}',
    '{"agent": "' + "a" * 50_000 + '"}',
    "\udcff".encode("utf-8", "surrogatepass"),
]


@pytest.mark.parametrize("number", range(len(BODIES)))
def test_a_hostile_body_gets_a_sentence_signed_in_or_not(app, number):
    """To the link, with a token that counts and without; to the phone's queue; and as a form to the sign-in page."""
    desk, body = app.extensions["desk"], BODIES[number]
    things = h.Things(desk)
    token = "t" * 30
    with desk.sessions.begin() as session:
        meter = session.get_one(Meter, uuid.UUID(things.meters["Field set A"]))
        meter.link, meter.token_hash = "sdi12", token_hash(token)
    client = sign_in(app, "ansa")
    csrf_token = csrf(client, "/practice")
    send = f"/rounds/outings/{uuid.uuid4()}/send"
    for who, path, headers in (
        (app.test_client(), "/link/hello", {"Authorization": f"Bearer {token}"}),
        (app.test_client(), "/link/samples", {"Authorization": f"Bearer {token}"}),
        (app.test_client(), "/link/hello", {"Authorization": "Bearer x\xff"}),
        (client, send, {"X-CSRFToken": csrf_token}),
        (app.test_client(), send, {}),
    ):
        answer = who.post(path, data=body, headers={**headers, "Content-Type": "application/json"})
        assert answer.status_code in (200, 400, 401, 404, 409, 422), (path, answer.status_code)
        assert answer.status_code != 200 or path == "/link/hello"
        assert (
            (answer.json or {}).get("error")
            or (answer.json or {}).get("message")
            or answer.status_code in (200, 400, 401)
        )


@pytest.mark.parametrize("text", ["\x00", "a" * 30_000, "9" * 5000])
def test_hostile_text_before_the_sign_in(app, text):
    client = app.test_client()
    token = csrf(client)
    answer = client.post("/sign-in", data={"csrf_token": token, "username": text, "password": text})
    assert answer.status_code in (401, 422)
    for path in (
        f"/sign-in?next={text[:2000]}",
        "/sign-in?next=%00",
        "/%00",
        "/bench/probes/%00",
        "/records?page=%C2%B2",
    ):
        assert client.get(path).status_code in (200, 302, 400, 404, 422), path


@pytest.mark.parametrize(
    "data",
    [
        b"time,value\n" + b'"' + b"9" * 200_000 + b'",1\n',
        b"time,value\n0001-01-01T00:00,1\n0001-01-02T00:00,1\n",
        b"time,value\n9999-12-31T23:59-14:00,1\n",
        b"time,value\n2026-01-01T00:00," + b"9" * 5000 + b"\n",
        b"time\x00,value\n2026-01-01T00:00,1\n",
        b"time,value\n2026-01-01T00:00,\xc2\xb2\n",
    ],
)
def test_a_hostile_logger_file_is_refused_by_its_line(data):
    with pytest.raises(InputError, match=r"[Ff]ile|first line"):
        series_csv.read(data, "Europe/Oslo")
