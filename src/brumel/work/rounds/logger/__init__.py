"""Loggers' series: taken in, closed by the checks at their ends, decided about."""

from brumel.work.rounds.logger.checks import (
    DECISIONS,
    STATES,
    EffectOnSeries,
    Standing,
    barred,
    decide,
    decisions_of,
    effect,
    in_standard,
    log,
    of_service,
    record_service,
    services,
    standing,
    waiting,
)
from brumel.work.rounds.logger.series import BINS, BinnedSeries, band, of_site, take_in, values

__all__ = [
    "BINS",
    "DECISIONS",
    "STATES",
    "BinnedSeries",
    "EffectOnSeries",
    "Standing",
    "band",
    "barred",
    "decide",
    "decisions_of",
    "effect",
    "in_standard",
    "log",
    "of_service",
    "of_site",
    "record_service",
    "services",
    "standing",
    "take_in",
    "values",
    "waiting",
]
