"""Bench: calibrating and checking a probe, one cup at a time."""

from brumel.work.bench.cup import CupState, judge_cup, live_cup, settling_record, signal_words, suspicions
from brumel.work.bench.points import Acceptance, TypedValue, accept, add_typed, check_typed, dip, redo, type_reading
from brumel.work.bench.run_state import (
    VESSEL_WORDS,
    RunState,
    StepState,
    load_run,
    open_for_writing,
    open_runs,
    reference_calibration,
    steps_to_go,
)
from brumel.work.bench.runs import abandon, finish, open_run, start, withdraw
from brumel.work.bench.verdict import RunResult, run_result, taken_points

__all__ = [
    "VESSEL_WORDS",
    "Acceptance",
    "CupState",
    "RunResult",
    "RunState",
    "StepState",
    "TypedValue",
    "abandon",
    "accept",
    "add_typed",
    "check_typed",
    "dip",
    "finish",
    "judge_cup",
    "live_cup",
    "load_run",
    "open_for_writing",
    "open_run",
    "open_runs",
    "redo",
    "reference_calibration",
    "run_result",
    "settling_record",
    "signal_words",
    "start",
    "steps_to_go",
    "suspicions",
    "taken_points",
    "type_reading",
    "withdraw",
]
