"""Samples over the link: put in the cup they were read in, once each, however late or often they come."""

import uuid
from datetime import timedelta

import pytest
from sqlalchemy import event, func, select

from brumel.core.errors import InputError
from brumel.meters.agent import Place
from brumel.store.tables import Meter, Sample
from brumel.work import bench, kit
from brumel.work.desk import NotAllowed, NotFound, Refused
from brumel.work.kit.probe_record import LinkValues
from brumel.work.link import samples
from brumel.work.link import sessions as link_sessions
from brumel.work.simulator import process
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


@pytest.fixture
def token(desk, things):
    with desk.sessions.begin() as session:
        session.get(Meter, uuid.UUID(things.meters["Field set A"])).link = "sdi12"
    return kit.new_token(desk, things.ilka, h.key(), meter_id=things.meters["Field set A"]).token


def rows(*times, address="1", y=0.0):
    return link_sessions.checked([[address, t, y - t / 100, 18.0] for t in times])


def stored(desk, dip):
    with desk.read() as session:
        return [round(t, 3) for t in samples.trace(session, kit.present_dip(session, dip)).t_s]


def test_only_the_lead_makes_a_token_and_a_new_one_ends_the_old(desk, things, token):
    meter = things.meters["Field set A"]
    with pytest.raises(NotAllowed):
        kit.new_token(desk, things.ansa, h.key(), meter_id=meter)
    with pytest.raises(Refused, match="has no link"):
        kit.new_token(desk, things.ilka, h.key(), meter_id=things.meters["Bench set B"])
    newer = kit.new_token(desk, things.ilka, h.key(), meter_id=meter).token
    with pytest.raises(link_sessions.BadToken):
        link_sessions.hello(desk, token, "old")
    assert link_sessions.hello(desk, newer, "new")["addresses"] == ["1", "2", "3", "4", "5", "6", "7", "8"]
    for bad in ("", "x", newer[:-1]):
        with pytest.raises(link_sessions.BadToken):
            link_sessions.hello(desk, bad, "x")


def test_samples_find_their_cup_once_each_however_late(desk, clock, things, token):
    session_id = link_sessions.hello(desk, token, "test")["session"]
    clock.on(seconds=10)
    run = h.start(desk, things)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    probe = uuid.UUID(things.probes["A1"])
    clock.on(seconds=30)

    def take(found, now=None):
        return link_sessions.take(desk, token, session_id, found, now)

    first = take(rows(2.0, 8.0, 11.0, 12.0), 40.0)  # before the dip: nowhere
    assert first == {"stored": 2, "late": 4, "idle": False}
    assert take(rows(11.0, 12.0, 13.0))["stored"] == 1  # sent again after a lost answer
    assert take(rows(11.5))["stored"] == 1  # late, put in its place
    assert stored(desk, probe) == [1.0, 1.5, 2.0, 3.0]
    assert take(rows(15.0, address="9"))["stored"] == 0  # no such probe
    assert take(rows(500.0))["stored"] == 0  # from the future
    clock.on(seconds=10)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)  # dipped afresh at 50 s
    clock.on(seconds=5)
    assert take(rows(45.0, 52.0))["stored"] == 2  # one to each dip
    assert stored(desk, probe) == [2.0]
    bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Rain")
    clock.on(seconds=10)
    assert take(rows(60.0))["stored"] == 0  # the run has ended
    with desk.read() as session:
        assert session.scalar(select(func.count()).select_from(Sample)) == 6


#: The link's clock as samples came, 101 s after its session began; how far it was off by a short request; is it believed?
CLOCKS = (
    (101.0, None, True),
    (99.5, None, True),
    (103.5, 0.0, False),  # it cannot be ahead
    (98.5, None, False),  # late: the line, or the clock? nobody asked
    (98.5, 0.3, True),  # it was asked, so it is the line
    (98.5, 2.4, False),
    (98.5, -2.4, False),
    (40.0, 0.3, True),
)


@pytest.mark.parametrize(("now_s", "off_s", "is_believed"), CLOCKS)
def test_a_clock_is_judged_before_anything_is_stored(desk, clock, things, token, now_s, off_s, is_believed):
    session_id = link_sessions.hello(desk, token, "test")["session"]
    clock.on(seconds=100)
    run = h.start(desk, things)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    clock.on(seconds=1)
    standing = link_sessions.Standing(waiting=7, refused=2, words="not known")
    assert link_sessions.clock(desk, token, session_id) == {"at_s": 101.0}
    if is_believed:
        assert link_sessions.take(desk, token, session_id, rows(100.5), now_s, off_s, standing)["stored"] == 1
    else:
        with pytest.raises(link_sessions.WrongClock):
            link_sessions.take(desk, token, session_id, rows(100.5), now_s, off_s, standing)
    assert stored(desk, uuid.UUID(things.probes["A1"])) == ([0.5] if is_believed else [])


def test_a_clock_of_another_hour_stores_nothing_and_the_link_says_how_it_stands(desk, clock, things, token):
    session_id = link_sessions.hello(desk, token, "test")["session"]
    clock.on(seconds=100)
    standing = link_sessions.Standing(waiting=7, refused=2, words="not known")
    link_sessions.take(desk, token, session_id, rows(99.0), 99.5, 0.1, standing)
    clock.on(hours=1)  # the server's clock was set, or the link's stood still
    with pytest.raises(link_sessions.WrongClock):
        link_sessions.take(desk, token, session_id, rows(100.0), 101.0, 0.1)
    clock.on(hours=-1)
    with desk.read() as session:
        meter = uuid.UUID(things.meters["Field set A"])
        assert link_sessions.alive(session, meter, clock())
        assert not link_sessions.alive(session, meter, clock() + timedelta(minutes=1))
        state = link_sessions.newest(session, meter)
        assert (state.last["1"][1], state.waiting, state.refused, state.words) == (18.0, 7, 2, "not known")


BAD = (
    [],
    "x",
    [1],
    [["1", 1, 2]],
    [["1", 1, 2, 3, 4]],
    [["11", 1, 2, 3]],
    [["1", -1, 2, 3]],
    [["1", 1, float("nan"), 3]],
    [["1", 1, 1e9, 3]],
    [["1", 1, 2, 500]],
    [["1", True, 2, 3]],
    [["1", "1", 2, 3]],
    [[None] * 4],
    [["1", 1, 2, 3]] * 501,
)


@pytest.mark.parametrize("bad", BAD, ids=range(len(BAD)))
def test_rows_that_are_not_sound_are_refused_whole(bad):
    with pytest.raises(InputError):
        link_sessions.checked(bad)


def test_a_session_belongs_to_its_meter(desk, things, token):
    with pytest.raises(NotFound):
        link_sessions.take(desk, token, str(uuid.uuid4()), rows(1.0))
    with pytest.raises(NotFound):
        link_sessions.take(desk, token, "x", rows(1.0))


def test_the_link_and_the_meter_wait_while_no_probe_stands_anywhere(desk, clock, things, token):
    assert len(link_sessions.waits_for(desk, token)) == 8
    run = h.start(desk, things)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    assert link_sessions.waits_for(desk, token) == ()
    bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Only to see")
    assert len(link_sessions.waits_for(desk, token)) == 8
    with pytest.raises(link_sessions.BadToken):
        link_sessions.waits_for(desk, "x")


def test_a_simulated_meter_asks_nothing_until_a_dip_is_announced(desk, clock, things):
    statements, turns = [], iter(range(33))
    bind = desk.sessions.kw["bind"]
    event.listen(bind, "before_cursor_execute", lambda *a: statements.append(a[2]))

    class News:
        """Says nothing but once, when a probe was dipped."""

        def __init__(self):
            self.waited = 0

        def wait(self, seconds):
            self.waited += 1
            if self.waited == 30:
                assert len(statements) < 8, statements  # one look as it began
                run = h.start(desk, things)
                bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
                clock.on(seconds=20)
            return self.waited in (1, 30)

    process.run(desk, News(), lambda: next(turns, None) is not None, pytest.fail)
    assert len(stored(desk, uuid.UUID(things.probes["A1"]))) > 20


def test_probes_share_an_address_by_the_values_that_are_theirs(desk, token, things):
    """A sensor at one address shows several values; each probe has its own of them."""
    linked = ("A1", "A2")

    def say(probe, **given):
        kit.set_link_values(desk, things.ansa, h.key(), probe_id=things.probes[probe], given=LinkValues(**given))

    say(linked[0], address="x", how="M0", signal=1, temperature=4)
    with pytest.raises(InputError, match="belongs to"):
        say(linked[1], address="x", how="M0", signal=1, temperature=4)
    say(linked[1], address="x", how="M0", signal=3, temperature=4)
    told = link_sessions.hello(desk, token, "test")
    mine = [p for p in told["places"] if p["address"] == "x"]
    assert mine == [
        {"name": "x", "address": "x", "how": "M0", "signal": 1, "temperature": 4},
        {"name": "x.3", "address": "x", "how": "M0", "signal": 3, "temperature": 4},
    ]
    rows = [Place(**p).row(1.0, (1.5, 2.5, 3.5, 20.0)) for p in mine]
    assert rows == [["x", 1.0, 1.5, 20.0], ["x.3", 1.0, 3.5, 20.0]]
    assert [r.place for r in link_sessions.checked(rows)] == ["x", "x.3"]
    assert Place(**mine[1]).row(1.0, (1.5, 2.5)) is None  # too few values are none
    for wrong in ({"address": ""}, {"address": "55"}, {"address": "x", "how": "X9"}, {"address": "x", "signal": 0}):
        with pytest.raises(InputError):
            say(linked[1], **wrong)
    with pytest.raises(InputError, match="same value"):
        say(linked[1], address="y", signal=2, temperature=2)
    for name in ("5.", "5.0", "5.100", "55", ".3", ""):
        with pytest.raises(InputError):
            link_sessions.checked([[name, 1.0, 1.5, 20.0]])
