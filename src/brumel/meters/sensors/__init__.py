"""Simulated sensors, one model a quantity: deterministic stand-ins with their physics and their faults."""

from __future__ import annotations

from typing import Any

from brumel.meters.sensors import glass
from brumel.meters.sensors.cell import FAULTS as CELL_FAULTS
from brumel.meters.sensors.cell import ConductivitySensor
from brumel.meters.sensors.clark import FAULTS as CLARK_FAULTS
from brumel.meters.sensors.clark import Clark
from brumel.meters.sensors.common import SAMPLES_PER_S, Liquid, Sensor, Start
from brumel.meters.sensors.glass import Electrode
from brumel.meters.sensors.others import (
    CHLORINE_FAULTS,
    METAL_FAULTS,
    THERMOMETER_FAULTS,
    TIP_FAULTS,
    ChlorineTip,
    Metal,
    Thermometer,
    Tip,
)

MODELS: dict[str, type[Sensor]] = {
    "ph": Electrode,
    "conductivity": ConductivitySensor,
    "oxygen": Clark,
    "redox": Metal,
    "nitrate": Tip,
    "ammonium": Tip,
    "temperature": Thermometer,
    "chlorine": ChlorineTip,
}
FAULTS: dict[str, dict[str, str]] = {
    "ph": glass.FAULTS,
    "conductivity": CELL_FAULTS,
    "oxygen": CLARK_FAULTS,
    "redox": METAL_FAULTS,
    "nitrate": TIP_FAULTS,
    "ammonium": TIP_FAULTS,
    "temperature": THERMOMETER_FAULTS,
    "chlorine": CHLORINE_FAULTS,
}


def sensor(quantity: str, body: dict[str, Any]) -> Sensor:
    """The sensor of a quantity from its stored truth."""
    if quantity == "ammonium":
        body = {"sign": 1.0, "e0_mv": -60.0, **body}
    return MODELS[quantity].from_body(body)


__all__ = [
    "CELL_FAULTS",
    "CHLORINE_FAULTS",
    "CLARK_FAULTS",
    "METAL_FAULTS",
    "SAMPLES_PER_S",
    "THERMOMETER_FAULTS",
    "TIP_FAULTS",
    "Any",
    "Cell",
    "ChlorineTip",
    "Clark",
    "Electrode",
    "Liquid",
    "Metal",
    "Sensor",
    "Start",
    "Thermometer",
    "Tip",
    "annotations",
    "glass",
]
