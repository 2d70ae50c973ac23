"""Rounds on the calendar: when each is due, and keeping them."""

from __future__ import annotations

import re
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from zoneinfo import ZoneInfo, available_timezones

from sqlalchemy import select
from sqlalchemy.orm import Session, joinedload

from brumel.core import travel
from brumel.core.errors import InputError, InputErrors
from brumel.store.rounds import Round, RoundStop
from brumel.work.desk import NotFound, Refused, Write, Written, clean_reason, object_id, only_the_lead_keeps, writes
from brumel.work.rounds.recurrence import check_rule, occurrences
from brumel.work.rounds.sites import site_of as find_site

DAYS_AHEAD = 60


def rounds(session: Session, *, retired: bool = False) -> list[Round]:
    """The rounds by name."""
    query = select(Round).order_by(Round.name).options(joinedload(Round.stops))
    return list(session.scalars(query if retired else query.where(Round.retired_at.is_(None))).unique())


def round_of(session: Session, round_id: str | uuid.UUID) -> Round:
    """One round by id; the front door for everything that names a round."""
    planned_round = session.get(Round, object_id(round_id, "round"), options=[joinedload(Round.stops)])
    if planned_round is None:
        raise NotFound("There is no such round.")
    return planned_round


def next_day(planned_round: Round, today: date) -> date | None:
    """When the round is due next, today counted."""
    try:
        days = occurrences(planned_round.rule, planned_round.starts, today, today + timedelta(days=DAYS_AHEAD))
    except InputError:
        return None  # a rule of an earlier version that cannot be read: the round is gone when someone goes
    return days[0] if days else None


def today_of(planned_round: Round, now: datetime) -> date:
    """What day it is where the round is."""
    return now.astimezone(ZoneInfo(planned_round.zone)).date()


def leaving(planned_round: Round, day: date) -> datetime:
    """The moment of leaving on a day, by the wall clock of the round's zone."""
    hour, minute = (int(part) for part in planned_round.leave_at.split(":"))
    return datetime.combine(day, time(hour, minute), ZoneInfo(planned_round.zone))


def leavings(session: Session, now: datetime) -> list[tuple[Round, datetime]]:
    """Every round of the next two months with the moment it leaves, in time."""
    found = []
    for planned_round in rounds(session):
        today = today_of(planned_round, now)
        try:
            days = occurrences(planned_round.rule, planned_round.starts, today, today + timedelta(days=DAYS_AHEAD))
        except InputError:
            continue  # a rule of an earlier version that cannot be read
        found += [(planned_round, leaving(planned_round, day)) for day in days]
    return sorted(found, key=lambda pair: pair[1])


USUAL_PACE = travel.Pace()


@dataclass(frozen=True)
class NewRound:
    """A round as it is kept: sites in their order, a recurrence, and when it leaves."""

    name: str
    sites: Sequence[str]
    rule: str
    starts: date
    leave_at: str
    zone: str
    note: str = ""
    pace: travel.Pace = USUAL_PACE


def day_out(planned_round: Round) -> travel.DayOut:
    """How long the round takes, by its pace and where its sites lie."""
    r = planned_round
    pace = travel.Pace(r.site_min, r.speed_kmh, r.way_min, r.between_min)
    places = [
        (s.latitude, s.longitude) if s.latitude is not None and s.longitude is not None else None for s in r.sites
    ]
    return travel.day_out(places, pace)


@writes("round.save", Written)
def save_round(w: Write, *, new: NewRound, round_id: str = "", retired: bool = False) -> Written:
    """Make a round or change one. Raises every fault at once."""
    only_the_lead_keeps(w.actor)
    faults: list[InputError] = []
    if not new.name.strip() or len(new.name) > 80:
        faults.append(InputError("name", "A round needs a name of at most 80 letters."))
    elif not retired and _is_taken(w.session, new.name, round_id):
        faults.append(InputError("name", "There is a round of this name already.", value=new.name[:80]))
    if not new.sites:
        faults.append(InputError("site", "A round needs at least one site."))
    if len(set(new.sites)) != len(new.sites):
        faults.append(InputError("site", "A site stands twice in this round."))
    if len(new.sites) > 60:
        faults.append(InputError("site", "A round takes 60 sites at most."))
    if not re.fullmatch(r"([01]\d|2[0-3]):[0-5]\d", new.leave_at):
        faults.append(InputError("leave_at", "Leaving is a time as 08:15.", value=new.leave_at))
    if new.zone not in available_timezones():
        faults.append(
            InputError("zone", f"“{new.zone[:40]}” is not a time zone; write its name in the tz database, as “UTC”.")
        )
    try:
        if new.rule.strip():
            check_rule(new.rule.strip()[:200], new.starts)
        elif not 2000 <= new.starts.year <= 2100:
            raise InputError("starts", "The first day must lie between 2000 and 2100.")
    except InputError as error:
        faults += error.faults
    try:
        travel.checked(new.pace)
    except InputError as error:
        faults += error.faults
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    stops = [find_site(w.session, s) for s in new.sites]
    gone = [s.name for s in stops if s.retired_at is not None]
    if gone:
        raise Refused(f"{', '.join(gone)} is read no more.")
    planned_round = round_of(w.session, round_id) if round_id else Round(id=uuid.uuid4(), stops=[])
    planned_round.name, planned_round.rule, planned_round.starts = (
        " ".join(new.name.split()),
        new.rule.strip(),
        new.starts,
    )
    pace = new.pace
    planned_round.site_min, planned_round.speed_kmh = pace.site_min, pace.speed_kmh
    planned_round.way_min, planned_round.between_min = pace.way_min, pace.between_min
    planned_round.leave_at, planned_round.zone, planned_round.note = (
        new.leave_at,
        new.zone,
        clean_reason(new.note, required=False),
    )
    planned_round.retired_at = w.now if retired else None
    w.session.add(planned_round)
    w.session.flush()
    planned_round.stops.clear()
    w.session.flush()
    planned_round.stops.extend(RoundStop(place=i, site_id=s.id) for i, s in enumerate(stops))
    w.record(f"round:{planned_round.id}", {"name": planned_round.name, "sites": len(stops)})
    return Written(str(planned_round.id))


def _is_taken(session: Session, name: str, round_id: str) -> bool:
    query = select(Round.id).where(Round.name == " ".join(name.split()), Round.retired_at.is_(None))
    return any(str(found) != round_id for found in session.scalars(query))
