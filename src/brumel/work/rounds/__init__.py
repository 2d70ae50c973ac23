"""Reading sites: places and their past, the sheet of a visit, and writing it."""

from brumel.work.rounds.judging import judge
from brumel.work.rounds.places import HISTORY, Past, latest, past_values, site, sites, standing
from brumel.work.rounds.rows import reading
from brumel.work.rounds.shapes import Backing, Line, Sheet, Value
from brumel.work.rounds.sheet import backing, conditions, of_visit, sheet, standard_u, visit
from brumel.work.rounds.slips import correct
from brumel.work.rounds.writing import (
    BY_HAND,
    Typed,
    add_probe,
    by_hand,
    dip,
    notes,
    say,
    start_visit,
    take,
    take_all,
    type_readings,
    vouched,
)  # fmt: skip

__all__ = [
    "BY_HAND", "HISTORY", "Backing", "Line", "Past", "Sheet", "Typed", "Value", "add_probe", "backing", "by_hand",
    "conditions", "correct", "dip", "judge", "latest", "notes", "of_visit", "past_values", "reading", "say", "sheet",
    "site", "sites", "standard_u", "standing", "start_visit", "take", "take_all", "type_readings", "visit", "vouched",
]  # fmt: skip
