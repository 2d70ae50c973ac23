"""pH: what a buffer reads at its temperature, what an electrode gives, and whether it is fit."""

from brumel.core.ph.buffers import BUFFERS, Buffer, buffer_ph, label_buffer
from brumel.core.ph.electrode import (
    BufferPoint,
    Carried,
    PhFit,
    Segment,
    fit,
    ideal_millivolts,
    nernst_slope_mv,
    pseudo_millivolts,
)
from brumel.core.ph.judging import CheckPoint, VerdictLimits, linearity_error, verdict
from brumel.core.ph.reading import PhUncertainties, read
from brumel.core.ph.suspicion import Cup, cup_off, label_value_used, neighbour_buffer, same_cup, wrong_cup
from brumel.core.suspicion import Suspicion, restless, temperature_spread

__all__ = [
    "BUFFERS",
    "Buffer",
    "BufferPoint",
    "Carried",
    "CheckPoint",
    "Cup",
    "PhFit",
    "PhUncertainties",
    "Segment",
    "Suspicion",
    "VerdictLimits",
    "buffer_ph",
    "cup_off",
    "fit",
    "ideal_millivolts",
    "label_buffer",
    "label_value_used",
    "linearity_error",
    "neighbour_buffer",
    "nernst_slope_mv",
    "pseudo_millivolts",
    "read",
    "restless",
    "same_cup",
    "temperature_spread",
    "verdict",
    "wrong_cup",
]
