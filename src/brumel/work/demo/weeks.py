"""Twelve weeks of the demo practice, lived through the real code path on the simulated probes."""

from __future__ import annotations

import math
import uuid
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from brumel.work import kit, simulator
from brumel.work.bench.conditions import Conditions
from brumel.work.demo import days as demo_days
from brumel.work.demo import sites as demo_sites
from brumel.work.demo.calibrating import ONE_HAND, Hands, Task
from brumel.work.demo.world import World
from brumel.work.desk import Desk
from brumel.work.practice.scripted import Then
from brumel.work.practice.world import SETTINGS

#: The week in which the metal of the redox probe was dirty.
DIRTY = 3


@dataclass(frozen=True)
class Week:
    """One week: the morning's calibrations, the round, the maintenance. `number` counts down to 1."""

    desk: Desk
    world: World
    at: datetime
    number: int
    of: int
    hands: Hands

    def live(self) -> None:
        """Live through it."""
        clock = Then(self.at)
        then, world, number = Desk(self.desk.sessions, clock), self.world, self.number
        with self.desk.sessions.begin() as session:
            demo_sites.waters(session, world.sites, self.at)
            for key, body in _aged(number, (self.of - number) / self.of).items():
                simulator.set_truth(session, f"probe:{world.probes[key].id}", body)
        if number == self.of:
            _begin(then, world)
        self.hands.calibrate(then, world.users["ansa"], _morning(world, number))
        if number == DIRTY:
            _orp_again(then, clock, world)
        self.hands.calibrate(then, world.users["ansa"], _tips(world, number))
        self.hands.catch_up()  # what the lead made of the last day stands before the next one begins
        closing_ids = demo_days.day(then, clock, world, number, self.hands)
        if number not in demo_days.UNSIGNED:
            self.hands.meanwhile(then, world.users["ilka"], demo_days.decide, closing_ids)
        clock.on(hours=2)
        _upkeep(then, world, number)


def _morning(world: World, number: int) -> list[Task]:
    """What is calibrated before the round of a week, probe beside probe."""
    buffers = {"neutral": "7", "acid": "4", "alkaline": "10bad" if number in (8, 7) else "10"}
    oxygen = "do-zero-air" if number % 4 == 0 else "do-saturated-air"
    in_air = Conditions(pressure_from="altitude", altitude_m=96.0, water_c=9.0 + 4 * math.sin(number))
    tasks = [
        _task(world, "A", "ph-7-4-10", buffers),
        _task(world, "A3", "ec-air-one", {"standard": "1413"}),
        _task(world, "A5", oxygen, {"zero": "zero"}, in_air),
        _task(world, "C1", "cl-check", {}),
    ]
    if number != DIRTY:
        tasks.append(_orp_check(world))
    if number % 2 == 0:
        tasks.append(_task(world, "spare", "ph-7-4-10", buffers))
    return tasks


def _tips(world: World, number: int) -> list[Task]:
    """What rests on the others and is calibrated after them."""
    if number % 3:
        return []
    return [
        _task(world, "A6", "no3-two", {"low": "n10", "high": "n100"}),
        _task(world, "A7", "nh4-two", {"low": "m10", "high": "m100"}),
    ]


def _aged(number: int, age: float) -> dict[str, dict[str, Any]]:
    """The hidden truth of each probe in this week: slow ageing, and no two weeks alike."""
    life = math.sin(number * 2.3)
    membrane = 0.99 - 0.02 * age if number <= 5 else 0.93 - 0.16 * (12 - number) / 7  # renewed in week 5
    return {
        "A": {
            "slope": 0.996 - 0.014 * age + 0.002 * life,
            "offset_mv": 1.0 + 3.0 * age + 0.6 * life,
            "seed": 11 + number,
            "cups_c": 18.0 + number % 3,
        },
        "spare": {
            "slope": 0.975 - 0.09 * age + 0.006 * life,
            "offset_mv": -8 - 24 * age + 1.5 * life,
            "tau_s": 6 + 5 * age,
            "seed": 70 + number,
            "noise_mv": 0.09,
            "cups_c": 18.0,
        },
        "A3": {"cell_constant": 1.004 + 0.024 * age + 0.002 * life, "seed": 131 + number, "cups_c": 18.0 + number % 3},
        "A4": {
            "offset_mv": 3.0 + 2 * age + life,
            "seed": 141 + number,
            "cups_c": 20.5,
            "faults": ["dirty_metal"] if number == DIRTY else [],
        },
        "A5": {"gain": membrane + 0.004 * life, "zero_percent": 0.6, "seed": 151 + number, "cups_c": 13.0 + number % 4},
        "A6": {
            "sign": -1.0,
            "slope": 0.985 - 0.02 * age + 0.002 * life,
            "e0_mv": 212.0 + life,
            "seed": 161 + number,
            "cups_c": 20.8,
        },
        "A7": {
            "sign": 1.0,
            "slope": 0.975 - 0.025 * age + 0.002 * life,
            "e0_mv": -58.0 + life,
            "seed": 171 + number,
            "cups_c": 20.8,
        },
        "A8": {"error_c": 0.05, "seed": 181, "cups_c": 19.7},
        "C1": {
            "gain": 0.985 - 0.02 * age,
            "seed": 191 + number,
            "cups_c": 28.6,
            "second_mg_l": round(1.5 + 0.2 * life, 2),
        },
    }


def _begin(desk: Desk, world: World) -> None:
    """The first day: settings recorded, the thermometer checked, tips hydrated since yesterday."""
    ansa = world.users["ansa"]
    for key, settings_by_set in (("A", SETTINGS), ("B", {**SETTINGS, "cell_constant": 10.0}), ("C", SETTINGS)):
        kit.record_settings(
            desk, ansa, uuid.uuid4(), meter_id=str(world.meters[key].id), settings=settings_by_set, reason=""
        )
    _one(desk, world, _task(world, "A8", "temp-two-points", {}))


def _orp_check(world: World) -> Task:
    return _task(world, "A4", "orp-check", {"standard": "zobell"})


def _orp_again(desk: Desk, clock: Then, world: World) -> None:
    """The week the metal was dirty: the check failed, and was repeated after cleaning."""
    check = _orp_check(world)
    failed = _one(desk, world, check)
    with desk.sessions.begin() as session:
        body = simulator.truth(session, f"probe:{world.probes['A4'].id}")
        simulator.set_truth(session, f"probe:{world.probes['A4'].id}", {**body, "faults": []})
    probe_id = str(world.probes["A4"].id)
    kit.record_maintenance(
        desk, world.users["ansa"], uuid.uuid4(), probe_id=probe_id, what="cleaned", note="Failed its check."
    )
    clock.on(minutes=40)
    _one(desk, world, replace(check, conditions=Conditions(repeats=failed)))


def _upkeep(desk: Desk, world: World, number: int) -> None:
    ansa = world.users["ansa"]

    def done(probe: str, what: str, note: str) -> None:
        kit.record_maintenance(desk, ansa, uuid.uuid4(), probe_id=str(world.probes[probe].id), what=what, note=note)

    if number % 2 == 1:
        done("A", "cleaned", "After the round.")
    if number == 5:
        done("A", "electrolyte", "On schedule.")
    if number == 6:
        done("spare", "electrolyte", "Slope going down.")
        done("A5", "membrane", "Gain had sunk; new membrane and electrolyte.")
    if number == 7:
        lot = str(world.lots["10bad"].id)
        reason = "Read pH 9.7 in two runs; taken up CO2."
        kit.discard_lot(desk, ansa, uuid.uuid4(), lot_id=lot, reason=reason)


def _task(world: World, probe: str, method: str, cups: dict[str, str], conditions: Conditions | None = None) -> Task:
    chosen = {step: str(world.lots[lot].id) for step, lot in cups.items()}
    return Task(world.probes[probe].id, method, chosen, conditions)


def _one(desk: Desk, world: World, task: Task) -> str:
    return ONE_HAND.calibrate(desk, world.users["ansa"], [task])[0]
