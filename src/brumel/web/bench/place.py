"""Bench's blueprint, and what its pages share."""

from __future__ import annotations

import string
from collections.abc import Sequence
from typing import Any

from flask import Blueprint, flash

from brumel.core.errors import InputError
from brumel.web.access import actor, desk
from brumel.work import kit
from brumel.work.desk import Refused
from brumel.work.practice import skills

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


def ask_for_skill(probe_id: str, method_key: str) -> None:
    """Where the practice asks for signed skills, say what is missing, or refuse. Raises Refused."""
    with desk().read() as session:
        probe, method = kit.probe_of(session, probe_id), kit.method(session, method_key)
        task = "check" if method is not None and method.fit == "check" else "calibrate"
        words = skills.ask_for_skill(session, actor(), probe.quantity, task, desk().clock())
    if words:
        flash(words, "care")
