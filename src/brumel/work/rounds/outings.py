"""Outings: a round on a day, its probes, and the closing checks that are left."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from datetime import date, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.methods import ORDER
from brumel.store.rounds import Outing, Round
from brumel.store.tables import Probe, Visit
from brumel.work import kit
from brumel.work.bench.closing_checks import newest
from brumel.work.desk import NotFound, Refused, Write, Written, object_id, writes
from brumel.work.rounds.calendar import round_of, today_of
from brumel.work.rounds.sheet.sheet import of_visit


def to_close(session: Session, outing: Outing) -> list[Probe]:
    """The probes whose readings of this outing still wait for a closing check."""
    used: dict[uuid.UUID, Probe] = {}
    for visit in visits_of(session, outing):
        for r in of_visit(session, visit.id):
            if r.probe is not None and r.calibration_id and r.backing == "open" and r.quantity == r.probe.quantity:
                used[r.probe.id] = r.probe
    done = {c.probe_id for c in newest(session, 200) if c.at >= outing.started_at}
    return sorted((p for i, p in used.items() if i not in done), key=lambda p: p.name)


def outing(session: Session, outing_id: str | uuid.UUID) -> Outing:
    """One outing by id; the front door for everything that names one."""
    outing = session.get(Outing, object_id(outing_id, "outing"))
    if outing is None:
        raise NotFound("There is no such outing.")
    return outing


def running(session: Session, planned_round: Round, day: date) -> Outing | None:
    """The outing of a round on a day."""
    return session.scalar(select(Outing).where(Outing.round_id == planned_round.id, Outing.day == day))


def visits_of(session: Session, outing: Outing) -> list[Visit]:
    """The sheets of an outing, oldest first."""
    return list(session.scalars(select(Visit).where(Visit.outing_id == outing.id).order_by(Visit.at)))


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


def choose(session: Session, planned_round: Round, now: datetime, until: datetime) -> tuple[list[Chosen], list[str]]:
    """The best probe for each quantity: trusted through the round first, then one on a link; and what nothing measures."""
    options: dict[str, list[Chosen]] = {}
    wanted = sorted(needed(planned_round), key=ORDER.index)
    probes = [p for p in kit.probes_in_service(session) if p.quantity in wanted]
    trusts = kit.trusts(session, probes, now)
    for probe in probes:
        options.setdefault(probe.quantity, []).append(Chosen(probe.quantity, probe, trusts[probe.id]))
    picked = [min(options[q], key=lambda c: _rank(c, until)) for q in wanted if options.get(q)]
    return picked, [q for q in wanted if not options.get(q)]


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
        chosen, _ = choose(w.session, planned_round, w.now, w.now)
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
            packed={},
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
    ending.ended_at = ending.ended_at or w.now
    w.record(f"outing:{outing_id}", {"ended": str(ending.ended_at)})
    return Written(str(ending.id))
