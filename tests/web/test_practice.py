"""Practice worlds beside the real record: apart in every list, export and API; findings, debrief, skills and scenarios."""

import io
import re
import uuid
import zipfile

import psycopg
import pypdf
import pytest
import yaml
from sqlalchemy import select

from brumel.methods.scenarios import load_scenarios
from brumel.store import practice_world
from brumel.store.archive import pack
from brumel.store.backup import backup
from brumel.store.cluster import program
from brumel.store.tables import Calibration, User
from brumel.web.practice.world import CLOSED
from brumel.work.practice import proving, skills, writing
from tests.web.conftest import csrf, sign_in
from tests.web.test_api import Caller
from tests.work import helpers as h
from tests.work.practice_player import Player

WORLD = "/practice/world"
#: How the things of this scenario are called; nothing real is.
NAMES = ("Practice oxygen probe", "Practice set", "Practice raceway", "Practice waters")


def post(client, path, token_of="/practice", **data):
    token = csrf(client, token_of)
    return client.post(path, data={"csrf_token": token, "key": str(uuid.uuid4()), **data})


def begin(client, key="ph-first", source="live", **more):
    answer = post(client, "/practice", scenario=key, source=source, pace="1", hints="yes", **more)
    assert answer.location == f"{WORLD}/table", answer.text
    return answer


def act(client, what, on="", **more):
    token = csrf(client, f"{WORLD}/table")
    data = {"csrf_token": token, "key": str(uuid.uuid4()), "what": what, "on": on, **more}
    return client.post(f"{WORLD}/table/act", data=data, headers={"Accept": "application/json"})


def person(app, name="ansa"):
    with app.extensions["desk"].read() as session:
        return session.scalars(select(User).where(User.username == name)).one()


@pytest.fixture
def played(begun, app):
    """An attempt with a calibration of before, readings of before, and one of now; and its finding."""
    begun(_played)
    return app


def _played(desk):
    Player(desk, h.Things(desk).ansa, "do-still").play()


def test_a_world_shows_its_own_and_the_real_pages_show_nothing_of_it(played):
    client = sign_in(played, "ansa")
    for path in ("/", "/bench", "/kit", "/rounds", "/records", "/records/readings", "/worksheet", "/table"):
        there = client.get(WORLD + path)
        assert there.status_code == 200, path
        assert "nothing here is real" in there.text, path
        assert "pH probe A1" not in there.text, path
        assert "Raceway 3" not in there.text, path
    assert NAMES[0] in client.get(WORLD + "/kit").text
    assert NAMES[2] in client.get(WORLD + "/rounds").text
    assert "pH probe A1" in client.get("/kit").text


def test_nothing_of_practice_is_in_any_list_export_feed_or_file_of_the_real_record(played, database_url, tmp_path):
    calls = [Caller(played, who=who) for who in ("ansa", "ilka")]
    clients = [sign_in(played, name) for name in ("ansa", "ilka")]
    seen = 0
    for rule in played.url_map.iter_rules():
        if "GET" not in rule.methods or rule.arguments or rule.endpoint.startswith(("practice.", "static")):
            continue
        for client in clients:
            text = client.get(rule.rule).get_data(as_text=True)
            seen += bool(text)
            assert not [n for n in NAMES if n in text], rule.rule
    for caller in calls:
        for path in ("/sites", "/probes", "/lots", "/calibrations", "/readings", "/visits", "/series", "/due"):
            assert not [n for n in NAMES if n in caller.get(path).get_data(as_text=True)], path
    for query in ("/records/readings.csv", "/records/export?kind=package", "/kit/due.ics"):
        assert not [n for n in NAMES if n.encode() in clients[1].get(query).data], query
    assert seen > 40

    out = io.BytesIO()
    pack(database_url, out)
    with zipfile.ZipFile(out) as packed:
        tables = {n: packed.read(n).decode("utf-8", "replace") for n in packed.namelist()}
    told = [n for n, text in tables.items() if any(name in text for name in NAMES) and "practice_" not in n]
    assert told == []  # what was tried stays with its person, in tables of its own
    file = tmp_path / "all.dump"
    backup(database_url, file)
    import subprocess

    listed = subprocess.run([program("pg_restore"), "--list", str(file)], capture_output=True, text=True, check=True)
    assert "practice_attempts" in listed.stdout
    assert practice_world.name_of(person(played).id) not in listed.stdout


def test_a_world_is_its_person_s_and_hands_nothing_over(played):
    other = sign_in(played, "ilka")
    assert other.get(WORLD + "/bench").location == "/practice"  # she has no world
    client = sign_in(played, "ansa")
    for rule in played.extensions["worlds"]().url_map.iter_rules():
        first = re.sub(r"<any\((\w+)[^>]*>", r"\1", rule.rule)
        path = WORLD + re.sub(r"<[^>]+>", str(uuid.uuid4()), first)
        if rule.endpoint in CLOSED:
            code = (client.get if "GET" in rule.methods else client.post)(path).status_code
            assert code in (400, 403), rule.endpoint
    for path in ("/account", "/people", "/documents", "/jobs", "/practice", "/api/v1/sites"):
        answer = client.get(WORLD + path)
        assert answer.status_code in (302, 401, 404), path
        assert not (answer.location or "").startswith(WORLD), path
    token = csrf(client, WORLD + "/table")
    assert client.post(WORLD + "/account/password", data={"csrf_token": token}).status_code == 403


def test_nobody_puts_a_fault_on_a_real_probe(played):
    """The owner alone makes a world, its name is made of a person's id, and the role of the pages sees no other's truth."""
    assert not [r.rule for r in played.url_map.iter_rules() if "meter" in r.rule and r.endpoint.startswith("practice")]
    desk = played.extensions["desk"]
    with desk.sessions.begin() as session, pytest.raises(Exception, match="for a person"):
        practice_world.make(session, uuid.uuid4())
    with desk.read() as session:
        assert session.scalars(select(Calibration)).all() == []  # the one of the play stands in its world
    with practice_world.sessions_in(desk.sessions.kw["bind"], person(played).id)() as session:
        assert len(session.scalars(select(Calibration)).all()) >= 1


def test_worlds_are_dropped_by_a_migration_and_made_anew_at_will(played, database_url):
    from brumel.store.migrate import migrate

    client = sign_in(played, "ansa")
    url = database_url.replace("+psycopg", "")
    count = "select count(*) from pg_namespace where nspname like 'practice\\_%'"
    with psycopg.connect(url) as connection:
        assert connection.execute(count).fetchone() == (1,)
    migrate(database_url)
    with psycopg.connect(url) as connection:
        assert connection.execute(count).fetchone() == (0,)
    assert client.get(WORLD + "/bench").location == "/practice"
    begin(client)
    assert client.get(WORLD + "/bench").status_code == 200
    assert post(client, "/practice/leave").location == "/practice"
    assert client.get(WORLD + "/bench").location == "/practice"


@pytest.mark.parametrize(
    ("what", "on", "more", "words"),
    [
        ("pour", "nothing", {}, "Choose a bottle"),
        ("lower", "Z", {}, "Choose a cup or a place"),
        ("lower", "water", {}, "no site"),
        ("rinse", "", {"probe": "x"}, "Choose a probe"),
        ("fly", "", {}, "not done at this table"),
        ("wait", "", {"amount": "nan"}, "number"),
        ("wait", "", {"amount": "1e9"}, "1 second to 48 hours"),
        ("wait", "", {}, "1 second to 48 hours"),
        ("stir", "", {}, "nothing to stir"),
        ("test_kit", "", {}, "nothing here to test"),
    ],
)
def test_what_cannot_be_done_at_the_table_is_a_sentence(client, what, on, more, words):
    begin(client)
    answer = act(client, what, on, **more)
    assert answer.status_code == 422
    assert words in answer.json["fault"]


def test_a_finding_is_given_once_and_only_when_the_work_is_done(app):
    client, other = sign_in(app, "ansa"), sign_in(app, "ilka")
    begin(client)
    path = re.search(r'href="/practice/world(/practice/attempts/[^"]+)"', client.get(f"{WORLD}/table").text).group(1)
    whole = {"cause": "healthy", "sure": "certain", "next": "use"}
    assert "Finish or abandon a run" in post(client, path, **whole).text
    wrong = post(client, path, cause="gremlin", sure="", next="fly").text
    for words in ("Choose what you found", "how sure", "done next"):
        assert words in wrong
    assert post(other, path, **whole).status_code == 422  # the lead may look, not answer
    assert "still at it" in other.get(path).text
    player = Player(app.extensions["desk"], person(app), "ph-first")
    assert player.play()[0]
    done = f"/practice/attempts/{player.attempt}"
    assert "Passed" in client.get(done).text
    assert post(client, done, **(whole | {"cause": "dry_bulb"})).status_code == 302
    assert "Passed" in client.get(done).text
    assert "cleared away" in post(client, path, **whole).text  # its table is another's now


def test_skills_are_signed_asked_for_and_taken_back(app, clock):
    lead, client, desk = sign_in(app, "ilka"), sign_in(app, "ansa"), app.extensions["desk"]
    ansa = str(person(app).id)
    page = f"/practice/skills/{ansa}"
    assert post(lead, f"{page}/assign", scenario="ph-first", words="Before Monday.").status_code == 302
    assert "Before Monday" in client.get("/practice").text
    Player(desk, person(app), "ph-first").play()
    assert "Given to you" not in client.get("/practice").text
    assert client.get(f"/practice/skills/{person(app, 'ilka').id}").status_code == 404  # others' are for the lead
    hers = Player(desk, person(app, "ilka"), "ph-first")
    assert client.get(f"/practice/attempts/{hers.attempt}").status_code == 404
    wrong = post(lead, f"{page}/sign", skill="ph:fly", until="2020-01-01", name="Ilka Torvend", words="")
    assert wrong.status_code == 422
    assert post(client, f"{page}/sign", skill="ph:calibrate", name="Ansa Merrik").status_code == 403
    things = h.Things(desk)
    start = {"method": "ph-7-4-10", "source": "live"} | {f"cup-{k}": v for k, v in things.cups().items()}
    bench = f"/bench/probes/{things.probes['A1']}"
    assert post(lead, "/practice/rule", asks="block").status_code == 302
    assert "not signed to calibrate pH alone" in post(client, bench, **start).text
    signed = post(
        lead, f"{page}/sign", skill="ph:calibrate", until="2027-01-01", name="Ilka Torvend", words="Clean work."
    )
    assert signed.status_code == 302
    assert post(client, bench, **start).status_code == 302
    pdf = client.get(f"/practice/signings/{signed.location.split('#')[1]}.pdf")
    text = pypdf.PdfReader(io.BytesIO(pdf.data)).pages[0].extract_text()
    assert "Ansa Merrik may calibrate pH alone" in text
    assert "first steps" in text
    assert post(lead, f"/practice/signings/{signed.location.split('#')[1]}/end", reason="").status_code == 422
    rare = post(lead, f"{page}/sign", skill="redox:decide", until="2027-01-01", name="Ilka Torvend", words="Seen.")
    assert (
        lead.get(f"/practice/signings/{rare.location.split('#')[1]}.pdf").status_code == 200
    )  # no scenario teaches it
    assert "Decide about readings of ORP" in lead.get(page).text
    assert (
        post(lead, f"/practice/signings/{signed.location.split('#')[1]}/end", reason="Two weeks ill.").status_code
        == 302
    )
    assert client.get(f"/practice/signings/{signed.location.split('#')[1]}.pdf").status_code == 422
    with desk.read() as session:
        of_ph = next(
            s for s in skills.skills_of(session, person(app), clock()) if (s.quantity, s.task) == ("ph", "calibrate")
        )
        assert (of_ph.reached, of_ph.age, of_ph.signing) == (1, "fresh", None)
    clock.on(days=200)
    with desk.read() as session:
        later = next(
            s for s in skills.skills_of(session, person(app), clock()) if (s.quantity, s.task) == ("ph", "calibrate")
        )
        assert later.age == "fading"


def test_the_lead_writes_scenarios_and_hears_every_fault(app):
    lead, desk = sign_in(app, "ilka"), app.extensions["desk"]
    text = re.search(
        r'<textarea name="text"[^>]*>(.*?)</textarea>', lead.get("/practice/scenarios/ph-first").text, re.S
    )
    body = yaml.safe_load(text.group(1).replace("&#34;", '"').replace("&#39;", "'").replace("&amp;", "&"))
    broken = body | {"grade": 7, "cause": "gremlin", "minutes": -1}
    answer = post(lead, "/practice/scenarios/ph-first", turn="0", text=yaml.safe_dump(broken))
    assert answer.status_code == 422
    for words in ("grade", "minutes"):
        assert words in answer.text
    assert "not readable as YAML" in post(lead, "/practice/scenarios/ph-first", turn="0", text="a: [").text
    own = yaml.safe_dump(body | {"key": "ph-own", "title": "Our own first steps"})
    assert post(lead, "/practice/scenarios/ph-first", turn="0", text=own).status_code == 302
    assert "Our own first steps" in sign_in(app, "ansa").get("/practice").text
    stale = post(lead, "/practice/scenarios/ph-own", turn="0", text=own)
    assert "changed meanwhile" in stale.text
    assert post(lead, "/practice/scenarios/ph-own", turn="1", text=own, in_use="no").status_code == 302
    with desk.read() as session:
        assert [v.in_use for v in writing.versions(session, "ph-own")] == [False, True]
    assert "Our own first steps" not in sign_in(app, "ansa").get("/practice").text
    assert sign_in(app, "ansa").get("/practice/scenarios").status_code == 403


@pytest.mark.parametrize(
    ("part", "change", "words"),
    [
        ("probes", {"p": {"about": {"bogus": 1}}}, "probes.p.about.bogus: is not one of kind"),
        ("probes", {"p": {"about": {"kind": "x" * 500}}}, "probes.p.about.kind: must be a word"),
        ("probes", {"p": {"now": {"slope": "steep"}}}, "probes.p.now.slope"),
        ("probes", {"p": {"now": {"slop": 1.0}}}, "probes.p.now.slop: is nothing this sensor has"),
        ("probes", {"p": {"now": {"tau_s": 0}}}, "shows no number"),
        ("probes", {"p": {"now": {"faults": ["gremlin"]}}}, "“gremlin” is not one of dry_bulb"),
        ("probes", {"p": {"mended": {"pray": ["bubble"]}}}, "probes.p.mended.pray: is not one of clean"),
        ("bottles", {"b7": {"measures": {"ph": {"family": "nope"}}}}, "bottles.b7.measures.ph"),
        ("bottles", {"b7": {"measures": {"ph": {"u": "wide"}}}}, "bottles.b7.measures: must say family"),
        ("bottles", {"b7": {"measures": {"taste": {}}}}, "bottles.b7.measures.taste"),
        ("bottles", {"b7": {"truly": {"colour": 1}}}, "bottles.b7.truly.colour"),
        ("meter", {"settings": {"reference_c": "hot"}}, "meter.settings: "),
        ("site", {"name": "Practice x", "truly": {"ph": [7, 8], "layers": {"x": 1}}}, "site.truly.layers"),
        ("site", {"name": "Practice x", "ranges": {"ph": {"gross": [1, 2]}}}, "site.ranges.ph: must say"),
        ("method", "ph-7-4-10", "none of them fits “pH 10 buffer”"),
    ],
)
def test_a_scenario_no_table_can_be_laid_by_is_not_saved(app, part, change, words):
    body = load_scenarios()["ph-first"].model_dump(mode="json", exclude_defaults=True)
    for key, value in change.items() if isinstance(change, dict) else ():
        inner = body.setdefault(part, {}).get(key)
        body[part][key] = inner | value if isinstance(inner, dict) else value
    if not isinstance(change, dict):
        body[part] = change
    answer = post(sign_in(app, "ilka"), "/practice/scenarios/ph-first", turn="0", text=yaml.safe_dump(body))
    assert answer.status_code == 422
    assert words in answer.text


def test_every_shipped_scenario_can_be_laid():
    for scenario in load_scenarios().values():
        proving.check(scenario)


def test_a_second_send_of_a_beginning_leaves_the_table_as_it_stands(client):
    data = {"csrf_token": csrf(client, "/practice"), "key": str(uuid.uuid4()), "scenario": "ph-first"}
    data |= {"source": "live", "pace": "1", "hints": "yes"}
    for _ in range(2):
        assert client.post("/practice", data=data).location == f"{WORLD}/table"
        act(client, "pour", "b7")
    assert "cup B" in client.get(f"{WORLD}/table").text
    assert client.post("/practice", data=data | {"key": str(uuid.uuid4()), "pace": "7"}).status_code == 422


def test_the_tour_leads_from_one_thing_to_the_next(app):
    client = sign_in(app, "ansa")
    begin(client)
    told = []
    for what, on in (("inspect", ""), ("pour", "b7")):
        told.append(re.search(r"<b>Next:</b> ([^<]+)", client.get(f"{WORLD}/table").text).group(1))
        assert act(client, what, on).status_code == 200
    assert told[0].startswith("Look before you work")
    assert told[1].startswith("Go to Bench")
    Player(app.extensions["desk"], person(app), "ph-first").calibrate()
    assert "Say what you found." in client.get(f"{WORLD}/table").text  # it comes after what was done last
    begin(client, "ph-clogged")
    assert "<b>Next:</b>" not in client.get(f"{WORLD}/table").text


def test_the_tour_is_offered_to_who_is_new_until_they_say(app):
    client, desk = sign_in(app, "ansa"), app.extensions["desk"]
    assert "Begin the first hour" not in client.get("/").text
    with desk.sessions.begin() as session:
        session.get_one(User, person(app).id).tour = ""
    assert "Begin the first hour" in client.get("/").text
    assert post(client, "/practice/tour", how="sideways").status_code == 422
    assert post(client, "/practice/tour", how="declined").location == "/"
    assert "Begin the first hour" not in client.get("/").text
