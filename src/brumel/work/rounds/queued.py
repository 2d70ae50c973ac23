"""Sheets that were filled in without a signal: taken in once each, at the time they were read, never over another's."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select

from brumel.core.errors import InputError
from brumel.store.tables import User, Visit, WriteKey
from brumel.work.desk import Desk, Refused
from brumel.work.outings import outing as find_outing
from brumel.work.rounds import words, writing
from brumel.work.rounds.places import site as find_site
from brumel.work.rounds.sheet import of_visit

AHEAD = timedelta(minutes=5)
OLDEST = timedelta(days=14)


class Conflict(Refused):
    """Somebody else has read this site in the same outing; nothing was written."""


def send(
    desk: Desk, actor: User, key: uuid.UUID, *, outing_id: str, site_id: str, at: datetime, rows: Sequence[writing.Typed],
    temperature_c: float, depth_m: float | None = None, note: str = "", reason: str = "", both: bool = False,
) -> dict[str, Any]:  # fmt: skip
    """One sheet from the queue. Its own key makes a second sending harmless, and a broken one go on.

    at : when it was read, by the phone's clock; not in the future (5 min are allowed), not older than 14 days
    both : the technician has seen that the site was read by another meanwhile, and keeps both

    Raises Conflict where it was and `both` was not said.
    """
    if at.tzinfo is None:
        raise InputError("at", "The time of the reading has no zone.")
    now = desk.clock()
    if at > now + AHEAD:
        raise InputError(
            "at", f"This was read at {at:%d %b %Y, %H:%M} UTC, which is in the future. Is the phone's clock right?"
        )
    if at < now - OLDEST:
        raise InputError(
            "at", f"This was read at {at:%d %b %Y, %H:%M} UTC, over 14 days ago; give it to the lead on paper."
        )
    first = _step(key, "start")
    with desk.read() as session:
        out, place = find_outing(session, outing_id), find_site(session, site_id)
        begun = session.get(WriteKey, first)
        own = str(begun.result.get("visit")) if begun is not None else ""
        there = session.scalars(select(Visit).where(Visit.outing_id == out.id, Visit.site_id == place.id))
        others = [(v, kept) for v in there if str(v.id) != own and (kept := of_visit(session, v.id))]
        if others and not both:
            other, kept = others[0]
            told = ", ".join(f"{words.name(r.quantity)} {r.value:.4g}" for r in kept[:6])
            raise Conflict(
                f"{place.name} was read by {other.operator.name} at {other.at:%H:%M} UTC in this outing ({told}). "
                "Keep both, or drop yours."
            )
    # Each step has a key of its own that follows from the sheet's: a broken line resumes where it broke.
    then = Desk(desk.sessions, lambda: min(at, now), desk.clock)
    made = writing.start_visit(
        then, actor, first, site_id=site_id, probes=[r.probe_id for r in rows], source="typed", outing_id=outing_id
    )["visit"]
    typed = f"type {[(r.probe_id, r.signal, r.value) for r in rows]} {temperature_c} {depth_m}"
    writing.type_readings(
        then,
        actor,
        _step(key, typed),
        visit_id=made,
        rows=rows,
        temperature_c=temperature_c,
        depth_m=depth_m,
        still=True,
    )
    if note.strip():
        writing.say(then, actor, _step(key, "note"), visit_id=made, note=note)
    kept_rows = writing.take_all(then, actor, _step(key, "take"), visit_id=made, reason=reason)["readings"]
    with desk.write(actor, key, "visit.queued") as w:
        if w.done:
            return w.done
        detail = {"read_at": at.isoformat(), "readings": len(kept_rows), "both": both}
        return w.finish(f"visit:{made}", detail, visit=made, readings=len(kept_rows))


def _step(key: uuid.UUID, what: str) -> uuid.UUID:
    """The key of one step of a sheet: the same each time it is sent."""
    return uuid.uuid5(key, what)
