"""A probe's life: what ages is seen and foreseen, maintenance stands on it, and the strips lie on their paper."""

from datetime import timedelta

import pytest

from brumel.web.drawings.probe_life import views
from brumel.work import kit, simulator
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def _age(desk, clock, things, slopes):
    for i, slope in enumerate(slopes):
        with desk.sessions.begin() as session:
            simulator.set_truth(
                session,
                f"probe:{things.probes['A1']}",
                {"slope": slope, "offset_mv": 2.0 + i, "tau_s": 5.0 + i, "seed": 40 + i, "cups_c": 18.0},
            )
        run = h.start(desk, things)
        h.take_all(desk, clock, things, run)
        h.finish(desk, things, run)
        clock.on(days=7)


def test_an_ageing_probe_is_seen_and_its_end_foreseen(desk, clock, things):
    slopes = (0.985, 0.972, 0.964, 0.951, 0.938, 0.931)
    _age(desk, clock, things, slopes)
    kit.record_maintenance(desk, things.ansa, h.key(), probe_id=things.probes["A1"], what="electrolyte")
    with desk.read() as session:
        found = kit.life_of_probe(session, kit.probe_of(session, things.probes["A1"]))
    by_key = {s.key: s for s in found.strands}
    assert set(by_key) == {"slope_percent", "offset_mv", "settling", "as_found"}
    slope = by_key["slope_percent"]
    assert slope.values == pytest.approx([s * 100 for s in slopes], abs=0.4)
    assert list(slope.times) == sorted(slope.times)
    true = (0.931 - 0.85) / (0.985 - 0.931) * 35  # the planted trend, carried on to 85 %
    assert slope.forecast.earliest_d <= true <= slope.forecast.latest_d
    assert slope.forecast.points == 6
    assert by_key["settling"].values[-1] > by_key["settling"].values[0]
    assert any(s.startswith("Slope will cross 85") for s in found.sentences)
    assert [words for _, words in found.maintenance] == ["given fresh electrolyte"]

    now = clock() + timedelta(hours=1)
    strips = views(found, now)
    assert [s["name"] for s in strips] == ["slope", "offset", "slowest cup", "error as found"]
    for strip in strips:
        frame = strip["frame"]
        for dot in strip["dots"]:
            assert frame.left <= dot["x"] <= strip["now"] + 0.1
            assert frame.top <= dot["y"] <= frame.bottom
        assert strip["now"] <= frame.right
        assert len(strip["maintenance"]) == 1
        for y in strip["control"] or ():
            assert frame.top <= y <= frame.bottom
    assert strips[0]["forecast"]["path"].startswith(f"M{strips[0]['dots'][-1]['x']}")


def test_a_young_probe_has_no_charts_and_a_typed_one_no_settling(desk, clock, things):
    with desk.read() as session:
        assert kit.life_of_probe(session, kit.probe_of(session, things.probes["B1"])).strands == ()
    for slope in (0.97, 0.96):
        run = h.start(desk, things, "B1", source="typed")
        h.type_all(desk, clock, things, run, lambda p, s=slope: -s * h.nernst(18.0) * (p - 7))
        h.finish(desk, things, run)
        clock.on(days=1)
    with desk.read() as session:
        found = kit.life_of_probe(session, kit.probe_of(session, things.probes["B1"]))
    assert [s.key for s in found.strands] == ["slope_percent", "offset_mv"]
    assert all(s.chart is None and s.forecast is None for s in found.strands)
    assert found.sentences == ()
    assert views(found, clock())[0]["control"] is None
    # A new part begins anew: what was found before it says nothing of the probe as it is.
    for what, left in (("electrolyte", 2), ("new_junction", 0)):
        kit.record_maintenance(desk, things.ansa, h.key(), probe_id=things.probes["B1"], what=what)
        clock.on(minutes=1)
        with desk.read() as session:
            probe = kit.probe_of(session, things.probes["B1"])
            assert len(kit.calibrations_before(session, probe, clock())) == left
