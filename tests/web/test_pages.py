"""Pages made on the server: the record that is printed, the file that is exported, the answer to a repeated send."""

import csv
import io
import re
import uuid

import numpy as np
import pypdfium2 as pdfium
import pytest
from pypdf import PdfReader
from scipy.ndimage import binary_erosion

from brumel.work import bench
from brumel.work.bench.conditions import Conditions
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
    for word in (
        f"Calibration certificate {number}",
        "PA1-2231",
        "ph-7-4-10, version 1",
        "fit for use",
        "N7-121",
        made,
    ):
        assert word in text, word
    answer = client.get("/records/readings.csv?quantity=ph")
    assert 'filename="brumel-readings-20260512' in answer.headers["Content-Disposition"]
    (row,) = csv.DictReader(io.StringIO(answer.text))
    assert (row["calibration_id"], row["calibration_number"]) == (made, number)
    assert (row["unit"], row["method"], row["version"], row["qartod_flag"]) == ("pH", "ph-7-4-10", "1", "1")


@pytest.mark.parametrize(("probe", "method"), [("A1", "ph-7-4-10"), ("A5", "do-saturated-air"), ("A3", "ec-air-one")])
def test_the_certificate_prints_in_its_own_style(app, client, clock, things, caplog, probe, method):
    """The pages as pictures: words and thin lines alone, no black field; the lines to sign on stand under something."""
    desk = app.extensions["desk"]
    cups = {"ph-7-4-10": things.cups(), "ec-air-one": {"standard": things.lots["E14-055"]}}.get(method, {})
    conditions = Conditions(pressure_from="station", pressure_hpa=1001.0) if probe == "A5" else None
    run = bench.start(
        desk,
        things.ansa,
        h.key(),
        probe_id=things.probes[probe],
        method_key=method,
        source="live",
        cups=cups,
        conditions=conditions,
    ).id
    h.take_all(desk, clock, things, run)
    made = h.finish(desk, things, run)
    with caplog.at_level("WARNING", logger="weasyprint"):
        answer = client.get(f"/records/calibrations/{made}.pdf")
    assert not caplog.records, [r.getMessage() for r in caplog.records]
    document = pdfium.PdfDocument(answer.data)
    assert len(document) <= 2
    dark = np.asarray(document[0].render(scale=3, grayscale=True).to_numpy()) < 90
    assert 0.003 < dark.mean() < 0.06
    drawing = dark[:, 3 * 150 : 3 * 430]  # the column of the drawing, in thirds of a point
    assert not binary_erosion(drawing, np.ones((10, 10))).any()  # no black field as thick as three rules
    text = PdfReader(io.BytesIO(answer.data)).pages[-1].extract_text()
    assert re.search(r"made by\s+reviewed by\s+date", text)
    assert len(document) == 1 or "Standards" in text  # never the lines alone
    fonts = PdfReader(io.BytesIO(answer.data)).pages[0]["/Resources"]["/Font"].values()
    assert any("Hyperlegible" in str(f.get_object()["/BaseFont"]) for f in fonts)


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
        data = {
            "csrf_token": csrf(client, page),
            "key": str(uuid.uuid4()),
            "turn": "0",
            "signal": "mv",
            "value": value,
            "temperature_c": "18,5",
        }
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


def test_an_address_is_kept_by_where_brumel_lies_and_what_it_leads_to(app):
    seen = app.jinja_env.from_string(
        "{{ url_for('kit.probe', probe_id=1) }} {{ url_for('records.index', page=n, site=none) }}"
    )
    for under, n in (("", 2), ("/water", 2), ("", 2), ("", 3)):
        with app.test_request_context(base_url=f"http://localhost{under}/"):
            assert seen.render(n=n) == f"{under}/kit/probes/1 {under}/records?page={n}"
            assert seen.render(n=[n, 9]) == f"{under}/kit/probes/1 {under}/records?page={n}&amp;page=9"
