"""Long work on its pages: asked for by a form, done by the kinds there are, fetched by whoever asked and nobody else."""

import re

import pypdfium2 as pdfium
import pytest
from sqlalchemy import select

from brumel.store.jobs import Job
from brumel.web.jobs import kinds
from brumel.web.records import certificates, exporting
from brumel.work import jobs
from tests.web.conftest import csrf, sign_in
from tests.work.helpers import Things, calibrate, key, visit


@pytest.fixture
def doer(app):
    return jobs.Doer(app.extensions["desk"], kinds.doers(app))


def ask(client, kind, page, **search):
    given = {"csrf_token": csrf(client, page), "key": str(key()), **search}
    return client.post(f"/jobs/of/{kind}", data=given)


def test_many_records_become_one_pdf_that_only_their_asker_may_fetch(app, desk, clock, doer):
    things = Things(desk)
    for probe in ("A1", "A2"):
        calibrate(desk, clock, things, probe)
        clock.on(days=1)
    client = sign_in(app, "ansa")
    answer = ask(client, "certificates", "/records/calibrations")
    assert answer.status_code == 302
    page = answer.location
    assert "Waiting for its turn" in client.get(page).text
    assert client.get(f"{page}/file").status_code == 404
    assert client.get(f"{page}/now").json == {"state": "waiting", "done": 0, "of": 0}
    assert doer.do_one()
    assert client.get(f"{page}/now").json == {"state": "done", "done": 2, "of": 2}
    file = client.get(f"{page}/file")
    assert file.headers["Content-Disposition"].startswith("attachment; filename=brumel-calibrations-")
    text = "".join(sheet.get_textpage().get_text_bounded() for sheet in pdfium.PdfDocument(file.data))
    assert len(set(re.findall(r"Calibration certificate (\d+)", text))) == 2
    stranger = sign_in(app, "ilka")
    for path in (page, f"{page}/now", f"{page}/file"):
        assert stranger.get(path).status_code == 404, path


def test_a_job_of_a_search_that_finds_nothing_or_makes_no_sense_says_so(client, doer, app):
    assert ask(client, "certificates", "/records/calibrations", since="yesterday").status_code == 422
    assert ask(client, "nothing", "/records/calibrations").status_code == 404
    page = ask(client, "certificates", "/records/calibrations", since="2001-01-01", until="2001-01-02").location
    assert doer.do_one()
    text = client.get(page).text
    assert "No calibration lies within these days" in text
    assert "Try again" in text
    with app.extensions["desk"].read() as session:
        job = session.scalar(select(Job))
        assert job.asked == {"since": "2001-01-01", "until": "2001-01-02"}


def test_what_would_not_fit_into_one_file_is_asked_for_in_parts(client, desk, clock, doer, monkeypatch):
    things = Things(desk)
    calibrate(desk, clock, things)
    visit(desk, clock, things, early=True, reason="Known")
    monkeypatch.setattr(certificates, "MOST", 0)
    monkeypatch.setattr(exporting, "MOST", 0)
    for kind, why in (("certificates", "1 records; a PDF holds 0"), ("readings", r"\d readings; a file holds 0")):
        page = ask(client, kind, "/records").location
        assert doer.do_one()
        assert re.search(why, client.get(page).text), kind


def test_the_readings_job_writes_what_the_export_writes(client, doer):
    page = ask(client, "readings", "/records", quantity="ph").location
    assert doer.do_one()
    assert client.get(f"{page}/file").data == client.get("/records/readings.csv?quantity=ph").data


def test_a_page_that_would_look_the_same_is_not_sent_again_until_something_was_written(client, app):
    for path in ("/", "/bench", "/kit", "/records", "/rounds"):
        first = client.get(path)
        assert "no-cache" in first.headers["Cache-Control"], path
        again = client.get(path, headers={"If-None-Match": first.headers["ETag"]})
        assert (again.status_code, again.data) == (304, b""), path
    tag = {"If-None-Match": client.get("/kit").headers["ETag"]}
    assert sign_in(app, "ansa").get("/kit", headers=tag).status_code == 200  # another session's
    ask(client, "readings", "/records")
    assert client.get("/kit", headers=tag).status_code == 200  # its keys may be used up
    tag = {"If-None-Match": client.get("/kit").headers["ETag"]}
    client.post("/theme", data={"csrf_token": csrf(client, "/kit"), "theme": "night"})
    assert client.get("/kit", headers=tag).status_code == 200
    gone = client.post("/sign-out", data={"csrf_token": csrf(client, "/kit")})
    assert gone.headers["Clear-Site-Data"] == '"cache", "cookies"'
