"""What an audit entry holds of the evidence it added: a print of its rows, so that a value changed later is found."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from functools import cache, lru_cache

from sqlalchemy import LargeBinary, Table, TextClause, bindparam, text
from sqlalchemy.dialects import postgresql
from sqlalchemy.orm import Session
from sqlalchemy.types import DateTime

from brumel.store.base import Base

_DIALECT = postgresql.dialect()


def by_table(names: Iterable[str]) -> dict[str, list[str]]:
    """Names of rows, as "readings:5a…", by their tables."""
    found = defaultdict(list)
    for name in names:
        table, _, key = name.partition(":")
        found[table].append(key)
    return dict(found)


def prints(session: Session, names: Iterable[str]) -> dict[str, str]:
    """A print of the rows as they stand, by table; all asked at once."""
    asked = by_table(names)
    if not asked:
        return {}
    rows = {f"rows_{n}": keys for n, keys in enumerate(asked.values())}
    return dict(session.execute(_prints_of(tuple(asked)), rows).tuples().all())


@lru_cache(maxsize=512)
def _prints_of(tables: tuple[str, ...]) -> TextClause:
    """Put together once for what is written together: every write asks for it."""
    one_each = [f"select '{table}' as name, {print_of(table, f':rows_{n}')} as print" for n, table in enumerate(tables)]
    keys = (bindparam(f"rows_{n}", type_=postgresql.ARRAY(postgresql.TEXT)) for n in range(len(tables)))
    return text(" union all ".join(one_each)).bindparams(*keys)


@cache
def print_of(table: str, names: str) -> str:
    """SQL of the print of rows: `names` is SQL of an array of their keys, parts of a key with a slash between.

    Each row is taken as JSON without what is empty, so that a column added by a later version changes no print; times are in
    UTC whoever asks, and files go in by a print of their own.
    """
    of = Base.metadata.tables[table]
    columns = ", ".join(_column(of, name) for name in sorted(of.columns.keys()))
    same = " and ".join(
        f"t.{column.name} = split_part(n, '/', {place})::{column.type.compile(_DIALECT)}"
        for place, column in enumerate(of.primary_key.columns, 1)
    )
    row = f"(select jsonb_strip_nulls(to_jsonb(r)) from (select {columns}) r)"  # noqa: S608 - names of our own tables
    each = f"encode(sha256(convert_to({row}::text, 'UTF8')), 'hex')"
    of_all = f"coalesce(string_agg({each}, ',' order by n collate \"C\"), '')"
    found = f"unnest({names}) n join {table} t on {same}"
    return f"(select encode(sha256(convert_to({of_all}, 'UTF8')), 'hex') from {found})"  # noqa: S608 - as above


def _column(of: Table, name: str) -> str:
    kind, quoted = of.columns[name].type, f't."{name}"'
    if isinstance(kind, LargeBinary):
        return f"encode(sha256({quoted}), 'hex') as \"{name}\""
    if isinstance(kind, DateTime):
        return f"({quoted} at time zone 'UTC') as \"{name}\""
    return quoted
