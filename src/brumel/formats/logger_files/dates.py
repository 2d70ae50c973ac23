"""Dates and times as loggers write them."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime
from typing import Literal

_CLOCK = r"\d{1,2}:\d{2}(?::\d{2}(?:[.,]\d{1,6})?)?(?:\s?[AaPp]\.?[Mm]\.?)?"
_OFFSET = r"(?:\s?(?:Z|[+-]\d{2}:?\d{2}))?"
_YMD = r"\d{4}[-/.]\d{1,2}[-/.]\d{1,2}"
_DMY = r"\d{1,2}[-/.]\d{1,2}[-/.](?:\d{4}|\d{2})"
_NAMED = r"\d{1,2}[- .][A-Za-z]{3}[- .](?:\d{4}|\d{2})"
_DATE = re.compile(rf"^(?:{_YMD}|{_DMY}|{_NAMED})$")
_TIME = re.compile(rf"^{_CLOCK}$")
_BOTH = re.compile(rf"^({_YMD}|{_DMY}|{_NAMED})[T ,]\s?({_CLOCK}){_OFFSET}$")
_COUNT = re.compile(r"^\d{5}(?:[.,]\d{1,12})?$|^\d{10}(?:[.,]\d{1,6})?$")


def looks_like(cell: str) -> Literal["both", "date", "time", "count", ""]:
    """What a cell may be: a date with its time, one of the two, a count of days or seconds, or none of it."""
    text = cell.strip()
    if _BOTH.match(text):
        return "both"
    if _DATE.match(text):
        return "date"
    if _TIME.match(text):
        return "time"
    if _COUNT.match(text):
        value = float(text.replace(",", "."))
        return "count" if 32_874 <= value <= 73_415 or 6.3e8 <= value <= 4.2e9 else ""
    return ""


def orders_of(stamps: Sequence[str]) -> tuple[str, ...]:
    """What the dates of a file may mean, in the order it is written in; more than one where the data leave it open.

    A number over 12 says which is the day; so does that times rise by even steps one way and jump by months the other.
    """
    first = stamps[0].strip()
    if _COUNT.match(first):
        return ("unix",) if float(first.replace(",", ".")) > 1e6 else ("serial",)
    if re.match(_YMD, first):
        return ("ymd",)
    if re.match(_NAMED, first):
        return ("dmy",)
    pairs = [
        tuple(int(p) for p in re.split(r"[-/.]", re.split(r"[T ,]", s.strip())[0])[:2]) for s in stamps if s.strip()
    ]
    if not pairs or any(len(p) != 2 for p in pairs):
        return ()
    may = [order for order, day in (("dmy", 0), ("mdy", 1)) if all(p[1 - day] <= 12 and p[day] <= 31 for p in pairs)]
    if len(may) == 2:
        may = _by_steps(stamps, may)
    return tuple(may)


def _by_steps(stamps: Sequence[str], may: list[str]) -> list[str]:
    spans = {}
    for order in may:
        times = [t for t in (_rough(s, order) for s in stamps) if t is not None]
        steps = [(b - a).total_seconds() for a, b in zip(times, times[1:], strict=False)]
        if not steps or len(times) != len([s for s in stamps if s.strip()]):
            continue
        if min(steps) >= 0:
            spans[order] = max(steps)
    if len(spans) == 1:
        return list(spans)
    if len(spans) == 2:
        low, high = sorted(spans, key=lambda order: spans[order])
        # One reading goes from day to day, the other from month to month.
        if spans[high] > 20 * 86_400 > 3 * 86_400 >= spans[low]:
            return [low]
    return may


def _rough(stamp: str, order: str) -> datetime | None:
    parts = re.split(r"[T ,]\s?", stamp.strip(), maxsplit=1)
    try:
        a, b, year = (int(p) for p in re.split(r"[-/.]", parts[0]))
        day, month = (a, b) if order == "dmy" else (b, a)
        year = year + 2000 if year < 100 else year
        clock = re.match(r"(\d{1,2}):(\d{2})(?::(\d{2}))?", parts[1]) if len(parts) > 1 else None
        hour, minute, second = (int(p or 0) for p in clock.groups()) if clock else (0, 0, 0)
        if len(parts) > 1 and (late := re.search(r"([AaPp])\.?[Mm]", parts[1])):
            hour = hour % 12 + (12 if late[1].lower() == "p" else 0)
        return datetime(year, month, day, hour, minute, second)
    except ValueError:
        return None


def format_of(stamp: str, order: str) -> str:
    """How `strptime` reads a stamp, "ISO8601" where it is that."""
    text = stamp.strip()
    if order == "ymd" and re.match(
        r"^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}(:\d{2}([.,]\d+)?)?\s?(Z|[+-]\d{2}:?\d{2})?$", text
    ):
        return "ISO8601"
    day, _, rest = _split(text)
    marks = [c for c in day if c in "-/. "]
    year = "%Y" if re.search(r"\d{4}", day) else "%y"
    month = "%b" if re.search(r"[A-Za-z]", day) else "%m"
    parts = {"ymd": (year, month, "%d"), "dmy": ("%d", month, year), "mdy": (month, "%d", year)}[order]
    form = f"{parts[0]}{marks[0]}{parts[1]}{marks[1]}{parts[2]}"
    clock = "%H:%M" + (":%S" if rest.count(":") > 1 else "") + (".%f" if re.search(r"\d[.]\d", rest) else "")
    if late := re.search(r"(\s?)[AaPp][Mm]", rest):
        clock = clock.replace("%H", "%I") + f"{late[1]}%p"
    offset = re.search(r"(\s?)(?:Z|[+-]\d{2}:?\d{2})$", rest)
    return f"{form}{text[len(day)]}{clock}" + (f"{offset[1]}%z" if offset else "")


def _split(text: str) -> tuple[str, str, str]:
    found = _BOTH.match(text)
    if found is None:
        raise ValueError(text)
    return found[1], text[len(found[1])], text[len(found[1]) + 1 :]
