"""What an empty practice still lacks before its first round can be gone, in the order in which it is added."""

from __future__ import annotations

from typing import NamedTuple

from sqlalchemy import exists, select
from sqlalchemy.orm import Session

from brumel.store.documents import Letterhead
from brumel.store.rounds import Round
from brumel.store.tables import Lot, Meter, Probe, Site


class FirstStep(NamedTuple):
    """A step of beginning: its key, and whether it is done."""

    key: str
    done: bool


#: In their order; only the first may be left out.
_STEPS = {"letterhead": Letterhead, "meter": Meter, "probe": Probe, "lot": Lot, "site": Site, "round": Round}


def first_steps(session: Session) -> list[FirstStep]:
    """The steps of beginning; empty once there is all that a round needs. One query."""
    found = session.execute(select(*(exists(select(table)) for table in _STEPS.values()))).one()
    steps = [FirstStep(key, done) for key, done in zip(_STEPS, found, strict=True)]
    return [] if all(step.done for step in steps[1:]) else steps
