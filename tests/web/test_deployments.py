"""Deployments on their pages: planned with mistakes, followed, a file mapped, a channel signed, a feed watched."""

import csv
import html
import io
import json
import re
import zipfile
from datetime import UTC, datetime, timedelta
from xml.etree import ElementTree

import pytest
from sqlalchemy import select

from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Channel, Deployment
from brumel.work.records import telling
from brumel.work.rounds import deployments as dep
from tests.web.conftest import csrf, sign_in
from tests.work import helpers as h

ZONE_HOURS = 2  # Oslo in May
EVERY = timedelta(minutes=30)


class Pages:
    """A signed-in person who fills in forms."""

    def __init__(self, app, who):
        self.app, self.who, self._client = app, who, sign_in(app, who)

    @property
    def client(self):
        """Signed in anew where the session ran out between two visits."""
        if self._client.get("/rounds").status_code == 302:
            self._client = sign_in(self.app, self.who)
        return self._client

    def post(self, path, _json=False, **data):
        client = self.client
        sent = {"csrf_token": csrf(client, "/rounds"), "key": str(h.key())} | data
        headers = {"Accept": "application/json"} if _json else {}
        return client.post(path, data=sent, headers=headers, content_type="multipart/form-data")

    def get(self, path):
        return self.client.get(path)


@pytest.fixture
def ansa(app):
    return Pages(app, "ansa")


@pytest.fixture
def ilka(app):
    return Pages(app, "ilka")


def local(at):
    return (at + timedelta(hours=ZONE_HOURS)).strftime("%Y-%m-%dT%H:%M")


@pytest.fixture
def plan(desk, clock):
    things = h.Things(desk)
    return {
        "name": "Reed channel, May",
        "site": things.sites["reed"],
        "meter": things.meters["Bench set B"],
        "interval": "30",
        "interval_unit": "min",
        "planned_start": local(clock.at),
        "planned_end": local(clock.at + timedelta(days=28)),
        "memory_records": "3000",
        "channel_oxygen": "yes",
        "channel_temperature": "yes",
    }


@pytest.fixture
def out(ansa, plan, clock):
    """The path of a deployment that is out and recording."""
    made = ansa.post("/rounds/deployments/plan", **plan)
    path = made.headers["Location"]
    looked_at = [s.key for s in load_deployments().settings]
    assert ansa.post(f"{path}/configure", looked_at=looked_at, at=local(clock.at), ahead_s="0").status_code == 302
    assert ansa.post(f"{path}/start", at=local(clock.at)).status_code == 302
    clock.on(minutes=70)
    first = local(clock.at - timedelta(minutes=40))
    assert ansa.post(f"{path}/confirm", first_at=first, count="2").status_code == 302
    return path


def words(answer):
    return html.unescape(" ".join(re.sub(r"<[^>]+>", " ", answer.text).split()))


def test_a_plan_is_typed_with_mistakes_and_nothing_typed_is_lost(ansa, plan):
    wrong = plan | {"interval": "often", "planned_end": "", "memory_records": "many", "site": "", "name": "Kept"}
    del wrong["channel_oxygen"], wrong["channel_temperature"]
    answer = ansa.post("/rounds/deployments/plan", **wrong)
    assert answer.status_code == 422
    for told in (
        "Choose the site",
        "Lifted on: this is missing",
        "Interval must be a number",
        "memory holds must be a number",
    ):
        assert told in words(answer)
    assert 'value="Kept"' in answer.text
    assert 'value="many"' in answer.text
    made = ansa.post("/rounds/deployments/plan", **plan)
    page = words(ansa.get(made.headers["Location"]))
    assert "Memory full after 62.5 days" in page
    assert "34.5 days are left at the planned end" in page
    assert "its record will have no valid calibration" in page
    assert "Set out the logger “Reed channel, May” at Reed channel" in words(ansa.get("/"))
    assert "Reed channel, May" in words(ansa.get(f"/rounds/sites/{plan['site']}"))


def a_file(begin, count, oxygen=9.0):
    """American dates within one day's reach of doubt, Fahrenheit."""
    rows = ["Date,Time,DO (mg/L),Temp (°F)"]
    for n in range(count):
        at = begin + n * EVERY + timedelta(hours=ZONE_HOURS)
        rows.append(f"{at:%m/%d/%Y,%H:%M},{oxygen + 0.02 * (n % 24):.2f},{53.6 + 0.1 * (n % 9):.1f}")
    return "\n".join(rows).encode()


def bring(pages, path, data, name="logger.csv"):
    return pages.post(f"{path}/files", file=(io.BytesIO(data), name)).headers["Location"]


MAPPED = {"order": "mdy", "zone": "Europe/Oslo"}
MAPPED |= {"column_2": "oxygen", "unit_2": "mg/L", "column_3": "temperature", "unit_3": "°F"}


def test_a_doubtful_file_is_asked_about_mapped_read_and_remembered(ansa, out, clock):
    begin = clock.at
    clock.on(days=14)
    file = bring(ansa, out, a_file(begin, 20))
    asked = words(ansa.get(file))
    assert "Its dates do not show what comes first" in asked
    refused = ansa.post(f"{file}/take", column_2="oxygen", unit_2="mg/L")
    assert refused.status_code == 422
    assert "what comes first" in words(refused)
    assert "which clock the logger ran by" in words(refused)
    wrong = ansa.post(f"{file}/take", **MAPPED | {"unit_3": "mg/L"})
    assert (wrong.status_code, "Temperature" in words(wrong)) == (422, True)
    taken = ansa.post(f"{file}/take", **MAPPED)
    assert taken.status_code == 302
    assert "Records 20, one each 30 min" in words(ansa.get(file))
    with ansa.app.extensions["desk"].read() as session:
        whole = dep.whole_of(session, session.scalar(select(Deployment)))
        found = dep.reported(session, whole, dep.channel_of(whole.deployment, "temperature"))
    assert found.values[0] == pytest.approx(12.0)
    assert found.record.times_s[0] == pytest.approx(begin.replace(second=0).timestamp())
    again = bring(ansa, out, a_file(begin + timedelta(days=1), 20))
    assert "Read as the last file of Bench set B was" in words(ansa.get(again))
    assert ansa.get(f"{file}/as-it-came").data == a_file(begin, 20)
    gone = ansa.post(f"{file}/withdraw", reason="Of another logger")
    assert gone.status_code == 302
    assert "Withdrawn by Ansa" in words(ansa.get(file))


VISIT = {
    "oxygen_before": "8,5", "oxygen_after": "9.0", "oxygen_beside_before": "9.02", "oxygen_beside_after": "9.02",
    "oxygen_standard1_read": "9.10", "oxygen_standard1_value": "9.09", "found": "Brown film", "done": "Cleaned", "turn": "0",
}  # fmt: skip


def test_a_visit_is_kept_by_form_and_from_the_queue_once_and_its_faults_stand_with_their_fields(ansa, out, clock):
    clock.on(days=10)
    seen = ansa.get(f"{out}/service")
    assert seen.headers["X-Brumel-User"]
    assert [seen.text.index(f'id="step-{s.key}"') for s in load_deployments().service]
    times = {"at": local(clock.at), "back_at": local(clock.at + timedelta(minutes=20))}
    clock.on(minutes=30)
    wrong = ansa.post(
        f"{out}/service",
        **VISIT | times | {"oxygen_after": "", "oxygen_standard1_value": "", "battery_percent": "full"},
    )
    assert wrong.status_code == 422
    for told in ("standard 1: its value is missing", "Battery must be a number"):
        assert told in words(wrong)
    assert 'value="8,5"' in wrong.text
    queued = ansa.post(f"{out}/service", _json=True, **VISIT | times | {"oxygen_after": ""})
    assert (queued.status_code, queued.json["faults"][0]["field"]) == (422, "oxygen_after")
    key = str(h.key())
    things = h.Things(ansa.app.extensions["desk"])
    own = ansa.post(f"{out}/service", _json=True, **VISIT | times | {"beside": things.meters["Bench set B"]})
    assert (own.status_code, "is the logger itself" in own.json["message"]) == (422, True)
    named = {"key": key, "beside": things.meters["Field set A"], "oxygen_lot1": next(iter(things.lots.values()))}
    kept = ansa.post(f"{out}/service", _json=True, **VISIT | times | named)
    assert (kept.status_code, kept.json["key"]) == (200, key)
    again = ansa.post(f"{out}/service", _json=True, **VISIT | times | named)
    assert again.json == kept.json
    page = words(ansa.get(kept.json["visit"]))
    assert "Off by 0.51 mg/L in all, beyond the criterion of 0.30 mg/L" in page
    assert "Checking instrument Field set A" in page
    assert f"Standards {next(iter(things.lots))}" in page
    form = ansa.get(f"{out}/service?service={kept.json['visit'].rsplit('/', 1)[1]}").text
    assert 'value="8.5"' in form
    root = kept.json["visit"].rsplit("/", 1)[1]
    mended = ansa.post(
        f"{out}/service", **VISIT | times | {"service": root, "turn": "1", "oxygen_before": "8.9", "reason": "Misread"}
    )
    assert mended.status_code == 302
    assert "Off by 0.11 mg/L" in words(ansa.get(kept.json["visit"]))
    assert "Misread" in words(ansa.get(kept.json["visit"]))


def test_a_channel_is_tried_signed_flagged_and_handed_over(ansa, ilka, out, clock, desk):
    begin = clock.at
    clock.on(days=10)
    times = {"at": local(clock.at), "back_at": local(clock.at + timedelta(minutes=20))}
    clock.on(minutes=30)
    ansa.post(f"{out}/service", **VISIT | times)
    clock.on(days=1)
    file = bring(ansa, out, a_file(begin, 48 * 11))
    assert ansa.post(f"{file}/take", **MAPPED).status_code == 302
    path = f"{out}/correct/oxygen"
    assert "The lead decides what the record is worth" in words(ansa.get(path))
    assert ansa.post(path, course_0="linear").status_code == 403
    page = ilka.get(path)
    seen = re.search(r'name="seen" value="(\w+)"', page.text)[1]
    assert "together 0.51 mg/L, the criterion is 0.30" in words(page)
    sent = {"course_0": "linear", "course_1": "doubt", "turn": "0", "seen": seen, "name": "Ilka Torvend", "reason": ""}
    assert ilka.post(path, **sent | {"act": "show", "course_0": "leave_out"}).status_code == 200
    wrong = ilka.post(path, **sent | {"act": "show", "course_0": "step"})
    assert (wrong.status_code, "State the moment" in words(wrong)) == (422, True)
    unsigned = ilka.post(path, **sent | {"name": "Somebody"})
    assert (unsigned.status_code, "Sign with your own name" in words(unsigned)) == (422, True)
    assert ilka.post(path, **sent).status_code == 302
    assert "Version 1, signed by Ilka Torvend" in words(ilka.get(path))
    marked = ilka.post(
        f"{out}/marks",
        channel="oxygen",
        flag="4",
        starts=local(begin + timedelta(days=2)),
        ends=local(begin + timedelta(days=2, hours=3)),
        reason="Ice on it",
    )
    assert marked.status_code == 302
    assert "From: this is missing" in words(ilka.post(f"{out}/marks", channel="oxygen", flag="4", reason="Ice on it"))
    named = {name for c in ilka.get(f"{out}/look.json").json["channels"] for _, _, name in c["grades"]}
    assert named >= {"excellent", "good", "doubtful", "not reported"}
    look = ilka.get(f"{out}/look")
    assert "Ice on it" in words(look)
    assert "day's swing" in words(look)
    rows = list(csv.DictReader(io.StringIO(ilka.get(f"{out}/records.csv").text)))
    assert len(rows) == 48 * 11
    bad = [r for r in rows if r["oxygen qartod_flag"] == "4"]
    assert len(bad) >= 6
    assert {r["oxygen [mg/L] reported"] for r in bad} == {""}
    assert all(r["oxygen [mg/L] recorded"] for r in rows)
    middle = rows[48 * 5]
    assert float(middle["oxygen [mg/L] reported"]) - float(middle["oxygen [mg/L] recorded"]) == pytest.approx(
        0.25, abs=0.02
    )
    assert {r["oxygen grade"] for r in rows} >= {"excellent", "doubtful"}
    package = zipfile.ZipFile(io.BytesIO(ilka.get(f"{out}/records.zip").data))
    values = list(csv.DictReader(io.TextIOWrapper(package.open("readings.csv"), "utf-8")))
    by_how = {
        how: [v for v in values if (v["quantity"], v["how"]) == ("oxygen", how)] for how in ("sensor", "calculated")
    }
    assert [len(found) for found in by_how.values()] == [48 * 11, 48 * 11]
    assert sum(v["flag"] == "9" for v in by_how["calculated"]) == len(
        [r for r in rows if not r["oxygen [mg/L] reported"]]
    )
    tree = ElementTree.fromstring(ilka.get(f"{out}/records.xml").data)
    names = {
        e.get("{http://www.w3.org/1999/xlink}title")
        for e in tree.iter("{http://www.opengis.net/om/2.0}observedProperty")
    }
    assert names == {"Dissolved oxygen", "Temperature"}
    report = words(ilka.get(f"/records/documents/preview/deployment?deployment={out.rsplit('/', 1)[1]}"))
    assert "corrected, growing evenly" in report
    with desk.read() as session:
        mark = dep.whole_of(session, session.scalar(select(Deployment)))
        (one,) = next(m for m in mark.marks.values() if m)
    assert (
        ilka.post(
            f"/rounds/deployments/marks/{one.id}/off", deployment=out.rsplit("/", 1)[1], reason="It was not"
        ).status_code
        == 302
    )


def test_a_view_answers_any_span_and_says_what_it_cannot(ansa, out, clock):
    begin = clock.at
    clock.on(days=9)
    assert ansa.get(f"{out}/look.json").status_code == 422
    ansa.post(f"{bring(ansa, out, a_file(begin, 400))}/take", **MAPPED)
    body = ansa.get(f"{out}/look.json").json
    assert [c["quantity"] for c in body["channels"]] == ["temperature", "oxygen"]
    near = ansa.get(f"{out}/look.json?since={begin.timestamp()}&until={begin.timestamp() + 7200}").json["channels"][0][
        "recorded"
    ]
    assert near["single"]
    part = ansa.get(f"{out}/records.csv?since={begin.timestamp()}&until={begin.timestamp() + 7200}").text.splitlines()
    assert 4 <= len(part) - 1 <= 5
    for wrong in ("since=yesterday", "since=nan", "columns=1", "columns=99999", "since=1e300"):
        assert ansa.get(f"{out}/look.json?{wrong}").status_code == 422


def test_a_live_logger_s_feed_is_taken_once_watched_and_told_of(app, desk, ansa, out, clock):
    from tests.web.test_api import Caller

    program = Caller(app)
    path = f"/deployments/{out.rsplit('/', 1)[1]}/records"

    def record(oxygen):
        clock.on(minutes=30)
        return {"at": clock.at.isoformat(), "values": {"oxygen": oxygen, "temperature": 12.0}}

    hook = telling.add_webhook(
        desk, h.Things(desk).ilka, h.key(), url="https://told.example/loggers", events=["logger"]
    )
    clock.on(minutes=1)
    records = [record(9.0 + 0.03 * n) for n in range(12)]
    assert program.post(path, {"records": records}).json == {"new": 12, "there": 0}
    assert program.post(path, {"records": records}).json == {"new": 0, "there": 12}
    other = records[0] | {"values": {"oxygen": 1.0}}
    assert program.post(path, {"records": [other]}).status_code == 409
    assert program.post(path, {"records": [records[0] | {"values": {"gold": 1.0}}]}).status_code == 422
    assert Caller(app, scopes=("records",)).post(path, {"records": [record(9.1)]}).status_code == 403
    program.post(path, {"records": [record(2.0)]})
    assert "the site's limit is 5" in words(ansa.get("/"))
    sent = []
    telling.gather(desk, datetime.now(UTC).astimezone().tzinfo)
    telling.deliver(desk, lambda url, body, headers: sent.append(json.loads(body)) or 200)
    assert hook.secret
    assert [(s["event"], s["data"]["kind"]) for s in sent] == [("logger", "limit")]
    back = program.get(f"{path}/oxygen", since=(clock.at - timedelta(hours=2)).isoformat()).json
    assert [row["recorded"] for row in back["items"]][-1] == 2.0
    listed = program.get("/deployments").json["items"][0]
    assert (listed["state"], [c["quantity"] for c in listed["channels"]]) == ("confirmed", ["temperature", "oxygen"])


def test_who_only_looks_on_changes_nothing_and_a_wrong_id_is_none(ansa, out, desk):
    for path in (f"{out}/nothing", "/rounds/deployments/no-such", f"{out}/correct/gold", "/rounds/deployments/files/x"):
        assert ansa.get(path).status_code == 404
    with desk.read() as session:
        assert session.scalar(select(Channel.unit).where(Channel.quantity == "oxygen")) == "mg/L"
    assert ansa.post(f"{out}/cancel", reason="Not needed").status_code in (302, 422)
    assert "Recording." in words(ansa.get(out))
