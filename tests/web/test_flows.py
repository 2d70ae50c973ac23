"""Bench, Rounds and Records by forms: redo, abandon, decide, question, correct, and what each page then says."""

import html
import re
import uuid

import pytest

from brumel.work import bench, simulator
from tests.web.conftest import csrf, sign_in
from tests.work import helpers as h


@pytest.fixture
def things(app):
    return h.Things(app.extensions["desk"])


@pytest.fixture
def desk(app):
    return app.extensions["desk"]


def post(client, page, path, /, **data):
    """Send a form as the page would: with its token, a key and the turn it shows."""
    text = client.get(page).text
    turn = re.search(r'name="turn" value="(\d*)"', text)
    body = {"csrf_token": csrf(client, page), "key": str(uuid.uuid4()), "turn": turn.group(1) if turn else ""}
    return client.post(path, data={**body, **data}, follow_redirects=True)


def words(answer):
    """What a reader sees: no marks, and one blank where a page has any."""
    return " ".join(html.unescape(re.sub(r"<[^>]+>", " ", answer.text)).split())


def test_a_cup_is_redone_with_a_reason_and_a_run_abandoned(desk, client, clock, things):
    run = h.start(desk, things)
    h.take_cup(desk, clock, things, run)
    page = f"/bench/runs/{run}"
    refused = post(client, page, f"{page}/redo/neutral", reason="")
    assert refused.status_code == 422
    assert "Reason must say why" in words(refused)
    redone = post(client, page, f"{page}/redo/neutral", reason="Cup knocked over")
    assert "Cup 1 of 3: N7-121" in words(redone)
    assert post(client, page, f"{page}/redo/acid", reason="Not there yet").status_code == 404
    gone = post(client, page, f"{page}/abandon", reason="Rain came")
    assert "This run was abandoned" in words(gone)
    assert "Rain came" in words(gone)
    again = post(client, page, f"{page}/abandon", reason="Twice")
    assert "This run was abandoned" in words(again)


def test_use_with_care_needs_a_name_and_a_reason(desk, client, clock, things):
    with desk.sessions.begin() as session:
        simulator.set_truth(session, f"probe:{things.probes['A1']}", {"slope": 0.89, "offset_mv": 30.0, "cups_c": 18.0})
    run = h.start(desk, things)
    h.take_all(desk, clock, things, run)
    page = f"/bench/runs/{run}"
    verdict = client.get(page)
    assert "use with care" in words(verdict)
    assert "The decision is recorded with your name, Ansa Merrik" in words(verdict)
    assert post(client, page, f"{page}/finish", use="yes", reason="").status_code == 422
    kept = post(client, page, f"{page}/finish", use="yes", reason="Enough for the raceway today")
    assert "Decided by Ansa Merrik: Enough for the raceway today" in words(kept)
    assert "In force until" in words(kept)


def test_do_not_use_cannot_be_put_in_force(desk, client, clock, things):
    h.fault(desk, things.probes["A1"], "broken_bulb")
    run = h.start(desk, things)
    h.take_all(desk, clock, things, run)
    page = f"/bench/runs/{run}"
    assert "do not use" in words(client.get(page))
    assert "Broken bulb or shorted lead" in words(client.get(page))
    refused = post(client, page, f"{page}/finish", use="yes", reason="I like it")
    assert refused.status_code == 422
    assert post(client, page, f"{page}/finish", use="no").status_code == 422  # a decision has a reason
    filed = post(client, page, f"{page}/finish", use="no", reason="Broken, to be thrown away")
    assert "Not put into use" in words(filed) or "This run was" in words(filed)
    today = words(client.get("/"))
    assert "pH probe A1" in today
    assert "Calibrate" in today


def test_an_unsettled_cup_is_refused_unless_early(desk, client, clock, things):
    run = h.start(desk, things)
    page = f"/bench/runs/{run}"
    nothing = post(client, page, f"{page}/accept/neutral")
    assert "There is no reading to accept yet" in words(nothing)
    post(client, page, f"{page}/dip/neutral")
    clock.on(seconds=8)
    simulator.pump(desk)
    refused = post(client, page, f"{page}/accept/neutral", seen="10")
    assert "Not settled" in words(refused)
    bad = post(client, page, f"{page}/accept/neutral", seen="ten")
    assert "does not say which sample" in words(bad)
    early = post(client, page, f"{page}/accept/neutral", early="yes", seen="16")
    assert "Cup 2 of 3" in words(early)
    assert h.state_of(desk, run).steps[0].point.early


def test_a_site_is_read_by_forms_and_its_record_corrected(desk, client, clock, things):
    site = f"/rounds/sites/{things.sites['lagoon']}"
    assert "Brackish" in words(client.get(site))
    wrong = post(client, site, site, probe=things.probes["B1"], source="live")
    assert "has no link; type its readings" in words(wrong)
    nobody = post(client, site, site, probe="x", source="typed")
    assert nobody.status_code == 404
    sheet = post(client, site, site, probe=things.probes["B1"], source="typed")
    page = sheet.request.path
    assert "no valid calibration" in words(sheet)
    for after in ("5", "30"):
        clock.on(seconds=20)
        shown = {f"value_{things.probes['B1']}": "8.91", f"unit_{things.probes['B1']}": "ph"}
        sheet = post(client, page, f"{page}/type", temperature_c="7,5", after_s=after, **shown)
    assert "settled" in words(sheet)
    assert "outside this site's usual" in words(sheet)
    dip = re.search(r'name="dip" value="([^"]+)"', sheet.text).group(1)
    asked = post(client, page, f"{page}/take", dip=dip)
    assert asked.status_code == 422
    assert 'value="8.91"' not in asked.text
    kept = post(client, page, f"{page}/take", dip=dip, **{"why:ph:unusual": "Typed from the other meter"})
    assert "Recorded" in words(kept)
    link = re.search(r"/records/readings/[0-9a-f-]{36}", kept.text).group(0)
    record = client.get(link)
    assert "Typed from the other meter" in words(record)
    slip = post(client, link, f"{link}/correct", turn="1", raw="8.19", temperature_c="7.5", reason="Swapped digits")
    assert "version" in words(slip)
    assert "Swapped digits" in words(slip)
    assert "8.19" in words(slip)
    # Of Rounds the newest version, and its day.
    assert re.search(rf"8\.19.{{0,20}} {clock():%d %b}", words(client.get("/rounds")))
    old = client.get(link)
    assert "Version 2 stands" in words(old)
    stale = post(client, link, f"{link}/correct", turn="1", raw="8.20", temperature_c="7.5", reason="Again")
    assert "newer version" in words(stale)
    nonsense = post(client, link, f"{link}/correct", turn="1", raw="eight", temperature_c="", reason="x")
    assert nonsense.status_code == 422


def test_lists_turn_their_pages_and_keep_the_search(desk, client, clock, things):
    for _ in range(16):
        h.visit(desk, clock, things, "raceway", reason="Many", early=True)
        clock.on(minutes=10)
    page = client.get("/records?quantity=&site=" + things.sites["raceway"])
    assert "16 visits" in words(page)
    assert "page 1 of 2" in words(page)
    following = re.search(r'href="([^"]+)" rel="next"', page.text).group(1)
    second = client.get(html.unescape(following))
    assert "page 2 of 2" in words(second)
    assert things.sites["raceway"] in following
    assert second.text.count("/records/visits/") >= 1
    lead = sign_in(client.application, "ilka")
    assert "visit.take" in words(lead.get("/records/audit"))
    assert "No visit fits this search" in words(client.get("/records?since=2031-01-01"))


def test_kit_shows_lots_with_what_speaks_against_them(client, things):
    kit = words(client.get("/kit"))
    assert "N10-071 expired on" in kit
    assert "its own label" in kit
    assert "Bench set B" in kit
    methods = words(client.get("/kit/methods"))
    assert "7 → 4 → 10, by segments" in methods
    one = words(client.get("/kit/methods/ph-7-4-10"))
    for word in ("common practice, no source", "not before 30 s", "92 to 102 %"):
        assert word in one
    assert "Copy or change it" not in one  # that is for the lead
    setup = client.get(f"/bench/probes/{things.probes['A1']}?method=ph-7-one-point")
    assert "The slope is carried over" in words(setup)


def test_a_stream_gives_events_and_ends_when_the_run_moved_on(desk, client, clock, things):
    run = h.start(desk, things)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    clock.on(seconds=40)
    simulator.pump(desk)
    answer = client.get(f"/bench/runs/{run}/stream", headers={"Accept": "text/event-stream"}, buffered=False)
    assert answer.mimetype == "text/event-stream"
    pieces = iter(answer.response)
    first = b"".join([next(pieces), next(pieces)]).decode()
    assert "event: reading" in first
    assert '"settled": true' in first
    assert "NaN" not in first
    bench.accept(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    for piece in pieces:
        if b"event: moved" in piece:
            break
    else:
        raise AssertionError("the stream did not say that the run moved on")
    signed_out = client.application.test_client().get(
        f"/bench/runs/{run}/stream", headers={"Accept": "text/event-stream"}
    )
    assert signed_out.status_code == 401


def test_kit_by_forms_lots_upkeep_waits_and_calendar(desk, client, clock, things):
    form = {
        "code": "N4-300",
        "name": "Buffer 4.01",
        "quantity": "ph",
        "family": "4.01",
        "label": "",
        "expires_on": "2027-01-31",
        "open_days": "90",
        "expanded_uncertainty": "0,02",
        "container": "bottle",
    }
    bad = post(client, "/kit/lots/new", "/kit/lots/new", **{**form, "expires_on": "x", "open_days": "many"})
    assert bad.status_code == 422
    assert 'value="N4-300"' in bad.text  # nothing typed is lost
    added = post(client, "/kit/lots/new", "/kit/lots/new", **form)
    assert "N4-300" in words(added)
    lot = re.search(r'/kit/lots/([0-9a-f-]{36})">open, count', added.text).group(1)
    assert "sealed" in words(added)
    its = f"/kit/lots/{lot}"
    assert "Open N4-300 now" in words(client.get(its))
    post(client, its, f"{its}/open")
    again = post(client, its, f"{its}/open")
    assert again.status_code == 422
    assert "open already" in words(again)
    assert "Open N4-300 now" not in words(again)
    bad = post(client, its, f"{its}/fill-off", code="N4-300", amount="much", open_days="12")
    assert bad.status_code == 422
    assert 'value="much"' in bad.text  # in the form it was typed into, and in no other
    assert bad.text.count('value="much"') == 1
    assert post(client, its, f"{its}/discard", reason="").status_code == 422
    post(client, its, f"{its}/discard", reason="Cloudy")
    gone = client.get(its)
    assert "was discarded on" in words(gone)
    assert f"{its}/count" not in gone.text
    assert client.get("/kit/lots/x").status_code == 404

    page = f"/kit/probes/{things.probes['A1']}"
    done = post(client, page, f"{page}/maintenance", what="cleaned", reason="Algae")
    assert "in storage solution" in words(done)
    assert "Algae" in words(done)
    assert post(client, page, f"{page}/maintenance", what="polished").status_code == 422
    assert post(client, page, f"{page}/waits", what="cleaned", hours="0", reason="Manual").status_code == 403
    lead = sign_in(client.application, "ilka")
    setting = post(lead, page, f"{page}/waits", what="cleaned", hours="0,25", reason="Manual, page 4")
    assert "0.25 h, its own" in words(setting)
    assert post(lead, page, f"{page}/waits", what="cleaned", hours="soon", reason="Manual").status_code == 422
    due = client.get("/kit/due")
    assert "overdue" in words(due)
    assert "N10-071" in words(due)
    calendar = client.get("/kit/due.ics")
    assert calendar.mimetype == "text/calendar"
    assert calendar.data.startswith(b"BEGIN:VCALENDAR")
