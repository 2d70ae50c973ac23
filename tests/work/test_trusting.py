"""What a probe may be trusted for ends with whatever came after its calibration, and many are asked as one is."""

import pytest

from brumel.work import bench, kit
from tests.work import helpers as h


@pytest.fixture
def things(desk):
    return h.Things(desk)


def trust(desk, clock, things, probe="A1"):
    with desk.read() as session:
        every = kit.trusts(session, kit.probes_in_service(session), clock())
        one = kit.trust_of(session, kit.probe_of(session, things.probes[probe]), clock())
        assert every[kit.probe_of(session, things.probes[probe]).id] == one
        return one


def test_a_calibration_that_was_set_aside_or_made_on_another_meter_is_not_trusted(desk, clock, things):
    assert trust(desk, clock, things).words == "Never calibrated."
    first = h.calibrate(desk, clock, things)
    clock.on(hours=1)
    second = h.calibrate(desk, clock, things)
    assert str(trust(desk, clock, things).calibration.id) == str(second)
    bench.withdraw(desk, things.ilka, h.key(), calibration_id=second, reason="The wrong bottle")
    assert str(trust(desk, clock, things).calibration.id) == str(first)
    clock.on(minutes=5)
    kit.move_probe(
        desk,
        things.ansa,
        h.key(),
        probe_id=things.probes["A1"],
        meter_id=things.meters["Bench set B"],
        address="",
        reason="The other meter is at the maker's",
    )
    found = trust(desk, clock, things)
    assert (found.valid, found.words.startswith("Fitted to Bench set B")) == (False, True)
