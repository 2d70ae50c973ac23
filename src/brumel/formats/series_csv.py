"""A logged series as CSV: a time and a value a line; checked at the door, every fault named by its line."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime, tzinfo
from typing import NamedTuple
from zoneinfo import ZoneInfo

from brumel.core.errors import InputError, InputErrors

MOST_BYTES = 8_000_000
MOST_ROWS = 150_000
TIMES = ("time", "time_utc", "timestamp", "datetime", "date_time")


class Series(NamedTuple):
    """Times in UTC, rising, and values; and what the value's column was called."""

    times: list[datetime]
    values: list[float]
    column: str


def read(data: bytes, zone: str) -> Series:
    """Two columns with a header: the time as ISO 8601, the value as a number. Times without an offset are of `zone`.

    A time that does not exist or exists twice there (the change of summer time) is refused, and so is one that does not
    rise. Raises InputError, or up to ten faults at once; nothing is repaired.
    """
    if len(data) > MOST_BYTES:
        raise InputError("file", f"The file has {len(data) / 1e6:.0f} MB; {MOST_BYTES / 1e6:.0f} MB are taken.")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError("file", "The file is not UTF-8 text.") from None
    first = text.splitlines()[0] if text.strip() else ""
    mark = next((d for d in (";", "\t", ",") if d in first), "")
    if not mark:
        raise InputError("file", "The file is not a table with a time and a value in columns.")
    rows = _lines(text, mark)
    head = [h.strip().lower()[:80] for h in next(rows, [])]
    if len(head) < 2 or head[0] not in TIMES:
        raise InputError("file", f"The first line must name the columns, the first of them {' or '.join(TIMES[:2])}.")
    local: tzinfo = UTC if head[0] == "time_utc" else ZoneInfo(zone)
    times: list[datetime] = []
    values: list[float] = []
    faults: list[InputError] = []
    for number, row in enumerate(rows, 2):
        if not any(cell.strip() for cell in row):
            continue
        if len(times) >= MOST_ROWS:
            raise InputError("file", f"The file has over {MOST_ROWS:,} values; split it.")
        try:
            at, value = _time(row[0], local), _value(row[1], mark)
            if times and at <= times[-1]:
                raise ValueError(f"{row[0].strip()} does not come after the time before it")
            times.append(at)
            values.append(value)
        except (ValueError, IndexError) as error:
            problem = "there is no value" if isinstance(error, IndexError) else str(error)
            faults.append(InputError("file", f"The file, line {number}: {problem[:120]}."))
            if len(faults) == 10:
                break
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    if len(times) < 3:
        raise InputError("file", "The file holds fewer than three values.")
    return Series(times, values, head[1])


def _lines(text: str, delimiter: str) -> Iterator[list[str]]:
    """The cells line by line. Raises InputError for a cell no reader takes."""
    rows = csv.reader(io.StringIO(text), delimiter=delimiter)
    try:
        yield from rows
    except csv.Error as error:
        raise InputError("file", f"The file, line {rows.line_num}: a cell cannot be read ({error}).") from None


def _time(text: str, local: tzinfo) -> datetime:
    try:
        moment = datetime.fromisoformat(text.strip())
    except ValueError:
        raise ValueError(f"“{text.strip()[:40]}” is not a time as 2026-11-25T09:00") from None
    if not 1990 <= moment.year <= 2100:
        raise ValueError(f"{text.strip()[:40]} is not between 1990 and 2100")
    if moment.tzinfo is not None:
        return moment.astimezone(UTC)
    early, late = moment.replace(tzinfo=local, fold=0), moment.replace(tzinfo=local, fold=1)
    if early.utcoffset() != late.utcoffset():
        raise ValueError(
            f"{text.strip()} does not exist, or exists twice, where summer time changes; write it with its offset"
        )
    return early.astimezone(UTC)


def _value(text: str, delimiter: str) -> float:
    plain = text.strip().replace("−", "-")
    if delimiter != ",":
        plain = plain.replace(",", ".")
    try:
        value = float(plain)
    except ValueError:
        raise ValueError(f"“{text.strip()[:40]}” is not a number") from None
    if not math.isfinite(value):
        raise ValueError(f"“{text.strip()[:40]}” is not a number")
    return value


def write(quantity: str, unit: str, state: str, rows: Iterable[tuple[datetime, float, float | None, int]]) -> str:
    """A series as CSV: time in UTC, as recorded, as reported (empty where it is not), QARTOD flag, what it is worth."""
    out = io.StringIO()
    writer = csv.writer(out)
    named = f"{quantity} [{unit}]" if unit else quantity
    writer.writerow(["time_utc", f"{named} recorded", f"{named} reported", "qartod_flag", "backing"])
    for at, raw, reported, flag in rows:
        reported_text = "" if reported is None else f"{reported:.6g}"
        writer.writerow([at.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ"), f"{raw:.6g}", reported_text, flag, state])
    return out.getvalue()
