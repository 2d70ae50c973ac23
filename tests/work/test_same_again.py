"""The run of last time, offered again: only where all of it can be taken again as it was."""

from datetime import timedelta

import pytest
from sqlalchemy import update

from brumel.store.tables import Lot
from brumel.work import bench, kit
from brumel.work.bench.conditions import Conditions
from brumel.work.bench.offers import offers_for
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def offered(desk, clock, things, probe="B1"):
    with desk.read() as session:
        found = kit.probe_of(session, things.probes[probe])
        return bench.same_again(session, [found], clock()).get(found.id)


def finish_one(desk, clock, things, probe="B1", method="ph-7-4-10", value=(-2.0, 168.0, -170.0), signal="mv", **more):
    run = bench.start(
        desk,
        things.ansa,
        h.key(),
        probe_id=things.probes[probe],
        method_key=method,
        source="typed",
        cups=things.cups(),
        **more,
    ).id
    for each in value:
        state = h.state_of(desk, run)
        where = {"run_id": run, "step": state.current.spec.key, "turn": state.turn}
        for after in (60.0, 140.0):
            typed = bench.TypedValue(signal, each, 20.4, after)
            bench.type_reading(desk, things.ansa, h.key(), **where, typed=typed)
        bench.accept(desk, things.ansa, h.key(), **where, how=bench.Acceptance(answer="Looked again"))
    h.finish(desk, things, run, use=False)


def test_last_time_s_run_is_offered_until_one_of_its_lots_will_not_do(desk, clock, things):
    assert offered(desk, clock, things) is None
    finish_one(desk, clock, things)
    again = offered(desk, clock, things)
    assert again.words == "7 → 4 → 10, by segments; N7-121, N4-118, N10-090"
    assert again.fields()["source"] == "typed"
    started = bench.start(
        desk, things.ansa, h.key(), probe_id=things.probes["B1"], method_key=again.method.key, source=again.source,
        cups=again.cups,
    )  # fmt: skip
    bench.abandon(desk, things.ansa, h.key(), run_id=started.id, reason="An abandoned run is not last time's")
    assert offered(desk, clock, things).words == again.words
    kit.discard_lot(desk, things.ansa, h.key(), lot_id=things.lots["N4-118"], reason="Spilled")
    assert offered(desk, clock, things) is None


def test_a_pressure_is_read_anew_unless_it_comes_from_the_altitude(desk, clock, things):
    for how, is_offered in (("station", False), ("altitude", True)):
        told = Conditions(pressure_from=how, altitude_m=612.0, pressure_hpa=941.0 if how == "station" else None)
        finish_one(desk, clock, things, "B2", "do-saturated-air", (98.0,), "percent", conditions=told)
        assert (offered(desk, clock, things, "B2") is not None) is is_offered, how
        clock.on(minutes=5)
    assert offered(desk, clock, things, "B2").fields()["altitude_m"] == "612"


def test_nothing_out_of_date_is_offered_while_another_fits(desk, clock, things):
    def codes():
        with desk.read() as session:
            probe = kit.probe_of(session, things.probes["B1"])
            step = kit.method(session, "ph-7-4-10").step("alkaline")
            return [view.lot.code for view in offers_for(step, kit.lots_on_shelf(session, clock()), probe)]

    assert codes()[0] == "N10-090"
    assert "N10-071" not in codes()  # out of date
    with desk.sessions.begin() as session:
        session.execute(update(Lot).values(expires_on=clock() - timedelta(days=1)))
    assert "N10-071" in codes()
