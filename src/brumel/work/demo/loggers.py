"""The demo's two loggers: one that sends what it records and fouls, one that was lifted and whose clock had drifted."""

from __future__ import annotations

import uuid
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select

from brumel.core.deployed.service import ServiceReading, Standard
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Deployment, FeedRecord
from brumel.store.tables import Meter, Probe, User
from brumel.work import simulator
from brumel.work.bench.conditions import Conditions
from brumel.work.demo.calibrating import ONE_HAND, Hands, Task
from brumel.work.demo.world import World
from brumel.work.desk import Desk, Refused
from brumel.work.practice.scripted import Then
from brumel.work.rounds import deployments as dep
from brumel.work.rounds import sites
from brumel.work.simulator.loggers import Sensor, shown, water

Values = NDArray[np.float64]
EVERY_S = 1800.0
FOULING = Sensor(fouling_per_day=-0.045, noise=0.02, step=0.01)
SALTY = Sensor(fouling_per_day=-0.22, drift_per_day=-0.06, relative=True, noise=6.0, step=1.0)
THERMISTOR = Sensor(noise=0.03, step=0.01)
#: What the clock of the lifted one gained [s/d].
GAINS_S = 17.0
_TRUTH = "logger:"


def _meters(desk: Desk, world: World, start: datetime) -> None:
    """The two loggers with their probes; they come when the history is whole, and the start has none of them."""
    with desk.sessions.begin() as session:
        for key, name, serial, quantity, probe, kind, more in (
            ("L1", "Logger L1", "TWS-L-031", "oxygen", "Oxygen cap L1", "optical", {}),
            (
                "L2",
                "Logger L2",
                "TWS-L-032",
                "conductivity",
                "Conductivity cell L2",
                "four-electrode",
                {"nominal": 0.5},
            ),
        ):
            meter = Meter(
                id=uuid.uuid4(), name=name, serial=serial, link="simulated", firmware="1.8", battery="2 cells",
                description="Logger with a wiper-free guard; records by itself.",
            )  # fmt: skip
            row = Probe(
                id=uuid.uuid4(), meter_id=meter.id, name=probe, serial=f"{serial[-5:]}-{quantity[:1].upper()}",
                quantity=quantity, kind=kind, in_service=start, note="", waits={}, intervals={}, limits={}, **more,
            )  # fmt: skip
            session.add(meter)
            session.flush()
            session.add(row)
            world.meters[key], world.probes[key] = meter, row
            truth = (
                {"gain": 1.01, "seed": 131, "cups_c": 18.0}
                if key == "L1"
                else {"cell_constant": 0.505, "seed": 132, "cups_c": 18.2}
            )
            simulator.set_truth(session, f"probe:{row.id}", truth)


def live_through(desk: Desk, world: World, hands: Hands = ONE_HAND) -> None:
    """Six weeks of the oxygen logger, which still stands, and four of the conductivity one, which was lifted."""
    now = desk.clock()
    begin = (now - timedelta(days=42)).replace(hour=8, minute=0, second=0, microsecond=0)
    _meters(desk, world, begin - timedelta(days=30))
    for chore in (_that_sends, _that_was_lifted):
        hands.meanwhile(Desk(desk.sessions, Then(now)), world.users["ansa"], chore, (world, begin))


def _that_sends(desk: Desk, _: User, what: tuple[World, datetime]) -> None:
    world, begin = what
    air = Conditions(pressure_from="altitude", altitude_m=96.0, water_c=9.0)
    _calibrate(desk, world, begin, Task(world.probes["L1"].id, "do-saturated-air", {}, air))
    _oxygen(desk, world, begin, desk.clock())


def _that_was_lifted(desk: Desk, _: User, what: tuple[World, datetime]) -> None:
    world, begin = what
    standard = {"standard": str(world.lots["1413"].id)}
    _calibrate(desk, world, begin + timedelta(days=7), Task(world.probes["L2"].id, "ec-one-standard", standard))
    _conductivity(desk, world, begin + timedelta(days=7), desk.clock())


def _calibrate(desk: Desk, world: World, out_at: datetime, task: Task) -> None:
    """In the morning before it is set out."""
    ONE_HAND.calibrate(Desk(desk.sessions, Then(out_at - timedelta(hours=3))), world.users["ansa"], [task])


def _set_out(desk: Desk, world: World, new: dep.NewDeployment, at: datetime, ahead_s: float) -> str:
    clock = Then(at - timedelta(days=3))
    then, ansa = Desk(desk.sessions, clock), world.users["ansa"]
    id_ = dep.save(then, ansa, uuid.uuid4(), new=new).id
    clock.at = at - timedelta(minutes=50)
    keys = [s.key for s in load_deployments().settings]
    dep.configure(then, ansa, uuid.uuid4(), deployment_id=id_, looked_at=keys, at=clock.at, ahead_s=ahead_s)
    clock.at = at
    dep.start(then, ansa, uuid.uuid4(), deployment_id=id_, at=at)
    return id_


def _level(desk: Desk, site_id: uuid.UUID, quantity: str, usual: float) -> float:
    """What the site was read at last, which its logger's water goes about."""
    with desk.read() as session:
        last = sites.latest(session, [site_id], (quantity,))[site_id]
        return next((r.value for r in last if r.quantity == quantity), usual)


# -- the one that sends


def _oxygen(desk: Desk, world: World, begin: datetime, now: datetime) -> None:
    site = world.sites["raceway_out"]
    new = dep.NewDeployment(
        site_id=str(site.id),
        meter_id=str(world.meters["L1"].id),
        name="Outflow oxygen, autumn",
        interval_s=EVERY_S,
        planned_start=begin,
        planned_end=begin + timedelta(days=84),
        channels=[dep.PlannedChannel("oxygen", str(world.probes["L1"].id)), dep.PlannedChannel("temperature")],
        depth_m=None,
        memory_records=20_000,
        battery_days=120,
        note="Chained to the second post; the grating is slippery.",
    )
    id_ = _set_out(desk, world, new, begin, 0.0)
    levels = {q: _level(desk, site.id, q, usual) for q, usual in (("oxygen", 10.5), ("temperature", 6.0))}
    body: dict[str, Any] = {"seed": 7, "levels": levels, "cleaned_s": [begin.timestamp()]}
    with desk.sessions.begin() as session:
        simulator.set_truth(session, f"{_TRUTH}{id_}", body)
    first = begin + timedelta(hours=1, minutes=10)
    _send(Desk(desk.sessions, lambda: first), world.users["ansa"], id_, body, begin, first)
    visits = [begin + timedelta(days=13, hours=3), begin + timedelta(days=27, hours=2)]
    since = first
    for at in (*visits, None):
        until = at or now
        _send(Desk(desk.sessions, lambda until=until: until), world.users["ansa"], id_, body, since, until)  # type: ignore[misc]
        if at is None:
            break
        since = _clean(desk, world, id_, body, at)
        body["cleaned_s"].append(since.timestamp())
        with desk.sessions.begin() as session:
            simulator.set_truth(session, f"{_TRUTH}{id_}", body)
    dep.watch(desk)


def _clean(desk: Desk, world: World, id_: str, body: dict[str, Any], at: datetime) -> datetime:
    """A service visit: read, cleaned, read again, in saturated water; the moment it was back."""
    t = np.array([at.timestamp()])
    truth = float(water("oxygen", t, body["seed"], level=body["levels"]["oxygen"], lively=0.3)[0])
    before = float(shown(np.array([truth]), t, FOULING, body["cleaned_s"], body["cleaned_s"], 7)[0])
    back = at + timedelta(minutes=25)
    read = ServiceReading(
        before, round(truth + 0.02, 2), round(truth + 0.04, 2), round(truth + 0.05, 2), (Standard(10.31, 10.29),)
    )
    visit = dep.ServiceVisit(
        at=at,
        back_at=back,
        by_channel={"oxygen": dep.ChannelService(read)},
        found="Brown growth on the guard and half of the cap.",
        done="Cleaned with cloth and water, O-ring greased, batteries looked at.",
        battery_percent=86.0,
        memory_percent=7.0,
        seen=True,
    )
    then = Desk(desk.sessions, lambda: back + timedelta(minutes=10))
    dep.record(then, world.users["ansa"], uuid.uuid4(), deployment_id=id_, visit=visit)
    return back


def _send(desk: Desk, sender: User, id_: str, body: dict[str, Any], since: datetime, until: datetime) -> int:
    """What it recorded between two moments, as it sends it; returns how many records."""
    first = EVERY_S * np.floor(since.timestamp() / EVERY_S) + EVERY_S
    t = np.arange(first, until.timestamp(), EVERY_S)
    if not t.size:
        return 0
    truth = water("oxygen", t, body["seed"], level=body["levels"]["oxygen"], lively=0.3)
    oxygen = shown(truth, t, FOULING, body["cleaned_s"], body["cleaned_s"], 7)
    warm = water("temperature", t, body["seed"], level=body["levels"]["temperature"], lively=0.15)
    warm = shown(warm, t, THERMISTOR, (), (), 8)
    records = [
        dep.SentRecord(
            datetime.fromtimestamp(float(at), UTC), {"oxygen": round(float(o), 2), "temperature": round(float(c), 2)}
        )
        for at, o, c in zip(t, oxygen, warm, strict=True)
    ]
    dep.receive(desk, sender, uuid.uuid4(), deployment_id=id_, records=records)
    return len(records)


def send_on(desk: Desk) -> int:
    """What the simulated live loggers have recorded since they sent last; nothing where there are none."""
    sent = 0
    with desk.read() as session:
        truths = simulator.truths(session, _TRUTH)
        waiting = []
        for subject, body in truths.items():
            d = session.get(Deployment, uuid.UUID(subject.removeprefix(_TRUTH)))
            last = (
                session.scalar(
                    select(FeedRecord.at)
                    .where(FeedRecord.deployment_id == d.id)
                    .order_by(FeedRecord.at.desc())
                    .limit(1)
                )
                if d
                else None
            )
            if d is not None and last is not None and desk.clock() - last >= timedelta(seconds=EVERY_S):
                waiting.append((str(d.id), d.by, body, max(last, desk.clock() - timedelta(days=60))))
    for id_, sender, body, last in waiting:
        try:
            sent += _send(desk, sender, id_, body, last, desk.clock())
        except Refused:  # it was lifted: a logger that is out of the water sends to nobody
            continue
    return sent


# -- the one that was lifted


def _conductivity(desk: Desk, world: World, begin: datetime, now: datetime) -> None:
    site, ansa = world.sites["lagoon"], world.users["ansa"]
    end = begin + timedelta(days=28)
    new = dep.NewDeployment(
        site_id=str(site.id),
        meter_id=str(world.meters["L2"].id),
        name="Creek mouth salt, October",
        interval_s=900.0,
        planned_start=begin,
        planned_end=end,
        channels=[dep.PlannedChannel("conductivity", str(world.probes["L2"].id)), dep.PlannedChannel("temperature")],
        depth_m=None,
        memory_records=4_000,
        battery_days=60,
    )
    id_ = _set_out(desk, world, new, begin, 0.0)
    level = _level(desk, site.id, "conductivity", 14_000.0)
    confirmed = begin + timedelta(minutes=40)
    then = Desk(desk.sessions, lambda: confirmed)
    first_at = begin + timedelta(minutes=15)
    dep.confirm(then, ansa, uuid.uuid4(), deployment_id=id_, at=confirmed, first_at=first_at, count=2)
    cleaned, files = [begin.timestamp()], list[tuple[str, bytes, datetime]]()
    middle, since = begin + timedelta(days=14, hours=2), begin
    for number, at in enumerate((middle, end), 1):
        t = np.arange(since.timestamp() + 900, at.timestamp() - 300, 900.0)
        files.append((f"L2_{number:03d}.csv", _file(t, level, cleaned, begin), at))
        since = _serve(desk, world, id_, level, cleaned, at, begin, lifts=number == 2)
        cleaned.append(since.timestamp())
    for name, data, at in files:
        then = Desk(desk.sessions, lambda at=at: min(at + timedelta(hours=5), now))  # type: ignore[misc]
        file = dep.arrive(then, ansa, uuid.uuid4(), deployment_id=id_, name=name, data=data).id
        with desk.read() as session:
            guess, _ = dep.guess(session, dep.file_of(session, file))
        shape = replace(guess.shape, zone="UTC+01:00").as_dict()
        dep.take_in(then, ansa, uuid.uuid4(), file_id=file, shape=shape, put_clock_right=True)


def _file(t: Values, level: float, cleaned: list[float], begin: datetime) -> bytes:
    """Its file as it comes: a head, day first, decimal commas, winter time, and a clock that gains."""
    truth = water("conductivity", t, 9, level=level, lively=8.0)
    reads = shown(truth, t, SALTY, cleaned, cleaned, 9)
    warm = shown(water("temperature", t, 9, level=9.0), t, THERMISTOR, (), (), 9)
    lines = ["Logger L2;TWS-L-032", "Tidssone;UTC+01:00", "", "Nr;Dato;Tid;Temp;Ledningsevne", ";;;°C;mS/cm"]
    for number, (at, c, k) in enumerate(zip(t, warm, reads, strict=True), 1):
        by_logger = datetime.fromtimestamp(float(at) + GAINS_S * (at - begin.timestamp()) / 86_400, UTC) + timedelta(
            hours=1
        )
        values = f"{c:.2f};{k / 1000:.3f}".replace(".", ",")
        lines.append(f"{number};{by_logger:%d.%m.%Y;%H:%M:%S};{values}")
    return ("\r\n".join([*lines, "Slutt"]) + "\r\n").encode("cp1252")


def _serve(
    desk: Desk,
    world: World,
    id_: str,
    level: float,
    cleaned: list[float],
    at: datetime,
    begin: datetime,
    *,
    lifts: bool,
) -> datetime:
    t = np.array([at.timestamp()])
    truth = float(water("conductivity", t, 9, level=level, lively=8.0)[0])
    drifted = float(shown(np.array([truth]), t, replace(SALTY, fouling_per_day=0.0), cleaned, cleaned, 9)[0])
    before = float(shown(np.array([truth]), t, SALTY, cleaned, cleaned, 9)[0])
    days = (at.timestamp() - cleaned[-1]) / 86_400
    in_standard = round(12_880 * (1 + SALTY.drift_per_day * days / 100))
    read = ServiceReading(
        before,
        drifted,
        round(truth),
        round(truth + 4),
        (Standard(in_standard, 12_880),),
        (Standard(12_878, 12_880),) if not lifts else (),
        was_reset=not lifts,
    )
    back = at + timedelta(minutes=35)
    visit = dep.ServiceVisit(
        at=at,
        back_at=None if lifts else back,
        by_channel={"conductivity": dep.ChannelService(read, "" if lifts else "calibrated")},
        found="Barnacles on the cage, slime in the cell." if not lifts else "Slime in the cell, cage clean.",
        done="Cell brushed and rinsed." if lifts else "Cell brushed and rinsed, calibrated again.",
        logger_at=at + timedelta(seconds=round(GAINS_S * (at - begin).total_seconds() / 86_400)),
        true_at=at,
        battery_percent=71.0 if lifts else 84.0,
        seen=not lifts,
        lifts=lifts,
    )
    then = Desk(desk.sessions, lambda: back + timedelta(minutes=10))
    dep.record(then, world.users["ansa"], uuid.uuid4(), deployment_id=id_, visit=visit)
    return back


def sign_first(desk: Desk, world: World) -> None:
    """The lead signs the conductivity as its visits say."""
    with desk.read() as session:
        d = session.scalar(select(Deployment).where(Deployment.meter_id == world.meters["L2"].id))
        assert d is not None
        whole = dep.whole_of(session, d)
        drafts = dep.draft(session, whole, dep.channel_of(d, "conductivity"))
        decision = dep.Decision(dep.suggested(drafts), "", world.users["ilka"].name, 0, dep.seen_as(whole))
        id_ = str(d.id)
    dep.sign(desk, world.users["ilka"], uuid.uuid4(), deployment_id=id_, quantity="conductivity", decision=decision)
