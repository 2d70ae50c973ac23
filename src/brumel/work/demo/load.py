"""The demo world: Tarnholt Water Survey, made up from end to end, with history made through the real code path."""

from __future__ import annotations

import uuid
from collections.abc import Callable
from datetime import datetime, timedelta

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from brumel.config import DEMO_ACCOUNTS, DEMO_PASSWORD
from brumel.store.tables import Lot, Meter, Truth, User
from brumel.work import kit, people, simulator
from brumel.work.demo import days as demo_days
from brumel.work.demo import kit as demo_kit
from brumel.work.demo import loggers as demo_loggers
from brumel.work.demo import sites as demo_sites
from brumel.work.demo import weeks as demo_weeks
from brumel.work.demo.calibrating import ONE_HAND, Hands
from brumel.work.demo.world import World
from brumel.work.desk import Desk, token_hash
from brumel.work.records import letterhead

ACCOUNTS, PASSWORD = DEMO_ACCOUNTS, DEMO_PASSWORD


WEEKS = 12


BAD_LOT_WEEK = 8


#: Where the history that is being made is noted, for pages and for the next start.
HISTORY = "demo:history"


def load_demo(
    desk: Desk,
    *,
    weeks: int = WEEKS,
    linked: bool = False,
    progress: Callable[[str], None] = lambda _: None,
    made: Callable[[], None] = lambda: None,
    hands: Hands = ONE_HAND,
) -> bool:
    """Load the demo world if the database is empty; True when it was loaded.

    `weeks` of history are lived through before now; `made` is called when all but them is there. With `linked`, Field
    set A speaks over its own link once the history is made, as a real meter would. With several `hands`, probes are
    calibrated side by side.
    """
    with desk.sessions.begin() as session:
        if session.scalar(select(User.id).limit(1)):
            return False
        progress("people, meters, probes, solutions and sites")
        world = _make(session, desk)
        if weeks < BAD_LOT_WEEK:  # the bad lot's story lies before the history that is told
            world.lots["10bad"].discarded_at = desk.clock()
        if weeks:
            simulator.set_truth(session, HISTORY, {"week": 0, "of": weeks})
    made()
    if weeks:
        _history(desk, world, weeks, progress, hands)
    with desk.sessions.begin() as session:
        session.execute(delete(Truth).where(Truth.subject == HISTORY))
        if linked:
            session.merge(world.meters["A"]).link = "sdi12"
    return True


def history_under_way(desk: Desk) -> tuple[int, int] | None:
    """Which week of how many is being lived through; None when the history is whole."""
    with desk.read() as session:
        noted = simulator.truth(session, HISTORY)
        return (noted["week"], noted["of"]) if noted else None


def _make(session: Session, desk: Desk) -> World:
    now = desk.clock()
    users = {u: people.add_user(session, desk, u, name, role, PASSWORD) for u, name, role in ACCOUNTS}
    for user in users.values():
        user.tour = "declined"  # they have been here for weeks
    start = now - timedelta(weeks=WEEKS + 30)
    meters, probes = demo_kit.meters(), {}
    session.add_all(meters.values())
    session.flush()
    probes = demo_kit.probes(meters, start)
    lots = demo_kit.lots(now)
    sites = demo_sites.make(session)
    session.add_all([*probes.values(), *lots.values()])
    session.flush()
    session.add_all(demo_sites.rounds(sites, start.date()))
    simulator.set_truth(session, "clock", {"pace": 1.0})
    for key, body in demo_kit.TRUTHS.items():
        simulator.set_truth(session, f"probe:{probes[key].id}", body)
    simulator.set_truth(session, f"lot:{lots['10bad'].id}", {"shift": -0.32})
    demo_sites.waters(session, sites, now)
    return World(users, meters, probes, lots, sites)


def _history(desk: Desk, world: World, weeks: int, progress: Callable[[str], None], hands: Hands) -> None:
    for week in range(weeks, 0, -1):
        progress(f"history, week {weeks - week + 1} of {weeks}")
        with desk.sessions.begin() as session:
            simulator.set_truth(session, HISTORY, {"week": weeks - week + 1, "of": weeks})
        at = (desk.clock() - timedelta(weeks=week)).replace(hour=6, minute=40, second=0, microsecond=0)
        demo_weeks.Week(desk, world, at, week, weeks, hands).live()
    hands.catch_up()
    progress("two loggers")
    demo_loggers.live_through(desk, world, hands)
    demo_days.logged_week(desk, world)
    hands.catch_up()
    demo_loggers.sign_first(desk, world)
    demo_days.send_back(desk, world.users["ilka"])
    letterhead.save(desk, world.users["ilka"], uuid.uuid4(), practice=demo_kit.PRACTICE)
    _count(_at(desk, desk.clock() - timedelta(days=6)), world)
    with desk.sessions.begin() as session:
        demo_sites.waters(session, world.sites, desk.clock())
        for key, body in demo_kit.TRUTHS.items():
            simulator.set_truth(session, f"probe:{world.probes[key].id}", body)


def _at(desk: Desk, moment: datetime) -> Desk:
    return Desk(desk.sessions, lambda: moment)


#: What was counted six days ago [mL of a lot, else as many as 5 of what is for a single use].
IN_BOTTLES = {"N7-121": 180.0, "N10-044": 90.0}


ON_THE_SHELF = {
    "membrane": 2.0,
    "cap": 1.0,
    "electrolyte": 6.0,
    "tip-nitrate": 1.0,
    "tip-ammonium": 0.0,
    "storage": 320.0,
}


def _count(then: Desk, world: World) -> None:
    with then.read() as session:
        in_use = list(session.scalars(select(Lot).where(Lot.discarded_at.is_(None))))
    for lot in in_use:
        amount = 5.0 if lot.single_use else IN_BOTTLES.get(lot.code, 420.0)
        kit.count_stock(then, world.users["ansa"], uuid.uuid4(), lot_id=str(lot.id), amount=amount)
    for spare, amount in ON_THE_SHELF.items():
        kit.count_stock(then, world.users["ansa"], uuid.uuid4(), spare=spare, amount=amount)
    for meter in world.meters.values():
        kit.count_stock(then, world.users["ansa"], uuid.uuid4(), spare=f"battery-{meter.id}", amount=2.0)


def give_token(desk: Desk, token: str) -> None:
    """The demo's own link token, made anew with its private database."""
    with desk.sessions.begin() as session:
        meter = session.scalar(select(Meter).where(Meter.name == "Field set A", Meter.link == "sdi12"))
        if meter is not None:
            meter.token_hash = token_hash(token)
