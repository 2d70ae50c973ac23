"""What an audit entry changed, as lines for a page: before and after, what was made, and which evidence was added."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

LONGEST = 120


def lines(changes: Mapping[str, Any]) -> list[str]:
    """One line a column that changed, a row that was made, added or removed."""
    found = [
        f"{row}, {column}: {_short(before)} → {_short(after)}"
        for row, columns in changes.get("changed", {}).items()
        for column, (before, after) in columns.items()
    ]
    for row, columns in changes.get("made", {}).items():
        filled = ", ".join(
            f"{column}: {_short(value)}" for column, value in columns.items() if value not in (None, "", {}, [])
        )
        found.append(f"made {row} ({filled})")
    found += [f"added {row}" for row in changes.get("added", ())]
    found += [f"added {count} rows of {table}" for table, count in changes.get("many", {}).items()]
    return found + [f"removed {gone['row']}" for gone in changes.get("removed", ())]


def _short(value: Any) -> str:
    text = "nothing" if value in (None, "") else str(value)
    return text if len(text) <= LONGEST else f"{text[:LONGEST]}…"
