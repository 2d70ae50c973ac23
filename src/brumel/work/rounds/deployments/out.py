"""A deployment handed over: every record of all channels, as recorded and as reported, with flags, grades and U."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from sqlalchemy.orm import Session

from brumel.core.deployed.correction import GRADES_SHOWN
from brumel.store.deployments import Channel
from brumel.work.rounds.deployments.reporting import Reported, backing, reported
from brumel.work.rounds.deployments.whole import Whole, moment

#: Values that an open format with a block of text for each may hold.
MOST_OPEN = 400_000
#: Records that are read at once for a table.
MOST_ROWS = 2_000_000


@dataclass(frozen=True)
class Cell:
    """A channel at a moment: as recorded, as reported, with its expanded uncertainty, flag and grade."""

    recorded: float | None
    reported: float | None
    flag: int
    grade: str
    u: float | None


@dataclass(frozen=True)
class ChannelOut:
    """A channel with its whole record and what stands behind it."""

    channel: Channel
    told: Reported
    calibration_id: str
    state: str


def channels_out(
    session: Session, whole: Whole, since_us: int | None = None, until_us: int | None = None
) -> list[ChannelOut]:
    """Every channel of a deployment with its record as it is reported now, or of a span of it."""
    found = []
    for c in whole.deployment.channels:
        calibration = backing(session, whole, c)
        told = reported(session, whole, c, since_us, until_us)
        found.append(
            ChannelOut(c, told, str(calibration.id) if calibration else "", state_of(told, calibration is not None))
        )
    return found


def state_of(told: Reported, is_backed: bool) -> str:
    """What a channel's record is worth, as the words of readings have it."""
    if told.state == "none":
        return "recorded"
    if not is_backed:
        return "unbacked"
    return "corrected" if told.state == "corrected" else "open"


def rows(several: list[ChannelOut]) -> Iterator[tuple[datetime, list[Cell | None]]]:
    """Every moment at which a channel has a record, in time order, with the channels' cells; None for one that has none."""
    if not several:
        return
    times = np.unique(np.concatenate([c.told.record.times_us for c in several]))
    places = []
    for c in several:
        at = np.searchsorted(c.told.record.times_us, times)
        inside = np.minimum(at, max(c.told.record.times_us.size - 1, 0))
        is_there = (at < c.told.record.times_us.size) & (
            c.told.record.times_us[inside] == times if c.told.record.times_us.size else False
        )
        places.append(np.where(is_there, inside, -1))
    for number, at_us in enumerate(times):
        yield moment(int(at_us)), [_cell(c.told, int(place[number])) for c, place in zip(several, places, strict=True)]


def _cell(told: Reported, place: int) -> Cell | None:
    if place < 0:
        return None
    grade = int(told.grade[place])
    return Cell(
        _or_none(told.record.values[place]),
        _or_none(told.values[place]),
        int(told.record.flags[place]),
        GRADES_SHOWN[grade] if grade >= 0 else "",
        _or_none(told.u[place]),
    )


def _or_none(value: float) -> float | None:
    return float(value) if np.isfinite(value) else None
