"""The demo's days out: the rounds, the closing checks in the evening, and what the lead made of them."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import numpy as np
from sqlalchemy import select

from brumel.config import DEMO_PASSWORD
from brumel.core import logged
from brumel.store.records import Unsigned
from brumel.store.tables import Probe, Reading, Site, User, Visit
from brumel.work import bench, kit, rounds, simulator
from brumel.work.bench import closing_checks
from brumel.work.bench.conditions import Conditions
from brumel.work.demo import sites as demo_sites
from brumel.work.demo.calibrating import ONE_HAND, Hands
from brumel.work.demo.world import World
from brumel.work.desk import Desk, Refused
from brumel.work.link import samples
from brumel.work.practice.scripted import Then, clock_of, take_cups
from brumel.work.records import decisions, review, signing
from brumel.work.rounds import calendar, logger, outings

#: what each kind of water is read with
CARRIED = {
    "farm": ("A8", "A", "A3", "A5", "A6", "A7"),
    "lagoon": ("A8", "A", "A3", "A4", "A5"),
    "pool": ("A8", "A", "A3", "C1", "C2"),
}


#: the week whose closing check failed, and the weeks the lead has not come to yet
FAILED, UNSIGNED = 5, (2, 1)


def day(desk: Desk, clock: Then, world: World, number: int, hands: Hands = ONE_HAND) -> list[str]:
    """Both rounds, then the closing checks, whose ids are returned: the lead decides about them."""
    with desk.read() as session:
        planned = [(r.id, [s.id for s in r.sites]) for r in calendar.rounds(session)]
    sites = {s.id: s for s in world.sites.values()}
    for round_id, order in planned:
        out = outings.start(desk, world.users["ansa"], uuid.uuid4(), round_id=str(round_id)).id
        for site_id in order:
            clock.on(minutes=12)
            site = sites[site_id]
            probes = [world.probes[p] for p in CARRIED[demo_sites.group(site.kind)]]
            visit(desk, clock, world.users["ansa"], site, probes, out)
        outings.end(desk, world.users["ansa"], uuid.uuid4(), outing_id=out)
    clock.on(minutes=35)
    if number == FAILED:
        _dried_out(desk, world.probes["A"])
    checks = [Check(world.probes[key].id, str(world.lots[lot].id)) for key, lot in (("A", "7"), ("A3", "1413"))]
    closings = hands.together(desk, world.users["ansa"], close, checks)
    put_away(desk, world, number)
    return closings


#: where the practice keeps its probes overnight; in one week a bulb stood in tap water
OVERNIGHT = {
    "A": "storage_solution",
    "spare": "storage_solution",
    "A3": "dry",
    "A4": "tap",
    "A5": "moist_cap",
    "A6": "low_standard",
    "A7": "low_standard",
    "A8": "dry",
    "B": "kcl",
    "B2": "moist_cap",
    "B3": "dry",
    "C1": "moist_cap",
    "C2": "tap",
}


def put_away(desk: Desk, world: World, number: int) -> None:
    """The probes are put away after the closing checks."""
    places = {**OVERNIGHT, **({"spare": "tap"} if number == 1 else {})}
    for meter in {p.meter_id for p in world.probes.values()}:
        kept = {str(p.id): places[key] for key, p in world.probes.items() if p.meter_id == meter and key in places}
        if kept:
            kit.store_probes(desk, world.users["ansa"], uuid.uuid4(), meter_id=str(meter), places=kept)


def visit(desk: Desk, clock: Then, actor: User, site: Site, probes: list[Probe], outing_id: str = "") -> str:
    """One live sheet of a site, kept once the water has been in the probes a while. Returns the visit's id."""
    started = rounds.start_visit(
        desk,
        actor,
        uuid.uuid4(),
        site_id=str(site.id),
        probes=[str(p.id) for p in probes],
        source="live",
        outing_id=outing_id,
    ).id
    for depth in site.depths or [None]:
        rounds.dip(desk, actor, uuid.uuid4(), visit_id=started, depth_m=depth)
        clock.on(seconds=90)
        with desk.sessions.begin() as session:
            simulator.truths(session)
            here = (session.get_one(Visit, uuid.UUID(started)), [session.merge(p, load=False) for p in probes])
            dips = [d for d in kit.present_dips(session, [p.id for p in here[1]]).values() if d.visit_id]
            stand = simulator.standings(session, dips)
            samples.store_all(session, [(d, simulator.shows(stand[d.id], d, 90)) for d in dips])
        try:
            rounds.take_all(desk, actor, uuid.uuid4(), visit_id=started, early=True)
        except Refused:
            why = "Read twice; the season and last night's weather explain it."
            rounds.take_all(desk, actor, uuid.uuid4(), visit_id=started, early=True, reason=why)
    if demo_sites.group(site.kind) == "pool":
        free = next(r.value for r in _kept(desk, started) if r.quantity == "chlorine")
        rounds.by_hand(
            desk,
            actor,
            uuid.uuid4(),
            visit_id=started,
            result=rounds.HandResult(
                quantity="total_chlorine",
                value=round(free + 0.21, 2),
                method="tablet and colour, 10 mL",
                reason="The first weeks have no history.",
            ),
        )
    return str(started)


def _kept(desk: Desk, visit_id: str) -> list[Reading]:
    with desk.read() as session:
        return rounds.of_visit(session, uuid.UUID(str(visit_id)))


@dataclass(frozen=True)
class Check:
    """A closing check that is to be made: of which probe, in which lot."""

    probe: uuid.UUID
    lot: str


def _dried_out(desk: Desk, probe: Probe) -> None:
    """In the week its closing check failed the bulb had dried on the way."""
    with desk.sessions.begin() as session:
        name = f"probe:{probe.id}"
        body = simulator.truth(session, name)
        simulator.set_truth(session, name, body | {"offset_mv": float(body["offset_mv"]) - 19.0})


def close(desk: Desk, actor: User, check: Check) -> str:
    """The closing check of a probe; its id."""
    with desk.read() as session:
        probe = session.get_one(Probe, check.probe)
    run = closing_checks.start(
        desk, actor, uuid.uuid4(), probe_id=str(probe.id), source="live", cups=[f"lot:{check.lot}"]
    ).id
    state = take_cups(desk, clock_of(desk), actor, run, probe)
    return str(closing_checks.finish(desk, actor, uuid.uuid4(), run_id=run, turn=state.turn).id)


def decide(desk: Desk, lead: User, closing_ids: Sequence[str]) -> None:
    """What the lead makes of a day: brackets, corrects the one that drifted, and signs what is plain."""
    for closing_id in closing_ids:
        with desk.read() as session:
            closing_check = closing_checks.closing(session, closing_id)
            decision = decisions.suggested(closing_check)
        decisions.decide(
            desk,
            lead,
            uuid.uuid4(),
            closing_id=closing_id,
            decision=decision,
            name=lead.name,
            reason=""
            if decision == "bracket"
            else "The bulb dried in its cap on the way home; a steady drift is likely.",
        )
    _sign(desk, lead)


def _sign(desk: Desk, lead: User) -> None:
    """The lead signs what waits, round by round."""
    with desk.read() as session:
        unsigned = session.execute(
            select(Reading.id, Visit.outing_id)
            .join(Unsigned, Unsigned.reading_id == Reading.id)
            .join(Visit, Visit.id == Reading.visit_id)
        ).all()
    by_round: dict[uuid.UUID | None, list[str]] = {}
    for reading_id, outing_id in unsigned:
        by_round.setdefault(outing_id, []).append(str(reading_id))
    for outing_id, ids in by_round.items():
        of = signing.Scope("round", str(outing_id)) if outing_id else signing.Scope()
        for start in range(0, len(ids), signing.MOST_AT_ONCE):
            some = ids[start : start + signing.MOST_AT_ONCE]
            signing.sign(desk, lead, uuid.uuid4(), readings=some, password=DEMO_PASSWORD, scope=of)


def send_back(desk: Desk, lead: User) -> None:
    """One visit of the last round is sent back with a question."""
    with desk.read() as session:
        last = session.scalars(
            select(Visit).where(Visit.outing_id.is_not(None)).order_by(Visit.at.desc()).limit(1)
        ).one()
    asked = "Was the water still after the rain, or did it run high when you read it?"
    review.ask(desk, lead, uuid.uuid4(), visit_id=str(last.id), question=asked)


def _set_out(desk: Desk, world: World, at: datetime) -> None:
    """The logger's probe is calibrated in saturated air before it is left, its readings typed."""
    clock, actor, probe = Then(at), world.users["ansa"], world.probes["B2"]
    then = Desk(desk.sessions, clock)
    run = bench.start(
        then,
        actor,
        uuid.uuid4(),
        probe_id=str(probe.id),
        method_key="do-saturated-air",
        source="typed",
        cups={},
        conditions=Conditions(pressure_from="altitude", altitude_m=2.0, water_c=8.0),
    ).id
    with desk.read() as session:
        state = bench.load_run(session, run)
    while (step := state.current) is not None:
        for after, shown in ((40, 98.9), (75, 99.1), (100, 99.1)):
            clock.at = at + timedelta(seconds=after)
            bench.type_reading(
                then,
                actor,
                uuid.uuid4(),
                run_id=run,
                step=step.spec.key,
                turn=state.turn,
                typed=bench.TypedValue(signal="percent", value=shown, temperature_c=8.2, after_s=after),
            )
        bench.accept(
            then,
            actor,
            uuid.uuid4(),
            run_id=run,
            step=step.spec.key,
            turn=state.turn,
            how=bench.Acceptance(answer="Seen"),
        )
        with desk.read() as session:
            state = bench.load_run(session, run)
    bench.finish(then, actor, uuid.uuid4(), run_id=run, turn=state.turn, use=True, words="Set out after it.")


def logged_week(desk: Desk, world: World) -> None:
    """A week of oxygen at 5 minutes in the reed channel: days and nights, a spike, and an hour that is missing."""
    start = desk.clock() - timedelta(days=8)
    _set_out(desk, world, start - timedelta(hours=1))
    n = np.arange(2016)
    y = 9.3 + 1.1 * np.sin(2 * np.pi * (n - 90) / 288) - 0.0004 * n + np.random.default_rng(8).normal(0, 0.04, n.size)
    y[1260] = 16.4
    kept = [i for i in range(n.size) if not 700 <= i < 712]
    taken_in = logger.take_in(
        desk,
        world.users["ansa"],
        uuid.uuid4(),
        site_id=str(world.sites["reed"].id),
        series=logger.NewSeries(
            quantity="oxygen",
            unit="mg/L",
            times=[start + timedelta(minutes=5 * i) for i in kept],
            values=[round(float(y[i]), 2) for i in kept],
            name="reed channel, week 47.csv",
            probe_id=str(world.probes["B2"].id),
        ),
    )
    # A green film by the end of the week: cleaning brings it up, and it waits for the lead.
    lifted = logged.Service(
        before=8.71, after=9.28, beside_before=9.3, beside_after=9.26, standard_read=10.12, standard_value=10.05
    )
    logger.record_service(desk, world.users["ansa"], uuid.uuid4(), series_id=taken_in.id, service=lifted)
