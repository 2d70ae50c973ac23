"""The shape of a logger's file: how its text is cut, where its times stand and how they are written, what each column is."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from datetime import timedelta, timezone, tzinfo
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

from brumel.core.errors import InputError

#: How a date is written, and in words.
ORDERS = {
    "ymd": "year, month, day",
    "dmy": "day, month, year",
    "mdy": "month, day, year",
    "unix": "seconds since 1970",
    "serial": "days since 1899-12-30, as a spreadsheet counts",
}
#: A zone that is an offset, or is written beside every time.
FIXED = re.compile(r"^UTC(?:[+-]\d{2}:\d{2})?$")
OFFSETS = "offsets"
#: What stands in a cell where a logger had no value.
MISSING = ("", "-", "--", "---", "na", "n/a", "#n/a", "nan", "null", "none")


@dataclass(frozen=True)
class ShapeColumn:
    """A column that is taken: its place from 0, whose channel it is, and the unit its values are written in."""

    place: int
    quantity: str
    unit: str


@dataclass(frozen=True)
class Shape:
    """How a file is read.

    first : lines before its first record; last : lines behind its last one
    date, time : places of their columns; time is None where both stand in one
    order : one of ORDERS; zone : IANA name, "UTC+02:00", or OFFSETS where they stand in the file
    """

    encoding: str
    delimiter: str
    decimal: str
    thousands: str
    first: int
    last: int
    date: int
    time: int | None
    order: str
    zone: str
    columns: tuple[ShapeColumn, ...]

    def as_dict(self) -> dict[str, Any]:
        """Plain data for storing."""
        return {**self.__dict__, "columns": [c.__dict__ for c in self.columns]}

    @classmethod
    def restored(cls, body: dict[str, Any]) -> Shape:
        """The inverse of `as_dict`."""
        return cls(**{**body, "columns": tuple(ShapeColumn(**c) for c in body["columns"])})

    def zone_info(self) -> tzinfo | None:
        """The zone of its times, None where each has its own. Raises InputError for one that is not known."""
        if self.zone == OFFSETS:
            return None
        if FIXED.match(self.zone):
            hours, minutes = (int(p) for p in (self.zone[4:] or "00:00").split(":"))
            if hours > 14 or minutes > 59:
                raise InputError("zone", f"No place is {self.zone[3:]} from UTC.", value=self.zone)
            sign = -1 if self.zone[3:4] == "-" else 1
            return timezone(sign * timedelta(hours=hours, minutes=minutes))
        if self.zone not in available_timezones():
            raise InputError("zone", "Say which clock the logger ran by.", value=self.zone[:60])
        return ZoneInfo(self.zone)


@dataclass(frozen=True)
class Guess:
    """What can be seen of a file's shape, and what only whoever set the logger can say.

    orders : what the dates may mean, one where the data say so; zone : "" where nothing says it
    heads, units : what its columns are called, and the units beside; rows : the first records as they stand
    told : what was passed over, in words
    """

    shape: Shape
    orders: tuple[str, ...]
    heads: tuple[str, ...]
    units: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    told: tuple[str, ...] = field(default=())
