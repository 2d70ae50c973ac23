"""Sheets that were filled in without a signal: taken in once each, at the time they were read, never over another's."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.sentence import Amount, PlaceClock, say
from brumel.store.rounds import Outing, RoundStop
from brumel.store.tables import Reading, Site, User, Visit, VisitMove
from brumel.work import kit
from brumel.work.desk import Refused, Write, alone_with
from brumel.work.quantities import names as quantity_names
from brumel.work.questions import Question, Unanswered
from brumel.work.rounds.outings import outing as find_outing
from brumel.work.rounds.outings import visits_of
from brumel.work.rounds.sheet import entry, photos, recording
from brumel.work.rounds.sheet.answers import Answers
from brumel.work.rounds.sheet.sheet import of_visit
from brumel.work.rounds.sites import site_of as find_site

AHEAD = timedelta(minutes=5)


OLDEST = timedelta(days=14)


class Conflict(Refused):
    """Somebody else has read this site in the same outing; nothing was written."""


@dataclass(frozen=True)
class ReadSet:
    """What the displays showed at one depth [m] and time, with the water's temperature [°C].

    at : when it was read, by the phone's clock or the paper's
    answers : why what is odd may be so, by the question's code; `reason` is said of what has no answer of its own
    beside : a second display of a probe, by its id; see entry.TypedSheet
    """

    at: datetime
    rows: Sequence[entry.Typed]
    temperature_c: float
    depth_m: float | None = None
    reason: str = ""
    answers: Mapping[str, str] = field(default_factory=dict)
    beside: Mapping[str, entry.Beside] = field(default_factory=dict)


@dataclass(frozen=True)
class TakenPhoto:
    """A photo as the phone took it; where it was taken is not kept."""

    name: str
    data: bytes


@dataclass(frozen=True)
class QueuedVisit:
    """One person's visit to one site as it waited in the phone or on paper: every depth and repeat, note and photos.

    outing_id : empty where it belongs to no outing
    both : the technician has seen that the site was read by another meanwhile, and keeps both
    """

    outing_id: str
    site_id: str
    sets: Sequence[ReadSet]
    note: str = ""
    photos: Sequence[TakenPhoto] = ()
    both: bool = False


#: How many depths and repeats a visit may bring at once.
MOST_SETS = 40


@dataclass(frozen=True)
class VisitSent:
    """The visit a queued one went to, and how many readings it made; decisions that it opened again, by number."""

    visit: str
    readings: int
    opened: tuple[int, ...] = ()


def check_times(sets: Sequence[ReadSet], now: datetime, oldest: timedelta = OLDEST) -> list[ReadSet]:
    """The sets with times that can be: of a zone, not in the future (5 min are allowed), not older than `oldest`.

    Raises InputError.
    """
    if not sets:
        raise InputError("sets", "There is no reading in this visit.")
    if len(sets) > MOST_SETS:
        raise InputError("sets", f"A visit takes {MOST_SETS} depths and repeats at most.")
    checked = []
    for one in sets:
        at, days = one.at, oldest.days
        if at.tzinfo is None:
            raise InputError("at", "The time of the reading has no zone.")
        if not 2000 <= at.year <= 2100:
            raise InputError("at", "The time of the reading lies outside the calendar. Is the clock right?")
        if at > now + AHEAD:
            raise InputError("at", say("This was read at {at}, which is in the future. Is the clock right?", at=at))
        if at < now - oldest:
            raise InputError("at", say("This was read at {at}, over {days} days ago; ask the lead.", at=at, days=days))
        checked.append(replace(one, at=min(at, now)))
    return checked


def keep_visit(w: Write, visit: QueuedVisit) -> tuple[Visit, list[Reading]]:
    """A whole visit inside a write: every set at its own time, or none of them.

    Raises Conflict, Refused, InputErrors; Unanswered with the questions of every set, its number before their codes.
    """
    site = find_site(w.session, visit.site_id)
    out = find_outing(w.session, visit.outing_id) if visit.outing_id else None
    # Two visits to one site take turns, so that the second finds what the first has written.
    alone_with(w.session, f"{out.id if out else ''}:{site.id}")
    first = min(visit.sets, key=lambda one: one.at)
    there = _there(w, out, site, first.at)
    if not visit.both and out is not None:
        _no_other(w.session, w.actor, site, there)
    begun = replace(w, now=first.at)
    probes = [r.probe_id for one in visit.sets for r in one.rows]
    sheet = _own_visit(begun, w.actor, there, probes) or entry.open_visit(
        begun, visit.site_id, probes, "typed", visit.outing_id
    )
    visit_id = str(sheet.id)
    if visit.note.strip():
        entry.say_on(begun, visit_id, note=visit.note)
    kept, left = [], list[Question]()
    for number, one in enumerate(visit.sets):
        typed = entry.TypedSheet(one.rows, one.temperature_c, one.depth_m, beside=one.beside)
        try:
            kept += recording.record_on(replace(w, now=one.at), visit_id, typed, Answers.given(one.answers, one.reason))
        except Unanswered as error:  # the others are judged all the same, so that everything is asked at once
            left += [_of_set(number, one, q) for q in error.questions]
    if left:
        raise Unanswered(left)
    for photo in visit.photos:
        photos.put_on(begun, sheet, photo.name, photo.data)
    return sheet, kept


def _of_set(number: int, one: ReadSet, asked: Question) -> Question:
    """A question of one set of a visit: its code begins with the set's number, its sentence with the depth."""
    words = asked.sentence
    if one.depth_m is not None:
        words = say("At {depth}: {words}", depth=Amount(one.depth_m, "m"), words=words)
    return Question(f"{number}:{asked.code}", words)


def _there(w: Write, out: Outing | None, site: Site, at: datetime) -> list[Visit]:
    """The visits of this site in this outing; without one, this person's of the same day of the site's own calendar."""
    if out is not None:
        return [v for v in visits_of(w.session, out) if v.site_id == site.id]
    zone = ZoneInfo(site.zone)
    day = at.astimezone(zone).date()
    near = (Visit.at > at - timedelta(days=1), Visit.at < at + timedelta(days=1), Visit.operator_id == w.actor.id)
    query = select(Visit).where(Visit.site_id == site.id, Visit.outing_id.is_(None), *near).order_by(Visit.at)
    moved = set(w.session.scalars(select(VisitMove.visit_id)))
    same = (v for v in w.session.scalars(query) if v.id not in moved)
    return [v for v in same if v.at.astimezone(zone).date() == day]


def outing_of(session: Session, site_id: str, at: datetime) -> str:
    """The outing that goes by this site on the day of a time, empty where there is none."""
    site = find_site(session, site_id)
    day = at.astimezone(ZoneInfo(site.zone)).date()
    stops = select(RoundStop.round_id).where(RoundStop.site_id == site.id)
    query = select(Outing.id).where(Outing.day == day, Outing.round_id.in_(stops)).order_by(Outing.started_at)
    found = session.scalar(query.limit(1))
    return str(found) if found else ""


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
