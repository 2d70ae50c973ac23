"""The simulated meters and their faults."""

from brumel.work.simulator.faults import PACES, pace, set_meter, simulated
from brumel.work.simulator.meters import (
    MOST_AT_ONCE,
    Cable,
    Simulator,
    pump,
    reference_shows,
    set_faults,
    set_truth,
    shows,
    standing,
    standings,
    truth,
    truths,
)

__all__ = [
    "MOST_AT_ONCE",
    "PACES",
    "Cable",
    "Simulator",
    "pace",
    "pump",
    "reference_shows",
    "set_faults",
    "set_meter",
    "set_truth",
    "shows",
    "simulated",
    "standing",
    "standings",
    "truth",
    "truths",
]
