"""The demo world: Tarnholt Water Survey, made up from end to end, with history made through the real code path."""

from __future__ import annotations

import math
import uuid
from collections.abc import Callable
from datetime import datetime, timedelta

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.store.tables import Meter, Site, User
from brumel.work import demo_kit, demo_weeks, live, people
from brumel.work.demo_weeks import World
from brumel.work.desk import Desk
from brumel.work.meterside import token_hash

PASSWORD = "tarnholt-field-book"  # noqa: S105 - the demo's own, shown on its sign-in page
ACCOUNTS = (("ansa", "Ansa Merrik", "technician"), ("ilka", "Ilka Torvend", "lead"))
WEEKS = 12
BAD_LOT_WEEK = 8


def load(
    desk: Desk, *, weeks: int = WEEKS, linked: bool = False, progress: Callable[[str], None] = lambda _: None
) -> bool:
    """Load the demo world if the database is empty; True when it was loaded.

    `weeks` of history are lived through before now. With `linked`, Field set A speaks over its own link once the history is
    made, as a real meter would.
    """
    with desk.sessions.begin() as session:
        if session.scalar(select(User.id).limit(1)):
            return False
        progress("people, meters, probes, solutions and sites")
        world = _make(session, desk)
        if weeks < BAD_LOT_WEEK:  # the bad lot's story lies before the history that is told
            world.lots["10bad"].discarded_at = desk.clock()
    if weeks:
        _history(desk, world, weeks, progress)
    if linked:
        with desk.sessions.begin() as session:
            session.merge(world.meters["A"]).link = "sdi12"
    return True


def _make(session: Session, desk: Desk) -> World:
    now = desk.clock()
    users = {u: people.add_user(session, desk, u, name, role, PASSWORD) for u, name, role in ACCOUNTS}
    start = now - timedelta(weeks=WEEKS + 30)
    meters, probes = demo_kit.meters(), {}
    session.add_all(meters.values())
    session.flush()
    probes = demo_kit.probes(meters, start)
    lots = demo_kit.lots(now)
    sites = {
        "raceway": _site("Skarn Char Farm", "Raceway 3, inflow", "raceway", 612.0, (6.8, 7.6), (5.5, 9.0), (3, 13), (0, 25),
                         "Mountain stream water; step over the pipe, wear the life jacket."),
        "lagoon": _site("Veldmere Lagoon Trust", "Creek mouth, north bank", "lagoon", 2.0, (7.6, 8.6), (6.5, 9.8), (4, 24),
                        (-1, 32), "Brackish; soft mud below half tide. Not alone."),
        "lido": _site("Oldgate Lido", "Warm pool, deep end", "pool", 88.0, (7.2, 7.6), (6.5, 8.5), (27, 32), (15, 40),
                      "Pool limits are set by local codes; report to the duty manager."),
    }  # fmt: skip
    for key, usual in (("raceway", (40, 160)), ("lagoon", (4000, 32000)), ("lido", (900, 2600))):
        sites[key].ranges = {**sites[key].ranges, "conductivity": {"usual": list(usual), "gross": [5, 60000]}}
    session.add_all([*probes.values(), *lots.values(), *sites.values()])
    session.flush()
    live.set_truth(session, "clock", {"pace": 1.0})
    for key, body in demo_kit.TRUTHS.items():
        live.set_truth(session, f"probe:{probes[key].id}", body)
    live.set_truth(session, f"lot:{lots['10bad'].id}", {"shift": -0.32})
    _waters(session, sites, now)
    return World(users, meters, probes, lots, sites)


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


def _history(desk: Desk, world: World, weeks: int, progress: Callable[[str], None]) -> None:
    for week in range(weeks, 0, -1):
        progress(f"history, week {weeks - week + 1} of {weeks}")
        at = (desk.clock() - timedelta(weeks=week)).replace(hour=6, minute=40, second=0, microsecond=0)
        demo_weeks.week(desk, world, at, week, weeks, _waters)
    with desk.sessions.begin() as session:
        _waters(session, world.sites, desk.clock())
        for key, body in demo_kit.TRUTHS.items():
            live.set_truth(session, f"probe:{world.probes[key].id}", body)


def give_token(desk: Desk, token: str) -> None:
    """The demo's own link token, made anew with its private database."""
    with desk.sessions.begin() as session:
        meter = session.scalar(select(Meter).where(Meter.name == "Field set A", Meter.link == "sdi12"))
        if meter is not None:
            meter.token_hash = token_hash(token)
