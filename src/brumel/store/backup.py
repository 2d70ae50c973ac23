"""A backup of all there is, photos too, in PostgreSQL's own custom format; and back from it into an empty database."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import psycopg

from brumel.store.cluster import program


class BackupError(Exception):
    """A backup that was not made or not read; the message says why."""


def backup(url: str, file: Path) -> int:
    """Write the whole database into a file, which is there when it is whole; returns its size [bytes]."""
    if file.exists():
        raise BackupError(f"{file} is there already; a backup is never written over another.")
    part = file.with_name(file.name + ".part")
    try:
        _run(
            url,
            "pg_dump",
            "--format=custom",
            "--no-owner",
            "--no-privileges",
            "--exclude-schema=practice_*",
            f"--file={part}",
        )
        _run(url, "pg_restore", "--list", str(part))
        part.chmod(0o600)
        part.rename(file)
    finally:
        part.unlink(missing_ok=True)
    return file.stat().st_size


def restore(url: str, file: Path) -> None:
    """Read a backup into an empty database, whole or not at all. Raises BackupError."""
    with psycopg.connect(url.replace("+psycopg", "")) as connection:
        full = connection.execute(
            "select exists (select from pg_class where relnamespace = 'public'::regnamespace and relkind in ('r', 'p'))"
        ).fetchone()
    if full == (True,):
        raise BackupError("There are tables in this database already. A backup goes into an empty one.")
    options = ("--single-transaction", "--exit-on-error", "--no-owner", "--no-privileges")
    name = psycopg.conninfo.conninfo_to_dict(url.replace("+psycopg", ""))["dbname"]
    _run(url, "pg_restore", *options, f"--dbname={name}", str(file))


def _run(url: str, name: str, *arguments: str) -> None:
    """Run a program of PostgreSQL on a database; its password stands in no list of processes."""
    of = psycopg.conninfo.conninfo_to_dict(url.replace("+psycopg", ""))
    env = {k: v for k, v in os.environ.items() if not k.startswith("PG")}
    for key, variable in (("host", "PGHOST"), ("port", "PGPORT"), ("user", "PGUSER"), ("password", "PGPASSWORD")):
        if of.get(key):
            env[variable] = str(of[key])
    env["PGDATABASE"] = str(of.get("dbname", ""))
    done = subprocess.run([program(name), *arguments], env=env, capture_output=True, text=True, check=False)
    if done.returncode != 0:
        raise BackupError(f"{name} failed: {(done.stderr or done.stdout).strip()[-600:]}")
