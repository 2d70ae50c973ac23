"""A table as a spreadsheet workbook (Office Open XML), written row by row."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

#: A sheet of the format holds no more rows than this, the header among them.
MOST_ROWS = 1_048_576
_PIECE = 64 * 1024


def write_workbook(
    columns: Sequence[str], rows: Iterable[Mapping[str, Any]], title: str, about: Mapping[str, str]
) -> Iterator[bytes]:
    """The file in pieces. Text is never a formula, a number never a text; the second sheet says what each column holds.

    Only one row at a time is in memory: the workbook grows in a file that is gone when the last piece was taken.
    """
    import xlsxwriter

    with tempfile.TemporaryDirectory() as room:
        path = os.path.join(room, "table.xlsx")
        # Without its conversions a text that looks like a number, a formula or a link stays a text.
        options = {
            "constant_memory": True,
            "tmpdir": room,
            "strings_to_formulas": False,
            "strings_to_urls": False,
            "strings_to_numbers": False,
        }
        with xlsxwriter.Workbook(path, options) as book:
            head = book.add_format({"bold": True})
            sheet = book.add_worksheet(title[:31])
            sheet.freeze_panes(1, 0)
            for at, name in enumerate(columns):
                sheet.write_string(0, at, name, head)
            for line, row in enumerate(rows, 1):
                for at, name in enumerate(columns):
                    _write(sheet, line, at, row.get(name))
            columns_sheet = book.add_worksheet("columns")
            columns_sheet.set_column(0, 0, 28)
            columns_sheet.set_column(1, 1, 90)
            for line, name in enumerate(columns):
                columns_sheet.write_string(line, 0, name)
                columns_sheet.write_string(line, 1, about.get(name, ""))
        with open(path, "rb") as file:
            while piece := file.read(_PIECE):
                yield piece


def _write(sheet: Any, line: int, at: int, value: Any) -> None:
    if value is None or value == "":
        return
    if isinstance(value, bool) or not isinstance(value, (int, float)):
        sheet.write_string(line, at, str(value).replace("\x00", ""))
    else:
        sheet.write_number(line, at, value)
