"""CSV that opens safely in a spreadsheet [RFC 4180]."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any

_FORMULA_STARTS = ("=", "+", "-", "@", "\t", "\r", "\n", "|")


def safe_cell(value: Any) -> Any:
    """Numbers as they are; text that a spreadsheet would run as a formula gets a leading apostrophe."""
    if isinstance(value, str):
        text = value.replace("\x00", "")
        return "'" + text if text.lstrip(" \u00a0").startswith(_FORMULA_STARTS) or text[:1] in _FORMULA_STARTS else text
    return value


def write_rows(columns: Sequence[str], rows: Iterable[Mapping[str, Any]]) -> Iterator[str]:
    """The file in pieces: a header line, then a line a row."""
    buffer = io.StringIO()
    writer = csv.writer(buffer)
    writer.writerow(columns)
    yield buffer.getvalue()
    for row in rows:
        buffer.seek(0)
        buffer.truncate()
        writer.writerow([safe_cell(row.get(c)) if row.get(c) is not None else "" for c in columns])
        yield buffer.getvalue()
