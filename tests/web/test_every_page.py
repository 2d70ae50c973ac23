"""Every link of every page of the demo, by both roles, and one reading of each sort: nothing missing, no error of ours."""

import csv
import io
import re
import time
from collections import Counter
from contextlib import contextmanager
from html.parser import HTMLParser

import pytest
from flask import request, request_finished, request_started
from sqlalchemy import event, func, select

from brumel.config import Config
from brumel.store.rounds import Outing
from brumel.store.tables import Dip, Reading, Run, Sample, Visit
from brumel.web import create_app
from brumel.work import bench, rounds, simulator
from tests.conftest import as_app, database_copy
from tests.web.conftest import sign_in
from tests.work import helpers as h


@pytest.fixture(scope="module")
def told_app(server, told_template):
    """The demo with five weeks of history; read only."""
    with database_copy(server, told_template) as url:
        app = create_app(Config(as_app(url), "t" * 40, demo=True, insecure_cookies=True, zone="Europe/Oslo"))
        app.testing = True
        yield app


class Page(HTMLParser):
    """The links of a page, and its forms with the names of their hidden fields."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.links, self.forms = set(), []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        given = dict(attrs)
        if tag in ("a", "img", "script", "link"):
            self.links.add(given.get("href") or given.get("src") or "")
        elif tag == "form":
            self.forms.append((given.get("action", ""), []))
        elif tag == "input" and self.forms and given.get("type") == "hidden":
            self.forms[-1][1].append(given["name"])


#: A form may name these several times; everything else it says once, or the second is silently lost.
LISTS = {"reading", "dip"}


#: What a page may ask of the database; most ask less.
BUDGET, MOST_PAGES = 12, 8


@contextmanager
def asked(app):
    """How many statements the newest request of each endpoint cost, the dearest of each kept: {endpoint: (count, path)}."""
    engine, costs, count = app.extensions["desk"].sessions.kw["bind"], {}, Counter()

    def on_statement(_connection, _cursor, statement, *_):
        # Once a minute, and twice, on whatever page: that a person was seen, and by which clock the practice goes.
        count["now"] += not statement.startswith(
            ("UPDATE sign_ins SET seen_at", "SELECT letterheads.zone, letterheads.first_day")
        )

    def on_start(*_, **__):
        count.clear()

    def on_end(*_, **__):
        costs[request.endpoint] = max(costs.get(request.endpoint, (0, "")), (count["now"], request.path))

    event.listen(engine, "before_cursor_execute", on_statement)
    request_started.connect(on_start, app)
    request_finished.connect(on_end, app)
    yield costs
    event.remove(engine, "before_cursor_execute", on_statement)


@pytest.mark.parametrize(("username", "of_a_sort"), [("ilka", 2), ("ansa", 2)])
def test_every_link_of_every_page_leads_somewhere_at_a_price(told_app, username, of_a_sort):
    client = sign_in(told_app, username)
    with asked(told_app) as costs:
        _walk(client, [*_past(told_app), *(_live(told_app) if username == "ansa" else [])], of_a_sort)
    assert len(costs) > 30
    assert {"rounds.outing", "rounds.field", "rounds.visit", "bench.run"} <= costs.keys()
    dear = {name: cost for name, cost in costs.items() if cost[0] > BUDGET}
    assert not dear
    assert sum(count <= MOST_PAGES for count, _ in costs.values()) > len(costs) / 2, sorted(costs.values())


def _live(app):
    """A cup and a sheet with a probe in the water and samples of it, which no link leads to by itself."""
    desk, things = app.extensions["desk"], h.Things(app.extensions["desk"])
    run = h.start(desk, things, probe="A1")
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["raceway"], probes=[things.probes["A2"]], source="live"
    ).id
    rounds.dip(desk, things.ansa, h.key(), visit_id=visit)
    with desk.sessions.begin() as session:
        simulator.set_truth(session, "clock", {"pace": 60})
    time.sleep(1)
    simulator.pump(desk)
    with desk.read() as session:
        assert session.scalar(select(func.count()).where(Sample.dip_id == Dip.id, Dip.visit_id == visit)) > 20
    return [f"/bench/runs/{run}", f"/rounds/visits/{visit}"]


def _past(app):
    """What no page of today links to: days out, their sheets, runs that have ended."""
    with app.extensions["desk"].read() as session:
        out = session.scalars(select(Outing.id).order_by(Outing.started_at.desc()).limit(2)).all()
        visits = session.scalars(select(Visit.id).order_by(Visit.at.desc()).limit(12)).all()
        runs = session.scalars(select(Run.id).order_by(Run.started_at.desc()).limit(6)).all()
    days = [f"/rounds/outings/{i}{page}" for i in out for page in ("", "/field")]
    return [*days, *(f"/rounds/visits/{i}" for i in visits), *(f"/bench/runs/{i}" for i in runs)]


def _walk(client, past, of_a_sort):
    waiting, seen, shapes = ["/", *past], set(), Counter()
    while waiting:
        path = waiting.pop()
        shape = re.sub(r"[0-9a-f-]{36}|(?<=sources/).*", "*", re.sub(r"=[^&]*", "=", path))
        # Hundreds of readings and printed records are drawn by one hand each; the next test opens one of every sort.
        if path in seen or shapes[shape] >= (1 if path.endswith(".pdf") else of_a_sort):
            continue
        seen.add(path)
        shapes[shape] += 1
        answer = client.get(path, follow_redirects=True)
        assert answer.status_code == 200, (path, answer.status_code)
        if answer.mimetype != "text/html":
            continue
        # Times are by the reader's clock, in what scripts are told too (it stands in attributes); only what is kept as
        # evidence has its words as they were, in ISO 8601.
        assert "UTC" not in re.sub(r"<select.*?</select>|<[^>]+>", " ", answer.text, flags=re.S), path
        assert path.startswith("/records/") or not re.search(r"\d:\d\dZ\b", answer.text), path
        page = Page(answer.text)
        for action, names in page.forms:
            twice = [name for name, n in Counter(names).items() if n > 1 and name not in LISTS]
            assert not twice, (path, action, twice)
        waiting += [link.split("#")[0] for link in page.links if link.startswith("/")]
    assert len(seen) > 120


def test_one_reading_of_each_sort_opens(told_app):
    client = sign_in(told_app, "ansa")
    sort = (Reading.quantity, Reading.entered_as, Reading.role, Reading.backing)
    with told_app.extensions["desk"].read() as session:
        ids = session.scalars(select(Reading.id).distinct(*sort).order_by(*sort, Reading.at)).all()
        entries = set(session.scalars(select(Reading.entered_as).distinct()))
    assert {"live", "derived", "by hand"} <= entries
    assert len(ids) > 25
    told = []
    for reading_id in ids:
        answer = client.get(f"/records/readings/{reading_id}")
        assert answer.status_code == 200, reading_id
        # What it rests on is named once: the link stands where its words name the calibration.
        (behind,) = re.findall(r"calibration</a></th><td>(.*?)</td>", answer.text, re.S)
        named = re.findall(r"calibration \d+", re.sub(r"<[^>]+>", "", behind))
        assert len(named) == len(set(named)), behind
        told += [("/records/calibrations/" in behind, bool(named))]
    assert {(True, True), (False, False)} <= set(told)


def test_the_csv_says_what_every_value_rests_on(told_app):
    client = sign_in(told_app, "ilka")
    rows = list(csv.DictReader(io.StringIO(client.get("/records/readings.csv").text)))

    def of(quantity):
        return [r for r in rows if r["quantity"] == quantity]

    assert {r["reference_temperature"] for r in of("conductivity") + of("solids")} == {"25 °C"}
    assert {r["reference_temperature"] for r in of("ph") + of("oxygen")} == {"sample temperature"}
    assert all(r["compensation"] for r in of("conductivity"))
    assert {r["unit"] for r in of("saturation")} == {"%"}
    assert all(500 < float(r["pressure_hpa"]) < 1100 for r in of("saturation"))
    assert {r["tds_factor"] for r in of("solids")} <= {"0.5", "0.64", "0.65", "0.7"}
    assert {r["reference_electrode"] for r in of("redox")} == {"agcl-3m", "agcl-saturated"}
    assert {r["reference_electrode"] for r in of("eh")} <= {"standard hydrogen electrode"}
    assert {r["depth_m"] for r in rows} > {"", "1.0"}
    assert {r["role"] for r in rows} <= {"first", "second", "repeat"}
    decided = [r for r in rows if r["decided_by"]]
    assert decided
    assert {(r["read_by"], r["decided_by"]) for r in decided} == {("Ansa Merrik", "Ilka Torvend")}
    assert {r["read_by"] for r in rows} == {"Ansa Merrik"}
    assert any(r["signed_by"] and re.fullmatch(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\dZ", r["signed_utc"]) for r in rows)
    assert {"met", "near", "exceeded"} & {r["limit_outcome"] for r in rows}
    assert {r["zone"] for r in rows} == {"Europe/Oslo"}


def test_open_runs_cost_today_nothing_each(app, client, desk, clock):
    things = h.Things(desk)
    while "data-plan" not in client.get("/").text:  # a day with a round
        clock.on(hours=8)
        client = sign_in(app, "ansa")
    prices = []
    with asked(app) as costs:
        for probe in ("A1", "A2", "B1"):
            h.start(desk, things, probe, source="typed" if probe == "B1" else "live")
            client.get("/")
            costs.clear()
            client.get("/")
            prices.append(costs["today.show"][0])
    assert len(set(prices)) == 1, prices
    assert prices[0] <= BUDGET
