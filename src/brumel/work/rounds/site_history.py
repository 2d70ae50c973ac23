"""What stands behind a site's readings: the spans of their calibrations, the same months of earlier years, and depths."""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from typing import Any

from sqlalchemy import (
    ColumnElement,
    DateTime,
    Integer,
    Interval,
    Select,
    String,
    bindparam,
    extract,
    func,
    literal,
    select,
    true,
    union_all,
)
from sqlalchemy.orm import Session

from brumel.core import believability as belief
from brumel.store.base import a_row_each, among
from brumel.store.records import Closing
from brumel.store.standing import is_standing
from brumel.store.tables import Calibration, Reading, Visit
from brumel.work.rounds.sheet.sheet import of_visit
from brumel.work.rounds.sites import PastReading

#: the worse of two states of one span is the one that is drawn
WORST = ("bracketed", "corrected", "open", "unbacked", "doubtful", "not reported")


YEARS = 5


FEWEST = 5


A_MONTH = 8  # readings looked at of one month of an earlier year


@dataclass(frozen=True)
class CalibrationSpan:
    """A calibration in time: from it to its last closing check, else to where it ran out; and what became of it."""

    number: int
    start: datetime
    end: datetime
    state: str


def spans(
    session: Session, readings: Mapping[str, Sequence[Reading | PastReading]]
) -> dict[str, list[CalibrationSpan]]:
    """The spans the readings of each quantity lie in, oldest first; each reading's calibration is at hand or looked up."""
    wanted = {r.calibration_id for rows in readings.values() for r in rows if r.calibration_id is not None}
    if not wanted:
        return {quantity: [] for quantity in readings}
    known = session.execute(_with_ends(), {"wanted": list(wanted)}).all()
    drawn = {}
    for quantity, rows in readings.items():
        worst: dict[uuid.UUID, str] = {}
        for r in rows:
            if r.calibration_id is not None and r.backing in WORST:
                worst[r.calibration_id] = max(worst.get(r.calibration_id, WORST[0]), r.backing, key=WORST.index)
        drawn[quantity] = [CalibrationSpan(number, at, until, worst[i]) for i, number, at, until in known if i in worst]
    return drawn


@cache
def _with_ends() -> Select[uuid.UUID, int, datetime, datetime]:
    closed = select(Closing.at).where(Closing.calibration_id == Calibration.id)
    end = func.coalesce(closed.order_by(Closing.at.desc()).limit(1).scalar_subquery(), Calibration.valid_until)
    return (
        select(Calibration.id, Calibration.number, Calibration.at, end)
        .where(among(Calibration.id, "wanted"))
        .order_by(Calibration.at)
    )


def _counts() -> list[ColumnElement[bool]]:
    return [
        Reading.role == "first",
        Reading.flag != int(belief.Flag.FAIL),
        Reading.backing != "not reported",
        is_standing(),
    ]


def seasons(
    session: Session,
    site_id: uuid.UUID,
    quantities: Sequence[str],
    now: datetime,
    depths: tuple[float, float] | None = None,
    since: datetime | None = None,
) -> dict[str, dict[int, tuple[float, float]]]:
    """Where 8 of 10 readings of each month lay in the five years before: {quantity: {month: (low, high)}}.

    Months of the last ten months are the present season and do not count; a month needs five readings.

    since : only the months from then to now are asked for; all twelve where it is None, or a year ago
    """
    of_year = {(since + timedelta(days=d)).month for d in range((now - since).days + 2)} if since else range(1, 13)
    given: dict[str, object] = {"quantities": list(quantities), "site": site_id, "of_year": sorted(of_year)}
    given |= {"first": now - timedelta(days=365 * YEARS), "last": now - timedelta(days=300)}
    if depths is not None:
        given |= {"from_m": depths[0], "to_m": depths[1]}
    by_quantity: dict[str, dict[int, tuple[float, float]]] = {q: {} for q in quantities}
    for quantity, at, low, high in session.execute(_seasons(depths is not None), given):
        by_quantity[quantity][int(at)] = (float(low), float(high))
    return by_quantity


@cache
def _seasons(at_depths: bool) -> Select[Any]:
    """Put together once a process: it is asked for with every sheet."""
    month = literal("1 month").cast(Interval)
    first, last = (
        func.date_trunc("month", bindparam(name, type_=DateTime(timezone=True))) for name in ("first", "last")
    )
    months = func.generate_series(first, last, month).column_valued("month")
    asked, of_year = a_row_each("quantities", "quantity", String()), a_row_each("of_year", "number", Integer())
    in_year = extract("month", months) == of_year.c.number
    every = asked.join(of_year, true())
    wanted = select(asked.c.quantity, months.label("month")).select_from(every).where(in_year).subquery()
    between = Reading.depth_m.between(bindparam("from_m"), bindparam("to_m"))
    few = (
        select(Reading.value)
        .where(Reading.site_id == bindparam("site"), Reading.quantity == wanted.c.quantity, *_counts())
        .where(Reading.at >= wanted.c.month, Reading.at < wanted.c.month + month)
        .where(Reading.depth_m.is_(None) | between if at_depths else true())
        .order_by(Reading.at.desc())
        .limit(A_MONTH)
        .lateral()
    )
    which = extract("month", wanted.c.month).label("which")
    return (
        select(
            wanted.c.quantity,
            which,
            func.percentile_cont(0.1).within_group(few.c.value),
            func.percentile_cont(0.9).within_group(few.c.value),
        )
        .select_from(wanted)
        .join(few, true())
        .group_by(wanted.c.quantity, which)
        .having(func.count() >= FEWEST)
    )


def by_depth(
    session: Session, site_id: uuid.UUID, quantities: Sequence[str], count: int = 60
) -> list[tuple[str, datetime, float, float]]:
    """The newest readings at depths: (quantity, when its visit began, depth [m], value), by quantity."""
    query = (
        select(Reading.quantity, Visit.at, Reading.depth_m, Reading.value)
        .join(Visit, Visit.id == Reading.visit_id)
        .where(Reading.site_id == site_id, Reading.depth_m.is_not(None), *_counts())
    )
    each = [query.where(Reading.quantity == q).order_by(Reading.at.desc()).limit(count) for q in quantities]
    rows = session.execute(union_all(*each))
    depths = [(q, at, float(depth), float(value)) for q, at, depth, value in rows if depth is not None]
    return sorted(depths, key=lambda row: (list(quantities).index(row[0]), -row[1].timestamp()))


def last_profile(session: Session, site_id: uuid.UUID) -> list[Reading]:
    """The readings of the last visit that went down, standing versions."""
    query = select(Reading.visit_id).where(
        Reading.site_id == site_id, Reading.quantity == "temperature", Reading.depth_m.is_not(None)
    )
    return of_visit(session, query.order_by(Reading.at.desc()).limit(1).scalar_subquery())
