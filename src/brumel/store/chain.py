"""Walking the record: the chain of audit rows, the versions of what is corrected, and that everything named is there."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, LiteralString

import psycopg
from psycopg import sql

from brumel.store.held import print_of

#: What is hashed of a row, as migration 0026 has it; worked out anew here, so that neither side is believed alone.
_LINKS: LiteralString = (
    "select seq, hash, jsonb_build_array(seq, to_char(at at time zone 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US'), user_id, "
    "action, subject, detail, changes, key)::text from audit order by seq"
)
#: What is kept in versions: {table: what its versions are of}. They count from 1 without a gap.
VERSIONED: dict[LiteralString, LiteralString] = {
    "readings": "root_id",
    "points": "run_id, step",
    "site_terms": "site_id",
    "logger_decisions": "series_id",
    "deployment_services": "root_id",
    "deployment_corrections": "channel_id",
}


@dataclass(frozen=True)
class Anchor:
    """A place in the chain to hold on to: kept elsewhere, it shows later that nothing before it was rewritten."""

    seq: int
    hash: str

    def __str__(self) -> str:
        return f"{self.seq}:{self.hash}"

    @classmethod
    def read(cls, text: str) -> Anchor:
        """An anchor as it was printed. Raises ValueError."""
        seq, _, digest = text.strip().partition(":")
        if not seq.isascii() or not seq.isdigit() or len(digest) != 64 or set(digest) - set("0123456789abcdef"):
            raise ValueError(f"“{text[:80]}” is no anchor; it looks like 1204:9f… with 64 digits behind the colon.")
        return cls(int(seq), digest)


@dataclass(frozen=True)
class Walked:
    """What a walk found: how many links, the last of them, and the first that is broken, empty where none is."""

    links: int
    last: Anchor | None
    broken: str = ""


class _Broken(Exception):
    """The first broken link, in words."""


def newest_anchor(url: str) -> Anchor | None:
    """The end of the chain as it stands; None while nothing was written."""
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        row = connection.execute("select seq, hash from audit order by seq desc limit 1").fetchone()
    return Anchor(*row) if row else None


def walk(url: str, anchors: list[Anchor] | None = None, told: Callable[[str], None] = lambda _: None) -> Walked:
    """Walk all of it, as it stood at one moment. It stops at the first broken link and names it."""
    count, last = 0, None
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        connection.execute("set transaction isolation level repeatable read read only")
        try:
            told("the audit chain")
            for count, last in enumerate(_chain(connection, {a.seq: a for a in anchors or ()}), 1):  # noqa: B007
                pass
            told("what the entries name")
            _added(connection)
            for table, of in VERSIONED.items():
                told(f"versions of {table}")
                _versions(connection, table, of)
            told("what rows name")
            _references(connection)
            told("what was added stands as it was")
            _held(connection)
            _unnamed(connection)
        except _Broken as broken:
            return Walked(count, last, str(broken))
    return Walked(count, last)


def _chain(connection: psycopg.Connection[Any], anchors: dict[int, Anchor]) -> Iterator[Anchor]:
    before, expected, newest = "", 1, 0
    with connection.cursor(name="chain") as cursor:
        cursor.itersize = 2000
        for seq, digest, text in cursor.execute(_LINKS):
            if seq != expected:
                raise _Broken(f"Audit entry {expected} is missing; entry {seq} comes in its place.")
            if hashlib.sha256((before + text).encode()).hexdigest() != digest:
                raise _Broken(f"Audit entry {seq} is not what was written, or the one before it is not.")
            if seq in anchors and anchors[seq].hash != digest:
                raise _Broken(f"Audit entry {seq} is not the one its anchor was taken of: the chain was written anew.")
            yield Anchor(seq, digest)
            before, expected, newest = digest, seq + 1, seq
    if gone := [seq for seq in anchors if seq > newest]:
        raise _Broken(f"The chain ends at entry {newest}, before entry {min(gone)} of an anchor: its end was cut off.")


def _added(connection: psycopg.Connection[Any]) -> None:
    """Evidence that an entry says was added is there."""
    named = connection.execute(
        "select distinct split_part(a.value, ':', 1) from audit, jsonb_array_elements_text(changes->'added') a"
    ).fetchall()
    for (table,) in sorted(named):
        key = _key(connection, table)
        if not key:
            raise _Broken(f"An audit entry names rows of “{table}”, which is no table here.")
        name = sql.SQL(" || '/' || ").join(sql.SQL("t.{}::text").format(sql.Identifier(column)) for column in key)
        query = sql.SQL(
            "select audit.seq, a.value from audit, jsonb_array_elements_text(changes->'added') a "
            "where a.value like {} and not exists (select from {} t where {} = substr(a.value, {})) order by 1 limit 1"
        ).format(sql.Literal(f"{table}:%"), sql.Identifier(table), name, sql.Literal(len(table) + 2))
        if found := connection.execute(query).fetchone():
            raise _Broken(f"Audit entry {found[0]} says that {found[1]} was added; it is not there.")


def _held(connection: psycopg.Connection[Any]) -> None:
    """Evidence stands as it was written: the print of its rows is the one its entry holds."""
    tables = connection.execute(
        "select distinct jsonb_object_keys(changes->'held') from audit where changes ? 'held'"
    ).fetchall()
    for (table,) in sorted(tables):
        rows = sql.SQL(
            "array(select substr(a, {}) from jsonb_array_elements_text(e.changes->'added') a where a like {})"
        ).format(sql.Literal(len(table) + 2), sql.Literal(f"{table}:%"))
        query = sql.SQL(
            "select e.seq, {rows} from audit e where e.changes->'held' ? {table} "
            "and e.changes->'held'->>{table} is distinct from {print} order by 1 limit 1"
        ).format(rows=rows, table=sql.Literal(table), print=sql.SQL(print_of(table, rows.as_string(connection))))
        if found := connection.execute(query).fetchone():
            seq, keys = found
            named = ", ".join(f"{table}:{key}" for key in keys[:3]) + (" and more" if len(keys) > 3 else "")
            raise _Broken(f"Audit entry {seq} added {named}; what stands there is not what was written.")


#: Tables of which every row is named by the entry of its write.
ALL_NAMED = ("calibrations", "decisions", "documents", "points", "readings", "signatures")


def _unnamed(connection: psycopg.Connection[Any]) -> None:
    """Nobody wrote evidence past the audit: each row of what weighs most is named by an entry."""
    for table in ALL_NAMED:
        key = sql.SQL(" || '/' || ").join(
            sql.SQL("t.{}::text").format(sql.Identifier(c)) for c in _key(connection, table)
        )
        query = sql.SQL(
            "with named as (select distinct a from audit, jsonb_array_elements_text(changes->'added') a where a like {like}) "
            "select {key} from {table} t left join named on a = {prefix} || {key} where a is null "
            "and not exists (select from audit where changes->'many' ? {name}) limit 1"
        ).format(
            like=sql.Literal(f"{table}:%"),
            key=key,
            table=sql.Identifier(table),
            prefix=sql.Literal(f"{table}:"),
            name=sql.Literal(table),
        )
        if found := connection.execute(query).fetchone():
            raise _Broken(f"{table}:{found[0]} is there, and no audit entry says that it was added.")


def _key(connection: psycopg.Connection[Any], table: str) -> list[str]:
    """The columns of a table's key in their order; none where there is no such table."""
    rows = connection.execute(
        "select a.attname from pg_index i join pg_class c on c.oid = i.indrelid "
        "cross join unnest(i.indkey::int[]) with ordinality k(num, place) "
        "join pg_attribute a on a.attrelid = c.oid and a.attnum = k.num "
        "where i.indisprimary and c.relname = %s and c.relnamespace = 'public'::regnamespace order by k.place",
        [table],
    )
    return [column for (column,) in rows]


def _versions(connection: psycopg.Connection[Any], table: LiteralString, of: LiteralString) -> None:
    query = sql.SQL("select {} from {} group by {} having min(version) <> 1 or max(version) <> count(*) limit 1")
    found = connection.execute(query.format(sql.SQL(of), sql.Identifier(table), sql.SQL(of))).fetchone()
    if found:
        raise _Broken(
            f"Versions of {table} {'/'.join(str(value) for value in found)} do not count from 1 without a gap."
        )


def _references(connection: psycopg.Connection[Any]) -> None:
    """Whatever a row names is there, also where the database was not asked as it was written."""
    keys = connection.execute(
        "select k.conname, c.relname, p.relname, "
        "(select array_agg(a.attname order by n) from unnest(k.conkey) with ordinality u(num, n) "
        " join pg_attribute a on a.attrelid = k.conrelid and a.attnum = u.num), "
        "(select array_agg(a.attname order by n) from unnest(k.confkey) with ordinality u(num, n) "
        " join pg_attribute a on a.attrelid = k.confrelid and a.attnum = u.num) "
        "from pg_constraint k join pg_class c on c.oid = k.conrelid join pg_class p on p.oid = k.confrelid "
        "where k.contype = 'f' and k.conparentid = 0 and k.connamespace = 'public'::regnamespace order by 2, 1"
    ).fetchall()
    for _, child, parent, own, theirs in keys:
        named = sql.SQL(" and ").join(sql.SQL("c.{} is not null").format(sql.Identifier(column)) for column in own)
        same = sql.SQL(" and ").join(
            sql.SQL("p.{} = c.{}").format(sql.Identifier(t), sql.Identifier(o))
            for o, t in zip(own, theirs, strict=True)
        )
        query = sql.SQL("select c.{} from {} c where {} and not exists (select from {} p where {}) limit 1").format(
            sql.Identifier(own[0]), sql.Identifier(child), named, sql.Identifier(parent), same
        )
        if found := connection.execute(query).fetchone():
            raise _Broken(f"A row of {child} names {found[0]} of {parent}, which is not there.")
