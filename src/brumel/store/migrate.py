"""Bringing a database up to the newest tables. Run by the commands, never by the application factory."""

from __future__ import annotations

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


def is_newest(url: str) -> bool:
    """Whether the database stands at the newest version already; files of migrations begin with their number."""
    newest = max(path.name.split("_")[0] for path in (MIGRATIONS / "versions").glob("0*.py"))
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        if connection.execute("select to_regclass('alembic_version') is null").fetchone() == (True,):
            return False
        return connection.execute("select version_num from alembic_version").fetchone() == (newest,)
