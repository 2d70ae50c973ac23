"""Commands of whoever runs Brumel on a database of their own: migrate, check, back up, move."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

import click
from rich.console import Console

from brumel.config import APP_ROLE, sqlalchemy_url

if TYPE_CHECKING:
    from brumel.store.chain import Anchor

out = Console(stderr=False, highlight=False)


def owner_url() -> str:
    """The database as its owner sees it: BRUMEL_OWNER_URL, or DATABASE_URL where there is only one role yet."""
    url = os.environ.get("BRUMEL_OWNER_URL") or os.environ.get("DATABASE_URL")
    if not url:
        raise click.ClickException(
            "BRUMEL_OWNER_URL is not set, nor DATABASE_URL; point it at the database as its owner."
        )
    return sqlalchemy_url(url)


def check_ready(url: str) -> None:
    """Refuse, with a sentence, to work on a database that is not migrated, or as a role that could change evidence."""
    import psycopg

    from brumel.store.migrate import is_newest
    from brumel.store.rights import owns_tables

    try:
        if not is_newest(url):
            raise click.ClickException(
                "The database's tables are not those of this version. Run ./brumel migrate as their owner first "
                "(BRUMEL_OWNER_URL); nothing was changed."
            )
        if owns_tables(url):
            raise click.ClickException(
                "DATABASE_URL signs in as a role that could alter the tables, and with them what is evidence. Let it be the "
                "application's own role (README, A deployment of your own); the owner's address belongs in BRUMEL_OWNER_URL."
            )
    except psycopg.errors.InsufficientPrivilege as error:
        raise click.ClickException(
            "The role of DATABASE_URL may not read the tables. Run ./brumel migrate --role with its name as the owner."
        ) from error
    except psycopg.OperationalError as error:
        raise click.ClickException(
            f"The database of DATABASE_URL does not answer: {str(error).strip()[:300]}"
        ) from error


def _tell(step: str) -> None:
    out.print(f"· {step}")


@click.command()
@click.option("--role", default="", help="The role the application signs in as; that of DATABASE_URL, else brumel_app.")
def migrate(role: str) -> None:
    """Bring the tables up to this version, as their owner (BRUMEL_OWNER_URL), and give the application's role its rights."""
    import psycopg

    from brumel.store.migrate import migrate as bring_up

    named = psycopg.conninfo.conninfo_to_dict(os.environ.get("DATABASE_URL", "").replace("+psycopg", ""))
    url = owner_url()
    apart = bool(os.environ.get("BRUMEL_OWNER_URL"))
    bring_up(url, role or (str(named.get("user") or APP_ROLE) if apart else APP_ROLE), tell=_tell)
    out.print("· up to date")


@click.command()
@click.argument("file", type=click.Path(dir_okay=False, writable=True, path_type=Path))
def pack(file: Path) -> None:
    """Write the whole practice of DATABASE_URL into a file: every table, without passwords and tokens."""
    from brumel.store.archive import pack as pack_into

    counts = pack_into(owner_url(), file)
    out.print(f"· {sum(counts.values()):,} rows of {len(counts)} tables in {file}")


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
def unpack(file: Path) -> None:
    """Move a whole practice into an empty database, as its owner; its leads choose new passwords by links."""
    from brumel.store.archive import ArchiveError
    from brumel.store.archive import unpack as unpack_from
    from brumel.store.sessions import make_engine, make_sessions
    from brumel.work import people
    from brumel.work.desk import Desk

    try:
        counts = unpack_from(owner_url(), file)
    except ArchiveError as error:
        raise click.ClickException(str(error)) from error
    out.print(f"· {sum(counts.values()):,} rows of {len(counts)} tables are here")
    for name, token in people.let_leads_in(Desk(make_sessions(make_engine(owner_url())))):
        out.print(f"  {name} chooses a password at /invited/{token}")


@click.command()
@click.option("--anchor", "printed", multiple=True, help="An anchor printed before, as 1204:9f…; as often as you like.")
def verify(printed: tuple[str, ...]) -> None:
    """Walk the audit chain, the versions and all references of the record; the first broken link is named, and exits 1."""
    from brumel.store.chain import Anchor

    try:
        anchors = [Anchor.read(text) for text in printed]
    except ValueError as error:
        raise click.ClickException(str(error)) from error
    _walk(owner_url(), anchors)


def _walk(url: str, anchors: list[Anchor]) -> None:
    from brumel.store.chain import walk

    with out.status("walking") as status:
        walked = walk(url, anchors, lambda words: status.update(f"walking: {words}"))
    if walked.broken:
        raise click.ClickException(walked.broken)
    out.print(f"· {walked.links:,} entries of the audit chain, all versions and references hold")
    out.print(f"  anchor {walked.last}" if walked.last else "  nothing was written yet")


@click.command()
def anchor() -> None:
    """Print the end of the audit chain: kept elsewhere, on paper or by mail, it shows later that nothing was rewritten."""
    from brumel.store.chain import newest_anchor

    click.echo(newest_anchor(owner_url()) or "nothing was written yet")


@click.command()
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
def backup(file: Path) -> None:
    """Write all there is, photos too, into a file of PostgreSQL's custom format, and say whether the record holds."""
    from brumel.store.backup import BackupError
    from brumel.store.backup import backup as write

    try:
        size = write(owner_url(), file)
    except BackupError as error:
        raise click.ClickException(str(error)) from error
    out.print(f"· {file}, {size / 1e6:.1f} MB")
    _walk(owner_url(), [])


@click.command()
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--role", default=APP_ROLE, show_default=True, help="The role the application signs in as.")
def restore(file: Path, role: str) -> None:
    """Read a backup into an empty database, as its owner, and walk it."""
    from brumel.store.backup import BackupError
    from brumel.store.backup import restore as read
    from brumel.store.migrate import migrate as bring_up

    try:
        read(owner_url(), file)
    except BackupError as error:
        raise click.ClickException(str(error)) from error
    bring_up(owner_url(), role, tell=_tell)
    _walk(owner_url(), [])


COMMANDS = (migrate, pack, unpack, verify, anchor, backup, restore)
