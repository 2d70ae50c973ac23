"""The demo world: Tarnholt Water Survey, made up from end to end, with history made through the real code path."""

from __future__ import annotations

import math
import uuid
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.verdict import Outcome
from brumel.store.tables import Lot, Meter, Probe, Site, User
from brumel.work import bench, kit, live, people, rounds, runstate, shelf
from brumel.work.desk import Desk

PASSWORD = "tarnholt-field-book"  # noqa: S105 - the demo's own, shown on its sign-in page
ACCOUNTS = (("ansa", "Ansa Merrik", "technician"), ("ilka", "Ilka Torvend", "lead"))
WEEKS = 12


@dataclass
class World:
    """The made-up things of the demo, by short names."""

    users: dict[str, User]
    probes: dict[str, Probe]
    lots: dict[str, Lot]
    sites: dict[str, Site]


def load(desk: Desk, *, history: bool = True, progress: Callable[[str], None] = lambda _: None) -> bool:
    """Load the demo world if the database is empty; True when it was loaded."""
    with desk.sessions.begin() as session:
        if session.scalar(select(User.id).limit(1)):
            return False
        progress("people, meters, probes, solutions and sites")
        world = _make(session, desk)
    if history:
        _history(desk, world, progress)
    return True


def _make(session: Session, desk: Desk) -> World:
    now = desk.clock()
    users = {u: people.add_user(session, desk, u, name, role, PASSWORD) for u, name, role in ACCOUNTS}
    meters = {
        "A": Meter(id=uuid.uuid4(), name="Field set A", serial="TWS-A-014", link="simulated"),
        "B": Meter(id=uuid.uuid4(), name="Bench set B", serial="TWS-B-003", link="typed"),
    }
    session.add_all(meters.values())
    session.flush()
    start = now - timedelta(weeks=WEEKS + 30)
    probes = {
        "A": _probe(meters["A"], "pH probe A1", "PA1-2231", start, "Refillable, 3 m cable; the everyday probe."),
        "spare": _probe(meters["A"], "pH probe A2", "PA2-1984", start, "Refillable, 3 m cable; getting old."),
        "B": _probe(meters["B"], "pH probe B1", "PB1-0717", start, "Refillable, for the bench; no link, typed."),
    }
    lots = {
        "4": _lot(now, "N4-118", "Buffer 4.01", "4.01", 300, 20, 90),
        "7": _lot(now, "N7-121", "Buffer 7.01", "7.01", 280, 20, 90),
        "10": _lot(now, "N10-090", "Buffer 10.01", "10.01", 200, 9, 30),
        "10old": _lot(now, "N10-071", "Buffer 10.01", "10.01", -12, 70, 30),
        "7label": _lot(
            now, "K7-009", "Own buffer 6.86", "phosphate", 120, 5, 60,
            {"10": 6.93, "15": 6.90, "20": 6.88, "25": 6.86, "30": 6.85},
        ),
        "7sachet": _lot(now, "S7-440", "Buffer 7.01 sachet", "7.01", 330, None, 1),
        "9": _lot(now, "K9-004", "Own buffer 9.18", "borax", 120, 5, 30),
    }  # fmt: skip
    sites = {
        "raceway": _site("Skarn Char Farm", "Raceway 3, inflow", "raceway", 612.0, (6.8, 7.6), (5.5, 9.0), (3, 13), (0, 25),
                         "Mountain stream water; step over the pipe, wear the life jacket."),
        "lagoon": _site("Veldmere Lagoon Trust", "Creek mouth, north bank", "lagoon", 2.0, (7.6, 8.6), (6.5, 9.8), (4, 24),
                        (-1, 32), "Brackish; soft mud below half tide. Not alone."),
        "lido": _site("Oldgate Lido", "Warm pool, deep end", "pool", 88.0, (7.2, 7.6), (6.5, 8.5), (27, 32), (15, 40),
                      "Pool limits are set by local codes; report to the duty manager."),
    }  # fmt: skip
    session.add_all([*probes.values(), *lots.values(), *sites.values()])
    session.flush()
    live.set_truth(session, "clock", {"pace": 1.0})
    live.set_truth(session, f"probe:{probes['A'].id}", {"slope": 0.982, "offset_mv": 4.0, "seed": 11, "cups_c": 18.4})
    live.set_truth(
        session, f"probe:{probes['spare'].id}",
        {"slope": 0.93, "offset_mv": -18.0, "tau_s": 9.0, "noise_mv": 0.09, "seed": 23, "cups_c": 17.9},
    )  # fmt: skip
    _waters(session, sites, now)
    return World(users, probes, lots, sites)


def _probe(meter: Meter, name: str, serial: str, start: datetime, note: str) -> Probe:
    return Probe(
        id=uuid.uuid4(),
        meter_id=meter.id,
        name=name,
        serial=serial,
        quantity="ph",
        in_service=start,
        note=note,
    )


def _lot(
    now: datetime, code: str, name: str, family: str, expires_d: int, opened_d: int | None, open_days: int,
    label: dict[str, Any] | None = None,
) -> Lot:  # fmt: skip
    return Lot(
        id=uuid.uuid4(), code=code, name=name, family=family, label_table=label, expanded_uncertainty=0.02,
        expires_on=now + timedelta(days=expires_d),
        opened_at=None if opened_d is None else now - timedelta(days=opened_d), open_days=open_days,
        single_use=open_days == 1,
    )  # fmt: skip


def _site(
    client: str, name: str, kind: str, altitude: float, usual: tuple[float, float], gross: tuple[float, float],
    usual_t: tuple[float, float], gross_t: tuple[float, float], note: str,
) -> Site:  # fmt: skip
    ranges = {
        "ph": {"usual": list(usual), "gross": list(gross)},
        "temperature": {"usual": list(usual_t), "gross": list(gross_t)},
    }
    return Site(
        id=uuid.uuid4(), client=client, name=name, kind=kind, zone="Europe/Oslo", altitude_m=altitude,
        ranges=ranges, note=note,
    )  # fmt: skip


def _waters(session: Session, sites: dict[str, Site], when: datetime) -> None:
    """What the waters truly are at a time: a season and a little life of their own."""
    day = when.timetuple().tm_yday
    season = math.cos(2 * math.pi * (day - 205) / 365)  # +1 in late July
    week = when.timestamp() / (7 * 86400)
    for key, (ph, swing, t, dt) in {
        "raceway": (7.18, 0.12, 7.0, 4.5),
        "lagoon": (8.05, 0.25, 12.0, 8.0),
        "lido": (7.38, 0.02, 29.3, 0.3),
    }.items():
        wiggle = math.sin(week * 2.399 + len(key))
        live.set_truth(
            session, f"site:{sites[key].id}",
            {"ph": round(ph + swing * season + 0.06 * wiggle, 3), "temperature_c": round(t + dt * season + 0.7 * wiggle, 2)},
        )  # fmt: skip


class _Then:
    """A clock that stands still until it is told to go on."""

    def __init__(self, at: datetime) -> None:
        self.at = at

    def __call__(self) -> datetime:
        return self.at

    def on(self, **delta: float) -> None:
        self.at += timedelta(**delta)


def _history(desk: Desk, world: World, progress: Callable[[str], None]) -> None:
    now = desk.clock()
    ansa = world.users["ansa"]
    for week in range(WEEKS, 0, -1):
        progress(f"history, week {WEEKS - week + 1} of {WEEKS}")
        clock = _Then((now - timedelta(weeks=week)).replace(hour=6, minute=40, second=0, microsecond=0))
        then = Desk(desk.sessions, clock)
        age = (WEEKS - week) / WEEKS
        with desk.sessions.begin() as session:
            _waters(session, world.sites, clock.at)
            life = math.sin(week * 2.3)  # no two weeks are alike
            body = {
                "slope": 0.996 - 0.014 * age + 0.002 * life,
                "offset_mv": 1.0 + 3.0 * age + 0.6 * life,
                "seed": 11 + week,
                "cups_c": 18.0 + week % 3,
            }
            live.set_truth(session, f"probe:{world.probes['A'].id}", body)
            old = {"slope": 0.975 - 0.09 * age + 0.006 * life, "offset_mv": -8 - 24 * age + 1.5 * life,
                   "tau_s": 6 + 5 * age, "seed": 70 + week,
                   "noise_mv": 0.09, "cups_c": 18.0}  # fmt: skip
            live.set_truth(session, f"probe:{world.probes['spare'].id}", old)
        calibrate(then, clock, ansa, world.probes["A"], "ph-7-4-10", world.lots)
        if week % 2 == 0:
            calibrate(then, clock, ansa, world.probes["spare"], "ph-7-4-10", world.lots)
        for key in ("raceway", "lagoon", "lido"):
            clock.on(minutes=50)
            visit(then, clock, ansa, world.sites[key], world.probes["A"])
        if week % 2 == 1:
            clock.on(hours=2)
            shelf.record(
                then, ansa, uuid.uuid4(), probe_id=str(world.probes["A"].id), what="cleaned", note="After the round."
            )
        if week == 5:
            shelf.record(
                then, ansa, uuid.uuid4(), probe_id=str(world.probes["A"].id), what="electrolyte", note="On schedule."
            )
        if week == 6:
            shelf.record(
                then,
                ansa,
                uuid.uuid4(),
                probe_id=str(world.probes["spare"].id),
                what="electrolyte",
                note="Slope going down.",
            )
    with desk.sessions.begin() as session:
        _waters(session, world.sites, now)
        live.set_truth(
            session,
            f"probe:{world.probes['A'].id}",
            {"slope": 0.981, "offset_mv": 4.2, "seed": 11, "cups_c": 18.4},
        )


def calibrate(desk: Desk, clock: _Then, actor: User, probe: Probe, method: str, lots: dict[str, Lot]) -> str:
    """One live calibration from the first cup to the verdict, at the clock's own pace. Returns the run's id."""
    cups = {"neutral": str(lots["7"].id), "acid": str(lots["4"].id), "alkaline": str(lots["10"].id)}
    run = bench.start(
        desk, actor, uuid.uuid4(), probe_id=str(probe.id), method_key=method, source="live", cups=cups
    )["run"]  # fmt: skip
    while True:
        with desk.read() as session:
            state = runstate.load(session, run)
        if state.current is None:
            break
        step = state.current.spec.key
        clock.on(seconds=25)
        bench.dip(desk, actor, uuid.uuid4(), run_id=run, step=step, turn=state.turn)
        settled = _wait(desk, clock, run)
        bench.accept(
            desk, actor, uuid.uuid4(), run_id=run, step=step, turn=state.turn, early=not settled,
            answer="Looked at, carried on for the record.",
        )  # fmt: skip
    with desk.read() as session:
        outcome = runstate.result(session, state).verdict.outcome
    words = "Good enough for the raceway; watch the slope." if outcome is Outcome.CARE else ""
    bench.finish(
        desk, actor, uuid.uuid4(), run_id=run, turn=state.turn, use=outcome is not Outcome.NOT, words=words
    )  # fmt: skip
    return str(run)


def _wait(desk: Desk, clock: _Then, run: str) -> bool:
    """Let the meter run until the cup has settled; False after five minutes."""
    for _ in range(30):
        clock.on(seconds=10)
        with desk.sessions.begin() as session:
            state = runstate.load(session, run)
            if state.dip is None:
                return False
            live.advance(session, state.dip, clock.at, upto_s=(clock.at - state.dip.started_at).total_seconds())
            session.flush()
            if (clock.at - state.dip.started_at).total_seconds() < state.method.settling.shortest_s:
                continue
            seen = runstate.live(session, state)
            if seen and seen.settling.settled:
                return True
    return False


def visit(desk: Desk, clock: _Then, actor: User, site: Site, probe: Probe) -> str:
    """One live reading of a site, taken once it has settled. Returns the visit's id."""
    made = rounds.start_visit(
        desk, actor, uuid.uuid4(), site_id=str(site.id), probe_id=str(probe.id), source="live"
    )["visit"]  # fmt: skip
    dip = rounds.dip(desk, actor, uuid.uuid4(), visit_id=made)["dip"]
    clock.on(seconds=70)
    with desk.sessions.begin() as session:
        found = kit.present_dip(session, probe.id)
        if found:
            live.advance(session, found, clock.at, upto_s=70)
    rounds.take(
        desk, actor, uuid.uuid4(), visit_id=made, dip_id=dip, early=True, reason="First visits of the season."
    )  # fmt: skip
    return str(made)
