"""The shape of a logger's file as far as the file itself shows it."""

from __future__ import annotations

import csv
import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import replace

from brumel.core.errors import InputError
from brumel.core.units import UNITS, apart
from brumel.formats.logger_files.dates import looks_like, orders_of
from brumel.formats.logger_files.shape import OFFSETS, Guess, Shape, ShapeColumn

_MARKS = (";", "\t", ",", "|")
#: Lines that are looked at closely at the beginning and at the end.
_HEAD, _TAIL = 400, 30
_NUMBER = re.compile(r"^[+\-−]?(?:\d[\d.,' ]*|[.,]\d+)(?:[eE][+-]?\d+)?$")
#: What a heading may say of a column's quantity, the first that fits; common words of the trade, no source.
_NAMES: tuple[tuple[str, str], ...] = (
    (r"batt|volt|supply", "battery"),
    (r"\bph\b", "ph"),
    (r"orp|redox|\beh\b", "redox"),
    (r"temp|°c|°f|deg ?c", "temperature"),
    (r"%\s*sat|saturation|%", ""),
    (r"oxygen|\bdo\b|\bo2\b|sauerstoff", "oxygen"),
    (r"cond|\bec\b|\bsc\b|spc|µs|us/cm|ms/cm", "conductivity"),
    (r"salin|psu|\bsal\b", "salinity"),
    (r"baro|air ?pres|atmos|hpa|mmhg", "air_pressure"),
    (r"level|depth|stage", "water_level"),
    (r"no3|nitrate", "nitrate"),
    (r"nh4|ammoni", "ammonium"),
    (r"chlor|\bcl2\b|\bfcl\b", "chlorine"),
)
_UNIT_WORDS = {u.lower() for units in UNITS.values() for u in units} | {
    "c", "f", "degc", "degf", "us/cm", "ms/cm", "mg/l", "ph", "mv", "v", "hpa", "kpa", "mmhg", "m", "cm", "ft", "%", "% sat",
    "psu", "ppt", "ppm", "ntu", "fnu", "µs/cm", "s", "min",
}  # fmt: skip


def decode(data: bytes) -> tuple[str, str]:
    """The text of a file and its encoding: by its mark, as UTF-8, else as Western Windows. Raises InputError for none."""
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        encoding = "utf-16"
    elif data[:3] == b"\xef\xbb\xbf":
        encoding = "utf-8-sig"
    else:
        encoding = "utf-8"
    try:
        text = data.decode(encoding)
    except UnicodeDecodeError:
        encoding = "cp1252"
        try:
            text = data.decode(encoding)
        except UnicodeDecodeError:
            raise InputError("file", "The file is no text. Save it from the logger's program as CSV.") from None
    if "\x00" in text:
        raise InputError("file", "The file is no text. Save it from the logger's program as CSV.")
    return text, encoding


def sniff(data: bytes) -> Guess:
    """What a file shows of its shape. Raises InputError where it holds no table of times and numbers."""
    text, encoding = decode(data)
    lines = text.splitlines()
    if len(lines) < 3:
        raise InputError("file", "The file holds fewer than three lines.")
    delimiter, rows = _cut(lines[:_HEAD])
    first, width = _first_record(rows)
    body = [row for row in rows[first : first + 60] if len(row) == width]
    date, time = _places_of_time(body)
    last = _lines_behind(lines, delimiter, width, date)
    heads, units = _heads(rows[:first], width)
    decimal, thousands = _decimal(body, delimiter, {date, time})
    stamps = [_stamp(row, date, time) for row in _spread(lines, delimiter, first, last, width)]
    orders = orders_of(stamps)
    if not orders:
        raise InputError("file", f"“{stamps[0][:40]}” is no date that is known here.")
    quantities = tuple("" if i in (date, time) else _quantity(heads[i], units[i]) for i in range(width))
    columns, taken = list[ShapeColumn](), set[str]()
    for i, quantity in enumerate(quantities):
        if quantity and quantity not in taken:
            taken.add(quantity)
            columns.append(ShapeColumn(i, quantity, units[i]))
    told = []
    if first - 1 > 0:
        told.append(f"{first - 1} line{'s' if first > 2 else ''} before the table")
    if last:
        told.append(f"{last} line{'s' if last > 1 else ''} behind it")
    zone = _zone(lines[:first], stamps)
    order = orders[0] if len(orders) == 1 else ""
    shape = Shape(encoding, delimiter, decimal, thousands, first, last, date, time, order, zone, tuple(columns))
    shown = tuple(tuple(cell[:40] for cell in row) for row in body[:6])
    return Guess(shape, orders, heads, units, shown, tuple(told))


def refit(guess: Guess, known: Shape) -> Guess:
    """A guess with what was said of the same instrument's file before, where the columns are still the same."""
    same = (
        known.date == guess.shape.date and known.time == guess.shape.time and known.delimiter == guess.shape.delimiter
    )
    if not same or any(c.place >= len(guess.heads) for c in known.columns):
        return guess
    order = known.order if known.order in guess.orders else guess.shape.order
    zone = guess.shape.zone if guess.shape.zone == OFFSETS else known.zone
    return replace(guess, shape=replace(guess.shape, order=order, zone=zone, columns=known.columns))


def _cells(line: str, delimiter: str) -> list[str]:
    return [cell.strip() for cell in next(csv.reader([line], delimiter=delimiter), [])]


def _cut(lines: Sequence[str]) -> tuple[str, list[list[str]]]:
    """The mark that cuts most lines into as many cells, where one of them is a time."""
    best: tuple[float, str, list[list[str]]] | None = None
    for mark in _MARKS:
        rows = [_cells(line, mark) for line in lines]
        counts = Counter(len(row) for row in rows if len(row) > 1)
        if not counts:
            continue
        width, often = counts.most_common(1)[0]
        timed = sum(any(looks_like(cell) for cell in row[:4]) for row in rows if len(row) == width)
        score = timed + often / 1000
        if timed and (best is None or score > best[0]):
            best = (score, mark, rows)
    if best is None:
        raise InputError("file", "The file holds no table with a time and values in columns.")
    return best[1], best[2]


def _first_record(rows: list[list[str]]) -> tuple[int, int]:
    """The line of the first record, and how many cells a record has."""
    width = Counter(len(row) for row in rows if len(row) > 1).most_common(1)[0][0]
    for number in range(len(rows)):
        follow = rows[number : number + 3]
        if all(len(r) == width and any(looks_like(c) for c in r[:4]) for r in follow):
            return number, width
    raise InputError("file", "The file holds no records: no lines that begin with a time.")


def _places_of_time(body: list[list[str]]) -> tuple[int, int | None]:
    kinds = []
    for place in range(min(6, len(body[0]))):
        found = Counter(looks_like(row[place]) for row in body).most_common(1)[0][0]
        kinds.append(found)
    whole = next((i for i, kind in enumerate(kinds) if kind == "both"), None)
    if whole is not None:
        return whole, None
    day = next((i for i, kind in enumerate(kinds) if kind == "date"), None)
    clock = next((i for i, kind in enumerate(kinds) if kind == "time"), None)
    if day is not None and clock is not None:
        return day, clock
    counted = next((i for i, kind in enumerate(kinds) if kind == "count"), None)
    if counted is not None:
        return counted, None
    if day is not None:
        raise InputError("file", "The file has days, but no time of day beside them.")
    raise InputError("file", "The file has no column with a date and a time.")


def _lines_behind(lines: list[str], delimiter: str, width: int, date: int) -> int:
    """Lines at the end that are no records."""
    behind = 0
    for line in reversed(lines[-_TAIL:]):
        row = _cells(line, delimiter)
        if len(row) == width and looks_like(row[date]):
            break
        behind += 1
    return behind


def _heads(before: list[list[str]], width: int) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """What the columns are called and their units, from the lines right before the records."""
    tables = [row for row in before[-4:] if len(row) >= max(2, width - 1)]
    names = [f"column {i + 1}" for i in range(width)]
    units = [""] * width
    if tables and _is_units(tables[-1]) and len(tables) > 1:
        unit_row, tables = tables[-1], tables[:-1]
        units = [_unit(cell) for cell in (*unit_row, *[""] * width)[:width]]
    if tables:
        head = (*tables[-1], *[""] * width)[:width]
        names = [cell[:80] or names[i] for i, cell in enumerate(head)]
        units = [units[i] or _unit_in(cell) for i, cell in enumerate(head)]
    return tuple(names), tuple(units)


def _is_units(row: list[str]) -> bool:
    cells = [cell.strip("[]() ").lower() for cell in row if cell]
    return bool(cells) and sum(cell in _UNIT_WORDS for cell in cells) * 2 >= len(cells)


def _unit(cell: str) -> str:
    text = cell.strip("[]() ")
    found = apart(f"1 {text}", ("ppm", "ppt", "psu", "%"))[1] if text else ""
    return found if found.lower() in _UNIT_WORDS or found in ("pH", "µS/cm", "mS/cm") else ""


def _unit_in(head: str) -> str:
    inside = re.findall(r"[\[(]([^\])]{1,20})[\])]", head)
    for text in (*reversed(inside), *re.split(r"[\s,_;]+", head)[1:]):
        if unit := _unit(text):
            return unit
    return ""


def _quantity(head: str, unit: str) -> str:
    text = f"{head} {unit}".lower().replace("_", " ")
    if unit == "mg/L" and re.search(r"\bdo\b|oxygen|o2", text):
        return "oxygen"
    for pattern, quantity in _NAMES:
        if re.search(pattern, text):
            return quantity
    return ""


def _decimal(body: list[list[str]], delimiter: str, times: set[int | None]) -> tuple[str, str]:
    """The decimal sign and the one between thousands, "" where there is none."""
    cells = [c for row in body for i, c in enumerate(row) if i not in times and _NUMBER.match(c)]
    commas = sum("," in c for c in cells)
    if any(re.match(r"^[+-]?\d{1,3}(?:\.\d{3})+,\d+$", c) for c in cells):
        return ",", "."
    if any(re.match(r"^[+-]?\d{1,3}(?:,\d{3})+\.\d+$", c) for c in cells):
        return ".", ","
    return (
        "," if commas and (delimiter != "," or commas == len(cells)) and not any("." in c for c in cells) else "."
    ), ""


def _stamp(row: list[str], date: int, time: int | None) -> str:
    return row[date] if time is None else f"{row[date]} {row[time]}"


def _spread(lines: list[str], delimiter: str, first: int, last: int, width: int) -> list[list[str]]:
    """Records from all over the file, at least one of each day of a month where it is that long."""
    body = lines[first : len(lines) - last]
    every = max(1, len(body) // 4000)
    rows = [_cells(line, delimiter) for line in (*body[:50], *body[50::every])]
    return [row for row in rows if len(row) == width]


def _zone(before: Sequence[str], stamps: Sequence[str]) -> str:
    """What the file says of its clock: offsets beside the times, or UTC or an offset in the lines above."""
    if all(re.search(r"(?:Z|[+-]\d{2}:?\d{2})$", stamp) for stamp in stamps[:20]):
        return OFFSETS
    text = " ".join(before)
    found = re.search(r"\b(?:UTC|GMT)\s*([+-]\d{1,2})(?::?(\d{2}))?\b", text, re.IGNORECASE)
    if found:
        return f"UTC{found[1][0]}{int(found[1][1:]):02d}:{found[2] or '00'}"
    return "UTC" if re.search(r"\bUTC\b|\bGMT\b", text) else ""
