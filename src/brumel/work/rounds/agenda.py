"""What lies ahead of a practice, kit and rounds together; what is done is not in it."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal
from zoneinfo import ZoneInfo

from sqlalchemy.orm import Session

from brumel.work import kit
from brumel.work.rounds.calendar import leavings
from brumel.work.rounds.deployments.ahead import upcoming
from brumel.work.rounds.outings import gone

What = Literal["probe", "lot", "round", "outing", "deployment"]


@dataclass(frozen=True)
class Ahead:
    """Something that lies ahead: a stable key, words, when, and the thing it is of.

    at : by the clock of the round's zone, or of the practice's
    timed : at that minute, not merely of that day
    """

    key: str
    words: str
    at: datetime
    what: What
    id: uuid.UUID | None
    timed: bool = False


def agenda(session: Session, now: datetime, zone: ZoneInfo) -> Sequence[Ahead]:
    """Maintenance and calibrations due, solutions to replace, rounds of the next two months, outings under way,
    loggers to set out, to visit and to lift."""
    rows = [
        Ahead(d.key, f"{d.subject}: {d.what}", d.at.astimezone(zone), "probe" if d.probe_id else "lot", d.probe_id)
        for d in kit.due_items(session, now)
    ]
    begun = gone(session, now)
    days = {(outing.round_id, outing.day) for outing in begun}
    for planned, at in leavings(session, now):
        local = at.astimezone(ZoneInfo(planned.zone))
        if (planned.id, local.date()) not in days:
            key = f"round-{planned.id}-{local:%Y%m%d}"
            rows.append(Ahead(key, f"Round: {planned.name}", local, "round", planned.id, timed=True))
    for outing in begun:
        if outing.ended_at is None:
            local = outing.started_at.astimezone(ZoneInfo(outing.round.zone))
            words = f"Outing: {outing.round.name}, not back yet"
            rows.append(Ahead(f"outing-{outing.id}", words, local, "outing", outing.id, timed=True))
    rows += [
        Ahead(f"deployment-{d.id}-{kind}", words, at.astimezone(ZoneInfo(d.site.zone)), "deployment", d.id)
        for d, kind, at, words in upcoming(session)
    ]
    return sorted(rows, key=lambda row: row.at)
