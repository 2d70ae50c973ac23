"""Twelve weeks of the demo practice, lived through the real code path on the simulated probes."""

from __future__ import annotations

import math
import uuid
from collections.abc import Callable
from datetime import datetime
from typing import Any

from sqlalchemy.orm import Session

from brumel.store.tables import Site
from brumel.work import kit, simulator
from brumel.work.bench.conditions import Conditions
from brumel.work.demo import days as demo_days
from brumel.work.demo.calibrating import calibrate
from brumel.work.demo.world import Then, World
from brumel.work.desk import Desk

SETTINGS: dict[str, Any] = {
    "conductivity_unit": "µS/cm",
    "compensation": "linear",
    "temperature_coefficient": 2.0,
    "reference_c": 25.0,
    "tds_factor": 0.5,
    "cell_constant": 1.0,
    "preset_salinity": 0.0,
    "preset_pressure_hpa": None,
    "buffer_family": "7.01",
    "auto_off_min": 0,
    "ph_resolution": 0.01,
    "temperature_unit": "°C",
}


def week(
    desk: Desk,
    world: World,
    at: datetime,
    number: int,
    of: int,
    waters: Callable[[Session, dict[str, Site], datetime], None],
) -> None:
    """One week: the morning's calibrations, the round, the maintenance. `number` counts down to 1."""
    clock = Then(at)
    then, age = Desk(desk.sessions, clock), (of - number) / of
    with desk.sessions.begin() as session:
        waters(session, world.sites, at)
        for key, body in _aged(number, age).items():
            simulator.set_truth(session, f"probe:{world.probes[key].id}", body)
    if number == of:
        _begin(then, clock, world)
    ten = "10bad" if number in (8, 7) else "10"
    buffers = {"neutral": "7", "acid": "4", "alkaline": ten}
    _one(then, world, "A", "ph-7-4-10", buffers)
    if number % 2 == 0:
        _one(then, world, "spare", "ph-7-4-10", buffers)
    _one(then, world, "A3", "ec-air-one", {"standard": "1413"})
    _one(
        then,
        world,
        "A5",
        "do-zero-air" if number % 4 == 0 else "do-saturated-air",
        {"zero": "zero"},
        Conditions(pressure_from="altitude", altitude_m=96.0, water_c=9.0 + 4 * math.sin(number)),
    )
    _orp(then, clock, world, number)
    if number % 3 == 0:
        _one(then, world, "A6", "no3-two", {"low": "n10", "high": "n100"})
        _one(then, world, "A7", "nh4-two", {"low": "m10", "high": "m100"})
    _one(then, world, "C1", "cl-check", {})
    demo_days.day(then, clock, world, number)
    clock.on(hours=2)
    _upkeep(then, world, number)


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
            "faults": ["dirty_metal"] if number == 3 else [],
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


def _begin(desk: Desk, clock: Then, world: World) -> None:
    """The first day: settings recorded, the thermometer checked, tips hydrated since yesterday."""
    ansa = world.users["ansa"]
    for key, settings_by_set in (("A", SETTINGS), ("B", {**SETTINGS, "cell_constant": 10.0}), ("C", SETTINGS)):
        kit.record_settings(
            desk, ansa, uuid.uuid4(), meter_id=str(world.meters[key].id), settings=settings_by_set, reason=""
        )
    _one(desk, world, "A8", "temp-two-points", {})


def _orp(desk: Desk, clock: Then, world: World, number: int) -> None:
    """Each week; in week 3 the metal was dirty, the check failed, and was repeated after cleaning."""
    failed = _one(desk, world, "A4", "orp-check", {"standard": "zobell"})
    if number != 3:
        return
    with desk.sessions.begin() as session:
        body = simulator.truth(session, f"probe:{world.probes['A4'].id}")
        simulator.set_truth(session, f"probe:{world.probes['A4'].id}", {**body, "faults": []})
    probe_id = str(world.probes["A4"].id)
    kit.record_maintenance(
        desk, world.users["ansa"], uuid.uuid4(), probe_id=probe_id, what="cleaned", note="Failed its check."
    )
    clock.on(minutes=40)
    _one(desk, world, "A4", "orp-check", {"standard": "zobell"}, Conditions(repeats=failed))


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


def _one(
    desk: Desk, world: World, probe: str, method: str, cups: dict[str, str], conditions: Conditions | None = None
) -> str:
    chosen = {step: str(world.lots[lot].id) for step, lot in cups.items()}
    return calibrate(desk, world.users["ansa"], world.probes[probe], method, chosen, conditions)
