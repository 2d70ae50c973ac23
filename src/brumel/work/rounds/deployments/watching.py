"""A live logger's feed, and the watch over it: silence, a flat line, drift against a reading by hand, a limit reached."""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, lazyload

from brumel.core import believability as belief
from brumel.core.errors import InputError, InputErrors
from brumel.core.sentence import Amount, Sentence, as_data, say
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Alarm, Channel, Deployment, DeploymentStep, FeedRecord
from brumel.store.kept_words import from_data
from brumel.store.standing import is_standing
from brumel.store.tables import Reading
from brumel.work.desk import Conflict, Desk, MovedOn, NotFound, Refused, Write, Written, object_id, writes
from brumel.work.rounds.deployments import channels
from brumel.work.rounds.deployments.plan import OUT, STATES, locked, state_of, steps_of
from brumel.work.rounds.deployments.pointing import point
from brumel.work.rounds.deployments.visits import back_at, services_of

#: Records of one call, and of how long before now they may be.
MOST_RECORDS, OLDEST = 5_000, timedelta(days=400)
#: How much of the feed is looked at for a flat line.
_LOOKED_AT = timedelta(hours=48)


@dataclass(frozen=True)
class SentRecord:
    """A record as a logger sends it: its moment, and the values by quantity in the units of the channels."""

    at: datetime
    values: Mapping[str, float]


@dataclass(frozen=True)
class Received:
    """What came of a call: records that were new, and that were there already with the same values."""

    id: str
    new: int
    there: int


def _checked(d: Deployment, records: Sequence[SentRecord], now: datetime) -> list[list[float | None]]:
    places = {c.quantity: c.place for c in d.channels}
    faults, rows = list[InputError](), []
    if not 1 <= len(records) <= MOST_RECORDS:
        raise InputError("records", f"Send 1 to {MOST_RECORDS:,} records at once.")
    for number, r in enumerate(records):
        if r.at.tzinfo is None or not now - OLDEST <= r.at <= now + timedelta(minutes=5):
            faults.append(
                InputError("records", f"Record {number + 1}: its time has no zone, is in the future or too old.")
            )
        row: list[float | None] = [None] * len(places)
        for quantity, value in r.values.items():
            if quantity not in places:
                faults.append(
                    InputError("records", f"Record {number + 1}: the logger does not record “{quantity[:30]}”.")
                )
            elif not np.isfinite(value):
                faults.append(InputError("records", f"Record {number + 1}: {channels.title(quantity)} is no number."))
            else:
                row[places[quantity]] = float(value)
        if not r.values:
            faults.append(InputError("records", f"Record {number + 1} holds no value."))
        rows.append(row)
        if len(faults) >= 10:
            break
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return rows


@writes("deployment.feed", Received)
def receive(w: Write, *, deployment_id: str, records: Sequence[SentRecord]) -> Received:
    """Take records of a live logger in, each once. A time that has come before with other values is a conflict.

    The first one confirms a deployment that was started. Raises every fault at once; Refused where the logger is not out.
    """
    d = locked(w, deployment_id)
    steps = steps_of(w.session, [d])[d.id]
    state = state_of(steps)
    if state not in ("started", "confirmed"):
        raise Refused(f"This deployment is {STATES[state]}; it takes records while it is out.")
    rows = _checked(d, records, w.now)
    asked = select(FeedRecord.at, FeedRecord.values).where(
        FeedRecord.deployment_id == d.id, FeedRecord.at.in_([r.at for r in records])
    )
    there = dict(w.session.execute(asked).tuples().all())
    fresh = dict[datetime, list[float | None]]()
    for r, row in zip(records, rows, strict=True):
        known = there.get(r.at, fresh.get(r.at))
        if known is not None and known != row:
            raise Conflict(say("A record of {at} came before with other values.", at=r.at))
        if r.at not in there:
            fresh[r.at] = row
    if fresh:
        w.session.execute(
            insert(FeedRecord),
            [{"deployment_id": d.id, "at": at, "values": row, "came_at": w.now} for at, row in fresh.items()],
        )
    if state == "started" and fresh:
        first = min(fresh)
        body = {"first_at": first.isoformat(), "count": len(fresh), "by": "feed"}
        w.session.add(
            DeploymentStep(
                deployment_id=d.id, kind="confirmed", at=w.now, body=body, written_at=w.written, by_id=w.actor.id
            )
        )
        point(w.session, d)
    w.session.flush()
    w.record(f"deployment:{d.id}", {"fed": len(fresh)})
    look_at(w.session, d, w.now)
    return Received(str(d.id), len(fresh), len(records) - len(set(fresh)))


# -- the watch


@dataclass(frozen=True)
class Noticed:
    """Something that is wrong with a live logger now."""

    kind: str
    channel: Channel | None
    words: Sentence


def look_at(session: Session, d: Deployment, now: datetime) -> list[Alarm]:
    """Look at a live deployment: what is wrong is noted once, what has passed is ended. Returns what is new."""
    open_ = {
        (a.channel_id, a.kind): a
        for a in session.scalars(select(Alarm).where(Alarm.deployment_id == d.id, Alarm.ended_at.is_(None)))
    }
    found = {(n.channel.id if n.channel else None, n.kind): n for n in noticed(session, d, now)}
    for key, alarm in open_.items():
        if key not in found:
            alarm.ended_at = now
    made = []
    for key, n in found.items():
        if key not in open_:
            alarm = Alarm(deployment_id=d.id, channel_id=key[0], kind=n.kind, at=now, words=as_data(n.words))
            session.add(alarm)
            made.append(alarm)
    session.flush()
    return made


def noticed(session: Session, d: Deployment, now: datetime) -> list[Noticed]:
    """What is wrong with a live deployment at a moment; nothing for one that sends nothing or is not out."""
    last = session.scalar(select(func.max(FeedRecord.at)).where(FeedRecord.deployment_id == d.id))
    if last is None:
        return []
    spec = load_deployments().watch
    silent_s = max(spec.silent_intervals * d.interval_s, 60 * spec.silent_minutes)
    found = list[Noticed]()
    if (now - last).total_seconds() > silent_s:
        found.append(Noticed("silent", None, say("“{name}” has sent nothing since {at}.", name=d.name, at=last)))
    rows = session.execute(
        select(FeedRecord.at, FeedRecord.values)
        .where(FeedRecord.deployment_id == d.id, FeedRecord.at > last - _LOOKED_AT)
        .order_by(FeedRecord.at)
    ).all()
    since = _clean_since(session, d)
    for c in d.channels:
        values = np.array([v[c.place] if v[c.place] is not None else np.nan for _, v in rows], dtype=np.float64)
        found += _of_channel(session, d, c, since, [at for at, _ in rows], values)
    return found


def _of_channel(
    session: Session, d: Deployment, c: Channel, since: datetime | None, times: Sequence[datetime], values: Any
) -> Iterator[Noticed]:
    is_there = np.flatnonzero(np.isfinite(values))
    if not is_there.size:
        return
    newest, at = float(values[is_there[-1]]), times[int(is_there[-1])]
    title, unit = channels.title(c.quantity), c.unit
    limit = d.site.limits.get(c.quantity, {})
    for side, sign in (("low", -1), ("high", 1)):
        edge = limit.get(side)
        if edge is not None and sign * (newest - edge) > 0:
            words = say(
                "{title} {value} at {at}; the site's limit is {edge}.",
                title=title,
                value=Amount(newest, unit, ".4g"),
                at=at,
                edge=Amount(float(edge), unit, "g"),
            )
            yield Noticed("limit", c, words)
    seen = values[is_there]
    limits = belief.series_limits(seen, d.interval_s, channels.least_spread(c.quantity, float(np.median(seen))))
    suspect, _, still = limits.flat
    if seen.size > suspect and float(np.ptp(seen[-suspect:])) <= still:
        words = say(
            "{title} has stood at {value} for {h:.0f} h.",
            title=title,
            value=Amount(newest, unit, ".4g"),
            h=suspect * d.interval_s / 3600,
        )
        yield Noticed("flat", c, words)
    if since is not None:
        yield from _drifted(session, d, c, since)


def _clean_since(session: Session, d: Deployment) -> datetime | None:
    """Since when it stands as it does: its last service, else when it was set out."""
    services = services_of(session, [d.id])
    started = steps_of(session, [d])[d.id].get("started")
    return back_at(services[-1]) if services else started.at if started else None


def _drifted(session: Session, d: Deployment, c: Channel, since: datetime) -> Iterator[Noticed]:
    """The newest reading by hand at the site since the last service, beside the record of that moment."""
    criteria = channels.criteria(c.quantity)
    if criteria is None:
        return
    depth = (
        Reading.depth_m.is_(None)
        if d.depth_m is None
        else (Reading.depth_m.is_(None) | (func.abs(Reading.depth_m - d.depth_m) <= 0.5))
    )
    reading = session.scalar(
        select(Reading)
        .options(lazyload("*"))
        .where(Reading.site_id == d.site_id, Reading.quantity == c.quantity, Reading.at > since, depth, is_standing())
        .order_by(Reading.at.desc())
        .limit(1)
    )
    if reading is None or reading.probe_id == c.probe_id:
        return
    near = timedelta(seconds=max(2 * d.interval_s, 1800))
    row = session.execute(
        select(FeedRecord.at, FeedRecord.values)
        .where(FeedRecord.deployment_id == d.id, FeedRecord.at.between(reading.at - near, reading.at + near))
        .order_by(func.abs(func.extract("epoch", FeedRecord.at - reading.at)))
        .limit(1)
    ).first()
    logged = row[1][c.place] if row else None
    if logged is None:
        return
    allowed = max(
        criteria.holds, abs(reading.value) * criteria.holds_percent / 100, reading.expanded_uncertainty or 0.0
    )
    if abs(logged - reading.value) > allowed:
        yield Noticed(
            "drift",
            c,
            say(
                "{title} {value} beside {hand} read by hand at {at}: off by more than {allowed}.",
                title=channels.title(c.quantity),
                value=Amount(logged, c.unit, ".4g"),
                hand=Amount(reading.value, c.unit, ".4g"),
                at=reading.at,
                allowed=Amount(allowed, c.unit, ".3g"),
            ),
        )


def watch(desk: Desk) -> int:
    """Look at every live deployment that is out; returns how many alarms are new. Done about once a minute."""
    made = 0
    with desk.sessions.begin() as session:
        for d in live(session):
            made += len(look_at(session, d, desk.clock()))
    return made


def live(session: Session) -> list[Deployment]:
    """Deployments that are out and have sent records."""
    fed = select(FeedRecord.deployment_id).where(FeedRecord.deployment_id == Deployment.id).exists()
    return list(session.scalars(select(Deployment).where(fed, Deployment.state.in_(OUT)).order_by(Deployment.name)))


def alarms(session: Session, deployment_id: uuid.UUID | None = None) -> list[Alarm]:
    """The alarms that are open, the newest first."""
    query = select(Alarm).where(Alarm.ended_at.is_(None)).order_by(Alarm.at.desc())
    return list(session.scalars(query.where(Alarm.deployment_id == deployment_id) if deployment_id else query))


def sentence(alarm: Alarm) -> str:
    """What an alarm says, with its values as they were, for a page to put into its reader's units and zone."""
    return from_data(alarm.words)


@writes("deployment.seen_to", Written)
def seen_to(w: Write, *, alarm_id: str) -> Written:
    """Somebody has seen to an alarm: it says no more on Today, and ends when what it says of has passed."""
    alarm = w.session.get(Alarm, object_id(alarm_id, "alarm"))
    if alarm is None:
        raise NotFound("There is no such alarm.")
    if alarm.ended_at is not None:
        raise MovedOn("This has passed meanwhile.")
    if alarm.seen_at is None:
        alarm.seen_at, alarm.seen_by_id = w.now, w.actor.id
    w.record(f"deployment:{alarm.deployment_id}", {"seen_to": alarm.kind})
    return Written(str(alarm.deployment_id))
