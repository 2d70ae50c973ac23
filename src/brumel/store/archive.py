"""A whole practice in one file, and back into an empty database of the same tables: row by row, nothing made anew.

The file is a ZIP: `manifest.json` names the version of the tables and what each holds, and each table is a text of JSON rows.
Passwords, sessions, invitations and tokens stay where they are.
"""

from __future__ import annotations

import hashlib
import json
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, Any

import psycopg
from psycopg import sql

from brumel.store import sessions  # noqa: F401 - it knows every table
from brumel.store.base import Base

#: What is not taken along: what is secret, what is of one machine, what is found again by itself.
LEFT_BEHIND = frozenset(
    {
        "sign_ins",
        "tokens",
        "invitations",
        "recovery_codes",
        "rate_limits",
        "write_keys",
        "jobs",
        "job_files",
        "sim_truths",
        "webhooks",
        "deliveries",
    }
)
#: Columns that are not taken along, with what stands there on arrival.
SECRET: dict[str, dict[str, Any]] = {
    "users": {"password_hash": "!", "stamp": "moved", "totp_secret": "", "totp_step": 0},
    "meters": {"token_hash": ""},
}
_BATCH = 500
FORM = "brumel-practice-1"

Told = Callable[[str], None]


class ArchiveError(Exception):
    """A file that cannot be moved in; the message says why, and nothing was written."""


def tables() -> list[str]:
    """The tables that are taken along, those that others name before them."""
    return [table.name for table in Base.metadata.sorted_tables if table.name not in LEFT_BEHIND]


def pack(url: str, out: IO[bytes] | Path, told: Told = lambda _: None) -> dict[str, int]:
    """Write a practice as it stands at one moment; returns how many rows of each table."""
    counts: dict[str, int] = {}
    sums: dict[str, str] = {}
    with psycopg.connect(_plain(url)) as connection, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        connection.execute("set transaction isolation level repeatable read read only")
        for table in tables():
            told(table)
            digest, count = hashlib.sha256(), 0
            with packed.open(f"{table}.jsonl", "w", force_zip64=True) as file:
                for line in rows(connection, table):
                    data = line.encode() + b"\n"
                    file.write(data)
                    digest.update(data)
                    count += 1
            counts[table], sums[table] = count, digest.hexdigest()
        manifest = {"form": FORM, "tables_version": _version(connection), "rows": counts, "sha256": sums}
        packed.writestr("manifest.json", json.dumps(manifest, indent=1))
    return counts


def rows(connection: psycopg.Connection[Any], table: str) -> Iterator[str]:
    """The rows of a table as JSON texts without what is secret, in an order that is always the same."""
    secret = list(SECRET.get(table, {}))
    query = sql.SQL("select (to_jsonb(t) - %s::text[])::text from {} t order by 1").format(sql.Identifier(table))
    with connection.cursor(name=f"pack_{table}") as cursor:
        cursor.itersize = 2000
        for (line,) in cursor.execute(query, [secret]):
            yield line


def unpack(url: str, source: IO[bytes] | Path, told: Told = lambda _: None) -> dict[str, int]:
    """Move a practice into an empty database, whole or not at all; returns how many rows of each table.

    Raises ArchiveError for a file of another form or version, one that was changed, and a database that is not empty.
    """
    try:
        packed = zipfile.ZipFile(source)
        manifest = json.loads(packed.read("manifest.json"))
    except (zipfile.BadZipFile, KeyError, ValueError, OSError) as error:
        raise ArchiveError("This is not the file of a practice.") from error
    with packed, psycopg.connect(_plain(url)) as connection:
        _check(connection, manifest)
        named = tables()
        keys = connection.execute(
            "select conrelid::regclass::text, conname from pg_constraint where contype = 'f' and conparentid = 0 "
            "and connamespace = 'public'::regnamespace and not condeferrable"
        ).fetchall()
        _alter(connection, keys, "alter constraint {} deferrable initially deferred")
        for table in named:
            connection.execute(sql.SQL("alter table {} disable trigger user").format(sql.Identifier(table)))
        for table in named:
            told(table)
            _load(connection, table, packed, manifest)
        connection.execute("set constraints all immediate")
        for table in named:
            connection.execute(sql.SQL("alter table {} enable trigger user").format(sql.Identifier(table)))
            _go_on_counting(connection, table)
        _alter(connection, keys, "alter constraint {} not deferrable")
    return dict(manifest["rows"])


def _check(connection: psycopg.Connection[Any], manifest: Any) -> None:
    if not isinstance(manifest, dict) or manifest.get("form") != FORM:
        raise ArchiveError("This is not the file of a practice.")
    here = _version(connection)
    if manifest.get("tables_version") != here:
        raise ArchiveError(
            f"The file has tables of version {str(manifest.get('tables_version'))[:20]}, this Brumel of version {here}. "
            "Bring both to the same version first."
        )
    if set(manifest.get("rows", ())) != set(tables()) or set(manifest.get("sha256", ())) != set(tables()):
        raise ArchiveError("The file does not hold the tables of a practice.")
    if connection.execute("select exists (select from users)").fetchone() == (True,):
        raise ArchiveError("Somebody is here already. A practice moves into an empty database alone.")


def _load(connection: psycopg.Connection[Any], table: str, packed: zipfile.ZipFile, manifest: dict[str, Any]) -> None:
    name = sql.Identifier(table)
    columns = sql.SQL(", ").join(
        sql.Identifier(row[0])
        for row in connection.execute(
            "select attname from pg_attribute where attrelid = %s::regclass and attnum > 0 and not attisdropped "
            "order by attnum",
            [table],
        )
    )
    insert = sql.SQL(
        "insert into {0} ({1}) select {1} from jsonb_populate_recordset(null::{0}, %s::jsonb) as t"
    ).format(name, columns)
    digest, count, batch = hashlib.sha256(), 0, list[dict[str, Any]]()
    try:
        with packed.open(f"{table}.jsonl") as file:
            for line in file:
                digest.update(line)
                count += 1
                batch.append(json.loads(line) | SECRET.get(table, {}))
                if len(batch) == _BATCH:
                    connection.execute(insert, [json.dumps(batch)])
                    batch = []
        if batch:
            connection.execute(insert, [json.dumps(batch)])
    except (KeyError, ValueError, zipfile.BadZipFile, psycopg.DataError, psycopg.IntegrityError) as error:
        raise ArchiveError(f"The table {table} of the file cannot be read.") from error
    if digest.hexdigest() != manifest["sha256"][table] or count != manifest["rows"][table]:
        raise ArchiveError(f"The table {table} of the file was changed since it was written.")


def _go_on_counting(connection: psycopg.Connection[Any], table: str) -> None:
    """Numbers that the database gives go on behind the highest that came."""
    query = "select attname from pg_attribute where attrelid = %s::regclass and attidentity <> ''"
    for (column,) in connection.execute(query, [table]).fetchall():
        connection.execute(
            sql.SQL(
                "select setval(pg_get_serial_sequence(%s, %s), max({0})) from {1} having max({0}) is not null"
            ).format(sql.Identifier(column), sql.Identifier(table)),
            [table, column],
        )


def _alter(connection: psycopg.Connection[Any], keys: list[tuple[str, str]], what: str) -> None:
    for table, name in keys:
        connection.execute(
            sql.SQL("alter table {} ").format(sql.Identifier(table)) + sql.SQL(what).format(sql.Identifier(name))
        )


def _version(connection: psycopg.Connection[Any]) -> str:
    found = connection.execute("select version_num from alembic_version").fetchone()
    return str(found[0]) if found else ""


def _plain(url: str) -> str:
    return url.replace("+psycopg", "")
