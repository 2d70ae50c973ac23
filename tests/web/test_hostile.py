"""Every writing route with every kind of rubbish: a sentence or a refusal, never an error of ours, and nothing written."""

import random
import re
import uuid

import pytest
from sqlalchemy import func, select

from brumel.store.tables import Audit
from brumel.work import rounds
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
WORDS = {"site.retire", "meter.battery", "probe.retire", "method.retire"}


@pytest.mark.parametrize("seed", range(4))
def test_rubbish_in_every_field_of_every_form(app, clock, seed):
    desk = app.extensions["desk"]
    things = h.Things(desk)
    run = h.start(desk, things)
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["pool"], probes=[things.probes["B1"]], source="typed"
    )["visit"]
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
    token = csrf(client, "/practice/meter")
    with desk.read() as session:
        before = session.scalar(select(func.count()).select_from(Audit))
    for rule in app.url_map.iter_rules():
        if "POST" not in rule.methods or rule.endpoint in ("auth.sign_out", "auth.sign_in"):
            continue
        for _ in range(6):
            ids = {name: chance.choice([real.get(name, "x"), chance.choice(RUBBISH[8:14])]) for name in rule.arguments}
            path = re.sub(r"<(?:\w+:)?(\w+)>", lambda m, ids=ids: ids[m.group(1)].replace("/", "%2F"), rule.rule)
            data = {name: chance.choice(RUBBISH) for name in FIELDS if chance.random() < 0.8}
            if chance.random() < 0.7:
                data["key"] = str(uuid.uuid4())
            answer = client.post(path, data={**data, "csrf_token": token})
            assert answer.status_code in (302, 303, 308, 400, 403, 404, 405, 409, 413, 422), (
                path,
                data,
                answer.status_code,
            )
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
        "practice.meter",
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
    )
    for rule in app.url_map.iter_rules():
        if "GET" not in rule.methods or rule.endpoint == "static":
            continue
        for _ in range(5):
            path = re.sub(
                r"<[^>]+>", lambda _m: chance.choice(["x", "oxygen", str(uuid.uuid4()), "%00", "a" * 300]), rule.rule
            )
            query = {name: chance.choice(RUBBISH) for name in names if chance.random() < 0.6}
            answer = client.get(path, query_string=query)
            assert answer.status_code in (200, 302, 400, 404, 422), (path, query, answer.status_code)
