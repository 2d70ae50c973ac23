"""Outings: a round on a day, its probes, and the closing checks that are left."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import cache

from sqlalchemy import Select, bindparam, select
from sqlalchemy.orm import Session, joinedload, lazyload

from brumel.methods import ORDER
from brumel.store.records import Closing
from brumel.store.rounds import Outing, OutingEnd, Round
from brumel.store.standing import is_standing
from brumel.store.tables import Probe, Reading, Site, User, Visit, VisitMove
from brumel.work import kit
from brumel.work.desk import NotFound, Refused, Write, Written, object_id, writes
from brumel.work.rounds.calendar import round_of, today_of


def to_close(session: Session, outing: Outing) -> list[Probe]:
    """The probes whose readings of this outing still wait for a closing check."""
    return list(session.scalars(_to_close(), {"outing": outing.id, "started": outing.started_at}))


@cache
def _to_close() -> Select[Probe]:
    closed = select(Closing.probe_id).where(Closing.at >= bindparam("started"))
    used = (
        select(Reading.probe_id)
        .join(Visit, Visit.id == Reading.visit_id)
        .where(Visit.outing_id == bindparam("outing"), Reading.calibration_id.is_not(None), Reading.backing == "open")
        .where(Reading.quantity == Probe.quantity, Reading.probe_id == Probe.id, is_standing())
    )
    return select(Probe).where(used.exists(), Probe.id.not_in(closed)).order_by(Probe.name)


def outing(session: Session, outing_id: str | uuid.UUID) -> Outing:
    """One outing by id; the front door for everything that names one."""
    outing = session.get(Outing, object_id(outing_id, "outing"))
    if outing is None:
        raise NotFound("There is no such outing.")
    return outing


def running(session: Session, planned_round: Round, day: date) -> Outing | None:
    """The outing of a round on a day."""
    of_day = select(Outing).where(Outing.round_id == planned_round.id, Outing.day == day)
    return session.scalar(of_day.options(lazyload(Outing.round)))


#: How far back the calendar file tells of outings.
DAYS_BACK = 60


def usual_source(session: Session, person: User, outing_id: str = "") -> str:
    """How this person read last, in this outing first: "live" or "typed"; empty where they have read nothing yet."""
    query = select(Visit.source).where(Visit.operator_id == person.id)
    if outing_id:
        query = query.order_by((Visit.outing_id == object_id(outing_id, "outing")).desc().nulls_last())
    return session.scalar(query.order_by(Visit.at.desc()).limit(1)) or ""


def gone(session: Session, now: datetime) -> list[Outing]:
    """The outings of the last two months, the newest first."""
    with_sites = joinedload(Outing.round).lazyload("*")
    since = now - timedelta(days=DAYS_BACK)
    query = select(Outing).options(with_sites).where(Outing.started_at > since).order_by(Outing.started_at.desc())
    return list(session.scalars(query))


def of_today(session: Session, now: datetime) -> list[Outing]:
    """The outings of the day it is where their rounds are, the newest begun first."""
    since = now - timedelta(days=2)  # it is the same day nowhere on earth
    newest = session.scalars(_begun_since(), {"since": since}).unique()
    return [one for one in newest if one.day == today_of(one.round, now)]


@cache
def _begun_since() -> Select[Outing]:
    with_sites = joinedload(Outing.round).joinedload(Round.stops)
    begun = select(Outing).where(Outing.started_at > bindparam("since"))
    return begun.options(with_sites).order_by(Outing.started_at.desc())


def running_of(person: User, today: Sequence[Outing]) -> Outing | None:
    """Of the outings of today one that has not come back: this person's own first, then the newest begun."""
    going = [one for one in today if one.ended_at is None]
    return next(iter([one for one in going if one.operator_id == person.id] or going), None)


@dataclass(frozen=True)
class OutingProgress:
    """An outing that runs: the sites that were begun, the next one, and the probes that are not closed yet."""

    begun: int
    next_site: Site | None
    to_close: Sequence[Probe]


def progress(session: Session, out: Outing) -> OutingProgress:
    """How far an outing is. Two queries."""
    begun = set(session.scalars(_sheets_of().with_only_columns(Visit.site_id), {"outing": out.id}))
    left = (site for site in out.round.sites if site.id not in begun)
    return OutingProgress(len(begun), next(left, None), to_close(session, out))


def visits_of(session: Session, outing: Outing) -> list[Visit]:
    """The sheets of an outing, oldest first, without those that were moved to their right site."""
    return list(session.scalars(_sheets_of().options(lazyload(Visit.carried)), {"outing": outing.id}))


@cache
def _sheets_of() -> Select[Visit]:
    moved = select(VisitMove.visit_id).where(VisitMove.visit_id == Visit.id)
    return select(Visit).where(Visit.outing_id == bindparam("outing"), ~moved.exists()).order_by(Visit.at)


# -- the probes of a round


@dataclass(frozen=True)
class Chosen:
    """A probe for a quantity of the round, with what it may be trusted for."""

    quantity: str
    probe: Probe
    trust: kit.Trust


def needed(planned_round: Round) -> set[str]:
    """The quantities its sites are usually read for."""
    return {q for site in planned_round.sites for q in site.ranges if q in ORDER}


@dataclass(frozen=True)
class ProbeChoice:
    """The probes that could be carried on a round, by quantity, in the order the quantities are calibrated."""

    options: Mapping[str, Sequence[Chosen]]

    def best(self, until: datetime) -> list[Chosen]:
        """The best probe for each quantity: trusted through the round first, then one on a link."""
        return [min(some, key=lambda c: _rank(c, until)) for some in self.options.values() if some]

    @property
    def missing(self) -> list[str]:
        """The quantities that nothing measures."""
        return [quantity for quantity, some in self.options.items() if not some]


def choice(session: Session, planned_round: Round, now: datetime) -> ProbeChoice:
    """What a round can be gone with, as each probe is trusted now."""
    probes = kit.probes_at_hand(session)
    return choice_among(planned_round, probes, kit.trusts(session, probes, now))


def choice_among(planned_round: Round, probes: Sequence[Probe], trusts: Mapping[uuid.UUID, kit.Trust]) -> ProbeChoice:
    """The same among probes whose trust is known."""
    wanted = sorted(needed(planned_round), key=ORDER.index)
    return ProbeChoice({q: [Chosen(q, p, trusts[p.id]) for p in probes if p.quantity == q] for q in wanted})


def _rank(c: Chosen, until: datetime) -> tuple[bool, bool, bool, str]:
    lasts = c.trust.valid and c.trust.calibration is not None and c.trust.calibration.valid_until >= until
    return (not lasts, c.trust.calibration is None, c.probe.meter.link == "typed", c.probe.name)


# -- writing


@writes("outing.start", Written)
def start(w: Write, *, round_id: str, meter_id: str = "") -> Written:
    """Begin the round of today; beginning it again goes on with the one begun."""
    planned_round = round_of(w.session, round_id)
    if planned_round.retired_at is not None:
        raise Refused(f"{planned_round.name} is not gone any more.")
    if not planned_round.stops:
        raise Refused(f"{planned_round.name} has no sites yet; the lead can add them.")
    w.session.execute(select(Round.id).where(Round.id == planned_round.id).with_for_update())
    day = today_of(planned_round, w.now)
    running_outing = running(w.session, planned_round, day)
    if running_outing is None:
        chosen = choice(w.session, planned_round, w.now).best(w.now)
        carried = kit.meter_of(w.session, meter_id) if meter_id else None
        meters = [c.probe.meter for c in chosen]
        main = carried or (max(meters, key=meters.count) if meters else None)
        if main is None:
            raise Refused("No probe of yours measures anything these sites need.")
        running_outing = Outing(
            id=uuid.uuid4(),
            round_id=planned_round.id,
            day=day,
            meter_id=main.id,
            operator_id=w.actor.id,
            started_at=w.now,
        )
        w.session.add(running_outing)
        w.session.flush()
    w.record(f"outing:{running_outing.id}", {"round": planned_round.name, "day": str(day)})
    return Written(str(running_outing.id))


@writes("outing.end", Written)
def end(w: Write, *, outing_id: str) -> Written:
    """Back from the round: what is left is the closing check of each probe."""
    ending = outing(w.session, outing_id)
    if ending.ended_at is None:
        w.session.add(OutingEnd(outing_id=ending.id, at=w.now, by_id=w.actor.id))
    w.record(f"outing:{outing_id}", {"ended": str(ending.ended_at or w.now)})
    return Written(str(ending.id))
