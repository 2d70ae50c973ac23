"""The sheet of a site: from each probe's signal to what is reported, what follows from it, and what limits make of it."""

from brumel.core.sheet.compliance import Outcome, Ruled, against
from brumel.core.sheet.derived import DERIVED, derive
from brumel.core.sheet.ladders import Reported, Water, report, series

__all__ = ["DERIVED", "Outcome", "Reported", "Ruled", "Water", "against", "derive", "report", "series"]
