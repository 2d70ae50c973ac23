"""Each reader's own units: pages follow them, records and exports do not."""

import csv
import io
import uuid

import pytest
from flask_login import login_user
from pypdf import PdfReader

from brumel.core.sentence import Amount, Span, say
from brumel.core.verdict import Tolerance
from brumel.store.tables import User
from brumel.web.access import Account
from brumel.web.filters import step_in_unit
from brumel.web.reader import Reader, in_words
from brumel.web.units import Scale, live_numbers, scale_to
from tests.web.conftest import csrf
from tests.work import helpers as h

CHOSEN = {"temperature": "°F", "conductivity": "mS/cm", "pressure": "inHg", "depth": "ft"}

# BIPM SI brochure; NIST SP 811, appendix B. 1013.25 hPa = 29.921 inHg, 1 m = 3.2808 ft.
SCALES = [
    ("°C", "°F", 25.0, 77.0),
    ("°C", "°C", 25.0, 25.0),
    ("µS/cm", "mS/cm", 1413.0, 1.413),
    ("hPa", "inHg", 1013.25, 29.921),
    ("hPa", "kPa", 1013.25, 101.325),
    ("hPa", "mmHg", 1013.25, 760.0),
    ("m", "ft", 1.0, 3.2808),
    ("mg/L", "°F", 8.0, 8.0),
]


@pytest.mark.parametrize(("unit", "chosen", "value", "shown"), SCALES)
def test_a_value_on_the_reader_s_scale(unit, chosen, value, shown):
    assert scale_to(unit, chosen)(value) == pytest.approx(shown, abs=1e-3)


def test_a_difference_has_no_zero_and_digits_follow_the_unit():
    reader = Reader(None, 2026, CHOSEN)
    words = say(
        "{t} is {d} from {span}; {c}, {p}.",
        t=Amount(20.0, "°C", ".1f"),
        d=Amount(2.0, "°C", ".1f", difference=True),
        span=Span(0.0, 10.0, "°C", ".0f"),
        c=Amount(1413.0, "µS/cm", ".0f"),
        p=Amount(1013.25, "hPa", ".1f"),
    )
    assert in_words(words, reader) == "68.0 °F is 3.6 °F from 32 to 50 °F; 1.413 mS/cm, 29.921 inHg."
    assert str(words).startswith("20.0 °C is 2.0 °C")  # what is kept stays canonical


def test_a_live_event_is_in_the_reader_s_units_and_tells_no_long_tails():
    event = {
        "value": 7.6,
        "forecast": 7.5,
        "noise_limit": 0.2,
        "drift": None,
        "y": [7.0, 8.0],
        "temperature": 7.6,
        "lines": [{"quantity": "conductivity", "value": 16_000.0}, {"quantity": "ph", "value": None}],
    }
    shown = live_numbers(event, "°C", CHOSEN)
    assert (shown["value"], shown["noise_limit"], shown["drift"]) == (pytest.approx(45.68), 0.36, None)
    assert shown["y"] == pytest.approx([44.6, 46.4])
    assert shown["lines"][0]["value"] == pytest.approx(16.0)
    assert live_numbers(event, "°C", {}) == event
    assert Scale("")(4.2) == 4.2


def choose(client, page="/units", **units):
    sent = {"key": str(uuid.uuid4()), "csrf_token": csrf(client, page), **CHOSEN, **units}
    return client.post(page, data=sent)


def test_a_limit_is_a_step_and_a_row_of_a_verdict_agrees_with_it(app, client, clock):
    """±0.2 °C is ±0.36 °F, not ±32.4 °F; an error of 0.05 °C is one of 0.09 °F."""
    row = Tolerance(0.2, "°C", "USGS-A6.1").graded().row("check", "error in ice", 0.05, digits=2)
    assert in_words(row.limit, Reader(None, 2026, CHOSEN)) == "within ±0.36 °F"
    choose(client)
    with app.test_request_context():
        login_user(
            Account(app.extensions["desk"].sessions().get(User, h.Things(app.extensions["desk"]).ansa.id), "t", clock())
        )
        assert step_in_unit(0.05, "°C", 2) == "0.09 °F"


def test_pages_follow_their_reader_and_records_do_not(app, client, clock):
    desk = app.extensions["desk"]
    things = h.Things(desk)
    made = h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)
    site = f"/rounds/sites/{things.sites['raceway']}"
    for path in ("/rounds", site, f"/records/calibrations/{made}"):
        assert "°F" not in client.get(path).text, path  # compiled first for a reader of °C
    refused = choose(client, temperature="°Z")
    assert (refused.status_code, "Choose the unit of temperature" in refused.text) == (422, True)
    assert choose(client).status_code == 302
    for path in ("/rounds", site, f"/records/calibrations/{made}"):
        text = client.get(path).text
        assert "°F" in text, path
        assert '<th scope="col" class="num">°C</th>' not in text
    (row,) = csv.DictReader(io.StringIO(client.get("/records/readings.csv?quantity=temperature").text))
    assert (row["unit"], float(row["value"]) < 30) == ("°C", True)
    pdf = client.get(f"/records/calibrations/{made}.pdf").data
    printed = "".join(p.extract_text() for p in PdfReader(io.BytesIO(pdf)).pages)
    assert ("°C" in printed, "°F" in printed) == (True, False)


PRESSURES = [  # typed, the unit asked for, station pressure [hPa]; NIST SP 811: 1 inHg = 33.8639, 1 mmHg = 1.33322 hPa
    ("29.92", "inHg", 1013.2),
    ("700 mmHg", "hPa", 933.26),
    ("95.0 kPa", "inHg", 950.0),
    ("941", "", 941.0),
]


@pytest.mark.parametrize(("typed", "unit", "hpa"), PRESSURES)
def test_pressure_is_typed_in_any_unit_before_an_oxygen_run(app, client, typed, unit, hpa):
    desk = app.extensions["desk"]
    probe = h.Things(desk).probes["B2"]
    page = f"/bench/probes/{probe}"
    sent = {
        "method": "do-saturated-air",
        "source": "typed",
        "pressure_from": "station",
        "pressure_hpa": typed,
        "pressure_unit": unit,
    }
    answer = client.post(page, data={**sent, "key": str(uuid.uuid4()), "csrf_token": csrf(client, page)})
    assert answer.status_code == 302, answer.text
    state = h.state_of(desk, answer.headers["Location"].rsplit("/", 1)[1])
    assert state.run.conditions.pressure_hpa == pytest.approx(hpa, abs=0.1)
