"""Connections to the database, and its schema."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from importlib.resources import files
from typing import Any

import psycopg
from psycopg import Connection
from psycopg.rows import TupleRow
from psycopg_pool import ConnectionPool, PoolTimeout

#: Held while the schema is brought up to date, and while the model is changed.
SCHEMA_LOCK, CHANGE_LOCK = 0x64726177, 0x6B6E6966


class Unavailable(Exception):
    """The database cannot be reached, or went away."""


class Database:
    """A pool of connections to one database. `address` is a libpq connection string."""

    def __init__(self, address: str, size: int = 8) -> None:
        self.address = address
        self._pool: ConnectionPool[Connection[TupleRow]] = ConnectionPool(
            address,
            min_size=1,
            max_size=size,
            timeout=3,
            reconnect_timeout=5,
            max_idle=60,
            check=ConnectionPool.check_connection,
            kwargs={"autocommit": True, "connect_timeout": 3},
            open=False,
        )

    def open(self) -> None:
        """Begin to connect; returns at once."""
        self._pool.open(wait=False)

    def close(self) -> None:
        self._pool.close()

    @contextmanager
    def connection(self) -> Iterator[Connection[TupleRow]]:
        """A connection in autocommit mode; :class:`Unavailable` if there is none, or it breaks."""
        try:
            with self._pool.connection() as connection:
                yield connection
        except (psycopg.OperationalError, psycopg.InterfaceError, PoolTimeout) as error:
            raise Unavailable(str(error).strip().split("\n")[0]) from error

    @contextmanager
    def transaction(self) -> Iterator[Connection[TupleRow]]:
        """A connection within one transaction, committed at the end, undone on any exception."""
        with self.connection() as connection, connection.transaction():
            yield connection

    def read(self, query: str, parameters: tuple[Any, ...] = ()) -> list[TupleRow]:
        """The rows of one query."""
        with self.connection() as connection:
            return connection.execute(query, parameters).fetchall()


def bring_up_to_date(address: str) -> list[str]:
    """Apply the schema files that have not been applied yet, each in its own transaction.

    Safe to run from several services at once: one applies them, the others wait for it. Returns the
    names of those applied now; :class:`Unavailable` if the database cannot be reached.
    """
    steps = sorted(
        (f for f in files(__package__).joinpath("schema").iterdir() if f.name.endswith(".sql")), key=lambda f: f.name
    )
    applied = []
    try:
        with psycopg.connect(address, autocommit=True, connect_timeout=5) as connection:
            connection.execute("SELECT pg_advisory_lock(%s)", (SCHEMA_LOCK,))
            connection.execute(
                "CREATE TABLE IF NOT EXISTS schema_steps"
                " (name text PRIMARY KEY, at timestamptz NOT NULL DEFAULT clock_timestamp())"
            )
            done = {row[0] for row in connection.execute("SELECT name FROM schema_steps")}
            for step in steps:
                if step.name not in done:
                    with connection.transaction():
                        connection.execute(step.read_bytes())
                        connection.execute("INSERT INTO schema_steps (name) VALUES (%s)", (step.name,))
                    applied.append(step.name)
            connection.execute("SELECT pg_advisory_unlock(%s)", (SCHEMA_LOCK,))
    except psycopg.OperationalError as error:
        raise Unavailable(str(error).strip().split("\n")[0]) from error
    return applied
