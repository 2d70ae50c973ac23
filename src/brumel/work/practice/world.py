"""Laying a learner's world for one scenario: meter, probes with their past, bottles, a site, and the table they lie on."""

from __future__ import annotations

import uuid
from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy.orm import Session, sessionmaker

from brumel.core.oxygen import station_pressure_hpa
from brumel.meters.sensors import FAULTS
from brumel.methods import Method
from brumel.methods.model import StepSpec
from brumel.methods.scenarios import Bottle, Logged, ProbeKit, Scenario, Water, draw
from brumel.store.tables import Client, Lot, Meter, Probe, Site, User, Visit
from brumel.store.typed_json import LotMeasure
from brumel.work import kit, rounds, simulator
from brumel.work.bench.conditions import Conditions
from brumel.work.desk import Desk, Refused
from brumel.work.link import samples
from brumel.work.practice import clock as world_clock
from brumel.work.practice import table as bench_table
from brumel.work.practice.scripted import Then, calibrate
from brumel.work.quantities import standards
from brumel.work.rounds import logger

#: What a meter of Practice is set to, and recorded as, where the scenario says nothing else.
SETTINGS: dict[str, Any] = {
    "conductivity_unit": "µS/cm",
    "compensation": "linear",
    "temperature_coefficient": 2.0,
    "reference_c": 25.0,
    "tds_factor": 0.5,
    "cell_constant": 1.0,
    "preset_salinity": 0.0,
    "preset_pressure_hpa": None,
    "buffer_family": "7.01",
    "auto_off_min": 0,
    "ph_resolution": 0.01,
    "temperature_unit": "°C",
}
ZONE = "Europe/Oslo"
ATTEMPT = "attempt"
_CLIENT = "Practice waters"


def lay(
    sessions: sessionmaker[Session],
    person: User,
    scenario: Scenario,
    *,
    attempt: uuid.UUID,
    seed: int,
    source: str,
    pace: int,
    real: datetime,
    hints: bool = True,
) -> None:
    """Fill an empty world for an attempt. The past is lived through the real code path; then the hidden truth is set."""
    now = real.replace(microsecond=0)
    # Evidence is only added to: the meter has its link while the past is lived, and is then as the learner chose it.
    with sessions.begin() as session:
        actor = _person(session, person)
        meter = _meter(session, scenario, source)
        probes = {key: _probe(session, kit_, meter, now) for key, kit_ in scenario.probes.items()}
        lots = {key: _lot(session, bottle, now) for key, bottle in scenario.bottles.items()}
        site = _site(session, scenario.site) if scenario.site else None
        session.flush()
        for key, bottle in scenario.bottles.items():
            shift = draw(dict(bottle.truly), seed, key).get("shift")
            if shift and bottle.past:
                simulator.set_truth(session, f"lot:{lots[key].id}", {"shift": shift})
        for key, body in scenario.probes.items():
            before = draw(dict(body.before), seed, f"{key}.before") or _sound(draw(dict(body.now), seed, key))
            simulator.set_truth(session, f"probe:{probes[key].id}", {"seed": seed, **before})
        water = draw(dict(scenario.site.truly), seed, "site") if scenario.site else {}
        if site is not None:
            simulator.set_truth(session, f"site:{site.id}", water)
    _live_through(sessions, actor, scenario, probes, lots, site, now, seed)
    if scenario.logged is not None and site is not None:
        _log(sessions, actor, scenario.logged, probes, site, now, seed)
    with sessions.begin() as session:
        session.merge(meter).link = "simulated" if source == "live" else "typed"
        table = _table(session, scenario, probes, lots, water, seed, now)
        bench_table.keep(session, table)
        of_attempt = {"id": str(attempt), "begun": now.isoformat(), "told": [], "source": source, "hints": hints}
        simulator.set_truth(session, ATTEMPT, {**of_attempt, "scenario": scenario.model_dump(mode="json")})
        world_clock.begin(session, real, now, pace)


def _sound(body: dict[str, Any]) -> dict[str, Any]:
    """A truth without its faults: how a probe was before they came."""
    return {name: value for name, value in body.items() if name not in ("faults", "severity")}


def _person(session: Session, person: User) -> User:
    """The learner in their own world, where they decide and sign too."""
    actor = User(
        id=person.id,
        username=person.username,
        name=person.name,
        role="lead",
        password_hash="!",  # noqa: S106 - none that fits
        stamp="practice",
        created_at=person.created_at,
        units=person.units,
    )
    session.add(actor)
    session.flush()
    return actor


def _meter(session: Session, scenario: Scenario, source: str) -> Meter:
    meter = Meter(
        id=uuid.uuid4(),
        name=scenario.meter.name,
        serial="PR-001",
        link="simulated",
        firmware="1.0",
        battery="4 cells",
        description="A meter of Practice; it measures nothing real.",
    )
    session.add(meter)
    session.flush()
    return meter


def _probe(session: Session, about: ProbeKit, meter: Meter, now: datetime) -> Probe:
    probe = Probe(
        id=uuid.uuid4(),
        meter_id=meter.id,
        name=about.name,
        serial=f"PR-{len(about.name):03d}",
        quantity=about.quantity,
        in_service=now - timedelta(weeks=about.weeks + 8),
        note="Of Practice.",
        waits={},
        intervals={},
        limits={},
        **about.about,
    )
    session.add(probe)
    return probe


def _lot(session: Session, bottle: Bottle, now: datetime) -> Lot:
    lot = Lot(
        id=uuid.uuid4(),
        code=bottle.code,
        name=bottle.name,
        measures={quantity: LotMeasure(**body) for quantity, body in bottle.measures.items()},
        container=bottle.container,
        expires_on=now + timedelta(days=bottle.expires),
        opened_at=None if bottle.opened is None else now - timedelta(days=bottle.opened),
        open_days=bottle.keeps,
        single_use=bottle.container in ("sachet", "tablet"),
    )
    session.add(lot)
    return lot


def _site(session: Session, water: Water) -> Site:
    client = Client(id=uuid.uuid4(), name=_CLIENT, note="")
    session.add(client)
    session.flush()
    site = Site(
        id=uuid.uuid4(),
        client_id=client.id,
        owner=client,
        name=water.name,
        kind=water.kind,
        use=water.use,
        zone=ZONE,
        altitude_m=water.altitude_m,
        latitude=None,
        longitude=None,
        depths=list(water.depths),
        ranges=water.ranges,
        limits=water.limits,
        water=water.water,
        terms_version=1,
        note="",
    )
    session.add(site)
    return site


# -- the past


def _live_through(
    sessions: sessionmaker[Session],
    actor: User,
    scenario: Scenario,
    probes: dict[str, Probe],
    lots: dict[str, Lot],
    site: Site | None,
    now: datetime,
    seed: int,
) -> None:
    """Record the settings, calibrate in earlier weeks and this morning, and read the site then."""
    first = Desk(sessions, Then(now - timedelta(weeks=9)))
    meter_id = next(iter(probes.values())).meter_id
    settings = {**SETTINGS, **scenario.meter.settings}
    kit.record_settings(first, actor, uuid.uuid4(), meter_id=str(meter_id), settings=settings, reason="")
    moments: list[tuple[datetime, list[str], bool]] = []
    for weeks in range(max(p.weeks for p in scenario.probes.values()), 0, -1):
        at = now - timedelta(weeks=weeks) + timedelta(minutes=20)
        moments.append((at, [k for k, p in scenario.probes.items() if p.weeks >= weeks], bool(site)))
    hours = {p.calibrated_h for p in scenario.probes.values() if p.calibrated_h}
    for ago in sorted(hours, reverse=True):
        at = now - timedelta(hours=ago)
        keys = [k for k, p in scenario.probes.items() if p.calibrated_h == ago]
        moments.append((at, keys, bool(scenario.site and scenario.site.read_today)))
    earlier = scenario.site.visits if scenario.site else 0
    for number, (at, keys, reads) in enumerate(moments):
        clock = Then(at)
        desk = Desk(sessions, clock)
        calibrated = [k for k in keys if _calibrate(desk, actor, scenario, k, probes, lots)]
        is_today = at > now - timedelta(days=4)
        if site is not None and calibrated and reads and (is_today or len(moments) - number <= earlier + len(hours)):
            clock.on(minutes=25)
            visit(desk, clock, actor, site, [probes[k] for k in calibrated])


def _calibrate(
    desk: Desk, actor: User, scenario: Scenario, key: str, probes: dict[str, Probe], lots: dict[str, Lot]
) -> bool:
    """One calibration as it was made then; False for a probe that has no method here."""
    about, probe = scenario.probes[key], probes[key]
    with desk.read() as session:
        chosen = about.method or (scenario.method if about.quantity == scenario.quantity else "")
        method = kit.method(session, chosen) if chosen else kit.default_method(session, probe)
        if method is None:
            return False
        of_past = [lots[k] for k, bottle in scenario.bottles.items() if bottle.past]
        cups = cups_for(kit.method_for_probe(method, probe), of_past, about.quantity, probe)
    pressure = station_pressure_hpa(scenario.site.altitude_m if scenario.site else 100.0)
    conditions = Conditions(pressure_from="station", pressure_hpa=round(float(pressure), 1), reason="Practice.")
    try:
        calibrate(desk, actor, probe, method.key, cups, conditions)
    except Refused:
        return False
    return True


def cups_for(method: Method, lots: Iterable[Lot], quantity: str, probe: Probe) -> dict[str, str]:
    """The first lot that fits each step of a method that wants one and is not used yet."""
    chosen: dict[str, str] = {}
    kept = list(lots)
    for step in method.steps:
        for lot in kept:
            if _takes(step, lot, quantity, probe) and (str(lot.id) not in chosen.values() or "-cold" in step.key):
                chosen[step.key] = str(lot.id)
                break
    return chosen


def _takes(step: StepSpec, lot: Lot, quantity: str, probe: Probe) -> bool:
    return step.vessel == "solution" and standards.fits(lot, step, quantity, probe)


def visit(desk: Desk, clock: Then, actor: User, site: Site, probes: list[Probe]) -> str:
    """One live sheet of the site in the past, taken once the water has been in the probes a while. Returns its id."""
    started = rounds.start_visit(
        desk, actor, uuid.uuid4(), site_id=str(site.id), probes=[str(p.id) for p in probes], source="live"
    ).id
    for depth in site.depths or [None]:
        rounds.dip(desk, actor, uuid.uuid4(), visit_id=started, depth_m=depth)
        clock.on(seconds=150)
        with desk.sessions.begin() as session:
            session.get_one(Visit, uuid.UUID(started))
            dips = [d for d in kit.present_dips(session, [p.id for p in probes]).values() if d.visit_id]
            stand = simulator.standings(session, dips)
            samples.store_all(session, [(d, simulator.shows(stand[d.id], d, 150)) for d in dips])
        try:
            rounds.take_all(desk, actor, uuid.uuid4(), visit_id=started, early=True)
        except Refused:
            rounds.take_all(desk, actor, uuid.uuid4(), visit_id=started, early=True, reason="Read twice; so it was.")
    return str(started)


def _log(
    sessions: sessionmaker[Session],
    actor: User,
    told: Logged,
    probes: dict[str, Probe],
    site: Site,
    now: datetime,
    seed: int,
) -> None:
    """A series that was read out before the attempt: a day's swing, and what fouling took off more and more."""
    drawn = draw({"mean": told.mean, "swing": told.swing, "fouled": told.fouled}, seed, "logged")
    ends, step = now - timedelta(minutes=20), timedelta(minutes=told.interval_min)
    count = int(timedelta(days=told.days) / step)
    n = np.arange(count)
    days = n * (told.interval_min / 1440)
    values = (
        drawn["mean"] + drawn["swing"] * np.sin(2 * np.pi * days) + np.random.default_rng(seed).normal(0, 0.02, count)
    )
    values = values * (1 - drawn["fouled"] * n / max(1, count - 1))
    logger.take_in(
        Desk(sessions, lambda: now - timedelta(minutes=10)),
        actor,
        uuid.uuid4(),
        site_id=str(site.id),
        series=logger.NewSeries(
            quantity=probes[told.probe].quantity,
            unit=told.unit,
            times=[ends - step * (count - 1 - int(i)) for i in n],
            values=[round(float(v), 2) for v in values],
            name="practice logger.csv",
            probe_id=str(probes[told.probe].id),
        ),
    )


# -- the table


def _table(
    session: Session,
    scenario: Scenario,
    probes: dict[str, Probe],
    lots: dict[str, Lot],
    water: dict[str, Any],
    seed: int,
    now: datetime,
) -> bench_table.Table:
    of_room = draw({"room_c": scenario.room_c, "ice_c": scenario.site.ice_c if scenario.site else 0.0}, seed, "room")
    site = scenario.site
    table = bench_table.Table(
        seed=seed,
        signal=not scenario.no_signal,
        room_c=round(float(of_room["room_c"]), 1),
        ice_c=float(of_room["ice_c"]),
        pressure_hpa=round(float(station_pressure_hpa(site.altitude_m if site else 100.0)), 1),
        water=water,
        test_kit_off=float(draw({"off": site.test_kit_off}, seed, "kit")["off"]) if site else 0.0,
        truly={**SETTINGS, **scenario.meter.settings, **scenario.meter.truly},
    )
    for key, bottle in scenario.bottles.items():
        truly = draw(dict(bottle.truly), seed, key)
        table.bottles[key] = bench_table.OnShelf(
            key=key,
            lot=lots[key].id,
            holds=lots[bottle.holds or key].id,
            name=bottle.name,
            code=bottle.code,
            seen=bottle.seen,
            shift=float(truly.get("shift", 0.0)),
            strength=float(truly.get("strength", 1.0)),
            temperature_c=float(truly.get("temperature_c", table.room_c)),
        )
    for key, about in scenario.probes.items():
        body = {"seed": seed, **draw(dict(about.now), seed, key)}
        body["faults"] = [f for f in body.get("faults", ()) if f in FAULTS[about.quantity]]
        if about.quantity == "ammonium":
            body = {"sign": 1.0, "e0_mv": -60.0, **body}
        on_table = bench_table.OnTable(
            key=key,
            name=about.name,
            quantity=about.quantity,
            body=body,
            seen=about.seen,
            mended=dict(about.mended),
            membrane_at=None if about.membrane_min is None else now - timedelta(minutes=about.membrane_min),
        )
        table.probes[probes[key].id] = on_table
        simulator.set_truth(session, f"probe:{probes[key].id}", body)
        bench_table.put(session, table, on_table, "holder", now - timedelta(minutes=10))
    return table
