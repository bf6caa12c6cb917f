"""Directories as they are configured, and how their syncs went.

Bind passwords are kept encrypted.
"""

from __future__ import annotations

import json
import os
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from tempfile import NamedTemporaryFile
from typing import Any, NamedTuple

from cryptography.fernet import Fernet, InvalidToken
from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.core.words.names import fold

from .database import Database, connected


class Secrets:
    """Encrypts with a key that is kept in a file beside the service, not in the database."""

    def __init__(self, key_file: Path | None) -> None:
        self._fernet: Fernet | None = None
        if key_file is not None:
            if not key_file.exists():
                _make_key(key_file)
            self._fernet = Fernet(key_file.read_bytes().strip())

    @property
    def ready(self) -> bool:
        return self._fernet is not None

    def encrypt(self, text: str) -> bytes:
        assert self._fernet is not None
        return self._fernet.encrypt(text.encode())

    def decrypt(self, kept: bytes) -> str | None:
        """None if it was encrypted with another key, or there is none."""
        try:
            return self._fernet.decrypt(bytes(kept)).decode() if self._fernet is not None else None
        except InvalidToken:
            return None


def _make_key(key_file: Path) -> None:
    """Let there be a key, whole from the beginning: of several processes that begin at once, one
    makes it for all.
    """
    key_file.parent.mkdir(parents=True, exist_ok=True)
    with NamedTemporaryFile(dir=key_file.parent, prefix=".key-") as begun:  # for its owner only
        begun.write(Fernet.generate_key())
        begun.flush()
        with suppress(FileExistsError):  # another was first
            os.link(begun.name, key_file)


class Directory(NamedTuple):
    name: str
    options: dict[str, Any]
    secret: bytes | None


def read_directories(database: Database) -> list[Directory]:
    """All directories, by name."""
    rows = database.read("SELECT name, options, secret FROM directories ORDER BY folded")
    return [Directory(name, json.loads(options), secret) for name, options, secret in rows]


def with_secrets(address: str) -> list[str]:
    """The directories whose bind password is kept, encrypted.

    :class:`Unavailable` if the database is not reached.
    """
    return [name for name, _ in _kept_secrets(address)]


def not_readable(address: str, key_file: Path | None) -> list[str]:
    """Of these, those that the key in a file does not decrypt; all of them where there is no such
    file.
    """
    kept = _kept_secrets(address)
    secrets = Secrets(key_file if key_file is not None and key_file.exists() else None)
    return [name for name, secret in kept if secrets.decrypt(secret) is None]


def _kept_secrets(address: str) -> list[tuple[str, bytes]]:
    with connected(address) as connection:
        found = connection.execute("SELECT to_regclass('directories')").fetchone()
        if not found or found[0] is None:
            return []
        return connection.execute(
            "SELECT name, secret FROM directories WHERE secret IS NOT NULL ORDER BY folded"
        ).fetchall()


def save_directory(connection: Connection[TupleRow], directory: Directory) -> None:
    """Add a directory, or change it; a change without a secret keeps the one there is."""
    connection.execute(
        "INSERT INTO directories (name, folded, options, secret) VALUES (%s, %s, %s, %s) ON"
        " CONFLICT (name) DO UPDATE SET options = excluded.options, secret ="
        " coalesce(excluded.secret, directories.secret)",
        (
            directory.name,
            fold(directory.name),
            json.dumps(directory.options, sort_keys=True),
            directory.secret,
        ),
    )


def delete_directory(connection: Connection[TupleRow], name: str) -> None:
    connection.execute("DELETE FROM directories WHERE name = %s", (name,))


def record_sync(
    database: Database, directory: str, who: str, done: bool, revision: int | None, report: str
) -> None:
    """Note how a sync went. A directory that is gone meanwhile has none."""
    with database.transaction() as connection:
        connection.execute(
            "INSERT INTO syncs (directory, who, done, revision, report)"
            " SELECT name, %s, %s, %s, %s FROM directories WHERE name = %s",
            (who, done, revision, report, directory),
        )
        if done:
            connection.execute(
                "UPDATE directories SET confirmed = true WHERE name = %s", (directory,)
            )


class SyncState(NamedTuple):
    """How the syncs of a directory went.

    `failing_since`: the first after the last good one that failed or was refused.

    `confirmed`: somebody has synchronised it once. `last` is when it was synchronised last, however
    that went, and `report` the report of it, as JSON.
    """

    directory: str
    confirmed: bool
    last_good: datetime | None
    failing_since: datetime | None
    last: datetime | None
    report: str | None


def sync_states(database: Database) -> list[SyncState]:
    """How the syncs of each directory went, by name."""
    rows = database.read(
        "SELECT d.name, d.confirmed, g.good, (SELECT min(at) FROM syncs WHERE directory = d.name"
        " AND NOT done AND at > coalesce(g.good, '-infinity')), l.at, l.report FROM directories d"
        " LEFT JOIN LATERAL (SELECT max(at) AS good FROM syncs WHERE directory = d.name AND done) g"
        " ON true LEFT JOIN LATERAL (SELECT at, report FROM syncs WHERE directory = d.name ORDER BY"
        " at DESC LIMIT 1) l ON true ORDER BY d.folded"
    )
    return [SyncState(*row) for row in rows]


def read_syncs(database: Database, directory: str, limit: int) -> list[str]:
    """The reports of a directory's syncs, the newest first."""
    rows = database.read(
        "SELECT report FROM syncs WHERE directory = %s ORDER BY at DESC LIMIT %s",
        (directory, limit),
    )
    return [report for (report,) in rows]
