"""Outings: a round on a day, its probes, and the closing checks that are left."""

from __future__ import annotations

import uuid
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.methods import ORDER
from brumel.store.rounds import Outing, Round
from brumel.store.tables import Probe, User, Visit
from brumel.work import kit
from brumel.work.bench.closing_checks import newest
from brumel.work.desk import Desk, NotFound, Refused, object_id
from brumel.work.rounds.calendar import round_of, today_of
from brumel.work.rounds.sheet.sheet import of_visit


def to_close(session: Session, found: Outing) -> list[Probe]:
    """The probes whose readings of this outing still wait for a closing check."""
    used: dict[uuid.UUID, Probe] = {}
    for visit in visits_of(session, found):
        for r in of_visit(session, visit.id):
            if r.probe is not None and r.calibration_id and r.backing == "open" and r.quantity == r.probe.quantity:
                used[r.probe.id] = r.probe
    done = {c.probe_id for c in newest(session, 200) if c.at >= found.started_at}
    return sorted((p for i, p in used.items() if i not in done), key=lambda p: p.name)


def outing(session: Session, outing_id: str | uuid.UUID) -> Outing:
    """One outing by id; the front door for everything that names one."""
    found = session.get(Outing, object_id(outing_id, "outing"))
    if found is None:
        raise NotFound("There is no such outing.")
    return found


def running(session: Session, found: Round, day: date) -> Outing | None:
    """The outing of a round on a day."""
    return session.scalar(select(Outing).where(Outing.round_id == found.id, Outing.day == day))


def visits_of(session: Session, found: Outing) -> list[Visit]:
    """The sheets of an outing, oldest first."""
    return list(session.scalars(select(Visit).where(Visit.outing_id == found.id).order_by(Visit.at)))


# -- the probes of a round


@dataclass(frozen=True)
class Chosen:
    """A probe for a quantity of the round, with what it may be trusted for."""

    quantity: str
    probe: Probe
    trust: kit.Trust


def needed(found: Round) -> set[str]:
    """The quantities its sites are usually read for."""
    return {q for site in found.sites for q in site.ranges if q in ORDER}


def choose(session: Session, found: Round, now: datetime, until: datetime) -> tuple[list[Chosen], list[str]]:
    """The best probe for each quantity: trusted through the round first, then one on a link; and what nothing measures."""
    options: dict[str, list[Chosen]] = {}
    wanted = sorted(needed(found), key=ORDER.index)
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


def start(desk: Desk, actor: User, key: uuid.UUID, *, round_id: str, meter_id: str = "") -> dict[str, Any]:
    """Begin the round of today; beginning it again goes on with the one begun. Returns {"outing": id}."""
    with desk.write(actor, key, "outing.start") as w:
        if w.done:
            return w.done
        found = round_of(w.session, round_id)
        if found.retired_at is not None:
            raise Refused(f"{found.name} is not gone any more.")
        if not found.stops:
            raise Refused(f"{found.name} has no sites yet; the lead can add them.")
        w.session.execute(select(Round.id).where(Round.id == found.id).with_for_update())
        day = today_of(found, w.now)
        made = running(w.session, found, day)
        if made is None:
            chosen, _ = choose(w.session, found, w.now, w.now)
            carried = kit.meter_of(w.session, meter_id) if meter_id else None
            meters = [c.probe.meter for c in chosen]
            main = carried or (max(meters, key=meters.count) if meters else None)
            if main is None:
                raise Refused("No probe of yours measures anything these sites need.")
            made = Outing(
                id=uuid.uuid4(),
                round_id=found.id,
                day=day,
                meter_id=main.id,
                operator_id=actor.id,
                packed={},
                started_at=w.now,
            )
            w.session.add(made)
            w.session.flush()
        return w.finish(f"outing:{made.id}", {"round": found.name, "day": str(day)}, outing=made.id)


def end(desk: Desk, actor: User, key: uuid.UUID, *, outing_id: str) -> dict[str, Any]:
    """Back from the round: what is left is the closing check of each probe."""
    with desk.write(actor, key, "outing.end") as w:
        if w.done:
            return w.done
        found = outing(w.session, outing_id)
        found.ended_at = found.ended_at or w.now
        return w.finish(f"outing:{outing_id}", {"ended": str(found.ended_at)}, outing=found.id)
