"""The pages of a day out by forms: places, rounds, the packing list, the queue, photos, closing, deciding and signing."""

import io
import json
import re
import uuid

import pytest
from PIL import Image
from pypdf import PdfReader
from sqlalchemy import func, select, update

from brumel.store.records import Decision
from brumel.store.rounds import Photo, Round
from brumel.store.tables import Meter, Probe, Reading, Run, Site, Visit
from brumel.web.rounds.printing import press
from brumel.work import rounds, simulator
from brumel.work.demo.load import PASSWORD
from brumel.work.rounds import calendar, outings
from tests.web.conftest import csrf, sign_in
from tests.web.test_flows import post, words
from tests.work import helpers as h


@pytest.fixture
def things(app):
    return h.Things(app.extensions["desk"])


@pytest.fixture
def desk(app):
    return app.extensions["desk"]


@pytest.fixture
def lead(app):
    return sign_in(app, "ilka")


SITE = {
    "client": "Veldmere Lagoon Trust",
    "name": "Sluice",
    "kind": "creek",
    "use": "restoration",
    "zone": "Europe/Oslo",
    "altitude_m": "1,5",
    "latitude": "58.33",
    "longitude": "8.91",
    "depths": "0.3, 1",
    "compensation": "sea",
    "usual_salinity": "8",
    "ranges": "ph: 7.5 to 8.6 (6 to 10)",
    "limits": "oxygen: 5 to - | permit 12",
    "note": "Deep mud.",
}


def test_the_lead_makes_and_changes_a_site_and_loses_nothing_typed(lead, client, desk):
    edit = "/rounds/sites/edit"
    made = post(lead, edit, edit, **SITE)
    assert "Sluice" in words(made)
    assert "Limits for restoration" in words(made)
    page = made.request.path
    wrong = post(lead, edit, edit, **{**SITE, "zone": "Nowhere", "altitude_m": "high", "name": "Sluice 2"})
    assert wrong.status_code == 422
    assert 'value="Sluice 2"' in wrong.text
    assert "ph: 7.5 to 8.6 (6 to 10)" in wrong.text
    site_id = page.rsplit("/", 1)[1]
    change = f"{edit}?site={site_id}"
    unsaid = post(lead, change, edit, **SITE | {"limits": "oxygen: 6 to - | permit 13"}, site=site_id)
    assert "Reason" in words(unsaid)
    said = post(
        lead, change, edit, **SITE | {"limits": "oxygen: 6 to - | permit 13"}, site=site_id, reason="New permit"
    )
    assert "permit 13" in words(said)
    stale = lead.post(
        edit,
        data={
            **SITE,
            "site": site_id,
            "reason": "Late",
            "turn": "1",
            "key": str(uuid.uuid4()),
            "csrf_token": csrf(lead, change),
            "use": "other",
        },
        follow_redirects=True,
    )
    assert "changed meanwhile" in words(stale)
    assert client.get(edit).status_code == 403
    gone = post(lead, change, f"/rounds/sites/{site_id}/retire", reason="Filled in")
    assert "Read no more: 1" in words(gone)
    with desk.read() as session:
        assert session.get(Site, uuid.UUID(site_id)).retired_at is not None
    change = f"{edit}?site={site_id}"
    back = post(lead, change, f"/rounds/sites/{site_id}/restore", reason="Dug again")
    assert "Sluice" in words(back)
    with desk.read() as session:
        assert session.get(Site, uuid.UUID(site_id)).retired_at is None


def test_sites_come_and_go_as_a_file(lead, client):
    out = client.get("/rounds/sites.geojson")
    assert out.mimetype == "application/geo+json"
    body = json.loads(out.text)
    body["features"] = body["features"][:1]
    body["features"][0] |= {"id": "another program's 7"}
    body["features"][0]["properties"]["name"] = "<b>Copy</b>"

    def send(data, name="a.geojson"):
        form = {"csrf_token": csrf(lead, "/rounds/sites/edit"), "key": str(uuid.uuid4())}
        return lead.post(
            "/rounds/sites.geojson", data={**form, "file": (io.BytesIO(data), name)}, follow_redirects=True
        )

    assert "1 sites made" in words(send(json.dumps(body).encode()))
    assert "<b>Copy</b>" not in client.get("/rounds").text
    for bad in (b"", b"{}", b"\x00" * 100, json.dumps({"type": "FeatureCollection", "features": [{}]}).encode()):
        answer = send(bad)
        assert answer.status_code == 422
        assert "file" in words(answer)
    assert send(b"x" * 2_200_000).status_code == 413


def test_a_round_is_made_begun_packed_and_come_back_from(lead, client, things, desk):
    edit = "/rounds/plans/edit"
    form = {
        "name": "Two waters",
        "every": "weeks",
        "interval": "2",
        "weekday": ["TH", "TU"],
        "starts": "2026-11-03",
        "leave_at": "07:15",
        "zone": "Europe/Oslo",
    }
    order = {f"order_{things.sites['lagoon']}": "2", f"order_{things.sites['raceway']}": "1"}
    wrong = post(lead, edit, edit, **{**form, "leave_at": "7 o'clock"}, **order)
    assert "Leaving is a time" in words(wrong)
    yearly = {"name": "Two waters, yearly", "every": "months", "interval": "12", "month_day": "30"}
    never = post(lead, edit, edit, **{**form, **yearly}, **order)
    assert never.status_code == 200
    never = {**form, "every": "months", "interval": "12", "month_day": "31"}
    assert "a day that never comes" in words(post(lead, edit, edit, **never, **order))  # every 31 November
    assert 'value="31"' in post(lead, edit, edit, **never, **order).text
    twice = post(lead, edit, edit, **{**form, "name": " Two waters,  yearly "}, **order)
    assert (twice.status_code, "There is a round of this name already" in words(twice)) == (422, True)
    made = post(lead, edit, edit, **form, **order)
    assert words(made).index("Raceway 3, inflow") < words(made).index("Creek mouth")
    round_page = made.request.path
    assert "Every 2 weeks on Tuesday and Thursday, from 03 Nov 2026." in words(made)
    again = lead.get(f"{edit}?round={round_page.split('/')[-1]}").text
    assert len(re.findall(r'name="weekday" value="(?:TU|TH)" checked', again)) == 2
    assert 'svg class="d-sketch"' in made.text
    late = client.get(f"{round_page}?leave=25:99")
    assert late.status_code == 422
    assert "Ready at" in words(client.get(f"{round_page}?leave=23:50"))
    outing = post(client, round_page, f"{round_page}/begin")
    page = outing.request.path
    assert "Packing list" in words(outing)
    item = re.search(r'name="item"\s+value="([^"]+)"', outing.text).group(1)
    assert "1 things are on the packing list" in words(post(client, page, f"{page}/pack", item=item))
    assert "Full after" in words(client.get(f"{page}?records=6000&interval_min=15"))
    assert client.get(f"{page}?records=many&interval_min=5").status_code == 422
    assert "Every probe of this day is closed" in words(post(client, page, f"{page}/back"))


def test_no_page_vanishes_when_everything_is_put_away_and_all_of_it_comes_back(lead, client, things, desk):
    round_id = h.a_round(desk).id
    outing = outings.start(desk, things.ansa, h.key(), round_id=str(round_id)).id
    gone = {"retired_at": desk.clock()}
    with desk.sessions.begin() as session:
        for table in (Probe, Meter, Site, Round):
            session.execute(update(table).values(gone))
    site, probe = things.sites["lagoon"], things.probes["A1"]
    paths = ["/", "/bench/", "/rounds/", "/kit", "/kit/methods", "/kit/due.ics", "/records"]
    paths += [f"/rounds/plans/{round_id}", f"/rounds/outings/{outing}", f"/rounds/outings/{outing}/field"]
    paths += ["/rounds/outings", f"/rounds/sites/{site}", f"/kit/probes/{probe}", f"/bench/probes/{probe}"]
    for person in (lead, client):
        assert {path: person.get(path, follow_redirects=True).status_code for path in paths} == dict.fromkeys(
            paths, 200
        )
    offered = lead.get("/rounds/").text + lead.get("/kit").text
    for back in (
        f"?round={round_id}",
        f"?site={site}",
        f"/kit/probes/{probe}",
        f"/kit/meters/{things.meters['Field set A']}",
    ):
        assert back in offered, back
    why = {"reason": "Needed again"}
    meter = f"/kit/meters/{things.meters['Field set A']}"
    for page, action in (
        (f"/rounds/sites/edit?site={site}", f"/rounds/sites/{site}/restore"),
        (meter, f"{meter}/restore"),
        (f"/kit/probes/{probe}", f"/kit/probes/{probe}/restore"),
    ):
        assert post(lead, page, action, **why).status_code == 200
    with desk.read() as session:
        assert [session.get(t, uuid.UUID(str(i))).retired_at for t, i in ((Site, site), (Probe, probe))] == [None, None]


@pytest.mark.parametrize("name", ["Lagoon", "Farm and lido"])
def test_the_plan_fits_one_sheet_and_the_form_has_every_site_depth_and_quantity(client, desk, name):
    planned = h.a_round(desk, name)
    sheet = client.get(f"/rounds/plans/{planned.id}/plan.pdf?leave=09:40")
    (page,) = PdfReader(io.BytesIO(sheet.data)).pages
    told = " ".join(page.extract_text().split())
    assert "leaving at 09:40" in told
    assert "in buffer 7.01 (N7-121)" in told
    assert "settles" not in told
    form = client.get(f"/rounds/plans/{planned.id}/field-form.pdf")
    text = " ".join(" ".join(p.extract_text() for p in PdfReader(io.BytesIO(form.data)).pages).split())
    for stop in planned.stops:
        assert stop.site.name in told
        assert stop.site.name in text
        assert all(f"{depth:.1f} m" in text for depth in stop.site.depths)
    assert "Closing checks, back from the round" in text
    assert client.get(f"/rounds/plans/{uuid.uuid4()}/plan.pdf").status_code == 404
    assert client.get(f"/rounds/plans/{planned.id}/plan.pdf?leave=99:99").status_code == 422


def test_a_long_day_is_printed_in_smaller_letters_until_it_fits_one_sheet():
    def long(count):
        rows = "".join(f"<tr><td>step {n}</td></tr>" for n in range(count))
        return f"<!doctype html><title>-</title><h1>A day</h1><table>{rows}</table>"

    def printed(html, *sizes):
        body = press.print_on_one_sheet(html, *sizes)
        return len(PdfReader(io.BytesIO(body)).pages)

    assert printed(long(10)) == 1
    fitted = long(60)
    assert printed(fitted, [9.5]) == 2
    assert printed(fitted) == 1
    assert printed(long(200)) > 1  # what does not fit is not made unreadable


def test_today_belongs_to_the_reader_and_the_moment(lead, client, things, desk, clock):
    h.calibrate(desk, clock, things)
    outing = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    page = words(client.get("/"))
    assert "0 of 3 sites begun; next is Creek mouth, north bank ." in page
    assert "The other probes" in page
    assert "Waits for you" not in page
    given = dict(site_id=things.sites["lagoon"], probes=[things.probes["A1"]], source="live", outing_id=outing)
    visit = rounds.start_visit(desk, things.ansa, h.key(), **given).id
    rounds.dip(desk, things.ansa, h.key(), visit_id=visit)
    clock.on(seconds=70)
    simulator.pump(desk)
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit, early=True, reason="Known here")
    page = words(client.get("/"))
    assert "1 of 3 sites begun; next is Reed channel . Not closed yet: pH probe A1 ." in page
    read_last = page.split("Read last")[1]
    assert re.search(
        r"Creek mouth, north bank .* temperature [\d.]+ °C, *pH [\d.]+ *no valid calibration; closing check pending",
        read_last,
    )
    assert "Waits for you: 2 readings to sign" in words(lead.get("/"))
    entries = client.get("/kit/due.ics").text.split("BEGIN:VEVENT")
    (out,) = (entry for entry in entries if "SUMMARY:Outing: Lagoon" in entry)
    assert ("DTSTART:20260512T" in out, "VALARM" in out, f"/rounds/outings/{outing}" in out) == (True, False, True)
    outings.end(desk, things.ansa, h.key(), outing_id=outing)
    entries = client.get("/kit/due.ics").text.split("BEGIN:VEVENT")
    assert not any("SUMMARY:Outing" in entry for entry in entries)  # what is done leaves it
    ahead = [entry for entry in entries if "SUMMARY:Round: Lagoon" in entry]
    assert ahead
    assert all(
        "VALARM" in entry and "URL:http://localhost/rounds/plans/" in entry.replace("\r\n ", "") for entry in ahead
    )
    assert not any("20260512" in entry.split("DTSTART")[1][:20] for entry in ahead)
    page = words(client.get("/"))
    assert "sites begun" not in page
    assert "Leave at" in page


def sheet(things, **other):
    rows = [{"probe": things.probes["B1"], "unit": "ph", "value": 7.9}]
    body = {
        "key": str(uuid.uuid4()),
        "site": things.sites["lagoon"],
        "at": "2026-11-24T07:00:00Z",
        "temperature_c": 9.0,
    }
    return body | {"rows": rows} | other


def test_the_queue_s_answers_tell_what_to_do(client, lead, things, desk, clock):
    with desk.read() as session:
        found = next(r for r in calendar.rounds(session) if r.name == "Lagoon").id
    out = outings.start(desk, things.ansa, h.key(), round_id=str(found)).id
    field, to = f"/rounds/outings/{out}/field", f"/rounds/outings/{out}/send"
    page = client.get(field)
    assert "Judged here by the site's ranges" in words(page)
    token = re.search(r'data-token="([^"]+)"', page.text).group(1)
    read_at = clock().isoformat()

    def send(who, body, token):
        return who.post(to, data=json.dumps(body), headers={"X-CSRFToken": token}, content_type="application/json")

    mine = sheet(things, at=read_at)
    assert send(client, mine, "forged").status_code == 400
    first = send(client, mine, token)
    assert (first.status_code, first.json["readings"]) == (200, 2)
    assert send(client, mine, token).json == first.json
    other = re.search(r'data-token="([^"]+)"', lead.get(field).text).group(1)
    theirs = sheet(things, at=read_at)
    told = send(lead, theirs, other)
    assert (told.status_code, "read by Ansa Merrik" in told.json["message"]) == (409, True)
    assert send(lead, {**theirs, "both": True}, other).status_code == 200
    for bad, why in (
        ({"at": "0001-01-01T00:00:00+14:00"}, "outside the calendar"),
        ({"rows": []}, "rows"),
        ({"temperature_c": float("nan")}, "cannot be read|temperature"),
        ({"site": "x"}, "no such"),
        ({"extra": 1}, "extra"),
        ({"at": "2031-01-01T00:00:00Z"}, "future"),
        ({"rows": [{"probe": "x" * 99}]}, "rows"),
        ({"key": "x"}, "no such"),
        ({"note": "n" * 2001}, "note"),
    ):
        answer = send(client, sheet(things, at=read_at, site=things.sites["pool"]) | bad, token)
        assert answer.status_code == 422, bad
        assert re.search(why, answer.json["message"]), (bad, answer.json)
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Visit)) == 2
    worker = client.get("/rounds/sw.js")
    assert worker.mimetype == "text/javascript"


def test_a_paper_sheet_is_entered_a_day_later_depth_by_depth(client, things, desk, clock):
    outing = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    day = clock()
    clock.on(hours=2)
    page = f"/rounds/sites/{things.sites['basin']}/paper"
    b1, b3 = things.probes["B1"], things.probes["B3"]
    wrong = post(client, page, page, at="", temperature_c="9", **{f"value_{b1}": "eight", f"unit_{b1}": "ph"})
    assert wrong.status_code == 422
    for told in ("When it was read is missing", "“eight”"):
        assert told in words(wrong)
    assert 'value="eight"' in wrong.text
    read = {"temperature_c": "48.2 °F", f"value_{b1}": "8,05", f"unit_{b1}": "ph", f"value_{b3}": "15.2 mS/cm"}
    read |= {f"unit_{b3}": "ms_cm_ref", "at": f"{day:%Y-%m-%d}T09:30", "reason": "Seen twice"}
    first = post(client, page, page, **read, depth_m="0.3", more="yes")
    assert "readings entered from paper" in words(first)
    assert f'value="{day:%Y-%m-%d}T09:30"' in first.text
    sheet = post(client, page, page, **read, depth_m="1")
    assert "/rounds/visits/" in sheet.request.path
    with desk.read() as session:
        (visit,) = outings.visits_of(session, outings.outing(session, outing))
        rows = rounds.of_visit(session, visit.id)
    assert {(r.quantity, r.depth_m) for r in rows} >= {("salinity", 0.3), ("salinity", 1.0), ("ph", 1.0)}
    assert {f"{r.at:%H:%M}" for r in rows} == {"07:30"}  # 09:30 by the clock of the site, CEST
    assert {r.written_at for r in rows} == {clock()}
    for never in ("0001-01-01T00:00+14:00", "9999-12-31T23:59-12:00", "noon"):
        assert "is not a time" in words(post(client, page, page, **read | {"at": never}))
    early = post(client, page, page, **read | {"at": "2023-01-01T10:00"})
    assert "over 400 days ago" in words(early)


def test_a_slip_found_in_the_evening_is_mended_by_forms(client, lead, things, desk, clock):
    given = dict(site_id=things.sites["lagoon"], probes=[things.probes["B1"]], source="typed")
    visit = rounds.start_visit(desk, things.ansa, h.key(), **given).id
    h.type_one(desk, things, visit, value=7.91, temperature_c=9.0, still=True)
    rounds.take_all(desk, things.ansa, h.key(), visit_id=visit, reason="Seen twice")
    with desk.read() as session:
        old = next(r for r in rounds.of_visit(session, uuid.UUID(visit)) if r.quantity == "ph")
    page = f"/records/readings/{old.id}"
    shown = client.get(page).text
    sent = {name: re.search(rf'name="{name}"[^>]*value="([^"]*)"', shown)[1] for name in ("raw", "temperature_c", "at")}
    sent |= {"depth_m": "", "entered": "ph", "turn": "1"}
    clock.on(hours=3)
    wrong = post(client, page, f"{page}/correct", **sent | {"raw": "", "at": "noon"}, reason="Misread")
    assert wrong.status_code == 422
    assert "is not a time" in words(wrong)
    assert 'value="noon"' in wrong.text
    assert "Nothing was changed" in words(post(client, page, f"{page}/correct", **sent, reason="Misread"))
    done = post(client, page, f"{page}/correct", **sent | {"raw": "8,2 pH", "depth_m": "1,3 ft"}, reason="Misread")
    assert "Corrected." in words(done)
    assert "<h1>pH 8.20" in done.text
    assert "at 0.4 m" in words(done)
    newest = done.request.path
    gone = post(client, newest, f"{newest}/strike", reason="Of the wrong pond", turn="2", mend="strike")
    assert "Struck out by Ansa Merrik" in words(gone)
    struck = gone.request.path
    assert "It counts again." in words(post(client, struck, f"{struck}/bring-back", reason="It was right", turn="3"))
    sheet = f"/rounds/visits/{visit}"
    nowhere = post(client, f"{sheet}/move", f"{sheet}/move", site="", reason="Reed channel it was")
    assert "Choose the site" in words(nowhere)
    moved = post(client, f"{sheet}/move", f"{sheet}/move", site=things.sites["reed"], reason="Reed channel it was")
    assert "Reed channel" in words(moved).split("Moved: its readings are worked out for this site.")[0]
    left = client.get(sheet)
    assert "This visit was written to the wrong site and moved." in words(left)
    assert moved.request.path in left.text
    image = io.BytesIO()
    Image.new("RGB", (40, 30), "white").save(image, "PNG")
    image.seek(0)
    late = {"photo": (image, "late.png")}
    assert "late.png" in words(post(client, moved.request.path, f"{moved.request.path}/photos", **late))


def test_units_are_typed_behind_the_values_of_a_sheet(client, things, desk):
    probes = [things.probes[name] for name in ("B1", "B2", "B3")]
    page = (
        "/rounds/visits/"
        + rounds.start_visit(
            desk, things.ansa, h.key(), site_id=things.sites["lagoon"], probes=probes, source="typed"
        ).id
    )
    ph, oxygen, conductivity = (f"value_{probe}" for probe in probes)
    chosen = {f"unit_{probe}": unit for probe, unit in zip(probes, ("mv", "percent", "us_cm_ref"), strict=True)}
    given = chosen | {ph: "8.02 pH", oxygen: "9,4 mg/L", conductivity: "14.2 mS", "temperature_c": "49.1F"}
    refused = words(post(client, page, f"{page}/type", **given | {ph: "8.02 psi", conductivity: "14 ppm"}))
    assert "pH probe B1: The value's unit “psi” is none that pH is read in here: mV, pH" in refused
    assert "depends on the meter's TDS factor" not in refused  # one thing at a time: nothing was stored yet
    done = post(client, page, f"{page}/type", record="yes", **given)
    assert "readings recorded" in words(done)
    assert re.search(r'<a class="act"[^>]*>Next site', done.text)  # everything is read: on to the next
    other = client.get(f"/rounds/sites/{things.sites['raceway']}").text
    assert 'value="typed" checked' in other  # "typed" is chosen once
    with desk.read() as session:
        kept = {r.quantity: r for r in session.scalars(select(Reading))}
    assert kept["temperature"].value == pytest.approx(9.5, abs=0.01)
    assert kept["ph"].raw_unit == "pH displayed" or kept["ph"].raw == pytest.approx(8.02)
    assert kept["ph"].value == pytest.approx(8.02, abs=1e-6)
    assert kept["conductivity"].raw == pytest.approx(14.2)
    assert kept["conductivity"].value == pytest.approx(14_200, rel=0.02)
    assert kept["oxygen"].raw == pytest.approx(9.4)


def test_what_was_typed_and_cannot_be_read_is_said_and_struck_out(client, things, desk):
    probe = things.probes["A7"]
    given = dict(site_id=things.sites["lagoon"], probes=[probe], source="typed")
    page = "/rounds/visits/" + rounds.start_visit(desk, things.ansa, h.key(), **given).id
    typed = {f"unit_{probe}": "mg_l_n", f"value_{probe}": "0.02", "temperature_c": "9"}
    shown = post(client, page, f"{page}/type", **typed)
    assert "cannot be read Nothing to read this with: Never calibrated." in words(shown)
    assert not re.search("Record this reading|Record it early|has not been dipped", words(shown))
    struck = words(post(client, page, f"{page}/strike", probe=probe))
    assert "Strike out" in words(shown)
    assert "Strike out" not in struck


def test_a_photo_is_kept_and_what_is_none_is_refused(client, things, desk):
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["lagoon"], probes=[things.probes["B1"]], source="typed"
    ).id
    page = f"/rounds/visits/{visit}"

    def send(data, name):
        form = {"csrf_token": csrf(client, page), "key": str(uuid.uuid4()), "photo": (io.BytesIO(data), name)}
        return client.post(f"{page}/photos", data=form, follow_redirects=True)

    out = io.BytesIO()
    Image.new("RGB", (1200, 900), "white").save(out, "PNG")
    kept = send(out.getvalue() + b"\0" * 2_000_000, "../<i>pond</i>.png")  # larger than a form may be
    assert kept.status_code == 200
    assert "<i>pond</i>" not in kept.text
    link = re.search(r"/rounds/photos/[0-9a-f-]{36}", kept.text).group(0)
    picture = client.get(link)
    assert (picture.mimetype, picture.headers["X-Content-Type-Options"]) == ("image/jpeg", "nosniff")
    assert "not a JPEG" in words(send(b"<svg onload=alert(1)>", "a.svg"))
    assert send(b"x" * 13_000_000, "big.jpg").status_code == 413
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Photo)) == 1


def test_from_the_closing_check_to_the_signature_by_forms(client, lead, things, desk, clock):
    h.calibrate(desk, clock, things)
    clock.on(hours=1)
    h.visit(desk, clock, things, "lagoon", "A1", early=True, reason="Known")
    clock.on(hours=1)
    with desk.sessions.begin() as session:
        name = f"probe:{things.probes['A1']}"
        body = simulator.truth(session, name)
        simulator.set_truth(session, name, body | {"offset_mv": body["offset_mv"] - 25})
    start = f"/bench/probes/{things.probes['A1']}/closing"
    assert "What is closed" in words(client.get(start))
    assert post(client, start, start, first="", source="live").status_code == 422
    run = post(client, start, start, first=f"lot:{things.lots['N7-121']}", source="live").request.path
    h.take_all(desk, clock, things, run.rsplit("/", 1)[1])
    done = client.get(run)
    assert "It does not hold" in words(done)
    record = post(client, run, f"{run}/close")
    page = record.request.path
    assert page.startswith("/records/closings/")
    assert client.get(run, follow_redirects=True).request.path == page
    assert client.get("/records/review").status_code == 403
    assert post(client, page, f"{page}/decide", decision="doubt", reason="x", name="Ansa Merrik").status_code == 403
    assert "does not hold" in words(lead.get("/records/review"))
    assert "corrected" in words(lead.get(f"{page}?decision=correct"))
    blank = post(lead, page, f"{page}/decide", decision="correct", reason="", name="Ilka Torvend")
    assert blank.status_code == 422
    decided = post(lead, page, f"{page}/decide", decision="correct", reason="Steady drift", name="ilka torvend")
    assert "Decided by" in words(decided)
    with desk.read() as session:
        newest = session.scalar(select(Reading).where(Reading.quantity == "ph").order_by(Reading.version.desc()))
        decision = session.scalar(select(Decision.id))
    reading = f"/records/readings/{newest.id}"
    assert "grade" in words(lead.get(reading))
    signed = post(lead, "/records/review", "/records/sign", reading=str(newest.id), password=PASSWORD)
    assert "1 reading Signed by Ilka Torvend" in words(signed)
    assert "Ilka Torvend" in words(client.get(reading))
    again = post(lead, page, f"/records/decisions/{decision}/reopen", reason="Wrong cup", name="Ilka Torvend")
    assert "opened again" in words(again)
    lot = f"/records/affected/lot/{things.lots['N7-121']}"
    assert "1 calibration" in words(client.get(lot))
    assert post(lead, lot, lot, decision="doubt", reason="Bad bottle", name="Ilka Torvend").status_code == 200
    assert "doubtful" in words(lead.get(lot))
    assert client.get(f"/records/affected/beer/{uuid.uuid4()}").status_code == 404


def test_a_logger_s_file_its_ends_and_the_lead_s_word(client, lead, things):
    site = f"/rounds/sites/{things.sites['raceway']}"
    lines = ["time,oxygen", *(f"2026-01-{d:02d}T12:00,{9 + d / 100}" for d in range(1, 29))]
    sent = {"file": (io.BytesIO("\n".join(lines).encode()), "january.csv"), "quantity": "oxygen", "unit": "mg/L"}
    taken = post(client, site, f"{site}/logs", **sent)
    page = taken.request.path
    assert "no valid calibration: no probe is named" in words(taken).lower()
    wrong = post(client, page, f"{page}/check", before="8,9", after="", standard_read="x", standard_value="10")
    assert wrong.status_code == 422
    assert 'value="8,9"' in wrong.text
    for told in ("cleaned: this is missing", "it is “x”"):
        assert told in words(wrong)
    read = dict(before="8,3", after="9.1", standard_read="10.05", standard_value="10", beside_before="9")
    half = post(client, page, f"{page}/check", **read)
    assert "the two go together" in words(half)
    done = post(client, page, f"{page}/check", **read | {"beside_after": "9.0"})
    assert "it does not hold" in words(done)
    assert "would be graded" not in words(done)  # nothing stands behind it, so nothing can be corrected
    assert post(client, page, f"{page}/decide", decision="doubt", turn="0").status_code == 403
    assert "january.csv" in words(lead.get("/records/review"))
    seen = re.search(r'name="service" value="([^"]+)', lead.get(page).text)[1]
    sign = dict(reason="Film", name="Ilka Torvend", turn="0", service=seen)
    assert "No calibration stands behind" in words(post(lead, page, f"{page}/decide", decision="correct", **sign))
    assert "Doubtful, decided by Ilka Torvend" in words(post(lead, page, f"{page}/decide", decision="doubt", **sign))
    rows = client.get(f"{page}.csv").text.splitlines()
    assert (len(rows), rows[1]) == (29, "2026-01-01T11:00:00Z,9.01,9.01,1,doubtful")
    # The right file stands in the way of nothing once the wrong one is withdrawn.
    sent["file"] = (io.BytesIO("\n".join(lines).replace("9.01", "9.02").encode()), "right.csv")
    barred = post(client, site, f"{site}/series", **sent)
    assert barred.status_code == 422
    assert "withdraw it on its page first" in words(barred)
    turn = dict(turn="1", withdraw="yes")
    assert "afterwards by the lead" in words(post(client, page, f"{page}/withdraw", reason="Not this pond", **turn))
    assert "in a few words" in words(post(lead, page, f"{page}/withdraw", reason=" ", **turn))
    gone = words(post(lead, page, f"{page}/withdraw", reason="The other pond's file", **turn))
    assert "Withdrawn by Ilka Torvend: The other pond's file" in gone
    assert "Decide" not in gone.split("Decided")[0]
    refused = post(lead, page, f"{page}/decide", decision="doubt", **sign | {"turn": "2"})
    assert (refused.status_code, "was withdrawn" in words(refused)) == (422, True)
    assert client.get(f"{page}.csv").text.splitlines()[1] == "2026-01-01T11:00:00Z,9.01,,1,withdrawn"
    sent["file"] = (io.BytesIO("\n".join(lines).replace("9.01", "9.02").encode()), "right.csv")
    right = post(client, site, f"{site}/series", **sent)
    assert right.request.path not in (page, f"{site}/series")
    shown = words(client.get(site))
    assert "Withdrawn: dissolved oxygen, january.csv" in shown
    assert "right.csv: 28 values" in shown
    # Who took a file in withdraws it while nobody has decided.
    mine = right.request.path
    assert "Withdrawn by Ansa" in words(post(client, mine, f"{mine}/withdraw", reason="Wrong again", turn="0"))
    assert client.get(f"/rounds/series/{uuid.uuid4()}").status_code == 404
    assert client.get("/rounds/series/x.csv").status_code == 404


def test_counting_and_looking_through_settings_by_forms(client, things, desk):
    lot = things.lots["N7-121"]
    assert "Counted." in words(post(client, "/kit", f"/kit/lots/{lot}/count", amount="120"))
    assert "about 120 mL left" in words(client.get("/kit"))
    assert "about 120 mL left, counted" in words(client.get(f"/kit/lots/{lot}"))
    assert post(client, "/kit", f"/kit/lots/{lot}/count", amount="much").status_code == 422
    assert "from the list" in words(post(client, "/kit", "/kit/spares/count", spare="<b>", amount="1"))
    none_yet = post(client, "/kit", "/kit/spares/count", spare="", amount="7")  # none is chosen ahead
    assert "a spare from the list" in words(none_yet)
    assert 'value="7"' in none_yet.text
    assert '<select name="spare" required><option value="">' in re.sub(r"\s+", " ", client.get("/kit").text)
    assert "Counted." in words(post(client, "/kit", "/kit/spares/count", spare="membrane", amount="0"))
    with desk.read() as session:
        found = calendar.rounds(session)[0]
    out = "/rounds/outings/" + outings.start(desk, things.ansa, h.key(), round_id=str(found.id)).id
    assert "none left" in words(client.get(out)) or "0 left" in words(client.get(out))
    assert "settings" in words(post(client, out, f"{out}/settings", recorded="x")).lower()
    visit = post(
        client,
        f"/rounds/sites/{things.sites['lagoon']}",
        f"/rounds/sites/{things.sites['lagoon']}",
        probe=things.probes["B1"],
        source="typed",
        outing=out.rsplit("/", 1)[1],
    )
    assert "were not checked before this round" in words(visit)
    full = client.get(f"{out}?records=2400&interval_min=5")
    assert "8.3 days" in words(full)


def test_a_second_method_s_odd_result_has_a_field_for_its_reason(client, desk, clock, things):
    sheet = f"/rounds/visits/{h.visit(desk, clock, things, early=True, reason='Known')}"
    given = {"hand_quantity": "ammonium", "hand_value": "49", "hand_method": "tablet and colour"}
    asked = post(client, sheet, f"{sheet}/hand", **given)
    assert asked.status_code == 422
    assert 'value="49"' in asked.text
    names = re.findall(r'name="(why:[^"]+)"', asked.text)
    assert "why:ammonium:unusual" in names
    done = post(client, sheet, f"{sheet}/hand", **given, **dict.fromkeys(names, "Dosed by hand at noon"))
    assert done.status_code == 200
    with desk.read() as session:
        (row,) = session.scalars(select(Reading).where(Reading.quantity == "ammonium"))
    assert row.reason == "Dosed by hand at noon"
    assert "Dosed by hand at noon" in words(client.get(f"/records/readings/{row.id}"))


RUNS_REFUSED = [
    ("[]", "cannot be read"),
    ("{", "cannot be read"),
    ('{"key": "x"}', "cannot be read"),
    ({"key": "not-a-key"}, "There is no such run"),
    ({"purpose": "guess"}, "cannot be read"),
    ({"probe": "nobody"}, "There is no such probe"),
    ({"probe": str(uuid.UUID(int=7))}, "There is no such probe"),
    ({"started_at": "2026-11-05T06:00:00"}, "no zone|cannot be read"),
    ({"started_at": "9999-12-31T23:59:59Z"}, "out of order"),
    ({"cups": {"neutral": "x" * 900}}, "cannot be read"),
    ({"cups": {"neutral": "'; drop table runs"}}, "There is no such|Choose the solution"),
    ({"extra": 1}, "cannot be read"),
]


@pytest.mark.parametrize(("change", "said"), RUNS_REFUSED)
def test_a_run_of_the_queue_that_cannot_be_is_told_and_nothing_is_made(client, desk, clock, things, change, said):
    made = outings.start(desk, things.ansa, h.key(), round_id=str(h.a_round(desk).id)).id
    at = clock().isoformat()
    shown = [{"value": 7.0, "unit": "ph", "temperature_c": 20.0, "after_s": 30.0}]
    body = {
        "key": str(uuid.uuid4()),
        "purpose": "calibration",
        "probe": things.probes["B1"],
        "method": "ph-7-4-10",
        "started_at": at,
        "finished_at": at,
        "cups": things.cups(),
        "read": [{"step": "neutral", "at": at, "taken_at": at, "shown": shown}],
    }
    sent = change if isinstance(change, str) else json.dumps(body | change)
    token = csrf(client, f"/rounds/outings/{made}/cups")
    headers = {"X-CSRFToken": token, "Content-Type": "application/json"}
    answer = client.post(f"/rounds/outings/{made}/send-run", data=sent, headers=headers)
    assert answer.status_code in (404, 422)
    assert re.search(said, answer.get_data(as_text=True))
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Run)) == 0
