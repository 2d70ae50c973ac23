"""The simulated meters and their faults."""

from brumel.work.simulator.meters import (
    MOST_AT_ONCE,
    Cable,
    Simulator,
    pump,
    reference_shows,
    set_faults,
    set_truth,
    shows,
    site_water,
    standing,
    standings,
    truth,
    truths,
)

__all__ = [
    "MOST_AT_ONCE",
    "Cable",
    "Simulator",
    "pump",
    "reference_shows",
    "set_faults",
    "set_truth",
    "shows",
    "site_water",
    "standing",
    "standings",
    "truth",
    "truths",
]
