"""Whole runs on the simulated meters, healthy and with a planted fault: is a healthy one suspected, is the cause named?

The error models are the simulator's sensors (`brumel.meters.sensors`), common practice: gain and slope vary by 0.6 % from run
to run (SD), a cell's constant by 0.4 %, time constants by 15 %, noise is new each time; faults are of the severity that
Practice ships. Before the faulty runs stand healthy ones that were put into use, as at a practice.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

import numpy as np
from tests.work import helpers as h
from tests.work.test_every_quantity import start, take_all

from brumel.work import bench, simulator
from brumel.work.desk import Desk

PH = {"neutral": "N7-121", "acid": "N4-118", "alkaline": "N10-090"}
EC, EC_TWO = {"standard": "E14-055"}, {"weak": "E14-055", "strong": "E12-031"}
NITRATE, AMMONIUM = {"low": "NO1-014", "high": "NO2-014"}, {"low": "NH2-008", "high": "NH3-009"}
#: probe, method, cups, and the planted faults with the causes of which one must be first or second.
CASES: tuple[tuple[str, str, Mapping[str, str], Mapping[str, set[str]]], ...] = (
    (
        "A1",
        "ph-7-4-10",
        PH,
        {
            "dry_bulb": {"dry_bulb"},
            "clogged_junction": {"clogged_junction"},
            "contaminated_buffer": {"contaminated_buffer"},
            "bubble": {"bubble"},
            "wrong_cup": {"wrong_cup"},
            "broken_bulb": {"broken_bulb"},
        },
    ),
    (
        "A3",
        "ec-one-standard",
        EC,
        {"coated": {"coated"}, "old_standard": {"contaminated_standard"}, "bubble": {"bubble"}},
    ),
    ("A3", "ec-two-standards", EC_TWO, {"coated": {"coated"}}),
    ("A5", "do-saturated-air", {}, {"aged": {"aged"}, "not_polarised": {"not_polarised"}, "wet_tip": {"wet_tip"}}),
    (
        "A5",
        "do-saturated-water",
        {},
        {"aged": {"aged"}, "not_polarised": {"not_polarised"}, "still_water": {"still_water"}},
    ),
    ("A4", "orp-check", {"standard": "R43-012"}, {"dirty_metal": {"dirty_metal"}, "reference": {"reference"}}),
    ("A6", "no3-two", NITRATE, {"aged_tip": {"aged_tip"}, "not_hydrated": {"not_hydrated"}}),
    ("A7", "nh4-two", AMMONIUM, {"warm_cup": {"pair_temperature"}, "carry_over": {"carry_over", "aged_tip"}}),
    ("A8", "temp-two-points", {}, {"ice_wrong": {"ice_wrong"}, "slow": {"slow"}, "sensor_off": {"sensor_off"}}),
    ("C1", "cl-check", {}, {"dirty_tip": {"dirty_tip"}, "second_method": {"second_method", "dirty_tip"}}),
    # The other schools, with the faults that each of them can show.
    *(
        ("A1", method, {key: PH[key] for key in keys}, {fault: {fault} for fault in faults})
        for method, keys, faults in (
            ("ph-7-4", ("neutral", "acid"), ("dry_bulb", "broken_bulb", "bubble")),
            ("ph-7-10", ("neutral", "alkaline"), ("dry_bulb", "broken_bulb")),
            ("ph-4-7", ("acid", "neutral"), ("dry_bulb",)),
            ("ph-10-7", ("alkaline", "neutral"), ("dry_bulb",)),
            ("ph-7-4-10-line", tuple(PH), ("dry_bulb", "clogged_junction", "contaminated_buffer", "wrong_cup")),
            ("ph-7-4-check-10", tuple(PH), ("dry_bulb", "contaminated_buffer")),
            ("ph-7-10-check-4", tuple(PH), ("dry_bulb",)),
            ("ph-7-one-point", ("neutral",), ("clogged_junction", "bubble")),
        )
    ),
    (
        "A1",
        "ph-five-points",
        {**PH, "neutral": "K7-009", "blood": "K74-002", "borax": "K9-004"},
        {"dry_bulb": {"dry_bulb"}, "clogged_junction": {"clogged_junction"}},
    ),
    ("A1", "ph-combined", {"neutral": "C1-206"}, {"bubble": {"bubble"}}),
    ("A1", "ph-tablet-7", {"neutral": "T7-012"}, {"bubble": {"bubble"}}),
    ("A3", "ec-air-one", EC, {"coated": {"coated"}, "bubble": {"bubble"}, "wet_contacts": {"wet_contacts"}}),
    ("A3", "ec-combined", {"standard": "C1-206"}, {"coated": {"coated"}}),
    ("A3", "ec-check", EC, {"coated": {"coated"}, "old_standard": {"contaminated_standard"}}),
    (
        "A5",
        "do-zero-air",
        {"zero": "Z0-077"},
        {"torn_membrane": {"membrane"}, "spent_zero": {"spent_zero"}, "aged": {"aged"}},
    ),
    ("A5", "do-check-air", {}, {"aged": {"aged"}, "not_polarised": {"not_polarised"}, "wet_tip": {"wet_tip"}}),
    ("A4", "orp-offset", {"standard": "R24-030"}, {"dirty_metal": {"dirty_metal"}, "reference": {"reference"}}),
    ("A4", "orp-two-checks", {"first": "Q7-001", "second": "R43-012"}, {"old_standard": {"old_standard"}}),
    ("A6", "no3-three", {**NITRATE, "high-cold": "NO2-014"}, {"aged_tip": {"aged_tip"}}),
    ("A6", "no3-four", {**NITRATE, "high-cold": "NO2-014", "low-cold": "NO1-014"}, {"aged_tip": {"aged_tip"}}),
    ("A7", "nh4-three", {**AMMONIUM, "high-cold": "NH3-009"}, {"aged_tip": {"aged_tip"}}),
    ("A7", "nh4-four", {**AMMONIUM, "high-cold": "NH3-009", "low-cold": "NH2-008"}, {"aged_tip": {"aged_tip"}}),
    ("A8", "temp-corrected", {}, {"sensor_off": {"sensor_off"}, "ice_wrong": {"ice_wrong"}}),
    ("A8", "temp-one-point", {}, {"sensor_off": {"sensor_off"}}),
    ("C1", "cl-adjust", {}, {"dirty_tip": {"dirty_tip"}}),
)
#: What varies from run to run by a share, and by how much (SD).
_VARIES = {"gain": 0.006, "cell_constant": 0.004, "slope": 0.006, "tau_s": 0.15}
#: How grave a fault is: as Practice ships it, and half as much; those of cups and solutions come in one size.
SEVERITIES = (1.0, 0.5)
_ONE_SIZE = {"contaminated_buffer", "wrong_cup", "old_standard", "warm_cup", "carry_over", "ice_wrong", "second_method"}
#: What the run's own conditions plant: the demo's air and water are 11 °C apart.
_OF_CONDITIONS = {"temperature_apart"}


class Named(NamedTuple):
    """Of a method or a planted fault: how many runs, and of them those suspected (healthy) or named (faulty)."""

    name: str
    healthy: bool
    count: int
    hit: int


#: The causes a run named, most likely first.
_Done = list[str]


@dataclass(frozen=True)
class _Bench:
    """Where runs are made: a practice's database, its clock, and chance."""

    desk: Desk
    clock: Any
    things: h.Things
    random: np.random.Generator

    def run(
        self,
        probe: str,
        method: str,
        cups: Mapping[str, str],
        own: Mapping[str, Any],
        fault: str = "",
        severity: float = 1.0,
    ) -> _Done:
        """One run of a probe whose truth is `own`; a healthy one is put into use."""
        varied = {k: own[k] * (1 + sd * self.random.normal()) for k, sd in _VARIES.items() if k in own}
        body = {**own, **varied, "seed": int(self.random.integers(1_000_000)), "faults": [fault] if fault else []}
        body["severity"] = severity
        with self.desk.sessions.begin() as session:
            simulator.set_truth(session, f"probe:{self.things.probes[probe]}", body)
        run = start(self.desk, self.things, probe, method, cups)
        take_all(self.desk, self.clock, self.things, run)
        result = h.result_of(self.desk, run)
        if fault:
            bench.abandon(self.desk, self.things.ansa, h.key(), run_id=run, reason="of the campaign")
        else:
            h.finish(self.desk, self.things, run)
        self.clock.on(hours=2)
        return [c.key for c in result.causes if c.key not in _OF_CONDITIONS]


def rows(desk: Desk, clock: Any, count: int, seed: int = 4) -> list[Named]:
    """Every planted fault `count` times, and twice as many healthy runs of each method."""
    place = _Bench(desk, clock, h.Things(desk), np.random.default_rng(seed))
    found = []
    for probe, method, cups, faults in CASES:
        with desk.read() as session:
            own = simulator.truth(session, f"probe:{place.things.probes[probe]}")
        calm = [place.run(probe, method, cups, own) for _ in range(2 * count)]
        found.append(Named(method, True, len(calm), sum(bool(keys) for keys in calm)))
        for fault, causes in faults.items():
            for severity in SEVERITIES if fault not in _ONE_SIZE else (1.0,):
                done = [place.run(probe, method, cups, own, fault, severity) for _ in range(count)]
                named = sum(bool(causes & set(keys[:2])) for keys in done)
                found.append(Named(f"{method}, {fault}" + (", half" if severity < 1 else ""), False, count, named))
    return found
