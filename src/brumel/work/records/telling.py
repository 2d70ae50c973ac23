"""Telling other programs by themselves: what was exceeded and what falls due, signed, and tried again until it is taken."""

from __future__ import annotations

import hmac
import ipaddress
import json
import secrets
import socket
import urllib.error
import urllib.request
import uuid
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from urllib.parse import urlsplit
from zoneinfo import ZoneInfo

from sqlalchemy import Text, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, lazyload

from brumel.core.errors import InputError, InputErrors
from brumel.store.deployments import Alarm
from brumel.store.standing import is_standing
from brumel.store.tables import Reading, Site
from brumel.store.webhooks import Delivery, Webhook
from brumel.work.desk import Desk, NotAllowed, NotFound, Refused, Write, Written, object_id, writes
from brumel.work.records import letterhead
from brumel.work.records.reading_rows import UNITS
from brumel.work.rounds.agenda import agenda

#: What an address may be told of, in the words of its page.
EVENTS = {
    "exceeded": "a reading beyond its site's limit",
    "due": "something that has fallen due",
    "logger": "a live logger that is silent, flat, off, or beyond a limit",
}
MOST_WEBHOOKS, MOST_AT_ONCE = 10, 200
#: After how long it is tried again [min]; after the last of them it is given up: more than two days in all.
WAITS_MIN = (1, 5, 20, 60, 240, 720, 2160)
TIMEOUT_S = 10.0


@dataclass(frozen=True)
class NewWebhook:
    """An address with the secret that signs what it is sent; the secret is shown once."""

    id: str
    secret: str = ""


@writes("webhook.add", NewWebhook, secret=frozenset({"secret"}))
def add_webhook(w: Write, *, url: str, events: Sequence[str]) -> NewWebhook:
    """Tell an address of events from now on. All faults at once."""
    if w.actor.role != "lead":
        raise NotAllowed("Which programs are told is for the lead.")
    faults = []
    address = url.strip()
    parts = urlsplit(address) if address.isascii() and address.isprintable() and len(address) <= 300 else None
    if parts is None or parts.scheme not in ("http", "https") or not parts.hostname or parts.username or " " in address:
        faults.append(
            InputError("url", "Address must begin with https:// or http://, and hold no password.", value=url[:80])
        )
    if not events or not set(events) <= set(EVENTS):
        faults.append(InputError("events", "Choose what it is told of."))
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    if len(webhooks(w.session)) >= MOST_WEBHOOKS:
        raise Refused(f"{MOST_WEBHOOKS} addresses are told already. End one that is not used any more.")
    secret = secrets.token_urlsafe(32)
    row = Webhook(url=address, secret=secret, events=sorted(set(events)), at=w.now, by_id=w.actor.id)
    w.session.add(row)
    w.session.flush()
    w.record(f"webhook:{row.id}", {"url": address, "events": row.events})
    return NewWebhook(str(row.id), secret)


@writes("webhook.end", Written)
def end_webhook(w: Write, *, webhook_id: str) -> Written:
    """Tell an address nothing any more; what waits for it is given up."""
    if w.actor.role != "lead":
        raise NotAllowed("Which programs are told is for the lead.")
    row = w.session.get(Webhook, object_id(webhook_id, "address"))
    if row is None:
        raise NotFound("There is no such address.")
    if row.ended_at is None:
        row.ended_at = w.now
        w.record(f"webhook:{row.id}", {"url": row.url})
    return Written(str(row.id))


def webhooks(session: Session) -> list[Webhook]:
    """The addresses that are told, the oldest first."""
    return list(session.scalars(select(Webhook).where(Webhook.ended_at.is_(None)).order_by(Webhook.at)))


def last_deliveries(session: Session, count: int = 30) -> list[Delivery]:
    """What was sent last or waits to be."""
    return list(session.scalars(select(Delivery).order_by(Delivery.at.desc(), Delivery.id).limit(count)))


def tell(desk: Desk, zone: ZoneInfo) -> int:
    """Find what is to be told and send what waits; returns how many were taken. `zone` is of a practice without its own."""
    with desk.read() as session:
        own = letterhead.clock(session)[0]
        if (
            not webhooks(session)
            and session.scalar(select(Delivery.id).where(Delivery.next_at.is_not(None)).limit(1)) is None
        ):
            return 0
    gather(desk, ZoneInfo(own) if own else zone)
    return deliver(desk)


# -- finding what is to be told


def gather(desk: Desk, zone: ZoneInfo) -> int:
    """Put what has happened since into the line, once for each address; returns how many."""
    made = 0
    with desk.sessions.begin() as session:
        now = desk.clock()
        for hook in webhooks(session):
            for key, event, body in _events(session, hook, now, zone):
                row = {"id": uuid.uuid4(), "webhook_id": hook.id, "key": key, "event": event, "body": body}
                added = session.execute(
                    insert(Delivery)
                    .values(**row, at=now, next_at=now, tries=0, answer="")
                    .on_conflict_do_nothing()
                    .returning(Delivery.id)
                )
                made += added.scalar() is not None
    return made


def _events(
    session: Session, hook: Webhook, now: datetime, zone: ZoneInfo
) -> Iterator[tuple[str, str, dict[str, Any]]]:
    if "exceeded" in hook.events:
        told = select(Delivery.key).where(Delivery.webhook_id == hook.id, Delivery.event == "exceeded")
        query = (
            select(Reading, Site)
            .join(Site, Site.id == Reading.site_id)
            .where(Reading.outcome == "exceeded", Reading.written_at >= hook.at, is_standing())
            .where(Reading.id.cast(Text).not_in(told))
            .order_by(Reading.written_at)
            .limit(MOST_AT_ONCE)
            .options(lazyload("*"))
        )
        for reading, site in session.execute(query):
            yield str(reading.id), "exceeded", _exceeded(reading, site)
    if "logger" in hook.events:
        for alarm in session.scalars(select(Alarm).where(Alarm.at >= hook.at).order_by(Alarm.at).limit(MOST_AT_ONCE)):
            yield str(alarm.id), "logger", _alarm(alarm)
    if "due" in hook.events:
        for row in agenda(session, now, zone):
            if hook.at - timedelta(days=1) <= row.at <= now:
                thing = {"what": row.what, "id": str(row.id) if row.id else None}
                yield f"due:{row.key}", "due", {"words": str(row.words), "at": row.at.isoformat(), **thing}


def _exceeded(reading: Reading, site: Site) -> dict[str, Any]:
    return {
        "reading_id": str(reading.root_id),
        "version": reading.version,
        "visit_id": str(reading.visit_id),
        "site_id": str(site.id),
        "site": site.name,
        "quantity": reading.quantity,
        "value": reading.value,
        "unit": reading.unit or UNITS.get(reading.quantity, ""),
        "expanded_uncertainty": reading.expanded_uncertainty,
        "depth_m": reading.depth_m,
        "at": reading.at.isoformat(),
        "flag": reading.flag,
        "backing": reading.backing,
        "limit": str(reading.outcome_words),
    }


def _alarm(alarm: Alarm) -> dict[str, Any]:
    d = alarm.deployment
    return {
        "deployment_id": str(d.id),
        "deployment": d.name,
        "site_id": str(d.site_id),
        "site": d.site.name,
        "kind": alarm.kind,
        "words": str(alarm.words.get("words", "")),
        "at": alarm.at.isoformat(),
    }


# -- sending

#: Sends a body with headers to an address; gives the status of the answer. Raises OSError where none came.
Send = Callable[[str, bytes, dict[str, str]], int]


def deliver(desk: Desk, send: Send | None = None) -> int:
    """Send what waits, each in a transaction of its own; returns how many were taken."""
    taken = 0
    while (result := _deliver_one(desk, send or post)) is not None:
        taken += result
    return taken


def _deliver_one(desk: Desk, send: Send) -> bool | None:
    with desk.sessions.begin() as session:
        now = desk.clock()
        row = session.scalar(
            select(Delivery)
            .where(Delivery.next_at <= now)
            .order_by(Delivery.next_at)
            .limit(1)
            .with_for_update(of=Delivery, skip_locked=True)
        )
        if row is None:
            return None
        if row.webhook.ended_at is not None:
            row.next_at, row.answer = None, "the address was ended"
            return False
        body = json.dumps({"id": str(row.id), "event": row.event, "data": row.body}, ensure_ascii=False).encode()
        try:
            status = send(row.webhook.url, body, headers(row, body, now))
            row.answer = str(status)
        except OSError as error:
            status, row.answer = 0, type(error).__name__
        row.tries += 1
        if 200 <= status < 300:
            row.delivered_at, row.next_at = now, None
            return True
        wait = WAITS_MIN[row.tries - 1] if row.tries <= len(WAITS_MIN) else None
        row.next_at = now + timedelta(minutes=wait) if wait is not None else None
        return False


def headers(row: Delivery, body: bytes, now: datetime) -> dict[str, str]:
    """The headers of a delivery: the same id each time it is tried, so that its taker can pass over what it has."""
    at = str(int(now.timestamp()))
    return {
        "Content-Type": "application/json",
        "User-Agent": "Brumel",
        "Brumel-Event": row.event,
        "Brumel-Delivery": str(row.id),
        "Brumel-Signature": f"t={at},v1={signature(row.webhook.secret, at, body)}",
    }


def signature(secret: str, at: str, body: bytes) -> str:
    """HMAC-SHA256 of the time and the body, so that what was sent once cannot be sent again later by another."""
    return hmac.digest(secret.encode(), f"{at}.".encode() + body, "sha256").hex()


class _Straight(urllib.request.HTTPRedirectHandler):
    """An address answers itself: where it would lead on to is not for it to say."""

    def redirect_request(self, *_: Any) -> None:
        return None


def post(url: str, body: bytes, with_headers: dict[str, str]) -> int:
    """One HTTP POST; the status of its answer. Raises OSError."""
    host = urlsplit(url).hostname or ""
    for *_, address in socket.getaddrinfo(host, None):
        if ipaddress.ip_address(str(address[0]).partition("%")[0]).is_link_local:
            raise OSError("no address of a practice")
    request = urllib.request.Request(url, body, with_headers, method="POST")  # noqa: S310 - http and https only
    try:
        with urllib.request.build_opener(_Straight).open(request, timeout=TIMEOUT_S) as answer:
            return int(answer.status)
    except urllib.error.HTTPError as error:
        return error.code
