"""Bringing a database up to the newest tables. Run by the commands, never by the application factory."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import psycopg

from brumel.config import APP_ROLE

if TYPE_CHECKING:
    from alembic.config import Config as AlembicConfig

MIGRATIONS = Path(__file__).parent / "migrations"


def alembic_config(url: str) -> AlembicConfig:
    """Alembic set to our migrations and this database."""
    from alembic.config import Config as AlembicConfig

    config = AlembicConfig()
    config.set_main_option("script_location", str(MIGRATIONS))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return config


#: How many months ahead samples have a partition of their own.
MONTHS_AHEAD = 24


def migrate(url: str, role: str = APP_ROLE, tell: Callable[[str], object] | None = None) -> None:
    """Upgrade to the newest version, as the owner, and let the application's role do what it does.

    Nothing of it happens twice. A role that is not there gets nothing: it is made by whoever runs the server.

    tell : is told each step that was taken, in words
    """
    from alembic import command  # heavy to import, and most starts need none of it

    from brumel.store.rights import give_rights

    config = alembic_config(url)
    if tell:
        config.attributes["tell"] = lambda number, words: tell(f"tables, {number} of {newest_version()}: {words}")
    command.upgrade(config, "head")
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        _drop_worlds(connection)
        if connection.execute("select from pg_roles where rolname = %s", [role]).fetchone() is not None:
            give_rights(connection, role)
    add_months(url, datetime.now(UTC))


def _drop_worlds(connection: psycopg.Connection[tuple[object, ...]]) -> None:
    """Practice worlds have the tables of the version that made them: they are made anew by whoever practises next."""
    people = connection.execute(
        "select u.id from users u join pg_namespace n on n.nspname = 'practice_' || replace(u.id::text, '-', '')"
    )
    for row in people.fetchall():
        connection.execute("select drop_practice_world(%s)", list(row))
        connection.commit()  # each of them holds many locks


def add_months(url: str, now: datetime) -> list[str]:
    """Give the samples of each coming month their partition, by a function of the owner; returns those that were made."""
    with psycopg.connect(url.replace("+psycopg", ""), autocommit=True) as connection:
        return [name for (name,) in connection.execute("select add_sample_months(%s, %s)", [now.date(), MONTHS_AHEAD])]


def newest_version() -> str:
    """The version of this Brumel's tables; files of migrations begin with their number."""
    return max(path.name.split("_")[0] for path in (MIGRATIONS / "versions").glob("0*.py"))


def is_newest(url: str) -> bool:
    """Whether the database stands at the newest version already."""
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        if connection.execute("select to_regclass('alembic_version') is null").fetchone() == (True,):
            return False
        return connection.execute("select version_num from alembic_version").fetchone() == (newest_version(),)
