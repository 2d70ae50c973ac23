"""The server's side of a meter's link: a session per run of the link program, and samples put where they belong."""

from __future__ import annotations

import hmac
import math
import re
import uuid
from collections import defaultdict
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.store.tables import Dip, LinkContact, LinkSession, LinkState, Meter, Probe, RunEnd
from brumel.work.desk import Desk, NotFound, Refused, object_id, token_hash
from brumel.work.link import samples

MOST_ROWS = 500
#: A place on the link: an address, and the number of the signal among its values where it is not the first.
_PLACE = re.compile(r"[0-9A-Za-z](\.[1-9]\d?)?")


#: The server's clock and the session's may be apart by so much; of other moments nothing is stored [s].
MOST_DRIFT_S = 2.0
#: A line may take so long for samples whose clock was compared by a short request just before; none is slower [s].
SLOWEST_LINE_S = 120.0


FUTURE_S = 30.0


SILENT = timedelta(seconds=15)


class BadToken(NotFound):
    """The link's token is not known, or was replaced."""


@dataclass(frozen=True)
class SampleRow:
    """One sample as it was sent: its place on the link, seconds since the session began, signal, temperature [°C]."""

    place: str
    elapsed_s: float
    signal: float
    temperature_c: float


def meter_of(session: Session, token: str) -> Meter:
    """The meter a token belongs to."""
    digest = token_hash(token)
    meter = session.scalar(select(Meter).where(Meter.token_hash == digest, Meter.retired_at.is_(None)))
    if meter is None or not token or not hmac.compare_digest(meter.token_hash, digest):
        raise BadToken("This link's token is not known. The lead makes a new one in Kit.")
    return meter


def hello(desk: Desk, token: str, agent: str) -> dict[str, Any]:
    """A link program begins: its clock starts now. Returns the session and the addresses Kit knows."""
    with desk.sessions.begin() as session:
        meter, now = meter_of(session, token), desk.clock()
        link_session = LinkSession(id=uuid.uuid4(), meter_id=meter.id, at=now, agent=agent[:60])
        session.add(link_session)
        session.flush()
        _spoke(session, link_session, now, {})
        on_it = session.scalars(select(Probe).where(Probe.meter_id == meter.id, Probe.retired_at.is_(None)))
        on_link = sorted((p for p in on_it if p.address), key=lambda p: p.link_place)
        return {
            "session": str(link_session.id),
            "meter": meter.name,
            "addresses": sorted({p.address for p in on_link}),
            "places": [{"name": p.link_place, "address": p.address, **p.link_values} for p in on_link],
            "idle": _idle(session, meter, now),
        }


def _idle(session: Session, meter: Meter, now: datetime) -> bool:
    return not samples.is_anywhere(session, meter, now)


def waits_for(desk: Desk, token: str) -> tuple[str, ...]:
    """The probes of a link's meter that may be dipped next, while none stands anywhere; empty once one does."""
    with desk.read() as session:
        meter = meter_of(session, token)
        if not _idle(session, meter, desk.clock()):
            return ()
        on_it = select(Probe.id).where(Probe.meter_id == meter.id, Probe.retired_at.is_(None))
        return tuple(str(i) for i in session.scalars(on_it))


def checked(rows: Any) -> list[SampleRow]:
    """Rows as they came over the line. Raises InputError for anything that is not a list of sound rows."""
    if not isinstance(rows, list) or not 0 < len(rows) <= MOST_ROWS:
        raise InputError("rows", f"Rows must be a list of 1 to {MOST_ROWS}.")
    clean_rows = []
    for number, row in enumerate(rows, 1):
        sound = (
            isinstance(row, list)
            and len(row) == 4
            and isinstance(row[0], str)
            and _PLACE.fullmatch(row[0])
            and all(isinstance(v, (int, float)) and not isinstance(v, bool) and math.isfinite(v) for v in row[1:])
        )
        if not sound:
            raise InputError("rows", f"Row {number} must be an address, seconds, a signal and a temperature.")
        place, elapsed, signal, at = row[0], float(row[1]), float(row[2]), float(row[3])
        if not 0 <= elapsed <= 400 * 86400 or abs(signal) > 1e7 or not -40 <= at <= 130:
            raise InputError("rows", f"Row {number} is outside what a meter can show.")
        clean_rows.append(SampleRow(place, elapsed, signal, at))
    return clean_rows


class WrongClock(Refused):
    """The session's clock cannot be believed; nothing was stored."""


@dataclass(frozen=True)
class Standing:
    """What the link says of itself: samples that wait in its file, how many were kept aside there, and why."""

    waiting: int = 0
    refused: int = 0
    words: str = ""


def take(
    desk: Desk,
    token: str,
    session_id: str,
    rows: list[SampleRow],
    now_s: float | None = None,
    off_s: float | None = None,
    standing: Standing | None = None,
) -> dict[str, Any]:
    """Store what belongs to a dip; the rest was read while the probe stood nowhere. Sent twice, it is there once.

    `now_s` is the link's clock as it sends, `off_s` how far it was from the server's by a short request just before; neither
    is known of a session that has ended. The link is `idle` while none of the meter's probes stands anywhere.
    Raises WrongClock, before anything is stored, where the clock is another one than the session began with.
    """
    with desk.sessions.begin() as session:
        meter, now = meter_of(session, token), desk.clock()
        link = _session_of(session, meter, session_id)
        _judge_clock(0.0 if now_s is None else (now - link.at).total_seconds() - now_s, off_s)
        probes = session.scalars(select(Probe).where(Probe.meter_id == meter.id, Probe.retired_at.is_(None)))
        by_place = {p.link_place: p.id for p in probes if p.address}
        stored = late = 0
        grouped: dict[uuid.UUID, list[tuple[datetime, SampleRow]]] = defaultdict(list)
        for row in rows:
            at = link.at + timedelta(seconds=row.elapsed_s)
            if row.place in by_place and at <= now + timedelta(seconds=FUTURE_S):
                grouped[by_place[row.place]].append((at, row))
        for probe_id, mine in grouped.items():
            stored += _place(session, probe_id, mine)
            late += sum(now - at > timedelta(seconds=10) for at, _ in mine)
        last = {r.place: [r.signal, r.temperature_c] for r in rows}
        _spoke(session, link, now, last, standing)
        return {"stored": stored, "late": late, "idle": _idle(session, meter, now)}


def clock(desk: Desk, token: str, session_id: str) -> dict[str, float]:
    """Seconds since a link's session began, by the server's clock: what the link compares its own with."""
    with desk.read() as session:
        link = _session_of(session, meter_of(session, token), session_id)
        return {"at_s": (desk.clock() - link.at).total_seconds()}


def _session_of(session: Session, meter: Meter, session_id: str) -> LinkSession:
    link = session.get(LinkSession, object_id(session_id, "link session"))
    if link is None or link.meter_id != meter.id:
        raise NotFound("There is no such session of this meter.")
    return link


def _judge_clock(late_s: float, off_s: float | None) -> None:
    """Raises WrongClock. `late_s` is how much later by the server's clock the samples came than by the link's they went.

    A slow line makes samples late, never early: late ones are believed where a short request found the clocks together.
    """
    slow_line = off_s is not None and abs(off_s) <= MOST_DRIFT_S and 0 < late_s <= SLOWEST_LINE_S
    if abs(late_s) > MOST_DRIFT_S and not slow_line:
        raise WrongClock(
            f"The link's clock is {abs(late_s):.0f} s off since its session began; its samples are not stored."
        )


def _place(session: Session, probe_id: uuid.UUID, mine: list[tuple[datetime, SampleRow]]) -> int:
    """Put samples of one probe into the dips they were read in."""
    first, last = min(at for at, _ in mine), max(at for at, _ in mine)
    query = (
        select(Dip)
        .where(Dip.probe_id == probe_id, Dip.started_at <= last, Dip.started_at > first - samples.LONGEST_DIP)
        .order_by(Dip.number)
    )
    dips = list(session.scalars(query))
    runs = [d.run_id for d in dips if d.run_id]
    ended = {e.run_id: e.at for e in session.scalars(select(RunEnd).where(RunEnd.run_id.in_(runs)))} if runs else {}
    stored = 0
    for i, dip in enumerate(dips):
        until = dips[i + 1].started_at if i + 1 < len(dips) else dip.started_at + samples.LONGEST_DIP
        if dip.run_id in ended:
            until = min(until, ended[dip.run_id])
        if dip.source != "live":
            continue
        inside = [(at, r) for at, r in mine if dip.started_at <= at < until]
        stored += samples.store_samples(session, dip, [_sample(dip, at, r) for at, r in inside])
    return stored


def _sample(dip: Dip, at: datetime, row: SampleRow) -> tuple[int, float, float, float, None]:
    """A sample's number is its own moment in the cup in ms: a resend meets the same number, a late one its place."""
    t_s = (at - dip.started_at).total_seconds()
    return round(t_s * 1000), t_s, row.signal, row.temperature_c, None


def _spoke(
    session: Session, link: LinkSession, now: datetime, last: dict[str, Any], standing: Standing | None = None
) -> None:
    """The link was heard just now: how it stands, and for good the minute in which it spoke."""
    state = session.get(LinkState, link.id, with_for_update={"of": LinkState})
    if state is None:
        state = LinkState(session_id=link.id, at=now, last={})
        session.add(state)
    state.at, state.last = now, {**state.last, **last}
    if standing is not None:
        state.waiting, state.refused, state.words = standing.waiting, standing.refused, standing.words
    minute = max(0, int((now - link.at).total_seconds() // 60))
    contact = insert(LinkContact).values(session_id=link.id, minute=minute, at=now)
    session.execute(contact.on_conflict_do_nothing())


def newest(session: Session, meter_id: uuid.UUID) -> LinkState | None:
    """How the newest session of a meter's link program stands."""
    query = (
        select(LinkState)
        .join(LinkState.link)
        .where(LinkSession.meter_id == meter_id)
        .order_by(LinkSession.at.desc())
        .limit(1)
    )
    return session.scalar(query)


def alive(session: Session, meter_id: uuid.UUID, now: datetime) -> bool:
    """Whether the link has spoken just now."""
    state = newest(session, meter_id)
    return state is not None and now - state.at < SILENT
