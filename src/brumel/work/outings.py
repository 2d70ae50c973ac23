"""Rounds on the calendar, the plan of the day worked out backwards from leaving, and what to pack."""

from __future__ import annotations

import math
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from dateutil.rrule import rrulestr
from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.planning import Task, plan
from brumel.methods import ORDER
from brumel.store.rounds import Outing, Round
from brumel.store.tables import Meter, Probe, Site, User, Visit
from brumel.work import kit, practices, runstate, solutions, trusting
from brumel.work.desk import Desk, NotFound, Refused, object_id
from brumel.work.sittings import HANDS_MIN, VERDICT_MIN

PACK_MIN = 10.0  # common practice, no source
SITE_MIN = 25.0  # a site with the way to it; common practice, no source
DAYS_AHEAD = 60
IONS = ("nitrate", "ammonium")


def rounds(session: Session, *, retired: bool = False) -> list[Round]:
    """The rounds by name."""
    query = select(Round).order_by(Round.name)
    return list(session.scalars(query if retired else query.where(Round.retired_at.is_(None))))


def round_of(session: Session, round_id: str | uuid.UUID) -> Round:
    """One round by id; the front door for everything that names a round."""
    found = session.get(Round, object_id(round_id, "round"))
    if found is None:
        raise NotFound("There is no such round.")
    return found


def outing(session: Session, outing_id: str | uuid.UUID) -> Outing:
    """One outing by id; the front door for everything that names one."""
    found = session.get(Outing, object_id(outing_id, "outing"))
    if found is None:
        raise NotFound("There is no such outing.")
    return found


def occurrences(rule: str, starts: date, since: date, until: date) -> list[date]:
    """The days a round is due, both ends counted. The rule is an RFC 5545 recurrence of whole days; empty never recurs.

    Days are counted in the round's own calendar, so a change to summer time moves none of them. Raises InputError.
    """
    if not rule:
        return [starts] if since <= starts <= until else []
    try:
        found = rrulestr(rule, dtstart=datetime.combine(starts, time()))
        days = found.between(datetime.combine(since, time()), datetime.combine(until, time()), inc=True)
    except (ValueError, TypeError) as error:
        raise InputError("rule", f"The rule “{rule[:60]}” cannot be read: {error}.", value=rule) from None
    return sorted({d.date() for d in days})


def next_day(found: Round, today: date) -> date | None:
    """When the round is due next, today counted."""
    days = occurrences(found.rule, found.starts, today, today + timedelta(days=DAYS_AHEAD))
    return days[0] if days else None


def today_of(found: Round, now: datetime) -> date:
    """What day it is where the round is."""
    return now.astimezone(ZoneInfo(found.zone)).date()


def leaving(found: Round, day: date) -> datetime:
    """The moment of leaving on a day, by the wall clock of the round's zone."""
    hour, minute = (int(part) for part in found.leave_at.split(":"))
    return datetime.combine(day, time(hour, minute), ZoneInfo(found.zone))


def running(session: Session, found: Round, day: date) -> Outing | None:
    """The outing of a round on a day."""
    return session.scalar(select(Outing).where(Outing.round_id == found.id, Outing.day == day))


def visits_of(session: Session, found: Outing) -> list[Visit]:
    """The sheets of an outing, oldest first."""
    return list(session.scalars(select(Visit).where(Visit.outing_id == found.id).order_by(Visit.at)))


# -- the plan


@dataclass(frozen=True)
class Chosen:
    """A probe for a quantity of the round, with what it may be trusted for."""

    quantity: str
    probe: Probe
    trust: trusting.Trust


@dataclass(frozen=True)
class Line:
    """One step of the plan at its time; `kind` is "hands" or "wait"."""

    what: str
    probe: str
    start: datetime
    end: datetime
    kind: str
    deciding: bool
    late: bool


@dataclass(frozen=True)
class Trouble:
    """Something that cannot make it, and what to do instead."""

    what: str
    instead: str


@dataclass(frozen=True)
class DayPlan:
    """The day up to leaving: steps, when all is ready, when to begin at the latest, and what cannot make it."""

    round: Round
    now: datetime
    leave_at: datetime
    lines: tuple[Line, ...]
    ready_at: datetime
    begin_at: datetime
    back_at: datetime
    chosen: tuple[Chosen, ...]
    missing: tuple[str, ...]
    troubles: tuple[Trouble, ...]

    @property
    def in_time(self) -> bool:
        """Whether all is ready when it is time to leave."""
        return self.ready_at <= self.leave_at


def needed(found: Round) -> set[str]:
    """The quantities its sites are usually read for."""
    return {q for site in found.sites for q in site.ranges if q in ORDER}


def choose(session: Session, found: Round, now: datetime, until: datetime) -> tuple[list[Chosen], list[str]]:
    """The best probe for each quantity: trusted through the round first, then one on a link; and what nothing measures."""
    options: dict[str, list[Chosen]] = {}
    wanted = sorted(needed(found), key=ORDER.index)
    probes = [p for p in kit.probes(session) if p.quantity in wanted]
    trusts = trusting.trusts(session, probes, now)
    for probe in probes:
        options.setdefault(probe.quantity, []).append(Chosen(probe.quantity, probe, trusts[probe.id]))
    picked = [min(options[q], key=lambda c: _rank(c, until)) for q in wanted if options.get(q)]
    return picked, [q for q in wanted if not options.get(q)]


def _rank(c: Chosen, until: datetime) -> tuple[bool, bool, bool, str]:
    lasts = c.trust.valid and c.trust.calibration is not None and c.trust.calibration.valid_until >= until
    return (not lasts, c.trust.calibration is None, c.probe.meter.link == "typed", c.probe.name)


def plan_day(session: Session, found: Round, now: datetime, *, leave_at: datetime | None = None) -> DayPlan:
    """The plan of a round that leaves at `leave_at` (or on its own hour today), if everything began now.

    Waits that already run count only what is left of them; an open run only its cups still to come.
    """
    leave = leave_at or leaving(found, today_of(found, now))
    back = leave + timedelta(minutes=SITE_MIN * len(found.stops))
    chosen, missing = choose(session, found, now, back)
    tasks: list[Task] = []
    whose: dict[str, tuple[str, str, str]] = {}
    last: list[str] = []
    ends: dict[str, str] = {}
    warm: tuple[str, ...] = ()
    for c in chosen:
        # An ion tip rests on pH, ORP and conductivity: it comes after them, as in a sitting.
        rests = tuple(ends[q] for q in ("ph", "redox", "conductivity") if q in ends) if c.quantity in IONS else ()
        steps = _tasks(session, c, now, back, (*warm, *rests))
        for task, what in steps:
            whose[task.key] = (what, c.probe.name, "hands" if task.hands else "wait")
            tasks.append(task)
        if steps:
            last.append(steps[-1][0].key)
            ends[c.quantity] = steps[-1][0].key
            if c.quantity == "temperature":
                warm = (steps[-1][0].key,)
    tasks.append(Task("pack", PACK_MIN, True, tuple(last)))
    whose["pack"] = ("pack the probes moist, with what is on the list", "", "hands")
    worked = plan(tasks, leave_min=max((leave - now).total_seconds() / 60, 0.0))
    at = lambda minutes: now + timedelta(minutes=minutes)  # noqa: E731
    lines = tuple(
        Line(whose[s.key][0], whose[s.key][1], at(s.start_min), at(s.end_min), whose[s.key][2], s.key in worked.chain,
             s.key in worked.late)
        for s in worked.slots
    )  # fmt: skip
    ready = at(worked.ready_min)
    troubles = _troubles(session, chosen, lines, leave, ready)
    troubles += [Trouble(f"Nothing measures {q}.", "Leave it out, or add a probe in Kit.") for q in missing]
    return DayPlan(
        found, now, leave, lines, ready, leave - (ready - now), back, tuple(chosen), tuple(missing), tuple(troubles)
    )


def _tasks(
    session: Session, c: Chosen, now: datetime, until: datetime, warm: tuple[str, ...]
) -> list[tuple[Task, str]]:
    """What a probe still needs before it may go: the rest of a wait, then its cups one by one."""
    lasts = c.trust.valid and c.trust.calibration is not None and c.trust.calibration.valid_until >= until
    run = kit.open_run(session, c.probe.id)
    if lasts and run is None:
        return []
    name, made = c.probe.name, list[tuple[Task, str]]()
    before = warm if c.quantity != "temperature" else ()
    waiting = trusting.conditioning(session, c.probe, now)
    if waiting is not None:
        left = (waiting.ready_at - now).total_seconds() / 60
        made.append((Task(f"{name}: wait", left), f"{waiting.words}; {waiting.meanwhile or 'waiting'}"))
        before = (*before, f"{name}: wait")
    look = kit.last_inspection(session, c.probe.id)
    if look is None or look.blocks:
        made.append((Task(f"{name}: look", 2.0, True), "look it over"))
        before = (*before, f"{name}: look")
    if run is not None and run.purpose == "calibration":
        state = runstate.load(session, run.id)
        steps, method = [s.spec for s in state.steps if s.point is None], state.method
    else:
        method = practices.for_probe(practices.default_for(session, c.probe), c.probe)
        steps = list(method.steps)
    settle = max(method.settling.shortest_s, 30.0) * 1.4 / 60
    for step in steps:
        dip, rest = f"{name}: {step.key}", f"{name}: {step.key} settles"
        made.append((Task(dip, HANDS_MIN, True, before), step.title))
        made.append((Task(rest, settle, False, (dip,)), f"{step.title} settles"))
        before = (rest,)
    made.append((Task(f"{name}: verdict", VERDICT_MIN, True, before), "verdict"))
    return made


def _troubles(
    session: Session, chosen: Sequence[Chosen], lines: Sequence[Line], leave: datetime, ready: datetime
) -> list[Trouble]:
    """What cannot make it, those with the same way out told together."""
    late = {line.probe: max(o.end for o in lines if o.probe == line.probe) for line in lines if line.end > leave}
    told: dict[str, list[Chosen]] = {}
    for c in chosen:
        if c.probe.name in late:
            told.setdefault(_instead(session, c, leave, ready), []).append(c)
    return [
        Trouble(
            f"{', '.join(c.probe.name for c in group)} would be ready at "
            f"{_clock(max(late[c.probe.name] for c in group), leave)}; leaving is at {_clock(leave, leave)}.",
            instead,
        )
        for instead, group in told.items()
    ]


def _clock(at: datetime, like: datetime) -> str:
    return f"{at.astimezone(like.tzinfo):%H:%M}"


def _instead(session: Session, c: Chosen, leave: datetime, ready: datetime) -> str:
    for p in kit.probes(session):
        if p.quantity == c.quantity and p.id != c.probe.id and (own := trusting.trust(session, p, leave)).valid:
            return f"Take {p.name}: {own.words}"
    if c.trust.calibration is not None and c.trust.calibration.usable:
        return f"Leave at {_clock(ready, leave)}, or take it as it is: its readings stay unbacked, and are marked so."
    return f"Leave at {_clock(ready, leave)}, or leave this quantity out today."


# -- packing


@dataclass(frozen=True)
class Item:
    """One thing to pack or set: a stable key, what, and why; `care` where something is wrong with it."""

    key: str
    what: str
    why: str
    care: str = ""


def packing(session: Session, found: Round, now: datetime) -> dict[str, list[Item]]:
    """Everything to take and to set before leaving, by kind."""
    chosen, _ = choose(session, found, now, now + timedelta(minutes=SITE_MIN * len(found.stops)))
    lots = [v for v in kit.lots(session, now) if v.lot.opened_at or not v.objections]
    probes = [
        Item(f"probe-{c.probe.id}", c.probe.name, c.trust.words, "" if c.trust.valid else "it would be unbacked")
        for c in chosen
    ]
    standards = [item for c in chosen for item in _standards(found, c, lots)]
    spares = []
    for c in chosen:
        if c.quantity == "oxygen" and c.probe.kind != "optical":
            spares.append(
                Item("membrane", "a spare membrane and electrolyte", "a torn membrane ends the oxygen of the day")
            )
        if c.quantity in ("nitrate", "ammonium"):
            spares.append(
                Item(f"tip-{c.quantity}", f"the {c.quantity} tip's cap, moist", "a tip that dries starts again")
            )
        if c.quantity == "ph":
            spares.append(Item("storage", "storage solution and the bulb's cap", "the bulb travels moist"))
    meters = {c.probe.meter.id: c.probe.meter for c in chosen}
    for m in meters.values():
        spares.append(Item(f"battery-{m.id}", f"spare batteries for {m.name}", m.battery or "kind not on record"))
    safety = [
        Item("jacket", "life jacket, and a second person where the note says so", "water"),
        Item("water", "pure water to rinse, tissue, a waste bottle", "nothing is poured out at the site"),
        Item("gloves", "gloves and glasses", "solutions"),
    ]
    settings = [item for m in meters.values() for item in _settings(session, m, found.sites)]
    return {
        "probes": probes, "standards": list({i.key: i for i in standards}.values()),
        "spares": list({i.key: i for i in spares}.values()), "safety": safety, "settings": settings,
    }  # fmt: skip


def _standards(found: Round, c: Chosen, lots: Sequence[kit.LotView]) -> list[Item]:
    """The solutions that bracket what these sites usually read."""
    ends = [site.ranges[c.quantity]["usual"] for site in found.sites if "usual" in site.ranges.get(c.quantity, {})]
    mine = [v for v in lots if solutions.measure(v.lot, c.quantity) is not None]
    if not ends or not mine:
        return []
    low, high = min(e[0] for e in ends), max(e[1] for e in ends)
    known = sorted(((solutions.nominal(v.lot, c.quantity, c.probe), v) for v in mine), key=lambda pair: pair[0])
    below = [v for value, v in known if value <= low]
    above = [v for value, v in known if value >= high]
    if c.quantity == "conductivity":  # the standard nearest to each water serves a cell best
        middles = {math.sqrt(max(e[0], 1.0) * max(e[1], 1.0)) for e in ends}
        near = [min(known, key=lambda pair: abs(math.log(max(pair[0], 1e-3) / m)))[1] for m in middles]
        picked = list({v.lot.id: v for v in near}.values())
    else:
        picked = [*below[-1:], *above[:1]] or [known[0][1]]
    words = f"these sites usually read {low:g} to {high:g}"
    made = [Item(f"lot-{v.lot.id}", f"{v.lot.code}, {v.lot.name}", words, " ".join(v.objections)) for v in picked]
    if c.quantity == "ph" and not (below and above):
        made.append(Item("no-bracket", "a buffer beyond the sites", words, "no open buffer lies beyond it"))
    return made


def _settings(session: Session, meter: Meter, sites: Sequence[Site]) -> list[Item]:
    """What to look at in the meter's menus before leaving, against what these waters need."""
    taken = kit.last_snapshot(session, meter.id)
    if taken is None:
        return [
            Item(f"set-{meter.id}", f"take down the settings of {meter.name}", "none are on record", "not on record")
        ]
    s, made = taken.settings, []
    salts = {float(site.water.get("usual_salinity") or 0.0) for site in sites}
    if float(s.get("preset_salinity") or 0.0) not in salts:
        made.append(
            Item(f"salt-{meter.id}", f"{meter.name}: preset salinity {s.get('preset_salinity')}",
                 "none of these waters has it; Brumel takes it off, the display stays wrong", "set it at each water")
        )  # fmt: skip
    factors = {site.water["tds_factor"] for site in sites if site.water.get("tds_factor")}
    if factors and s.get("tds_factor") not in factors:
        made.append(
            Item(f"tds-{meter.id}", f"{meter.name}: TDS factor {s.get('tds_factor')}",
                 f"these sites state TDS by {', '.join(f'{f:g}' for f in sorted(factors))}", "the display will differ")
        )  # fmt: skip
    if s.get("auto_off_min"):
        made.append(
            Item(f"off-{meter.id}", f"{meter.name} switches itself off after {s['auto_off_min']} min",
                 "a logger must not", "set it to never before logging")
        )  # fmt: skip
    made.append(Item(f"seen-{meter.id}", f"{meter.name}: settings as on {taken.at:%d %b}", "look through them once"))
    return made


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
            carried = kit.meter(w.session, meter_id) if meter_id else None
            meters = [c.probe.meter for c in chosen]
            main = carried or (max(meters, key=meters.count) if meters else None)
            if main is None:
                raise Refused("No probe of yours measures anything these sites need.")
            made = Outing(
                id=uuid.uuid4(), round_id=found.id, day=day, meter_id=main.id, operator_id=actor.id, packed={},
                started_at=w.now,
            )  # fmt: skip
            w.session.add(made)
            w.session.flush()
        return w.finish(f"outing:{made.id}", {"round": found.name, "day": str(day)}, outing=made.id)


def pack(desk: Desk, actor: User, key: uuid.UUID, *, outing_id: str, ticked: Sequence[str]) -> dict[str, Any]:
    """What is in the box; ticking again replaces what was ticked."""
    with desk.write(actor, key, "outing.pack") as w:
        if w.done:
            return w.done
        found = outing(w.session, outing_id)
        items = {i.key for group in packing(w.session, found.round, w.now).values() for i in group}
        kept = sorted(set(ticked) & items)
        found.packed = dict.fromkeys(kept, f"{w.now:%H:%M}")
        return w.finish(f"outing:{outing_id}", {"packed": len(kept), "of": len(items)}, packed=len(kept))


def end(desk: Desk, actor: User, key: uuid.UUID, *, outing_id: str) -> dict[str, Any]:
    """Back from the round: what is left is the closing check of each probe."""
    with desk.write(actor, key, "outing.end") as w:
        if w.done:
            return w.done
        found = outing(w.session, outing_id)
        found.ended_at = found.ended_at or w.now
        return w.finish(f"outing:{outing_id}", {"ended": str(found.ended_at)}, outing=found.id)


def to_close(session: Session, found: Outing) -> list[Probe]:
    """The probes whose readings of this outing still wait for a closing check."""
    from brumel.work import closings
    from brumel.work.rounds import of_visit

    used: dict[uuid.UUID, Probe] = {}
    for visit in visits_of(session, found):
        for r in of_visit(session, visit.id):
            if r.probe is not None and r.calibration_id and r.backing == "open" and r.quantity == r.probe.quantity:
                used[r.probe.id] = r.probe
    done = {c.probe_id for c in closings.newest(session, 200) if c.at >= found.started_at}
    return sorted((p for i, p in used.items() if i not in done), key=lambda p: p.name)
