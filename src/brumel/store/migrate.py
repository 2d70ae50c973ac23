"""Bringing a database up to the newest tables. Run by the commands, never by the application factory."""

from __future__ import annotations

from contextlib import suppress
from datetime import UTC, date, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import psycopg

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


def migrate(url: str) -> None:
    """Upgrade to the newest version; nothing happens when it is there already."""
    from alembic import command  # heavy to import, and most starts need none of it

    command.upgrade(alembic_config(url), "head")
    add_months(url, datetime.now(UTC))


#: How many months ahead samples have a partition of their own.
MONTHS_AHEAD = 24


def add_months(url: str, now: datetime) -> list[str]:
    """Give the samples of each coming month their partition; returns those that were made.

    A month whose samples lie in the catch-all already (of a clock that ran ahead) is left there.
    """
    made = []
    with psycopg.connect(url.replace("+psycopg", ""), autocommit=True) as connection:
        for ahead in range(MONTHS_AHEAD + 1):
            first, after = (_month(now, ahead + n) for n in (0, 1))
            name = f"samples_{first:%Y_%m}"
            if connection.execute("select to_regclass(%s) is not null", [name]).fetchone() == (True,):
                continue
            # Names and dates are made here, of numbers alone.
            statement = f"create table {name} partition of samples for values from ('{first}') to ('{after}')"
            with suppress(psycopg.errors.CheckViolation):
                connection.execute(statement)
                made.append(name)
    return made


def _month(now: datetime, ahead: int) -> date:
    months = now.year * 12 + now.month - 1 + ahead
    return date(months // 12, months % 12 + 1, 1)


def is_newest(url: str) -> bool:
    """Whether the database stands at the newest version already; files of migrations begin with their number."""
    newest = max(path.name.split("_")[0] for path in (MIGRATIONS / "versions").glob("0*.py"))
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        if connection.execute("select to_regclass('alembic_version') is null").fetchone() == (True,):
            return False
        return connection.execute("select version_num from alembic_version").fetchone() == (newest,)
