"""The API under tokens: what it says of itself holds for whatever is sent, by a fuzzer that reads its own description."""

import json
import uuid
from datetime import UTC, datetime, timedelta

import jsonschema
import pytest
import schemathesis
from hypothesis import HealthCheck, assume, given, settings
from openapi_spec_validator import OpenAPIV31SpecValidator
from schemathesis.specs.openapi.checks import positive_data_acceptance
from sqlalchemy import func, select

from brumel.core.errors import InputError
from brumel.store.logger import LoggerSeries
from brumel.store.tables import Reading, Visit
from brumel.web.api import routes
from brumel.web.records import exporting
from brumel.work import kit, records
from brumel.work.people import tokens
from tests.conftest import database_copy
from tests.web.conftest import made_app, sign_in
from tests.work import helpers as h


class Caller:
    """A program with a token."""

    def __init__(self, app, scopes=tuple(tokens.SCOPES), who="ansa", days=30):
        self.app, self.client, desk = app, app.test_client(), app.extensions["desk"]
        person = getattr(h.Things(desk), who)
        self.token = tokens.make_token(desk, person, h.key(), name="a program", scopes=scopes, days=days)
        self.headers = {"Authorization": f"Bearer {self.token.token}"}

    def get(self, path, **asked):
        return self.client.get(f"/api/v1{path}", query_string=asked, headers=self.headers)

    def post(self, path, body, key=None):
        headers = self.headers | {"Idempotency-Key": str(key or uuid.uuid4())}
        return self.client.post(f"/api/v1{path}", json=body, headers=headers)


@pytest.fixture(scope="module")
def told_app(server, told_template):
    """The application with a history of five weeks, and no limit on how often one may ask."""
    with database_copy(server, told_template) as url:
        app = made_app(url)
        app.config["RATELIMIT_ENABLED"] = False
        yield app


@pytest.fixture(scope="module")
def program(told_app):
    return Caller(told_app)


@pytest.fixture(scope="module")
def api_schema(told_app):
    return schemathesis.openapi.from_wsgi("/api/v1/openapi.json", told_app)


@pytest.mark.parametrize("op", routes.OPERATIONS, ids=lambda op: op.name)
def test_whatever_is_sent_the_answer_is_as_described(op, api_schema, program):
    """No server error, no status, type or body but the described ones, and wrong input is refused [schemathesis]."""
    strategy = api_schema[op.path][op.method].as_strategy()
    wrong = api_schema[op.path][op.method].as_strategy(generation_mode=schemathesis.GenerationMode.NEGATIVE)

    @settings(max_examples=40, derandomize=True, deadline=None, suppress_health_check=list(HealthCheck))
    @given(strategy | wrong)
    def each(case):
        assume(all(value not in ([], {}) for value in (case.query or {}).values()))  # such are never sent
        # What is well formed may still be refused: a mark that no page gave, a pH of 40, a site that is not there.
        headers = program.headers | {"Accept-Encoding": "identity"}
        case.call_and_validate(headers=headers, excluded_checks=[positive_data_acceptance])

    each()


def test_the_description_is_valid_openapi_and_names_every_route(told_app):
    described = told_app.test_client().get("/api/v1/openapi.json").json
    OpenAPIV31SpecValidator(described).validate()
    routes = {
        (rule.rule.removeprefix("/api/v1"), method.lower())
        for rule in told_app.url_map.iter_rules()
        if rule.endpoint.startswith("api.") and rule.endpoint != "api.openapi"
        for method in rule.methods & {"GET", "POST", "PUT", "DELETE"}
    }
    named = {
        (path.replace("{", "<").replace("}", ">"), method)
        for path, operations in described["paths"].items()
        for method in operations
    }
    assert named == routes


def test_every_list_is_leafed_through_whole_and_each_row_once(told_app, program):
    with told_app.extensions["desk"].read() as session:
        there = {
            "/visits": session.scalar(select(func.count(Visit.id))),
            "/calibrations": len(records.calibration_ids(session, records.Search())),
            "/readings": records.count(session, records.Search()),
            "/series": session.scalar(select(func.count(LoggerSeries.id))),
        }
    for path, count in there.items():
        seen, after = [], ""
        while after is not None:
            page = program.get(path, size=97, **({"after": after} if after else {})).json
            seen += page["items"]
            after = page["after"]
        times = [row.get("at") or row["starts"] for row in seen]
        assert (len(seen), len({row["id"] for row in seen})) == (count, count), path
        assert times == sorted(times), path
    first = program.get("/readings", size=1).json["items"][0]
    narrowed = program.get("/readings", site_id=first["site_id"], quantity=first["quantity"], until=times[-1]).json
    assert {(r["site_id"], r["quantity"]) for r in narrowed["items"]} == {(first["site_id"], first["quantity"])}
    assert program.get("/readings", written_since="2099-01-01T00:00:00Z").json == {"items": [], "after": None}


def test_a_whole_record_says_what_its_page_says(told_app, program):
    number = program.get("/calibrations", size=1).json["items"][0]
    record = program.get(f"/calibrations/{number['id']}").json
    with told_app.extensions["desk"].read() as session:
        row = records.calibration(session, number["id"])
        assert record["probe"] == row.run.probe.name
        assert [c["outcome"] for c in record["verdict"]] == [c["outcome"] for c in row.verdict["rows"]]
        assert record["fit"] == row.fit
        trust = kit.trusts(session, [row.run.probe], told_app.extensions["desk"].clock())[row.probe_id]
    assert {"zero", "adjust", "check", "found", "left"} >= {p["role"] for p in record["points"]}
    probe = program.get(f"/probes/{row.probe_id}").json
    assert (probe["valid"], probe["ways_of_entering"]["ph"]) == (trust.valid, "") if probe["quantity"] == "ph" else True


def test_a_calibration_record_is_what_its_published_schema_says(told_app, program):
    """On its page, by the API, and by the schema [JSON Schema 2020-12]."""
    reader = sign_in(told_app, "ansa")
    schema = reader.get("/glossary/formats/calibration.schema.json").json
    validator = jsonschema.Draft202012Validator(schema, format_checker=jsonschema.FormatChecker())
    validator.check_schema(schema)
    for row in program.get("/calibrations", size=40).json["items"]:
        record = program.get(f"/calibrations/{row['id']}").json
        validator.validate(record)
    assert reader.get(f"/records/calibrations/{row['id']}.json").json == record
    assert list(validator.iter_errors(record | {"number": "seven"}))


def test_every_open_format_leaves_the_page_of_what_was_found(told_app):
    reader = sign_in(told_app, "ilka")
    recent = f"since={(datetime.now(UTC) - timedelta(days=6)):%Y-%m-%d}"
    for name, form in exporting.OPEN_FORMATS.items():
        answer = reader.get(f"/records/open/{name}?{recent}")
        assert (answer.status_code, answer.mimetype) == (200, form.kind), name
        assert reader.get(f"/glossary/formats/sample/{name}").status_code == 200
        # Too much for a page to wait for is a job, which makes the same file.
        assert reader.get(f"/records/open/{name}").status_code in (200, 422)
    assert reader.get(f"/records/open/datapackage?{recent}&licence=mine").status_code == 422
    assert reader.get("/records/open/spreadsheet").status_code == 404
    with told_app.test_request_context():
        steps = []
        done = exporting.write_openly(None, {"format": "geojson"}, lambda n, of: steps.append((n, of)))
        assert len(json.loads(done.body)["features"]) == steps[-1][0] == steps[-1][1]
        with pytest.raises(InputError):
            exporting.check_open({"format": "spreadsheet"})


@pytest.fixture
def things(app):
    return h.Things(app.extensions["desk"])


def visit_of(things, clock, **more):
    reading = {"probe_id": things.probes["A1"], "value": 7.32, "entered_as": "ph"}
    one = {"at": clock().isoformat(), "temperature_c": 11.4, "readings": [reading]} | more
    return {"site_id": things.sites["raceway"], "sets": [one]}


def test_a_visit_is_written_once_by_its_key(app, desk_of, things, clock):
    program, key = Caller(app), uuid.uuid4()
    sent = visit_of(things, clock) | {"note": "ice at the edge"}
    kept = program.post("/visits", sent, key)
    assert (kept.status_code, kept.json.get("readings")) == (201, 2), kept.json
    assert program.post("/visits", sent, key).json == kept.json
    visit = program.get(f"/visits/{kept.json['id']}").json
    assert (visit["by"], visit["note"], len(visit["readings"])) == ("Ansa Merrik", "ice at the edge", 2)
    reading = next(r for r in visit["readings"] if r["quantity"] == "ph")  # the other one is the temperature
    assert (reading["value"], reading["unit"], reading["backing"], reading["signed"]) == (7.32, "pH", "unbacked", False)
    with desk_of.read() as session:
        assert session.scalar(select(func.count(Reading.id))) == 2
    # Another program's use of the same key is refused, not answered; so is other content under it.
    assert Caller(app, who="ilka").post("/visits", sent, key).status_code == 409
    other = program.post("/visits", visit_of(things, clock) | {"note": "no ice"}, key)
    assert (other.status_code, "other content" in other.json["detail"]) == (409, True)
    assert program.post("/visits", sent, "not-a-uuid").status_code == 422


@pytest.fixture
def desk_of(app):
    return app.extensions["desk"]


def test_what_is_odd_is_asked_by_code_and_answered_by_it(app, things, clock):
    program = Caller(app)
    odd = visit_of(things, clock, readings=[{"probe_id": things.probes["A1"], "value": 11.9, "entered_as": "ph"}])
    refused = program.post("/visits", odd)
    assert (refused.status_code, refused.mimetype) == (422, "application/problem+json")
    questions = refused.json["questions"]
    assert questions
    assert all(q["set"] == 0 and q["code"].startswith("ph:") and q["detail"] for q in questions)
    odd["sets"][0]["answers"] = {q["code"]: "lime was spread upstream this morning" for q in questions}
    assert program.post("/visits", odd).status_code == 201


WRONG = (
    ({"site_id": str(uuid.UUID(int=7))}, 404, "no such site"),
    ({"sets": []}, 422, "at least 1"),
    ({"colour": "green"}, 422, "colour"),
    ({"set": {"at": "2026-05-12T06:30:00"}}, 422, "timezone"),
    ({"set": {"at": "2031-05-12T06:30:00Z"}}, 422, "future"),
    ({"set": {"at": "2020-05-12T06:30:00Z"}}, 422, "days ago"),
    ({"set": {"temperature_c": 480.0}}, 422, "emperature"),
    ({"set": {"depth_m": -3.0}}, 422, "epth"),
    ({"reading": {"value": 15.2}}, 422, "pH"),
    ({"reading": {"entered_as": "us_cm_ref"}}, 422, ""),
    ({"reading": {"probe_id": str(uuid.UUID(int=7))}}, 404, "no such probe"),
    ({"reading": {"value": "NaN"}}, 422, "value"),
)


@pytest.mark.parametrize(("change", "status", "words"), WRONG)
def test_wrong_visits_are_refused_with_a_sentence_and_leave_nothing(app, desk_of, things, clock, change, status, words):
    sent = visit_of(things, clock)
    sent["sets"][0]["readings"][0].update(change.pop("reading", {}))
    sent["sets"][0].update(change.pop("set", {}))
    answer = Caller(app).post("/visits", sent | change)
    assert (answer.status_code, answer.mimetype) == (status, "application/problem+json"), answer.text
    assert words in answer.json["detail"]
    with desk_of.read() as session:
        assert session.scalar(select(func.count(Visit.id))) == 0


def test_a_token_opens_its_scopes_for_its_person_until_it_ends(app, clock, things):
    narrow = Caller(app, scopes=["sites"])
    assert narrow.get("/sites").status_code == 200
    for path, scope in (("/probes", "kit"), ("/readings", "records"), ("/due", "due")):
        answer = narrow.get(path)
        assert (answer.status_code, scope in answer.json["detail"]) == (403, True)
    assert narrow.post("/visits", visit_of(things, clock)).status_code == 403
    for headers in ({}, {"Authorization": "Basic eDp5"}, {"Authorization": "Bearer brml_guess"}):
        answer = app.test_client().get("/api/v1/sites", headers=headers)
        assert (answer.status_code, "WWW-Authenticate" in answer.headers) == (401, True)
    assert (
        sign_in(app, "ilka").get("/api/v1/sites").status_code == 401
    )  # a cookie is no token: no forged request either
    clock.on(days=31)
    assert narrow.get("/sites").status_code == 401


def test_whatever_goes_wrong_under_its_address_is_a_problem_document(app):
    program = Caller(app)
    for answer in (program.get("/nothing"), program.client.delete("/api/v1/sites", headers=program.headers)):
        assert (answer.mimetype, answer.json["status"]) == ("application/problem+json", answer.status_code)
    too_much = program.client.post("/api/v1/visits", data=b"x" * 1_100_000, headers=program.headers)
    assert too_much.status_code in (413, 422)
    codes = [program.get("/openapi.json").status_code for _ in range(3)]
    assert codes == [200] * 3


def test_one_address_is_answered_so_often_and_no_oftener(app, monkeypatch):
    program = Caller(app, scopes=["sites"])
    codes = [program.get("/sites").status_code for _ in range(602)]
    assert codes.count(200) == 600
    assert program.get("/sites").json["title"] == "Too Many Requests"
