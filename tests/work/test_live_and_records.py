"""Watching a dip, finding records, people, practice, and the search's corners."""

import uuid
from datetime import timedelta

import pytest
from sqlalchemy import event, select, text

from brumel.core.errors import InputError
from brumel.store.tables import Dip, Reading, User
from brumel.web.live import Hub
from brumel.work import bench, kit, people, records, rounds, simulator
from brumel.work.bench import watch as run_watch
from brumel.work.desk import MovedOn, NotFound, object_id
from brumel.work.link import samples
from brumel.work.rounds.sheet import watch as sheet_watch
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def test_a_watched_cup_tells_only_what_is_new_and_judges_the_whole(desk, clock, things):
    run = h.start(desk, things)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    page = run_watch.RunWatch(desk, run)
    assert page.tick() is None
    seen = []
    for _ in range(14):
        clock.on(seconds=5)
        simulator.pump(desk)
        seen.append(page.tick())
        assert page.tick() is None
    assert [s["seq"] for s in seen] == sorted(s["seq"] for s in seen)
    assert sum(len(s["t"]) for s in seen) == seen[-1]["seq"] + 1
    assert seen[-1]["settled"]
    assert not seen[0]["settled"]
    with desk.read() as session:
        whole = bench.live_cup(session, bench.load_run(session, run))
    assert seen[-1]["value"] == whole.settling.value
    late = run_watch.RunWatch(desk, run)  # a page opened late catches up in one go
    assert len(late.tick()["t"]) == seen[-1]["seq"] + 1
    assert not page.moved()
    bench.accept(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    assert page.moved()


#: Breaks the lines of those who listen, in this database alone.
CUT = (
    "select pg_terminate_backend(pid) from pg_stat_activity "
    "where datname = current_database() and query ilike 'listen %'"
)


@pytest.fixture
def hub(desk):
    hub = Hub(desk.sessions.kw["bind"].url.render_as_string(hide_password=False))
    with hub.watch(lambda: None, "anything"):
        h.until(lambda: hub.is_listening)
        yield hub


def test_what_is_heard_of_a_cup_is_what_was_stored_and_asks_nothing(desk, clock, things, hub):
    run = h.start(desk, things)
    dip = uuid.UUID(bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0).id)
    asks, hears = run_watch.RunWatch(desk, run), run_watch.RunWatch(desk, run)
    ear = hears.heard = hub.ear(str(dip))
    engine = desk.sessions.kw["bind"]

    def seen(asked):
        """What both pages see next, the one that hears after so many queries."""
        told, queries = asks.tick(), []

        def count(*_):
            queries.append(1)

        event.listen(engine, "before_cursor_execute", count)
        heard = hears.tick()
        event.remove(engine, "before_cursor_execute", count)
        assert heard == told
        assert len(queries) == asked
        return told

    def stored(rows):
        with desk.sessions.begin() as session:
            samples.store_samples(session, session.get_one(Dip, dip), rows)
        h.until(lambda: not ear.is_sure or (ear.rows and ear.rows[-1][0] == rows[-1][0]))

    assert seen(1) is None  # what was there before it listened is asked for once
    for n in range(0, 40, 2):
        stored([(i, i / 2, 100.0 + 1 / (3 + i), 20.0, None) for i in (n, n + 1)])
        assert seen(0)["seq"] == n + 1
    stored([(40, 20.0, 100.1, 20.0, None)])
    stored([(40, 20.0, -1.0, 20.0, None), (41, 20.5, 100.2, 20.0, None)])  # one of them sent again, wrongly
    assert seen(0)["y"] == [100.1, 100.2]
    assert seen(0) is None
    for said in (f"{dip} [[", f"{dip} 7", f"{dip} [[1]]", f"{dip} [[1, 2, 3, {{}}, 5]]", " ", "x" * 7000):
        with engine.begin() as connection:
            connection.execute(text("select pg_notify('brumel_samples', :said)"), {"said": said})
        h.until(lambda said=said: not ear.is_sure or str(dip) not in said)
        assert seen(1 if str(dip) in said else 0) is None
    stored([(i, i / 2, 100.0, 20.0, None) for i in range(42, 641)])  # more than an announcement holds
    assert seen(1)["seq"] == 640
    with engine.connect() as connection:
        connection.execute(text(CUT))
    h.until(lambda: not hub.is_listening)
    stored([(641, 320.5, 100.0, 20.0, None)])
    assert seen(1)["seq"] == 641
    h.until(lambda: hub.is_listening)
    stored([(642, 321.0, 100.0, 20.0, None)])
    assert seen(1)["seq"] == 642  # it may have missed some between
    stored([(643, 321.5, 100.0, 20.0, None)])
    assert seen(0)["seq"] == 643


def test_a_watched_water_gives_ph_and_its_questions(desk, clock, things):
    h.calibrate(desk, clock, things)
    visit = rounds.start_visit(
        desk, things.ansa, h.key(), site_id=things.sites["pool"], probes=[things.probes["A1"]], source="live"
    ).id
    with desk.sessions.begin() as session:
        simulator.set_truth(session, f"site:{things.sites['pool']}", {"ph": 6.1, "temperature_c": 29.0})
    rounds.dip(desk, things.ansa, h.key(), visit_id=visit)
    page = sheet_watch.VisitWatch(desk, visit)
    clock.on(seconds=60)
    simulator.pump(desk)
    seen = page.tick()
    assert seen["settled"]
    assert seen["reported"] == pytest.approx(6.1, abs=0.05)
    assert [s["code"] for s in seen["suspicions"]] == ["ph:unusual"]
    assert not page.moved()
    rounds.dip(desk, things.ansa, h.key(), visit_id=visit)
    assert page.moved()
    with pytest.raises(MovedOn, match="dipped again"):
        rounds.take(desk, things.ansa, h.key(), visit_id=visit, dip_id=str(page.dip.id))


def test_the_meter_goes_on_after_a_restart_and_stops_where_it_must(desk, clock, things):
    run = h.start(desk, things)
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    clock.on(seconds=20)
    assert simulator.pump(desk) == 41
    assert simulator.pump(desk) == 0
    clock.on(seconds=10)
    assert simulator.pump(desk) == 20
    clock.on(hours=30)
    assert simulator.pump(desk) == 0  # a forgotten probe is not read for ever
    bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Night fell")
    assert simulator.pump(desk) == 0


def test_the_meter_wakes_when_a_sample_is_due_and_finds_a_dip_that_was_just_begun(desk, clock, things):
    run = h.start(desk, things)
    meter = simulator.Simulator(desk)
    assert (meter.pump(), meter.pause_s) == (0, 0.0)  # it waits for a dip to be announced
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    clock.on(seconds=0.2)
    assert (meter.pump(), meter.pause_s) == (1, pytest.approx(0.3))
    clock.on(seconds=0.3)
    assert (meter.pump(), meter.pause_s) == (1, pytest.approx(0.5))
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)  # dipped again: another dip
    clock.on(seconds=0.5)
    assert (meter.pump(), meter.pause_s) == (2, pytest.approx(0.5))
    bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Night fell")
    clock.on(seconds=0.5)
    assert (meter.pump(), meter.pause_s) == (0, 0.0)
    for pace, pause in ((1, 0.45), (14, 0.2)):
        with desk.sessions.begin() as session:
            simulator.set_truth(session, "clock", {"pace": pace})
        run = h.start(desk, things)
        bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
        clock.on(seconds=0.05)
        meter.pump()
        assert meter.pause_s == pytest.approx(pause)
        bench.abandon(desk, things.ansa, h.key(), run_id=run, reason="Night fell")
        clock.on(seconds=1)
        meter.pump()


def test_typed_probes_and_bad_senders_are_left_alone(desk, clock, things):
    run = h.start(desk, things, "B1", source="typed")
    bench.dip(desk, things.ansa, h.key(), run_id=run, step="neutral", turn=0)
    clock.on(seconds=60)
    assert simulator.pump(desk) == 0
    with desk.sessions.begin() as session:
        dip = kit.present_dip(session, uuid.UUID(things.probes["B1"]))
        assert samples.store_samples(session, dip, [(0, 0.0, 1.0, 20.0, None), (1, 0.5, 1.1, 20.0, None)]) == 2
        assert (
            samples.store_samples(session, dip, [(1, 0.5, 9.9, 20.0, None), (2, 1.0, 1.2, 20.0, None)]) == 1
        )  # resent: the first stands
        found = samples.trace(session, dip)
    assert list(found.signal) == [1.0, 1.1, 1.2]
    assert list(found.seen_until(1).seq) == [0, 1]
    assert found.seen_until(None) is found
    assert found.seen_until(99) is found
    with pytest.raises(MovedOn, match="Another cup is in turn"):
        bench.type_reading(
            desk,
            things.ansa,
            h.key(),
            run_id=run,
            step="acid",
            turn=0,
            typed=bench.TypedValue(signal="mv", value=1.0, temperature_c=20.0),
        )


def _many_visits(desk, clock, things, days=4):
    for day in range(days):
        h.calibrate(desk, clock, things)
        for site in ("raceway", "pool"):
            clock.on(minutes=30)
            h.visit(desk, clock, things, site, early=True, reason="First visits")
        clock.on(days=1 if day < days - 1 else 0)


def test_records_are_found_by_site_quantity_backing_and_day(desk, clock, things):
    start = clock()
    _many_visits(desk, clock, things)
    pool = object_id(things.sites["pool"], "site")
    cases = [
        (records.Search(), 16),
        (records.Search(quantity="ph"), 8),
        (records.Search(site_id=pool), 8),
        (records.Search(site_id=pool, quantity="temperature"), 4),
        (records.Search(backing="open"), 8),
        (records.Search(backing="unbacked"), 8),
        (records.Search(since=(start + timedelta(days=2)).date()), 8),
        (records.Search(until=start.date()), 4),
        (records.Search(since=(start + timedelta(days=9)).date()), 0),
        (records.Search(page=9), 16),
    ]
    with desk.read() as session:
        for search, count in cases:
            rows, total = records.readings(session, search)
            assert total == count, search
            assert [r.at for r in rows] == sorted((r.at for r in rows), reverse=True)
            if search.page == 1:
                assert min(count, search.size) == len(rows)
                assert len(list(records.export(session, search))) == count
        newest, total = records.calibrations(session, records.Search())
        assert total == 4
        assert [records.backed_by(session, c) for c in newest] == [2, 2, 2, 2]
        assert [p.step for p, _ in bench.load_run(session, newest[0].run_id).points] == ["neutral", "acid", "alkaline"]
        with pytest.raises(NotFound):
            records.calibration(session, "none")
        past = rounds.past_values(session, rounds.site_of(session, things.sites["pool"]))
        assert len(past["ph"]) == 4
        assert past["ph"][0][1] > past["ph"][-1][1]


def test_history_makes_an_odd_value_stand_out(desk, clock, things):
    _many_visits(desk, clock, things, days=5)
    with desk.sessions.begin() as session:
        simulator.set_truth(session, f"site:{things.sites['raceway']}", {"ph": 8.4, "temperature_c": 8.0})
    clock.on(hours=1)
    h.visit(desk, clock, things, reason="Lime was spread on the meadow above")
    with desk.read() as session:
        odd = session.scalars(select(Reading).where(Reading.quantity == "ph").order_by(Reading.at.desc())).first()
    flags = {f["key"]: f["flag"] for f in odd.findings}
    assert flags["history"] == 3
    assert "rate" not in flags  # a past of its own says how fast it moves; the usual rate is of sites without one
    assert odd.flag == 3
    with desk.read() as session:  # answered and kept, it is part of the past: a water that changed is learnt
        assert len(rounds.past_values(session, odd.visit.site)["ph"]) == 6


def test_people_sign_in_by_password_and_lose_old_sessions(desk, clock):
    with desk.sessions.begin() as session:
        user = people.add_user(session, desk, " Mira ", "Mira Holt", "technician", "a-long-password")
        for bad, words in (
            (("mira", "Again", "lead", "a-long-password"), "is taken"),
            (("x", "X", "admin", "a-long-password"), "is not known"),
            (("x", "X", "lead", "short"), "at least 12"),
            (("", "X", "lead", "a-long-password"), "must be filled in"),
        ):
            with pytest.raises(InputError, match=words):
                people.add_user(session, desk, *bad)
    assert people.sign_in(desk, "MIRA", "a-long-password").id == user.id
    assert people.sign_in(desk, "mira", "a-wrong-password") is None
    assert people.sign_in(desk, "nobody", "a-long-password") is None
    token = people.open_session(desk, user)
    assert people.of_session(desk, token).user_id == user.id
    for stale in (f"{user.id}:{user.stamp}", "nonsense", "", "\udc80"):
        assert people.of_session(desk, stale) is None
    other = people.open_session(desk, user)
    people.end_session(desk, other)
    assert people.of_session(desk, other) is None
    assert people.of_session(desk, token) is not None
    with desk.sessions.begin() as session:
        session.get(User, user.id).active = False
    assert people.sign_in(desk, "mira", "a-long-password") is None
    assert people.of_session(desk, token) is None


@pytest.mark.parametrize(
    ("hours", "lives"),
    [
        ([7.9], True),
        ([8.1], False),  # idle
        ([6, 5, 0.9], True),
        ([6, 5, 1.1], False),  # busy, until the longest
    ],
)
def test_a_session_ends_when_it_is_idle_or_long(desk, clock, things, hours, lives):
    token = people.open_session(desk, things.ansa)
    for each in hours:
        clock.on(hours=each)
        found = people.of_session(desk, token)
    assert (found is not None) is lives


def test_a_run_that_cannot_be_fitted_is_filed_as_failed(desk, clock, things):
    run = h.start(desk, things, "B1", source="typed")
    h.type_all(desk, clock, things, run, lambda p: 40.0 * (p - 7), answer="Looks odd")  # rises instead of falling
    found = h.result_of(desk, run)
    assert found.fit is None
    assert "rises instead of falling" in found.problem
    assert h.finish(desk, things, run, use=False) is None
    state = h.state_of(desk, run)
    assert (state.end.how, state.calibration) == ("failed", None)
