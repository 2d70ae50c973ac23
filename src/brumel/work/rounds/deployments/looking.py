"""A deployment looked at: its channels thinned for a drawing of any span, and the figures of what is reported."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from brumel.core.deployed import look
from brumel.core.deployed.correction import GRADES_SHOWN
from brumel.core.deployed.thinning import Thinned, thin
from brumel.core.errors import InputError
from brumel.methods.deployments import load_deployments
from brumel.store.deployments import Block, Channel
from brumel.work.rounds.deployments import blocks, reporting, series
from brumel.work.rounds.deployments.reporting import Recipe, Reported
from brumel.work.rounds.deployments.whole import FileState, Whole, moment, us

#: How much of a span is read whole, and of how many blocks the parts are read; beyond it the blocks' own ends are enough.
_WHOLE, _PARTED = 60_000, 1_200
COLUMNS = (200, 2_000)

Values = NDArray[np.float64]


@dataclass(frozen=True)
class View:
    """A channel in a span: as recorded, as reported, and the odd values; times in seconds since 1970.

    level : "values", "parts" or "blocks", what the drawing was made of
    grades : stretches of one grade, "not reported" among them; none while nothing is signed
    """

    channel: Channel
    recorded: Thinned
    reported: Thinned | None
    odd: list[tuple[float, float, int]]
    count: int
    level: str
    grades: list[tuple[float, float, str]] = field(default_factory=list)


def view(session: Session, whole: Whole, channel: Channel, since: datetime, until: datetime, columns: int) -> View:
    """A channel thinned to `columns` for a drawing. Raises InputError for a span or columns that cannot be drawn."""
    if not since < until:
        raise InputError("until", "The span must end after it begins.")
    if not COLUMNS[0] <= columns <= COLUMNS[1]:
        raise InputError("columns", f"A drawing has {COLUMNS[0]} to {COLUMNS[1]} columns.")
    begin, end = us(since), us(until)
    files = [f.file.id for f in whole.standing_files]
    around = (
        Block.channel_id == channel.id,
        Block.file_id.in_(files),
        Block.starts <= until + _MARGIN,
        Block.ends >= since - _MARGIN,
    )
    n_blocks, count = session.execute(
        select(func.count(), func.coalesce(func.sum(Block.count), 0)).where(*around)
    ).one()
    span = (begin / 1e6, end / 1e6)
    recipe = reporting.newest_recipe(whole, channel)
    if count <= _WHOLE or n_blocks == 0:
        return _of_values(session, whole, channel, (begin, end), columns, recipe)
    is_parted = n_blocks <= _PARTED
    t_us, low, high = _with_feed(session, whole, channel, _of_blocks(session, whole, around, is_parted))
    here = (t_us >= begin) & (t_us <= end)
    t, low, high = np.asarray(t_us[here] / 1e6), low[here], high[here]
    gap_s = 1.5 * whole.deployment.interval_s * (blocks.PART if is_parted else blocks.SIZE)
    drawn = thin(t, low, high, span, columns, gap_s)
    shown, grades = _reported(session, whole, channel, drawn, recipe)
    return View(channel, drawn, shown, [], int(count), "parts" if is_parted else "blocks", grades)


_MARGIN = timedelta(hours=7)


def _of_values(
    session: Session, whole: Whole, channel: Channel, span_us: tuple[int, int], columns: int, recipe: Recipe | None
) -> View:
    d = whole.deployment
    # One value more on each side, so that the line goes to the edge.
    wider = round(2e6 * d.interval_s)
    of = series.read(session, whole, channel, span_us[0] - wider, span_us[1] + wider)
    told = reporting.apply(session, whole, channel, of, recipe)
    span, gap_s, t = (span_us[0] / 1e6, span_us[1] / 1e6), 1.5 * d.interval_s, of.times_s
    good = np.where(of.flags >= series.OUT_OF_WATER, np.nan, of.values)
    drawn = thin(t, good, good, span, columns, gap_s)
    shown = thin(t, told.values, told.values, span, columns, gap_s) if told.state == "corrected" else None
    odd = np.flatnonzero((of.flags > 2) & np.isfinite(of.values))
    few = odd[:: max(1, odd.size // 400)]
    crosses = [(float(t[i]), float(of.values[i]), int(of.flags[i])) for i in few]
    return View(channel, drawn, shown, crosses, int(t.size), "values", _stretches(t, told))


def _of_blocks(
    session: Session, whole: Whole, around: Sequence[Any], is_parted: bool
) -> tuple[NDArray[np.int64], Values, Values]:
    by_id = {f.file.id: f for f in whole.standing_files}
    pieces = list[tuple[NDArray[np.int64], Values, Values]]()
    if is_parted:
        for file_id, packed in session.execute(
            select(Block.file_id, Block.parts).where(*around).order_by(Block.starts)
        ):
            t, low, high = blocks.parts(packed)
            pieces.append((_right(by_id[file_id], t), low, high))
    else:
        rows = session.execute(
            select(Block.file_id, Block.starts, Block.low, Block.high).where(*around).order_by(Block.starts)
        ).all()
        for file_id in {row[0] for row in rows}:
            of = [row for row in rows if row[0] == file_id]
            t = np.array([us(row[1]) for row in of], dtype=np.int64)
            low, high = (np.array([row[i] for row in of], dtype=np.float64) for i in (2, 3))
            pieces.append((_right(by_id[file_id], t), low, high))
    t, low, high = (np.concatenate(each) for each in zip(*pieces, strict=True))
    order = np.argsort(t, kind="stable")
    return t[order], low[order], high[order]


def _with_feed(
    session: Session, whole: Whole, channel: Channel, of_files: tuple[NDArray[np.int64], Values, Values]
) -> tuple[NDArray[np.int64], Values, Values]:
    """What a live logger sent beyond its files, value by value, behind their parts."""
    fed = series.of_feed(session, whole, channel)
    t, low, high = of_files
    for _, times, values, flags in fed:
        shown = np.where(flags >= series.OUT_OF_WATER, np.nan, values)
        t, low, high = np.append(t, times), np.append(low, shown), np.append(high, shown)
    order = np.argsort(t, kind="stable")
    return t[order], low[order], high[order]


def _right(file: FileState, logger_us: NDArray[np.int64]) -> NDArray[np.int64]:
    assert file.intake is not None
    return series.right_us(file.intake, logger_us)


def _reported(
    session: Session, whole: Whole, channel: Channel, drawn: Thinned, recipe: Recipe | None
) -> tuple[Thinned | None, list[tuple[float, float, str]]]:
    """The columns of a long span corrected as values would be: what a correction does hardly changes within a column."""
    if recipe is None:
        return None, []
    sides = []
    for values in (drawn.low, drawn.high):
        flags = series.marked(whole, channel, _us(drawn), np.where(np.isfinite(values), 1, 9).astype(np.int8))
        of = series.Record(_us(drawn), values, flags)
        told = reporting.apply(session, whole, channel, of, recipe, _columns_beside(session, whole, drawn))
        sides.append(told.values)
    return Thinned(drawn.times_s, sides[0], sides[1], drawn.gap_after, False), _stretches(drawn.times_s, told)


def _columns_beside(session: Session, whole: Whole, drawn: Thinned) -> reporting.Beside:
    """The middle of other channels' columns at the times of these: what a drawing of a long span is compensated by."""

    def beside(quantity: str) -> Values | None:
        channel = next((c for c in whole.deployment.channels if c.quantity == quantity), None)
        if channel is None:
            return None
        since, until = moment(_us(drawn)[0]), moment(_us(drawn)[-1] + 1_000_000)
        other = view(session, whole, channel, since, until, COLUMNS[1])
        shown = other.reported or other.recorded
        apart_us = 2e6 * (until - since).total_seconds() / max(drawn.times_s.size, 1)
        return reporting.at_times(_us(drawn), _us(shown), (shown.low + shown.high) / 2, apart_us)

    return beside


#: Stretches of grades that a drawing names; where they change more often, none is named.
_MOST_STRETCHES = 60


def _stretches(t: Values, told: Reported) -> list[tuple[float, float, str]]:
    """Stretches of one grade, each to where the next begins."""
    if told.state != "corrected" or not t.size:
        return []
    first = np.flatnonzero(np.append(True, np.diff(told.grade) != 0))
    if first.size > _MOST_STRETCHES:
        return []
    ends = np.append(t[first[1:]], t[-1])
    names = [GRADES_SHOWN[g] if g >= 0 else "not reported" for g in told.grade[first].tolist()]
    return [(float(t[a]), float(b), name) for a, b, name in zip(first, ends, names, strict=True)]


def _us(drawn: Thinned) -> NDArray[np.int64]:
    return np.asarray(drawn.times_s * 1e6).astype(np.int64)


# -- figures

#: Values that figures are worked out of while one waits; of a longer record those of its last part.
MOST_FIGURES = 400_000


def span_of_figures(whole: Whole) -> tuple[datetime, datetime] | None:
    """The span whose figures are shown: all of the record, or its last part where it is very long."""
    span = whole.span()
    if span is None:
        return None
    longest = timedelta(seconds=MOST_FIGURES * whole.deployment.interval_s)
    return max(span[0], span[1] - longest), span[1]


@dataclass(frozen=True)
class Figures:
    """Figures of what is reported of a channel in a span.

    below_s, above_s : time beyond the site's limits [s]; covered_s : time that values stand for [s]
    swing : the middle and greatest day's swing; degree_hours : above `base` [°C·h]; both None where they do not apply
    """

    channel: Channel
    count: int
    reported: int
    percentiles: dict[int, float]
    least: tuple[float, datetime] | None
    greatest: tuple[float, datetime] | None
    covered_s: float
    limits: tuple[float | None, float | None]
    below_s: float
    above_s: float
    swing: tuple[float, float, datetime] | None
    degree_hours: float | None
    base_c: float
    day: look.Envelope
    season: look.Envelope
    grades: dict[str, int]
    gaps: list[tuple[datetime, datetime]]


def figures(
    session: Session, whole: Whole, channel: Channel, since: datetime | None = None, until: datetime | None = None
) -> Figures:
    """Figures of a channel, by the site's own clock for days and months; values that failed count in none."""
    told = reporting.reported(session, whole, channel, us(since) if since else None, us(until) if until else None)
    return of_reported(whole, channel, told)


def of_reported(whole: Whole, channel: Channel, told: Reported) -> Figures:
    """The same of what was read already."""
    d, of, v = whole.deployment, told.record, told.values
    t = of.times_s
    durations = look.durations_s(t, d.interval_s) if t.size else t
    there = np.isfinite(v)
    limit = d.site.limits.get(channel.quantity, {})
    low, high = limit.get("low"), limit.get("high")
    below, above = look.beyond_s(v, durations, low, high)
    local = _local_us(of.times_us, ZoneInfo(d.site.zone))
    hours = local // 3_600_000_000 % 24
    days = local // 86_400_000_000
    months = (days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64) % 12) + 1 if t.size else days
    spec = load_deployments()
    return Figures(
        channel,
        int(v.size),
        int(there.sum()),
        look.percentiles(v),
        _extreme(of, v, there, np.argmin),
        _extreme(of, v, there, np.argmax),
        float(durations[there].sum()) if t.size else 0.0,
        (low, high),
        below,
        above,
        _swing(v, days, d.interval_s) if channel.quantity in ("oxygen", "ph", "temperature") else None,
        look.degree_hours(v, durations, spec.degree_hours_base_c) if channel.quantity == "temperature" else None,
        spec.degree_hours_base_c,
        look.envelope(v, hours, tuple(range(24))),
        look.envelope(v, months, tuple(range(1, 13))),
        {
            name: int((told.grade[there] == i).sum())
            for i, name in enumerate(GRADES_SHOWN)
            if (told.grade[there] == i).any()
        },
        _gaps(of, d.interval_s),
    )


def _extreme(of: series.Record, v: Values, there: NDArray[np.bool_], which: Any) -> tuple[float, datetime] | None:
    if not there.any():
        return None
    place = int(np.flatnonzero(there)[which(v[there])])
    return float(v[place]), moment(int(of.times_us[place]))


def _swing(v: Values, days: NDArray[np.int64], interval_s: float) -> tuple[float, float, datetime] | None:
    """The middle swing, the greatest, and its day; of days that were recorded for two thirds at least."""
    found, swings = look.day_swings(v, days, int(2 / 3 * 86_400 / interval_s))
    if not swings.size:
        return None
    most = int(np.argmax(swings))
    return float(np.median(swings)), float(swings[most]), moment(int(found[most]) * 86_400_000_000)


def _gaps(of: series.Record, interval_s: float) -> list[tuple[datetime, datetime]]:
    """Where nothing was recorded for more than one and a half intervals, the longest first."""
    steps = np.diff(of.times_us)
    wide = np.flatnonzero(steps > 1.5e6 * interval_s)
    longest = wide[np.argsort(steps[wide])[::-1]]
    return [(moment(int(of.times_us[i])), moment(int(of.times_us[i + 1]))) for i in longest]


def _local_us(times_us: NDArray[np.int64], zone: ZoneInfo) -> NDArray[np.int64]:
    """Times by a place's own clock, its offset found once an hour."""
    if not times_us.size:
        return times_us
    hours, back = np.unique(times_us // 3_600_000_000, return_inverse=True)
    offsets = np.array([_offset_us(moment(int(h) * 3_600_000_000), zone) for h in hours], dtype=np.int64)
    return np.asarray(times_us + offsets[back])


def _offset_us(at: datetime, zone: ZoneInfo) -> int:
    offset = at.astimezone(zone).utcoffset()
    return round(offset.total_seconds() * 1e6) if offset else 0
