"""Bench's blueprint, and what its pages share."""

from __future__ import annotations

import string
from collections.abc import Sequence
from typing import Any

from flask import Blueprint

from brumel.core.errors import InputError
from brumel.work.desk import Refused

blueprint = Blueprint("bench", __name__, template_folder="templates", url_prefix="/bench")


Faults = Sequence[InputError | Refused]


#: What the button says that starts a cup's clock.
GOES_IN = {
    "solution": "The probe is in the cup",
    "saturated_water": "The probe is in the cup",
    "air": "The cell is dry, in air",
    "saturated_air": "The tip is over the water",
    "reference": "Both are in the water",
}


#: The usual reasons, chosen by one tap; anything else is written.
USUAL_REASONS = {
    "answer": ("Looked again: it is as it should be", "Label and cup checked", "No fresh solution at hand"),
    "redo": ("Wrong cup", "Bubble at the tip", "Solution was contaminated", "Not settled after all"),
    "abandon": ("Interrupted", "Probe is not fit today", "Wrong method chosen"),
    "lot": ("Bottle is empty", "Spilled", "Contaminated"),
}


def give_keys(lines: list[dict[str, Any]], taken: str) -> None:
    """A letter for every line that can be started with one press, as long as there are letters."""
    letters = (letter for letter in string.ascii_lowercase if letter not in taken)
    for line, letter in zip((line for line in lines if line["again"]), letters, strict=False):
        line["key"] = letter
