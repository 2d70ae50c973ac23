"""Rows of a table as past readings: each cell made sense of or named as a fault, none repaired."""

from __future__ import annotations

import functools
import math
import uuid
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import NamedTuple, TypeVar
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session

from brumel.core.errors import InputError
from brumel.core.sentence import Span, say
from brumel.core.units import convert
from brumel.formats.tables_in import TableIn
from brumel.methods.field import load_field
from brumel.store.standing import is_standing
from brumel.store.tables import Reading, Site
from brumel.work.quantities import names as quantity_names
from brumel.work.records.importing.mapping import DIMENSIONS, Mapping, find_quantity, own_unit
from brumel.work.rounds.sheet.entry import DEPTH_M

T = TypeVar("T")

#: Readings of a site belong to one visit while they follow each other so closely, and no longer than this in all.
CLOSE, LONGEST_VISIT = timedelta(minutes=30), timedelta(hours=2)
FLAGS = {"1", "2", "3", "4", "9"}


class PastReading(NamedTuple):
    """A row, or one cell of it, as a reading. `raw` and `raw_unit` are as they stand in the file; `flag` is QARTOD's."""

    line: int
    site: Site
    at: datetime
    depth_m: float | None
    quantity: str
    value: float
    unit: str
    raw: float
    raw_unit: str
    temperature_c: float | None
    flag: int
    note: str


class RowFault(NamedTuple):
    """What is wrong in a line of the file."""

    line: int
    words: str


@dataclass(frozen=True)
class PastReadings:
    """All that a table holds: readings that can be kept, the lines that cannot, every one with its fault."""

    readings: list[PastReading]
    faults: list[RowFault]


def read_rows(
    session: Session, table: TableIn, mapping: Mapping, now: datetime, told: Callable[[int], None] = lambda _: None
) -> PastReadings:
    """Make sense of every row. What is in the record already, or twice in the file, is a fault of its line.

    told : hears how many rows were read, now and then
    """
    reader = _RowReader(session, table, mapping, now)
    readings: list[PastReading] = []
    faults: list[RowFault] = []
    for count, (line, cells) in enumerate(table.rows, 1):
        found, wrong = reader.read(line, cells)
        if wrong:
            faults.append(RowFault(line, " ".join(wrong)))
        else:
            readings += found
        if count % 2000 == 0:
            told(count)
    readings, twice = _each_once(session, _with_temperatures(readings))
    return PastReadings(readings, sorted([*faults, *twice]))


class Value(NamedTuple):
    """A cell made sense of: in the unit it is kept in, and as it stood in the file."""

    quantity: str
    value: float
    unit: str
    raw: float
    raw_unit: str


def _attempt(wrong: list[str], do: Callable[[], T]) -> T | None:
    """What a cell says; None where it says nothing that can be, with the sentence in `wrong`."""
    try:
        return do()
    except (ValueError, InputError) as error:
        wrong.append(str(error))
        return None


@functools.lru_cache(maxsize=256)
def _line(quantity: str, unit: str, own: str, dimension: str) -> tuple[float, float]:
    """Factor and shift from a unit to the one that is kept: every unit here is a straight line of another."""
    shift = convert(quantity, 0.0, unit, own, dimension)
    return convert(quantity, 1.0, unit, own, dimension) - shift, shift


class _RowReader:
    """Reads rows by a mapping; sites and columns are looked up once."""

    def __init__(self, session: Session, table: TableIn, mapping: Mapping, now: datetime) -> None:
        at = {column: place for place, column in enumerate(table.columns)}
        self._at = {key: at[column] for key, column in mapping.columns.items()}
        self._quantities = [(at[column], pair) for column, pair in mapping.quantities.items()]
        self._mapping, self._now = mapping, now
        self._specs = load_field()
        self._sites: dict[str, list[Site]] = {}
        self._only: Site | None = None
        for site in session.scalars(select(Site)):
            for name in (str(site.id), site.name, f"{site.client}: {site.name}"):
                self._sites.setdefault(name.casefold(), []).append(site)
            if str(site.id) == mapping.site_id:
                self._only = site

    def read(self, line: int, cells: tuple[str, ...]) -> tuple[list[PastReading], list[str]]:
        """The readings of a row, and what is wrong with it, all at once."""
        wrong: list[str] = []
        site = _attempt(wrong, lambda: self._site(cells))
        at = _attempt(wrong, lambda: self._time(cells, site))
        depth_m = _attempt(wrong, lambda: self._depth(cells))
        at_c = _attempt(wrong, lambda: self._temperature(cells))
        flag = _attempt(wrong, lambda: self._flag(cells))
        values = []
        for quantity, text, unit in self._texts(cells, wrong):
            value = _attempt(wrong, functools.partial(self._value, quantity, text, unit))
            if value is not None:
                values.append(value)
        if wrong or site is None or at is None:
            return [], wrong
        note = self._cell(cells, "note")[:500]
        return [PastReading(line, site, at, depth_m, *value, at_c, flag or 2, note) for value in values], wrong

    def _cell(self, cells: tuple[str, ...], key: str) -> str:
        place = self._at.get(key)
        return cells[place] if place is not None else ""

    def _site(self, cells: tuple[str, ...]) -> Site:
        if self._only is not None:
            return self._only
        name = self._cell(cells, "site")
        found = self._sites.get(name.casefold(), [])
        if not name:
            raise ValueError("No site is named.")
        if not found:
            raise ValueError(f"There is no site “{name[:60]}” here.")
        if len(found) > 1:
            raise ValueError(f"Several sites are called “{name[:60]}”; write it as “{found[0].client}: {name[:40]}”.")
        return found[0]

    def _time(self, cells: tuple[str, ...], site: Site | None) -> datetime:
        text = " ".join(part for part in (self._cell(cells, "time"), self._cell(cells, "clock")) if part)
        moment = read_moment(text, self._mapping.dates)
        if moment.tzinfo is None:
            zone = self._mapping.zone or (site.zone if site else "UTC")
            early, late = (moment.replace(tzinfo=ZoneInfo(zone), fold=fold) for fold in (0, 1))
            if early.utcoffset() != late.utcoffset():
                raise ValueError(
                    f"{text} does not exist, or exists twice, where summer time changes; write its offset."
                )
            moment = early
        moment = moment.astimezone(UTC)
        if moment > self._now:
            raise ValueError(f"{text} lies in the future.")
        return moment

    def _number(self, text: str) -> float:
        plain = text.replace("−", "-").replace("\u00a0", "").strip()
        comma = self._mapping.decimals == "comma"
        if ("," in plain and not comma) or (comma and "." in plain):
            raise ValueError(f"“{text[:40]}” is not written as numbers of this file are said to be.")
        try:
            value = float(plain.replace(",", "."))
        except ValueError:
            raise ValueError(f"“{text[:40]}” is not a number.") from None
        if not math.isfinite(value) or "_" in plain:
            raise ValueError(f"“{text[:40]}” is not a number.")
        return value

    def _depth(self, cells: tuple[str, ...]) -> float | None:
        text = self._cell(cells, "depth")
        if not text:
            return None
        depth = convert("depth_m", self._number(text), self._mapping.depth_unit, "m", "length")
        if not DEPTH_M[0] <= depth <= DEPTH_M[1]:
            raise ValueError(f"Depth {text[:20]} is outside {DEPTH_M[0]:g} to {DEPTH_M[1]:g} m.")
        return round(depth, 4)

    def _temperature(self, cells: tuple[str, ...]) -> float | None:
        text = self._cell(cells, "temperature")
        if not text:
            return None
        return self._in_range("temperature", self._number(text), text)

    def _flag(self, cells: tuple[str, ...]) -> int:
        text = self._cell(cells, "flag")
        if text and text not in FLAGS:
            raise ValueError(f"Flag “{text[:20]}” is none of QARTOD's: 1, 2, 3, 4, 9.")
        return int(text or 2)

    def _texts(self, cells: tuple[str, ...], wrong: list[str]) -> Iterator[tuple[str, str, str]]:
        """Quantity, text and unit of every value of a row; an empty cell of a wide table is no value."""
        if self._quantities:
            filled = [(quantity, cells[place], unit) for place, (quantity, unit) in self._quantities if cells[place]]
            if not filled:
                wrong.append("There is no value in this row.")
            yield from filled
            return
        words, text = self._cell(cells, "quantity"), self._cell(cells, "value")
        quantity = find_quantity(words)
        if quantity is None:
            wrong.append(f"“{words[:40]}” is no quantity that is known here.")
        elif not text:
            wrong.append("There is no value in this row.")
        else:
            unit = self._cell(cells, "unit")
            if not unit and own_unit(quantity) and "unit" in self._at:
                wrong.append("The value has no unit.")
            yield quantity, text, unit or own_unit(quantity)

    def _value(self, quantity: str, text: str, unit: str) -> Value:
        try:
            raw = self._number(text)
        except ValueError as error:
            raise ValueError(f"{quantity_names.title(quantity)}: {error}") from None
        own, dimension = own_unit(quantity), DIMENSIONS.get(quantity)
        if unit == own:
            value = raw
        elif dimension:
            factor, shift = _line(quantity, unit, own, dimension)
            value = float(f"{raw * factor + shift:.12g}")  # without what binary adds
        else:
            raise ValueError(f"{quantity_names.title(quantity)} is read in {own} here, not in “{unit[:20]}”.")
        kept_unit = "" if quantity in ("ph", "salinity") else own
        return Value(quantity, self._in_range(quantity, value, text), kept_unit, raw, unit)

    def _in_range(self, quantity: str, value: float, text: str) -> float:
        spec = self._specs.get(quantity)
        if spec is not None and not spec.instrument[0] <= value <= spec.instrument[1]:
            span = Span(*spec.instrument, own_unit(quantity))
            raise ValueError(
                str(
                    say("{name} {text} lies outside {span}.", name=quantity_names.title(quantity), text=text, span=span)
                )
            )
        return value


def read_moment(text: str, way: str) -> datetime:
    """A time as a file writes it, with its offset where it has one. Raises ValueError with a sentence."""
    wrong = ValueError(f"“{text[:40]}” is not a time as this file is said to write it.")
    if way == "iso":
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            raise wrong from None
        if len(text) <= 10:
            raise ValueError(f"“{text}” has no time of day.")
    else:
        day, _, clock = text.replace("T", " ").partition(" ")
        parts = day.replace("/", ".").replace("-", ".").split(".")
        if len(parts) != 3 or not all(part.isascii() and part.isdigit() for part in parts) or len(parts[2]) != 4:
            raise wrong
        first, second, year = (int(part) for part in parts)
        month, number = (second, first) if way == "dmy" else (first, second)
        try:
            moment = datetime.fromisoformat(f"{year:04d}-{month:02d}-{number:02d}T{clock.strip():0>5}")
        except ValueError:
            raise wrong from None
    if not 1950 <= moment.year <= 2100:
        raise ValueError(f"“{text[:40]}” does not lie between 1950 and 2100.")
    return moment


def _with_temperatures(readings: list[PastReading]) -> list[PastReading]:
    """A value without a temperature of its own has that of the same place, time and depth, where the file gives one."""
    read = {(r.site.id, r.at, r.depth_m): r.value for r in readings if r.quantity == "temperature"}
    return [
        r
        if r.temperature_c is not None
        else r._replace(
            temperature_c=r.value if r.quantity == "temperature" else read.get((r.site.id, r.at, r.depth_m))
        )
        for r in readings
    ]


Key = tuple[uuid.UUID, str, float | None, datetime]


def _each_once(session: Session, readings: list[PastReading]) -> tuple[list[PastReading], list[RowFault]]:
    if not readings:
        return [], []
    seen: dict[Key, int] = dict.fromkeys(_in_record(session, readings), 0)
    once: list[PastReading] = []
    twice: list[RowFault] = []
    for reading in readings:
        key = (reading.site.id, reading.quantity, reading.depth_m, reading.at)
        if key in seen:
            where = f"in line {seen[key]} already" if seen[key] else "in the record already"
            twice.append(
                RowFault(reading.line, f"{quantity_names.title(reading.quantity)} of this site and time is {where}.")
            )
        else:
            seen[key] = reading.line
            once.append(reading)
    wrong = {fault.line for fault in twice}
    return [reading for reading in once if reading.line not in wrong], twice


def _in_record(session: Session, readings: list[PastReading]) -> Iterator[Key]:
    """The keys of what stands in the record of these sites in this time."""
    first, last = min(r.at for r in readings), max(r.at for r in readings)
    query = select(Reading.site_id, Reading.quantity, Reading.depth_m, Reading.at).where(
        Reading.site_id.in_({r.site.id for r in readings}), Reading.at >= first, Reading.at <= last, is_standing()
    )
    for site_id, quantity, depth_m, at in session.execute(query.execution_options(yield_per=5000)):
        yield site_id, quantity, depth_m, at.astimezone(UTC)


def by_visit(readings: list[PastReading]) -> Iterator[list[PastReading]]:
    """The readings of each visit: of one site, close to each other, each quantity once a depth."""
    group: list[PastReading] = []
    seen: set[tuple[str, float | None]] = set()
    for reading in sorted(readings, key=lambda r: (r.site.id, r.at, r.line)):
        what = (reading.quantity, reading.depth_m)
        if group and (
            reading.site.id != group[0].site.id
            or reading.at - group[-1].at > CLOSE
            or reading.at - group[0].at > LONGEST_VISIT
            or what in seen
        ):
            yield group
            group, seen = [], set()
        group.append(reading)
        seen.add(what)
    if group:
        yield group
