"""Other programs are told of what was exceeded and what is due: once each, signed, and tried again until it is taken."""

import hmac
import json
import re
import threading
from http.server import BaseHTTPRequestHandler, HTTPServer
from zoneinfo import ZoneInfo

import pytest
from sqlalchemy import select

from brumel.core.errors import InputErrors
from brumel.store.webhooks import Delivery
from brumel.web.api.models import WEBHOOKS
from brumel.work.desk import NotAllowed
from brumel.work.records import telling
from brumel.work.rounds import site_record
from tests.work import helpers as h

OSLO = ZoneInfo("Europe/Oslo")


@pytest.fixture
def things(desk):
    return h.Things(desk)


@pytest.fixture
def receiver():
    """A stand-in for another program: keeps what it is sent, answers what it is told to."""

    class Receiver(BaseHTTPRequestHandler):
        got, status = [], 204

        def do_POST(self):
            body = self.rfile.read(int(self.headers["Content-Length"]))
            Receiver.got.append((dict(self.headers), body))
            self.send_response(Receiver.status)
            if Receiver.status == 302:
                self.send_header("Location", "/elsewhere")
            self.end_headers()

        def do_GET(self):  # where a redirect would lead: it would take anything
            self.send_response(200)
            self.end_headers()

        def log_message(self, *_):
            pass

    server = HTTPServer(("127.0.0.1", 0), Receiver)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    Receiver.url = f"http://127.0.0.1:{server.server_address[1]}/in"
    yield Receiver
    server.shutdown()


def exceed(desk, clock, things):
    """A reading beyond a limit of its site, and one within."""
    with desk.sessions.begin() as session:
        site = site_record.find_site(session, things.sites["raceway"])
        site.limits = {"ph": {"low": 7.9, "high": 9.0, "source": "permit 7"}}
    h.calibrate(desk, clock, things)
    h.visit(desk, clock, things)


def test_what_is_exceeded_is_told_once_and_signed(desk, clock, things, receiver):
    made = telling.add_webhook(desk, things.ilka, h.key(), url=receiver.url, events=["exceeded"])
    exceed(desk, clock, things)
    assert telling.tell(desk, OSLO) == 1
    assert telling.tell(desk, OSLO) == 0
    ((headers, body),) = receiver.got
    sent = WEBHOOKS["exceeded"].model_validate_json(body)  # as the API's description has it
    assert (sent.data.quantity, sent.data.site, sent.data.unit) == ("ph", "Raceway 3, inflow", "pH")
    assert headers["Brumel-Delivery"] == str(sent.id)
    at, signed = re.fullmatch(r"t=(\d+),v1=([0-9a-f]{64})", headers["Brumel-Signature"]).groups()
    assert signed == hmac.new(made.secret.encode(), f"{at}.".encode() + body, "sha256").hexdigest()
    assert int(at) == int(clock().timestamp())


def test_what_falls_due_is_told_when_it_does(desk, clock, things, receiver):
    h.calibrate(desk, clock, things)
    telling.add_webhook(desk, things.ilka, h.key(), url=receiver.url, events=["due"])
    telling.tell(desk, OSLO)
    before = {json.loads(body)["data"]["words"] for _, body in receiver.got}
    assert "pH probe A1: calibrate again" not in before
    clock.on(hours=25)
    telling.tell(desk, OSLO)
    told = [WEBHOOKS["due"].model_validate_json(body).data for _, body in receiver.got]
    assert "pH probe A1: calibrate again" in {d.words for d in told}
    assert len({(d.words, d.at) for d in told}) == len(told)


def test_what_is_not_taken_is_tried_again_under_the_same_name_then_given_up(desk, clock, things, receiver):
    telling.add_webhook(desk, things.ilka, h.key(), url=receiver.url, events=["exceeded"])
    exceed(desk, clock, things)
    receiver.status = 503
    assert telling.tell(desk, OSLO) == 0
    assert telling.tell(desk, OSLO) == 0
    assert len(receiver.got) == 1  # not at once again
    clock.on(minutes=2)
    receiver.status = 302  # to lead on elsewhere is not to take it
    telling.tell(desk, OSLO)
    clock.on(minutes=6)
    receiver.status = 200
    assert telling.tell(desk, OSLO) == 1
    assert len(receiver.got) == 3
    assert len({headers["Brumel-Delivery"] for headers, _ in receiver.got}) == 1

    def nobody(*_):
        raise OSError

    telling.add_webhook(desk, things.ilka, h.key(), url="http://127.0.0.1:9/", events=["exceeded"])
    with desk.sessions.begin() as session:
        last = session.scalar(select(telling.Webhook).order_by(telling.Webhook.at.desc()))
        last.at = telling.datetime(2020, 1, 1, tzinfo=OSLO)
    telling.gather(desk, OSLO)
    for _ in range(40):
        telling.deliver(desk, nobody)
        clock.on(hours=12)
    with desk.read() as session:
        row = session.scalar(select(Delivery).where(Delivery.delivered_at.is_(None)))
        assert (row.next_at, row.tries, row.answer) == (None, len(telling.WAITS_MIN) + 1, "OSError")


def test_an_address_that_was_ended_is_told_nothing(desk, clock, things, receiver):
    made = telling.add_webhook(desk, things.ilka, h.key(), url=receiver.url, events=["exceeded"])
    exceed(desk, clock, things)
    telling.gather(desk, OSLO)
    telling.end_webhook(desk, things.ilka, h.key(), webhook_id=made.id)
    assert telling.tell(desk, OSLO) == 0
    assert receiver.got == []


@pytest.mark.parametrize(
    "url", ["", "ftp://x/", "javascript:1", "http://", "https://user:secret@x/", "http://a b/", "x" * 400]
)
def test_addresses_that_are_none_are_refused_with_what_is_missing_beside(desk, things, url):
    with pytest.raises(InputErrors) as caught:
        telling.add_webhook(desk, things.ilka, h.key(), url=url, events=["gossip"])
    assert {fault.field for fault in caught.value.faults} == {"url", "events"}
    with pytest.raises(NotAllowed):
        telling.add_webhook(desk, things.ansa, h.key(), url="https://x.example/", events=["due"])
    with pytest.raises(OSError, match="no address"):
        telling.post("http://169.254.1.1/", b"", {})
