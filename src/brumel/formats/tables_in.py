"""Tables as they come from outside, CSV, XLSX, GeoJSON or of a data package: columns by name, cells as text."""

from __future__ import annotations

import csv
import io
import json
import zipfile
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, datetime
from typing import Any

from brumel.core.errors import InputError

MOST_BYTES = 40_000_000
MOST_ROWS = 200_000
MOST_COLUMNS = 200
LONGEST_CELL = 2_000
#: What the sheets of a workbook may come to once they are unpacked [bytes].
MOST_UNPACKED = 400_000_000
_MARKS = (";", "\t", ",", "|")


@dataclass(frozen=True)
class TableIn:
    """A table that came: what its columns are called, and its rows with their line numbers. Cells are trimmed text."""

    columns: tuple[str, ...]
    rows: tuple[tuple[int, tuple[str, ...]], ...]


def read_table(data: bytes, name: str, of: str = "") -> TableIn:
    """The table in a file; the first line names the columns. Raises InputError for whatever is no table.

    name : what the file is called; .xlsx is a workbook, whose first sheet counts; .zip a data package; .geojson points; all
        else is text
    of : which table of a data package is meant
    """
    if len(data) > MOST_BYTES:
        raise InputError("file", f"The file has {len(data) / 1e6:.0f} MB; {MOST_BYTES / 1e6:.0f} MB are taken.")
    if name.lower().endswith(".zip"):
        return _of_package(data, of)
    if name.lower().endswith((".geojson", ".json")):
        return _of_geojson(data)
    return _checked(_of_workbook(data) if name.lower().endswith(".xlsx") else _of_text(data))


def _checked(lines: Iterator[tuple[int, tuple[str, ...]]]) -> TableIn:
    head: tuple[str, ...] = ()
    rows: list[tuple[int, tuple[str, ...]]] = []
    for number, cells in lines:
        if not any(cells):
            continue
        if not head:
            head = _checked_head(cells)
            continue
        if len(rows) >= MOST_ROWS:
            raise InputError("file", f"The file has over {MOST_ROWS:,} rows; split it.")
        if any(cells[len(head) :]):
            raise InputError(
                "file", f"Line {number} has more cells than there are columns. Is a separator inside a cell?"
            )
        if any(len(cell) > LONGEST_CELL for cell in cells):
            raise InputError("file", f"Line {number} has a cell of over {LONGEST_CELL:,} characters.")
        rows.append((number, (*cells[: len(head)], *("",) * (len(head) - len(cells)))))
    if not rows:
        raise InputError("file", "The file has no rows below its first line.")
    return TableIn(head, tuple(rows))


def _checked_head(cells: tuple[str, ...]) -> tuple[str, ...]:
    names = list(cells)
    while names and not names[-1]:
        names.pop()
    if len(names) < 2:
        raise InputError("file", "The file is not a table with several columns; the first line must name them.")
    if len(names) > MOST_COLUMNS:
        raise InputError("file", f"The file has over {MOST_COLUMNS} columns.")
    if "" in names:
        raise InputError("file", f"Column {names.index('') + 1} has no name in the first line.")
    twice = next((name for name in names if names.count(name) > 1), "")
    if twice:
        raise InputError("file", f"Two columns are called “{twice[:40]}”.")
    return tuple(name[:120] for name in names)


def _of_text(data: bytes) -> Iterator[tuple[int, tuple[str, ...]]]:
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise InputError("file", "The file is not UTF-8 text. Save it as CSV UTF-8, or as XLSX.") from None
    if "\x00" in text:
        raise InputError("file", "The file is not a table of text.")
    first = text.splitlines()[0] if text.strip() else ""
    mark = max(_MARKS, key=first.count)
    if not first.count(mark):
        raise InputError("file", "The file is not a table with several columns; the first line must name them.")
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=mark)
    try:
        for cells in rows:
            yield rows.line_num, tuple(cell.strip() for cell in cells)
    except csv.Error as error:
        raise InputError("file", f"Line {rows.line_num}: a cell cannot be read ({error}).") from None


def _of_package(data: bytes, of: str) -> TableIn:
    """The table of a data package that is called so. Rows that name a site by its id get a column with its name, too."""
    wrong = InputError("file", "The file is not a data package: a ZIP with datapackage.json and CSV tables in it.")
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            if sum(part.file_size for part in packed.infolist()) > MOST_UNPACKED:
                raise InputError("file", "The package is larger than any table that is taken here.")
            descriptor = json.loads(packed.read("datapackage.json"))
            paths = {str(each["name"]): str(each["path"]) for each in descriptor["resources"]}
            if of not in paths:
                raise InputError("file", f"The package has no table “{of}”; it has {', '.join(sorted(paths))[:200]}.")
            table = _checked(_of_text(packed.read(paths[of])))
            if "site_id" in table.columns and "site" not in table.columns and "sites" in paths:
                return _with_sites(table, _checked(_of_text(packed.read(paths["sites"]))))
            return table
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError, RuntimeError, NotImplementedError) as error:
        raise wrong from error


def _of_geojson(data: bytes) -> TableIn:
    """The points of a GeoJSON file as rows: their properties, and latitude, longitude and altitude in columns."""
    wrong = InputError("file", "The file is not GeoJSON: a FeatureCollection of points with properties.")
    try:
        body = json.loads(data.decode("utf-8-sig"))
        features = body["features"] if body["type"] == "FeatureCollection" else None
        if not isinstance(features, list) or not features:
            raise wrong
        if len(features) > MOST_ROWS:
            raise InputError("file", f"The file has over {MOST_ROWS:,} features; split it.")
        rows = [_feature(feature) for feature in features]
    except (UnicodeDecodeError, KeyError, TypeError, ValueError, AttributeError, RecursionError) as error:
        raise wrong from error
    columns = tuple(dict.fromkeys(name[:120] for row in rows for name in row))
    if not 2 <= len(columns) <= MOST_COLUMNS:
        raise InputError("file", f"The file must have 2 to {MOST_COLUMNS} properties in all.")
    numbered = enumerate((tuple(row.get(name, "")[:LONGEST_CELL] for name in columns) for row in rows), 1)
    return TableIn(columns, tuple(numbered))


def _feature(feature: Any) -> dict[str, str]:
    row = {str(key): _text(value) for key, value in (feature["properties"] or {}).items() if _is_plain(value)}
    place = feature.get("geometry")
    if place is not None:
        if place["type"] != "Point":
            raise ValueError
        named = zip(("longitude", "latitude", "altitude"), place["coordinates"], strict=False)
        row |= {name: _text(float(value)) for name, value in named}
    return row


def _is_plain(value: Any) -> bool:
    return value is None or isinstance(value, (str, int, float, bool))


def _with_sites(table: TableIn, sites: TableIn) -> TableIn:
    at = {name: place for place, name in enumerate(sites.columns)}
    if not {"id", "name", "client"} <= set(at):
        return table
    names = {cells[at["id"]]: f"{cells[at['client']]}: {cells[at['name']]}" for _, cells in sites.rows}
    id_at = table.columns.index("site_id")
    rows = tuple((line, (*cells, names.get(cells[id_at], ""))) for line, cells in table.rows)
    return TableIn((*table.columns, "site"), rows)


def _of_workbook(data: bytes) -> Iterator[tuple[int, tuple[str, ...]]]:
    from openpyxl import load_workbook  # heavy to import; only a workbook pays for it

    wrong = InputError("file", "The file is not a workbook that can be opened. Save it as XLSX, or as CSV UTF-8.")
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            if sum(part.file_size for part in packed.infolist()) > MOST_UNPACKED:
                raise InputError("file", "The workbook is larger than any table that is taken here.")
        book = load_workbook(io.BytesIO(data), read_only=True, data_only=True, keep_links=False)
        sheet = book.worksheets[0]
        for number, cells in enumerate(sheet.iter_rows(values_only=True), 1):
            yield number, tuple(_text(cell) for cell in cells)
    except InputError:
        raise
    except Exception as error:  # whatever a broken or hostile workbook makes its reader raise
        raise wrong from error


def _text(cell: Any) -> str:
    """A cell as it would stand in a CSV; a date cell in ISO 8601, a number without what binary adds to it."""
    if cell is None:
        return ""
    if isinstance(cell, bool):
        return "true" if cell else "false"
    if isinstance(cell, (datetime, date)):
        return cell.isoformat()
    if isinstance(cell, float):
        return f"{cell:.15g}"
    return str(cell).replace("\x00", "").strip()
