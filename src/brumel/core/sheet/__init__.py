"""The sheet of a site: from each probe's signal to what is reported, what follows from it, and what limits make of it."""

from brumel.core.sheet.compliance import LimitOutcome, LimitResult, against
from brumel.core.sheet.derived import DERIVED, NotStated, SheetFacts, derive, follow, not_stated
from brumel.core.sheet.ladders import ReadWith, Reported, Water, report, series

__all__ = [
    "DERIVED",
    "LimitOutcome",
    "LimitResult",
    "NotStated",
    "ReadWith",
    "Reported",
    "SheetFacts",
    "Water",
    "against",
    "derive",
    "follow",
    "not_stated",
    "report",
    "series",
]
