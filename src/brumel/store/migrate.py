"""Bringing a database up to the newest tables. Run by the commands, never by the application factory."""

from __future__ import annotations

from pathlib import Path

from alembic import command
from alembic.config import Config as AlembicConfig


def alembic_config(url: str) -> AlembicConfig:
    """Alembic set to our migrations and this database."""
    config = AlembicConfig()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", url.replace("%", "%%"))
    return config


def migrate(url: str) -> None:
    """Upgrade to the newest version; nothing happens when it is there already."""
    command.upgrade(alembic_config(url), "head")
