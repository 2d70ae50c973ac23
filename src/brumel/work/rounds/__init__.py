"""Rounds: sites and their past, the calendar, the plan, outings, the sheet of a visit, loggers."""

from brumel.work.rounds.sheet.entry import (
    Beside,
    Typed,
    TypedSheet,
    add_probe,
    dip,
    say,
    start_visit,
    strike_last,
    type_readings,
)
from brumel.work.rounds.sheet.judging import judge_sheet
from brumel.work.rounds.sheet.model import Backing, Sheet, SheetLine, SheetValue
from brumel.work.rounds.sheet.pairs import ReadingPair, pairs
from brumel.work.rounds.sheet.recording import BY_HAND, HandResult, by_hand, record_typed, take, take_all, vouched
from brumel.work.rounds.sheet.rows import reading
from brumel.work.rounds.sheet.sheet import of_visit, of_visits, sheet_of_visit, visit_of
from brumel.work.rounds.sites import (
    HISTORY,
    Past,
    PastReading,
    latest,
    past_readings,
    past_values,
    pasts,
    site_of,
    sites_by_client,
    standing,
)

__all__ = [
    "BY_HAND",
    "HISTORY",
    "Backing",
    "Beside",
    "HandResult",
    "Past",
    "PastReading",
    "ReadingPair",
    "Sheet",
    "SheetLine",
    "SheetValue",
    "Typed",
    "TypedSheet",
    "add_probe",
    "by_hand",
    "dip",
    "judge_sheet",
    "latest",
    "of_visit",
    "of_visits",
    "pairs",
    "past_readings",
    "past_values",
    "pasts",
    "reading",
    "record_typed",
    "say",
    "sheet_of_visit",
    "site_of",
    "sites_by_client",
    "standing",
    "start_visit",
    "strike_last",
    "take",
    "take_all",
    "type_readings",
    "visit_of",
    "vouched",
]
