"""Backups of the whole database, by PostgreSQL's own pg_dump and pg_restore: taken while it serves,
restored into an empty one.
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

from psycopg.conninfo import conninfo_to_dict

from drawknife.core.words.errors import OutOfReach, Refused

from .database import Database, connected

#: What libpq reads from the environment: a password is never on a command line, where all of the
#: machine can see it.
_ENVIRONMENT = {
    "host": "PGHOST",
    "hostaddr": "PGHOSTADDR",
    "port": "PGPORT",
    "user": "PGUSER",
    "password": "PGPASSWORD",
    "dbname": "PGDATABASE",
    "sslmode": "PGSSLMODE",
    "sslrootcert": "PGSSLROOTCERT",
    "sslcert": "PGSSLCERT",
    "sslkey": "PGSSLKEY",
    "passfile": "PGPASSFILE",
    "service": "PGSERVICE",
}


class BackupFailed(OutOfReach):
    """PostgreSQL's program is not there, or says that it could not do it."""


def take(address: str, file: Path) -> None:
    """Write a backup to a file that is its owner's only; it is there whole, or not at all.

    One transaction sees all of it, so that it is of one revision. :class:`BackupFailed` with what
    PostgreSQL said.
    """
    with connected(address):
        pass  # what cannot be reached is told before there is a file
    part = file.with_name(file.name + ".part")
    part.touch(mode=0o600, exist_ok=True)
    part.chmod(0o600)
    try:
        _run(
            address, "pg_dump", "--format=custom", "--no-owner", "--no-privileges", f"--file={part}"
        )
        part.replace(file)
    finally:
        part.unlink(missing_ok=True)


def restore(address: str, file: Path) -> None:
    """Put a backup into a database that is empty; all of it, or nothing.

    :class:`Refused` where something is in there already, :class:`BackupFailed` with what PostgreSQL
    said.
    """
    with connected(address) as connection:
        there = connection.execute(
            "SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace"
            " WHERE n.nspname = 'public' AND c.relkind IN ('r', 'p', 'v', 'S')"
        ).fetchone()
    if there and there[0]:
        raise Refused(
            f"the database is not empty: {there[0]} tables are in it; make a new one, and restore"
            " into that"
        )
    named = str(conninfo_to_dict(address).get("dbname", ""))
    _run(
        address,
        "pg_restore",
        "--single-transaction",
        "--no-owner",
        "--no-privileges",
        f"--dbname={named}",
        str(file),
    )


def note_restored(address: str) -> None:
    """Note that no service has started with what was put back: the start of the first one is to end
    no tokens.
    """
    with connected(address) as connection:
        connection.execute("INSERT INTO restored DEFAULT VALUES")


def was_restored(database: Database) -> bool:
    """Was this put back, and has no service started with it since?"""
    return bool(database.read("SELECT at FROM restored LIMIT 1"))


def note_started(database: Database) -> None:
    """Note that a service has started with what was put back."""
    with database.connection() as connection:
        connection.execute("DELETE FROM restored")


def _run(address: str, program: str, *arguments: str) -> None:
    if shutil.which(program) is None:
        raise BackupFailed(
            f"{program} is not here; install PostgreSQL's client programs: apt-get install"
            " postgresql-client"
        )
    said = {
        _ENVIRONMENT[key]: str(value)
        for key, value in conninfo_to_dict(address).items()
        if key in _ENVIRONMENT
    }
    done = subprocess.run(
        [program, *arguments],
        env={**os.environ, **said},
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode:
        said_first = (done.stderr.strip() or f"exit status {done.returncode}").splitlines()[0]
        raise BackupFailed(
            f"{program} could not do it: {said_first.removeprefix(f'{program}: error: ')}"
        )
