"""Every scenario is proved: a scripted expert passes it, a scripted careless beginner fails where the scenario says."""

from datetime import timedelta

import pytest
from sqlalchemy import select

from brumel.methods.scenarios import load_scenarios
from brumel.store.sessions import make_engine, make_sessions
from brumel.store.tables import User
from brumel.work.desk import Desk
from tests.conftest import START, Clock, as_app, database_copy
from tests.work.practice_player import Player

SCENARIOS = load_scenarios()


@pytest.fixture(scope="module")
def shared(server, template):
    """One database for all of a worker's plays: each begins in a world made anew, which is what is proved too."""
    with database_copy(server, template) as url:
        engine = make_engine(as_app(url), pool_size=3)
        desk = Desk(make_sessions(engine), Clock(START + timedelta(days=1)))
        with desk.read() as session:
            person = session.scalars(select(User).where(User.username == "ansa")).one()
        yield desk, person
        engine.dispose()


@pytest.mark.parametrize("key", SCENARIOS)
def test_an_expert_passes(shared, key):
    passed, criteria, debrief = Player(*shared, key).play()
    assert passed, {k: c["words"] for k, c in criteria.items() if not c["ok"]}
    assert all(criteria[k]["ok"] for k in ("handling", "minutes", "solution")), criteria
    assert all(debrief[k] for k in ("truths", "traces", "moments"))


@pytest.mark.parametrize("key", SCENARIOS)
def test_a_careless_beginner_fails_where_the_scenario_says(shared, key):
    novice = SCENARIOS[key].novice
    passed, criteria, _ = Player(*shared, key, does=novice.does or ("hasty",), pours=dict(novice.pours)).play()
    assert not passed
    judged = {k for k, c in criteria.items() if not c["ok"]} - {"minutes", "solution"}
    assert judged == set(novice.fails), {k: criteria[k]["words"] for k in judged ^ set(novice.fails)}
