"""Records: finding and proving readings and calibrations, deciding, signing."""

from brumel.work.records.search import (
    MOST_COUNTED,
    PAGE,
    Search,
    audit,
    backed_by,
    calibration,
    calibrations,
    export,
    flag_words,
    readings,
    recent,
    settling_note,
    standard_words,
    versions,
    withdrawals_of,
    withdrawn_among,
)

__all__ = [
    "MOST_COUNTED",
    "PAGE",
    "Search",
    "audit",
    "backed_by",
    "calibration",
    "calibrations",
    "export",
    "flag_words",
    "readings",
    "recent",
    "settling_note",
    "standard_words",
    "versions",
    "withdrawals_of",
    "withdrawn_among",
]
