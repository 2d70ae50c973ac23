"""A logger's file read by its shape into arrays: every fault named by its line, nothing repaired in silence."""

from __future__ import annotations

import csv
import io
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta, tzinfo
from typing import Any

import numpy as np
from numpy.typing import NDArray

from brumel.core.errors import InputError, InputErrors
from brumel.formats.logger_files.dates import format_of
from brumel.formats.logger_files.shape import MISSING, Shape

MOST_BYTES = 150_000_000
MOST_ROWS = 12_000_000
#: Rows that are read at a time.
_CHUNK = 200_000
_MOST_FAULTS = 10
_EARLIEST, _LATEST = np.datetime64("1990-01-01", "us"), np.datetime64("2101-01-01", "us")

Times = NDArray[np.int64]


@dataclass(frozen=True)
class LoggedTable:
    """Records in time order: times [µs since 1970, UTC], an array a column with NaN where none was, and what was told.

    rows : of the file; same : rows that stood there twice alike; missing : cells without a value, by column
    """

    times_us: Times
    values: tuple[NDArray[np.float64], ...]
    rows: int
    same: int
    missing: tuple[int, ...]


def read(data: bytes, shape: Shape, tell: Callable[[int, int], None] = lambda _n, _of: None) -> LoggedTable:
    """The records of a file. Raises InputError, or up to ten faults at once, each with its line.

    A time that does not exist by the logger's clock, or goes back, is a fault; where summer time ends, the hour that is
    there twice is told apart by its order.
    """
    import pandas  # half a second to import; only who reads a file pays for it

    zone = shape.zone_info()
    if not shape.order:
        raise InputError("order", "Say what comes first in its dates, the day or the month.")
    if not shape.columns:
        raise InputError("columns", "No column of this file belongs to a channel.")
    body = _body(data, shape)
    of = max(body.count("\n") + 1, 1)
    _refuse_ragged(body, shape)
    used = sorted({shape.date, *([] if shape.time is None else [shape.time]), *(c.place for c in shape.columns)})
    texts = {place: str for place in (shape.date, shape.time) if place is not None}
    times, columns = list[Any](), [list[Any]() for _ in shape.columns]
    faults, rows = list[InputError](), 0
    try:
        chunks = pandas.read_csv(
            io.StringIO(body),
            sep=shape.delimiter,
            header=None,
            usecols=used,
            dtype=texts,
            decimal=shape.decimal,
            thousands=shape.thousands or None,
            na_values=[*MISSING, *(m.upper() for m in MISSING), "NaN", "None"],
            keep_default_na=False,
            skipinitialspace=True,
            skip_blank_lines=False,
            chunksize=_CHUNK,
            low_memory=False,
        )
        for chunk in chunks:
            first_line = shape.first + rows + 1
            times.append(_times(chunk, shape, zone, first_line, faults))
            for kept, column in zip(columns, shape.columns, strict=True):
                kept.append(_numbers(chunk[column.place], first_line, faults))
            rows += len(chunk)
            tell(rows, of)
            if rows > MOST_ROWS:
                raise InputError("file", f"The file has over {MOST_ROWS:,} records; split it.")
            if len(faults) >= _MOST_FAULTS:
                break
    except (pandas.errors.ParserError, pandas.errors.EmptyDataError, ValueError) as error:
        raise _cannot_cut(error) from None
    _raise(faults)
    local = np.concatenate(times) if times else np.array([], dtype="datetime64[us]")
    stamps = _utc(local, zone, shape.first, faults)
    _raise(faults)
    values = [np.concatenate(kept) for kept in columns]
    return _in_order(stamps, values, shape.first, rows)


def _body(data: bytes, shape: Shape) -> str:
    text = data.decode(shape.encoding).replace("\r\n", "\n").replace("\r", "\n")
    at = 0
    for _ in range(shape.first):
        at = text.find("\n", at) + 1
    end = len(text.rstrip("\n"))
    for _ in range(shape.last):
        end = text.rstrip("\n").rfind("\n", at, end)
    # Empty lines inside stay, so that lines are counted right; they are dropped where they are read.
    return text[at : end if end > at else len(text)]


def _refuse_ragged(body: str, shape: Shape) -> None:
    """A line with other cells than the first record: one that broke off, or a mark inside a value. Raises by the line."""
    width = len(next(csv.reader([body.split("\n", 1)[0]], delimiter=shape.delimiter), []))
    n_lines = body.count("\n") + 1 - body.count("\n\n")
    if body.count(shape.delimiter) == (width - 1) * n_lines:
        return  # the common case, without cutting every line
    faults = list[InputError]()
    try:
        for number, cells in enumerate(csv.reader(io.StringIO(body), delimiter=shape.delimiter), shape.first + 1):
            if cells and (len(cells) < width or any(cells[width:])) and any(cell.strip() for cell in cells):
                words = f"The file, line {number}: {len(cells)} cells where the first record has {width}."
                faults.append(InputError("file", words))
            if len(faults) == _MOST_FAULTS:
                break
    except csv.Error as error:
        raise InputError("file", f"The file: a cell cannot be read ({error}).") from None
    _raise(faults)


def _times(chunk: Any, shape: Shape, zone: tzinfo | None, first_line: int, faults: list[InputError]) -> Any:
    """Local times, or UTC where each has its offset, as datetime64[us]; NaT for an empty line."""
    import pandas

    cells = chunk[shape.date].fillna("").map(str.strip)
    if shape.time is not None:
        clock = chunk[shape.time].fillna("").map(str.strip)
        cells = cells.where(cells == "", cells + " " + clock)
    is_empty = (cells == "").to_numpy()
    if shape.order in ("unix", "serial"):
        found = _counted(cells, shape.order)
    else:
        written = cells[~is_empty]
        if not len(written):
            return np.full(len(cells), np.datetime64("NaT", "us"))
        try:
            form = format_of(str(written.iloc[0]), shape.order)
        except (ValueError, KeyError, IndexError):
            form = "%Y-%m-%d %H:%M"
        found = pandas.to_datetime(cells.where(~is_empty), format=form, errors="coerce", utc=zone is None)
        if form == "%d/%m/%Y %H:%M" and found.isna().any():  # seconds that come and go
            found = found.fillna(pandas.to_datetime(cells, format=f"{form}:%S", errors="coerce"))
        if zone is None:
            found = found.dt.tz_localize(None)
        found = found.to_numpy().astype("datetime64[us]")
    _reject(cells, np.isnat(found) & ~is_empty, first_line, faults, "is not a date and time as in the lines before it")
    with np.errstate(invalid="ignore"):
        beyond = (found < _EARLIEST) | (found >= _LATEST)
    _reject(cells, beyond & ~np.isnat(found), first_line, faults, "is not between 1990 and 2100")
    return found


def _counted(cells: Any, order: str) -> Any:
    import pandas

    numbers = pandas.to_numeric(cells.str.replace(",", "."), errors="coerce").to_numpy(dtype=np.float64)
    seconds = numbers if order == "unix" else (numbers - 25_569.0) * 86_400
    whole = np.where(np.isfinite(seconds), np.round(seconds, 3) * 1e6, 0).astype(np.int64)
    return np.where(np.isfinite(seconds), whole.astype("datetime64[us]"), np.datetime64("NaT", "us"))


def _numbers(cells: Any, first_line: int, faults: list[InputError]) -> NDArray[np.float64]:
    import pandas

    if cells.dtype == object:  # something in it is no number
        text = cells.astype("string").str.strip()
        numbers = pandas.to_numeric(text.str.replace("−", "-"), errors="coerce")
        wrong = (
            numbers.isna().to_numpy()
            & ~cells.isna().to_numpy()
            & ~text.str.lower().isin(MISSING).fillna(True).to_numpy()
        )
        _reject(text, wrong, first_line, faults, "is not a number")
        return np.asarray(numbers.to_numpy(dtype=np.float64, na_value=np.nan))
    found = cells.to_numpy(dtype=np.float64)
    if np.isinf(found).any():
        _reject(cells.astype(str), np.isinf(found), first_line, faults, "is not a number")
    return np.asarray(found)


def _reject(cells: Any, wrong: Any, first_line: int, faults: list[InputError], why: str) -> None:
    for place in np.flatnonzero(wrong)[: max(0, _MOST_FAULTS - len(faults))]:
        faults.append(
            InputError("file", f"The file, line {first_line + int(place)}: “{str(cells.iloc[int(place)])[:40]}” {why}.")
        )


def _raise(faults: list[InputError]) -> None:
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults[:_MOST_FAULTS])


def _cannot_cut(error: Exception) -> InputError:
    if isinstance(error, InputError):
        return error
    return InputError("file", "The file cannot be cut into columns in this way.")


def _utc(local: Any, zone: tzinfo | None, first: int, faults: list[InputError]) -> Times:
    """Times by the logger's clock in UTC [µs]; NaT, of an empty line, is the least there is."""
    stamps = local.astype(np.int64)
    is_there = ~np.isnat(local)
    if zone is None or not is_there.any():
        return np.asarray(stamps)
    begin, end = (local[is_there].min().astype(datetime), local[is_there].max().astype(datetime))
    changes = _changes(zone, begin - timedelta(days=1), end + timedelta(days=1))
    offset = zone.utcoffset((begin - timedelta(days=1)).replace(tzinfo=zone))
    out = stamps - _us(offset)
    for at, before, after in changes:
        change = _wall(at)
        later = is_there & (stamps >= change + _us(after)) & (stamps >= change + _us(before))
        out[later] = stamps[later] - _us(after)
        if after > before:  # summer time begins: an hour does not exist
            gap = is_there & (stamps >= change + _us(before)) & (stamps < change + _us(after))
            for place in np.flatnonzero(gap)[:3]:
                faults.append(
                    InputError(
                        "zone",
                        f"The file, line {first + int(place) + 1}: {str(local[place]).replace('T', ' ')[:19]} does not exist "
                        "by this clock, as summer time began. Did the logger stay on winter time?",
                    )
                )
        elif after < before:  # it ends: an hour is there twice
            twice = np.flatnonzero(is_there & (stamps >= change + _us(after)) & (stamps < change + _us(before)))
            out[twice] = stamps[twice] - np.where(_is_second(stamps, out, twice, _us(before)), _us(after), _us(before))
    return np.asarray(out)


def _is_second(stamps: Times, out: Times, twice: Any, before_us: int) -> Any:
    """Of the times in an hour that is there twice, which are the second: from where the clock goes back on.

    Where it does not, the hour is the one that joins what lies before it; without that, the one after.
    """
    if not twice.size:
        return np.array([], dtype=bool)
    back = np.flatnonzero(np.diff(stamps[twice]) <= 0)
    if back.size:
        return np.arange(twice.size) > back[0]
    step = np.median(np.diff(stamps[twice])) if twice.size > 1 else 3.6e9
    joins = twice[0] > 0 and (stamps[twice[0]] - before_us) - out[twice[0] - 1] <= 1.5 * step
    return np.full(twice.size, not joins and twice[0] > 0)


def _changes(zone: tzinfo, begin: datetime, end: datetime) -> list[tuple[datetime, timedelta, timedelta]]:
    """Changes of a zone's offset in a span of local time: when in UTC, and the offsets before and after."""
    found = []
    day, last = begin.replace(tzinfo=UTC), end.replace(tzinfo=UTC)
    while day < last:
        after = day + timedelta(days=1)
        one, two = (at.astimezone(zone).utcoffset() for at in (day, after))
        if one is not None and two is not None and one != two:
            low, high = day, after
            while high - low > timedelta(seconds=1):
                middle = low + (high - low) / 2
                low, high = (middle, high) if middle.astimezone(zone).utcoffset() == one else (low, middle)
            found.append((high.replace(microsecond=0), one, two))
        day = after
    return found


def _us(span: timedelta | None) -> int:
    return round((span or timedelta(0)).total_seconds() * 1e6)


def _wall(at: datetime) -> int:
    return round(at.timestamp() * 1e6)


def _in_order(stamps: Times, values: list[NDArray[np.float64]], first: int, rows: int) -> LoggedTable:
    is_there = stamps != np.iinfo(np.int64).min
    lines = np.flatnonzero(is_there)
    stamps, values = stamps[is_there], [v[is_there] for v in values]
    if stamps.size < 3:
        raise InputError("file", "The file holds fewer than three records.")
    steps = np.diff(stamps)
    again = np.append(False, steps == 0)
    faults = list[InputError]()
    for place in np.flatnonzero(np.append(False, steps < 0))[:3]:
        at = np.datetime64(int(stamps[place]), "us")
        faults.append(
            InputError(
                "file",
                f"The file, line {first + int(lines[place]) + 1}: the time goes back, to {str(at).replace('T', ' ')[:19]}Z. "
                "Was the logger's clock set meanwhile? Bring in the parts before and after as files of their own.",
            )
        )
    for place in np.flatnonzero(again):
        if any(not _alike(v[place], v[place - 1]) for v in values):
            faults.append(
                InputError(
                    "file",
                    f"The file, line {first + int(lines[place]) + 1}: the same time as the line before, with other values.",
                )
            )
    _raise(faults[:_MOST_FAULTS])
    stamps, values = stamps[~again], [v[~again] for v in values]
    missing = tuple(int(np.isnan(v).sum()) for v in values)
    return LoggedTable(stamps, tuple(values), rows, int(again.sum()), missing)


def _alike(a: float, b: float) -> bool:
    return bool(a == b or (np.isnan(a) and np.isnan(b)))
