"""Series a logger left at a site has recorded: taken in whole, flagged, never repaired; drawn from bins."""

from __future__ import annotations

import uuid
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import ColumnElement, case, func, literal, null, select, true, union_all
from sqlalchemy.orm import Session

from brumel.core import believability as belief
from brumel.core.errors import InputError
from brumel.core.sentence import say
from brumel.methods.field import FieldSpec, load_field
from brumel.store.logger import LoggerSeries, LoggerValue
from brumel.store.tables import Site
from brumel.work import kit
from brumel.work.desk import Refused, Write, Written, writes
from brumel.work.quantities import names as quantity_names
from brumel.work.rounds.logger.checks import EffectOnSeries, standing, withdrawn_ids
from brumel.work.rounds.sites import site_of as find_site

#: columns of a drawn series
BINS = 240


@dataclass(frozen=True)
class BinnedSeries:
    """A series in bins for drawing: middle times, least and greatest value of each, and the odd values by time."""

    log: LoggerSeries
    times: list[datetime]
    low: list[float]
    high: list[float]
    odd: list[tuple[datetime, float, int]]


@dataclass(frozen=True)
class NewSeries:
    """A logger's values of one quantity in time order, as its file had them; the depth in metres."""

    quantity: str
    unit: str
    times: list[datetime]
    values: list[float]
    name: str
    probe_id: str = ""
    depth_m: float | None = None


def _checked(series: NewSeries, now: datetime) -> FieldSpec:
    """The limits of the series' quantity; raises InputError for another quantity or unit, or a time to come."""
    spec = load_field().get(series.quantity)
    if spec is None:
        raise InputError("quantity", "Choose the quantity the logger recorded.", value=series.quantity)
    if series.unit != (spec.unit or series.quantity):
        kept_in = spec.unit or quantity_names.name(series.quantity)
        title = quantity_names.title(series.quantity)
        raise InputError("unit", f"{title} is kept in {kept_in}; convert the file first.")
    if series.times[-1] > now:
        raise InputError("file", say("The series ends {at}, which is in the future.", at=series.times[-1]))
    return spec


def _refuse_overlap(session: Session, place: Site, series: NewSeries) -> None:
    at_depth = LoggerSeries.depth_m.is_(None) if series.depth_m is None else LoggerSeries.depth_m == series.depth_m
    overlapping = (LoggerSeries.starts <= series.times[-1], LoggerSeries.ends >= series.times[0])
    same = (LoggerSeries.site_id == place.id, LoggerSeries.quantity == series.quantity, at_depth)
    twin = session.scalar(
        select(LoggerSeries).where(*same, *overlapping, LoggerSeries.id.not_in(withdrawn_ids())).limit(1)
    )
    if twin is not None:
        raise Refused(
            say(
                "“{name}” covers some of this time already, from {starts:date} to {ends:date}. If that one is the "
                "wrong file, withdraw it on its page first.",
                name=twin.name,
                starts=twin.starts,
                ends=twin.ends,
            )
        )


def _flags(place: Site, series: NewSeries, spec: FieldSpec) -> NDArray[np.int8]:
    y = np.asarray(series.values)
    seconds = np.diff([t.timestamp() for t in series.times])
    ranges = place.ranges.get(series.quantity, {})
    gross = tuple(ranges.get("gross") or spec.instrument)
    usual = tuple(ranges["usual"]) if ranges.get("usual") else None
    every_s = float(np.median(seconds)) if seconds.size else 0.0
    limits = belief.series_limits(y, every_s, spec.least_spread(float(np.nanmedian(y))))
    return belief.flag_series(
        y,
        gross=(float(gross[0]), float(gross[1])),
        usual=usual,
        spike=limits.spike,
        flat=limits.flat,
        after_gap=np.append(False, seconds > 1.5 * every_s),
    )


@writes("series.take_in", Written)
def take_in(w: Write, *, site_id: str, series: NewSeries) -> Written:
    """Keep a series of a site as it was recorded, each value with its flag.

    Flags by QARTOD: the site's gross and usual ranges (else the instrument's), spikes and flat lines. A series that
    overlaps one of the same quantity and depth is refused.
    """
    place = find_site(w.session, site_id)
    spec = _checked(series, w.now)
    times = series.times
    probe = kit.probe_of(w.session, series.probe_id) if series.probe_id else None
    backed = kit.last_usable(w.session, probe, before=times[0]) if probe else None
    if backed is not None and backed.valid_until < times[0]:
        backed = None  # it had run out before the logger was set out
    _refuse_overlap(w.session, place, series)
    flags = _flags(place, series, spec)
    steps = np.diff([t.timestamp() for t in times])
    interval = float(np.median(steps))
    new_series = LoggerSeries(
        id=uuid.uuid4(),
        site_id=place.id,
        quantity=series.quantity,
        unit=spec.unit,
        depth_m=series.depth_m,
        probe_id=probe.id if probe else None,
        calibration_id=backed.id if backed else None,
        name=series.name[:80],
        starts=times[0],
        ends=times[-1],
        interval_s=interval,
        count=len(times),
        gaps=int(np.sum(steps > 1.5 * interval)),
        flagged=int(np.sum(flags > 2)),
        at=w.now,
        by_id=w.actor.id,
    )
    w.session.add(new_series)
    w.session.flush()
    _write_values(w.session, new_series, series, flags)
    w.record(f"site:{site_id}", {"log": new_series.name, "values": new_series.count})
    return Written(str(new_series.id))


def _write_values(session: Session, row: LoggerSeries, series: NewSeries, flags: NDArray[np.int8]) -> None:
    """By one COPY: the largest file that is taken holds 150 000 values, and whoever sent it waits."""
    raw = session.connection().connection.driver_connection
    assert raw is not None
    into = f"copy {LoggerValue.__tablename__} (series_id, at, value, flag) from stdin (format binary)"
    with raw.cursor() as cursor, cursor.copy(into) as copy:
        copy.set_types(("uuid", "timestamptz", "float8", "int2"))
        for t, v, f in zip(series.times, series.values, flags, strict=True):
            copy.write_row((row.id, t, float(v), int(f)))


def of_site(
    session: Session, site_id: uuid.UUID, count: int = 6, *, withdrawn: bool | None = False
) -> list[LoggerSeries]:
    """The newest series of a site: those that stand, those that were withdrawn, or with None both."""
    query = select(LoggerSeries).where(LoggerSeries.site_id == site_id)
    if withdrawn is not None:
        gone = LoggerSeries.id.in_(withdrawn_ids())
        query = query.where(gone if withdrawn else ~gone)
    return list(session.scalars(query.order_by(LoggerSeries.starts.desc()).limit(count)))


def band(session: Session, series: LoggerSeries, by: EffectOnSeries | None = None) -> BinnedSeries:
    """A series for drawing: binned by the database, so that a week and a year cost a page the same; corrected `by`."""
    return bands(session, [(series, by)])[0]


def bands(session: Session, wanted: Sequence[tuple[LoggerSeries, EffectOnSeries | None]]) -> list[BinnedSeries]:
    """The same of several, each as recorded or corrected by what its ends say, by one query."""
    parts: list[Any] = []
    for i, (series, by) in enumerate(wanted):
        value, when = _value(series, by)
        mine = (LoggerValue.series_id == series.id, when)
        place = func.floor(_share(series) * (BINS - 1))
        parts.append(
            select(literal(i), literal(0), func.min(LoggerValue.at), func.min(value), func.max(value))
            .where(*mine, LoggerValue.flag < int(belief.Flag.FAIL))
            .group_by(place)
        )
        parts.append(
            select(literal(i), LoggerValue.flag, LoggerValue.at, value, value)
            .where(*mine, LoggerValue.flag > 2)
            .order_by(LoggerValue.at)
            .limit(200)
        )
    binned = [BinnedSeries(series, [], [], [], []) for series, _ in wanted]
    if parts:
        for i, flag, at, low, high in sorted(session.execute(union_all(*parts)), key=lambda row: row[2]):
            if flag:
                binned[i].odd.append((at, low, flag))
            else:
                binned[i].times.append(at)
                binned[i].low.append(low)
                binned[i].high.append(high)
    return binned


def _share(series: LoggerSeries) -> ColumnElement[Any]:
    span = max((series.ends - series.starts).total_seconds(), 1.0)
    # date_part counts in float8; extract does in numeric, which takes several times as long.
    return func.date_part("epoch", LoggerValue.at - series.starts) / span


def _value(series: LoggerSeries, by: EffectOnSeries | None) -> tuple[ColumnElement[Any], ColumnElement[bool]]:
    """The value as it is reported, and which are: `core.logged.corrected` once more, where the values are."""
    if by is None:
        return LoggerValue.value + 0.0, true()
    share, ends = _share(series), by.ends
    error = ends.opening + (ends.closing - ends.opening) * share
    value = LoggerValue.value / (1 + error / 100) if ends.relative else LoggerValue.value - error
    return value, share <= by.until + 1e-12


def values(session: Session, series: LoggerSeries) -> Iterator[tuple[datetime, float, float | None, int]]:
    """Every value for an export: when, as recorded, as reported (None where it is not), and its QARTOD flag."""
    now = standing(session, series)
    value, when = _value(series, now.by)
    reported = case((when, value)) if now.state not in ("not reported", "withdrawn") else null()
    query = select(LoggerValue.at, LoggerValue.value, reported, LoggerValue.flag).where(
        LoggerValue.series_id == series.id
    )
    rows = session.execute(query.order_by(LoggerValue.at)).yield_per(5000)
    yield from (tuple(row) for row in rows)


@dataclass(frozen=True)
class SeriesFigures:
    """The least, middle and greatest reported value, None where none is reported; and how many values have which flag."""

    low: float | None
    median: float | None
    high: float | None
    by_flag: dict[int, int]


def figures(session: Session, series: LoggerSeries) -> SeriesFigures:
    """The figures of a series as it is reported now; values that failed a test count in none but their own number."""
    now = standing(session, series)
    value, when = _value(series, now.by)
    of_it = (LoggerValue.series_id == series.id, when, LoggerValue.flag < 4)
    query = select(func.min(value), func.percentile_cont(0.5).within_group(value), func.max(value)).where(*of_it)
    low, median, high = session.execute(query).one() if now.state not in ("not reported", "withdrawn") else (None,) * 3
    flags = select(LoggerValue.flag, func.count()).where(LoggerValue.series_id == series.id).group_by(LoggerValue.flag)
    return SeriesFigures(low, median, high, dict(session.execute(flags).tuples().all()))
