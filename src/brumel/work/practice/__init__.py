"""Practice: a world of its own for each learner, scenarios with a hidden truth, debrief and skills."""

from brumel.work.practice.acts import Done, act
from brumel.work.practice.attempts import (
    HOW_SURE,
    Finding,
    WorldView,
    attempt_of,
    begin,
    desk_of_world,
    give_finding,
    judged,
    lay_world,
    look,
    result_of,
    scenario,
    scenarios,
)
from brumel.work.practice.clock import PACES, set_pace
from brumel.work.practice.display import Display, displays

__all__ = [
    "HOW_SURE",
    "PACES",
    "Display",
    "Done",
    "Finding",
    "WorldView",
    "act",
    "attempt_of",
    "begin",
    "desk_of_world",
    "displays",
    "give_finding",
    "judged",
    "lay_world",
    "look",
    "result_of",
    "scenario",
    "scenarios",
    "set_pace",
]
