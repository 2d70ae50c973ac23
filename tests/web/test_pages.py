"""Pages made on the server: the record that is printed, the file that is exported, the answer to a repeated send."""

import csv
import io
import re
import uuid

import pytest
from pypdf import PdfReader

from tests.web.conftest import csrf
from tests.work import helpers as h


@pytest.fixture
def things(app):
    return h.Things(app.extensions["desk"])


def test_the_printed_record_and_the_csv_tell_the_same_story(app, client, clock, things):
    desk = app.extensions["desk"]
    made = h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)
    page = client.get(f"/records/calibrations/{made}").text
    number = re.search(r"<h1>Calibration (\d+)</h1>", page).group(1)
    pdf = client.get(f"/records/calibrations/{made}.pdf")
    assert pdf.mimetype == "application/pdf"
    text = "".join(p.extract_text() for p in PdfReader(io.BytesIO(pdf.data)).pages)
    for word in (f"Calibration record {number}", "PA1-2231", "ph-7-4-10, version 1", "fit for use", "N7-121", made):
        assert word in text, word
    answer = client.get("/records/readings.csv?quantity=ph")
    assert 'filename="brumel-readings-20260512' in answer.headers["Content-Disposition"]
    (row,) = csv.DictReader(io.StringIO(answer.text))
    assert (row["calibration_id"], row["calibration_number"]) == (made, number)
    assert (row["unit"], row["method"], row["version"], row["qartod_flag"]) == ("pH", "ph-7-4-10", "1", "1")


def test_a_form_sent_twice_starts_one_run(app, client, things):
    probe = things.probes["A1"]
    page = f"/bench/probes/{probe}"
    data = {
        "csrf_token": csrf(client, page),
        "key": str(uuid.uuid4()),
        "turn": "",
        "method": "ph-7-4-10",
        "source": "live",
    }
    data |= {f"cup-{step}": lot for step, lot in things.cups().items()}
    first, second = (client.post(page, data=data).headers["Location"] for _ in range(2))
    assert first == second
    assert client.get(page).headers["Location"] == first
    other = client.post(page, data={**data, "key": str(uuid.uuid4())})
    assert other.status_code == 302 or "has a run open already" in other.text


def test_a_stale_window_is_told_and_changes_nothing(app, client, clock, things):
    desk = app.extensions["desk"]
    run = h.start(desk, things)
    h.take_cup(desk, clock, things, run)
    page = f"/bench/runs/{run}"
    data = {"csrf_token": csrf(client, page), "key": str(uuid.uuid4()), "turn": "0"}
    answer = client.post(f"{page}/dip/neutral", data=data, follow_redirects=True)
    assert "moved on in another window" in answer.text
    assert h.state_of(desk, run).turn == 1


def test_pages_work_without_scripts_from_first_cup_to_record(app, client, clock, things):
    """The typed story by forms alone."""
    desk = app.extensions["desk"]
    run = h.start(desk, things, "B1", "ph-7-one-point", source="typed")
    page = f"/bench/runs/{run}"
    for value in ("4,2", "4.3"):
        clock.on(seconds=30)
        data = {"csrf_token": csrf(client, page), "key": str(uuid.uuid4()), "turn": "0", "signal": "mv", "value": value,
                "temperature_c": "18,5"}  # fmt: skip
        assert client.post(f"{page}/type/neutral", data=data).status_code == 302
    data = {"csrf_token": csrf(client, page), "key": str(uuid.uuid4()), "turn": "0"}
    assert client.post(f"{page}/accept/neutral", data=data).status_code == 302
    verdict = client.get(page).text
    assert "slope, carried over" in verdict
    data = {
        "csrf_token": csrf(client, page),
        "key": str(uuid.uuid4()),
        "turn": "1",
        "use": "yes",
        "reason": "Only today",
    }
    client.post(f"{page}/finish", data=data)
    assert "Only today" in client.get(page, follow_redirects=True).text
