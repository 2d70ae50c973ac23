"""Sheets that were filled in without a signal: taken in once each, at the time they were read, never over another's."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.sentence import PlaceClock, say
from brumel.store.tables import Site, User, Visit
from brumel.work import kit
from brumel.work.desk import Desk, Refused, Write, writes
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds.outings import outing as find_outing
from brumel.work.rounds.outings import visits_of
from brumel.work.rounds.sheet import entry, recording
from brumel.work.rounds.sheet.sheet import of_visit
from brumel.work.rounds.sites import site_of as find_site

AHEAD = timedelta(minutes=5)


OLDEST = timedelta(days=14)


class Conflict(Refused):
    """Somebody else has read this site in the same outing; nothing was written."""


@dataclass(frozen=True)
class QueuedSheet:
    """A sheet as it waited in the phone.

    at : when it was read, by the phone's clock; not in the future (5 min are allowed), not older than 14 days
    both : the technician has seen that the site was read by another meanwhile, and keeps both
    """

    outing_id: str
    site_id: str
    at: datetime
    rows: Sequence[entry.Typed]
    temperature_c: float
    depth_m: float | None = None
    note: str = ""
    reason: str = ""
    both: bool = False


@dataclass(frozen=True)
class SheetSent:
    """The visit a queued sheet went to, and how many readings it made."""

    visit: str
    readings: int


def send(desk: Desk, actor: User, key: uuid.UUID, sheet: QueuedSheet) -> SheetSent:
    """One sheet from the queue, taken in whole or not at all; its own key makes a second sending harmless.

    Raises Conflict where the site was read by another and `both` was not said.
    """
    at = sheet.at
    if at.tzinfo is None:
        raise InputError("at", "The time of the reading has no zone.")
    now = desk.clock()
    if at > now + AHEAD:
        raise InputError("at", say("This was read at {at}, which is in the future. Is the phone's clock right?", at=at))
    if at < now - OLDEST:
        raise InputError("at", say("This was read at {at}, over 14 days ago; give it to the lead on paper.", at=at))
    # The desk's clock tells when it was read; the record's when it came.
    then = Desk(desk.sessions, lambda: min(at, now), desk.clock)
    return _keep_sheet(then, actor, key, sheet)


@writes("visit.queued", SheetSent)
def _keep_sheet(w: Write, sheet: QueuedSheet) -> SheetSent:
    out, place = find_outing(w.session, sheet.outing_id), find_site(w.session, sheet.site_id)
    # Two sheets of one site take turns, so that the second finds what the first has written.
    w.session.execute(select(func.pg_advisory_xact_lock(func.hashtext(f"{out.id}:{place.id}"))))
    there = [v for v in visits_of(w.session, out) if v.site_id == place.id]
    if not sheet.both:
        _no_other(w.session, w.actor, place, there)
    probes = [r.probe_id for r in sheet.rows]
    visit = _own_visit(w, w.actor, there, probes) or entry.open_visit(
        w, sheet.site_id, probes, "typed", sheet.outing_id
    )
    visit_id = str(visit.id)
    if sheet.note.strip():
        entry.say_on(w, visit_id, note=sheet.note)
    entry.type_on(w, visit_id, entry.TypedSheet(sheet.rows, sheet.temperature_c, sheet.depth_m, still=True))
    kept = recording.keep_settled(w, visit_id, reason=sheet.reason)
    w.record(
        f"visit:{visit_id}", {"read_at": w.now.isoformat(), "readings": [str(r.id) for r in kept], "both": sheet.both}
    )
    return SheetSent(visit_id, len(kept))


def _no_other(session: Session, actor: User, place: Site, there: Sequence[Visit]) -> None:
    for other in there:
        kept = of_visit(session, other.id)
        if other.operator_id != actor.id and kept:
            listed = ", ".join(f"{quantity_names.name(r.quantity)} {r.value:.4g}" for r in kept[:6])
            at = other.at.astimezone(ZoneInfo(place.zone))
            raise Conflict(
                say(
                    "{name} was read by {reader} at {at} in this outing ({listed}). Keep both, or drop yours.",
                    name=place.name,
                    reader=other.operator.name,
                    at=PlaceClock(at),
                    listed=listed,
                )
            )


def _own_visit(w: Write, actor: User, there: Sequence[Visit], probes: Sequence[str]) -> Visit | None:
    """The sheet this person has of the site in this outing: another depth or a repeat goes on it, with its probes."""
    own_visit = next((v for v in there if v.operator_id == actor.id and v.source == "typed"), None)
    if own_visit is not None:
        carried = {str(p.id) for p in own_visit.probes}
        for probe_id in dict.fromkeys(probes):
            if probe_id not in carried:
                entry.put_on_sheet(w, own_visit, kit.probe_of(w.session, probe_id))
    return own_visit
