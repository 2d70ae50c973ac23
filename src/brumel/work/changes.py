"""What a write changed, row by row: what was before and after, kept with its audit entry."""

from __future__ import annotations

import hashlib
from collections import Counter
from collections.abc import Mapping, Sequence
from types import TracebackType
from typing import Any, Self

from pydantic_core import to_jsonable_python
from sqlalchemy import Column, event, inspect
from sqlalchemy.orm import Session

from brumel.store.rights import EVIDENCE

#: Columns whose content is kept by nobody but their own row; that they changed is said.
SECRET = frozenset({"password_hash", "stamp", "token_hash", "secret", "totp_secret"})
#: Not told about: the audit itself, the keys, and what is measured by the thousand.
UNTOLD = frozenset({"audit", "write_keys", "samples"})
#: Rows of a table that are named one by one; of more, only how many.
MOST_NAMED = 20_000


class Changes:
    """Listens to a session while a use case writes.

    Evidence that was added is named only, for it stands in its own row; of everything else each column before and after
    is kept, secret ones as a word.
    """

    def __init__(self, session: Session) -> None:
        self._session = session
        self._changed: dict[tuple[str, str], dict[str, list[Any]]] = {}
        self._removed: list[dict[str, Any]] = []
        self._made: list[Any] = []

    def __enter__(self) -> Self:
        event.listen(self._session, "before_flush", self._look)
        return self

    def __exit__(self, kind: type[BaseException] | None, _: BaseException | None, __: TracebackType | None) -> None:
        event.remove(self._session, "before_flush", self._look)

    def _look(self, session: Session, *_: Any) -> None:
        self._made += list(session.new)
        for row in session.dirty:
            if session.is_modified(row):
                self._note(row)
        for row in session.deleted:
            self._removed.append({"row": _name(row), "before": _columns(row)})

    def _note(self, row: Any) -> None:
        table, state = row.__tablename__, inspect(row)
        if table in UNTOLD:
            return
        changed = self._changed.setdefault((table, _key(row)), {})
        for name in _names(row):
            history = state.attrs[name].history
            if history.has_changes():
                before = changed[name][0] if name in changed else _told(name, (history.deleted or [None])[0])
                changed[name] = [before, _told(name, (history.added or [None])[0])]

    def as_dict(self, in_bulk: Mapping[str, Sequence[str]]) -> dict[str, Any]:
        """What is kept; `in_bulk` are rows of evidence a statement added past the session, {table: keys}.

        {"changed": {row: {column: [before, after]}}, "made": {row: columns}, "added": [row], "many": ...}."""
        made, added, few = {}, [], Counter(row.__tablename__ for row in self._made)
        many = {table: count for table, count in few.items() if count > MOST_NAMED and table not in UNTOLD}
        for row in self._made:
            if row.__tablename__ in UNTOLD or row.__tablename__ in many:
                continue
            if row.__tablename__ in EVIDENCE:
                added.append(_name(row))
            else:
                made[_name(row)] = _columns(row)
        for table, keys in in_bulk.items():
            if len(keys) + few[table] > MOST_NAMED:
                many[table] = len(keys) + few[table]
            else:
                added += [f"{table}:{key}" for key in keys]
        told = {
            "changed": {f"{table}:{key}": columns for (table, key), columns in self._changed.items() if columns},
            "made": made,
            "added": sorted(added),
            "many": many,
            "removed": self._removed,
        }
        return {word: what for word, what in told.items() if what}


def _names(row: Any) -> list[str]:
    return [one.key for one in inspect(row).mapper.column_attrs if isinstance(one.columns[0], Column)]


def _key(row: Any) -> str:
    state = inspect(row)
    values = state.identity or state.mapper.primary_key_from_instance(row)
    named = zip((column.key for column in state.mapper.primary_key), values, strict=True)
    return "/".join(_print(value) if name in SECRET else str(value) for name, value in named)


def _print(value: Any) -> str:
    """What tells one secret from another, and is none."""
    return hashlib.sha256(str(value).encode()).hexdigest()[:12]


def _name(row: Any) -> str:
    return f"{row.__tablename__}:{_key(row)}"


def _columns(row: Any) -> dict[str, Any]:
    return {name: _told(name, getattr(row, name)) for name in _names(row)}


def _told(name: str, value: Any) -> Any:
    if name in SECRET:
        return "not shown" if value else ""
    if isinstance(value, bytes):
        return f"{len(value)} bytes"
    return to_jsonable_python(value, inf_nan_mode="strings", fallback=str)
