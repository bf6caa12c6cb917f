"""Connections to the database, and its schema."""

from __future__ import annotations

import logging
import sys
import threading
import traceback
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from hashlib import sha256
from importlib.resources import files
from typing import Any
from zlib import crc32

import psycopg
from psycopg import Connection
from psycopg.rows import TupleRow
from psycopg_pool import ConnectionPool, PoolTimeout

from drawknife.core.words.errors import DrawknifeError, OutOfReach

log = logging.getLogger(__name__)
#: Held while the schema is brought up to date, and while the model is changed.
SCHEMA_LOCK, CHANGE_LOCK = 0x64726177, 0x6B6E6966
#: Seconds that a connection may take: while requests wait for it, and at the start, when a machine
#: has much to do.
PATIENCE, PATIENCE_AT_START = 8, 30
#: What every service listens to: told that there is a new revision, or that a token has changed.
CHANNEL = "drawknife_revision"


class Unavailable(OutOfReach):
    """The database cannot be reached, or went away."""


class Unusable(Unavailable):
    """The database answers, and this service can do nothing with it: read-only, without its tables,
    without permission.
    """


class ReadOnly(Unusable):
    """The database takes no changes."""


class Outdated(Unavailable):
    """A newer version has brought the schema to something that this one would misread."""


class NoRoom(OutOfReach):
    """The database has no room, or not enough of something else that it needs."""


class Uncertain(Unavailable):
    """The database went away while a change was made: it was done whole, or not at all."""


#: The class of SQLSTATE of "insufficient resources".
_NO_ROOM = "53"


#: What says that the database is another one, or not this service's any more.
_WITHOUT = (
    psycopg.errors.UndefinedTable,
    psycopg.errors.InvalidSchemaName,
    psycopg.errors.InsufficientPrivilege,
)


def _state_of(pool: ConnectionPool[Connection[TupleRow]]) -> str:
    """What a pool counts, and where each of its threads is."""
    frames = sys._current_frames()
    places = []
    for thread in threading.enumerate():
        if thread.name.startswith(pool.name) and thread.ident in frames:
            stack = traceback.extract_stack(frames[thread.ident])[-4:]
            places.append(
                f"{thread.name}: " + " < ".join(f"{f.name}:{f.lineno}" for f in reversed(stack))
            )
    return "; ".join([str(pool.get_stats()), *places])


def _why(error: Exception) -> str:
    return str(error).strip().split("\n")[0]


@contextmanager
def pool_returning(
    pool: ConnectionPool[Connection[TupleRow]], taken: Connection[TupleRow]
) -> Iterator[Connection[TupleRow]]:
    """A connection that goes back to its pool, its transaction ended as the block ends."""
    try:
        with taken.transaction() if not taken.autocommit else nullcontext():
            yield taken
    finally:
        pool.putconn(taken)


@contextmanager
def database_errors() -> Iterator[None]:
    """Errors of the database in the product's words.

    :class:`Unavailable` if it is not reached or goes away, :class:`Unusable` where it is without
    tables or permission or read-only (:class:`ReadOnly`), :class:`NoRoom` where it says that it has
    none.
    """
    try:
        yield
    except (psycopg.OperationalError, psycopg.InterfaceError, PoolTimeout) as error:
        if (getattr(error, "sqlstate", None) or "").startswith(_NO_ROOM):
            raise NoRoom(_why(error)) from error
        raise Unavailable(_why(error)) from error
    except psycopg.errors.ReadOnlySqlTransaction as error:
        raise ReadOnly("the database is read-only") from error
    except _WITHOUT as error:
        raise Unusable(f"the database is not as this service left it: {_why(error)}") from error


class Database:
    """A pool of connections to one database. `address` is a libpq connection string.

    `patience` is the seconds that a new connection may take. With a `size` of 0 there is no pool,
    and so no thread: each use connects anew. So it is for a process that forks afterwards: a lock
    of the library for ciphers that a thread held at that moment would be held in the new process
    for ever, and no connection there ever get through.
    """

    def __init__(self, address: str, size: int = 8, patience: int = PATIENCE) -> None:
        self.address, self._size, self._patience = address, size, patience
        self._pool = self._new_pool() if size else None

    def _new_pool(self) -> ConnectionPool[Connection[TupleRow]]:
        return ConnectionPool(
            self.address,
            min_size=1,
            max_size=self._size,
            timeout=3,
            reconnect_timeout=5,
            max_idle=60,
            check=ConnectionPool.check_connection,
            kwargs={"autocommit": True, "connect_timeout": self._patience},
            open=False,
        )

    def open(self) -> None:
        """Begin to connect; returns at once."""
        if self._pool is not None:
            self._pool.open(wait=False)

    def close(self) -> None:
        if self._pool is not None:
            self._pool.close()

    def _connected(self) -> Connection[TupleRow]:
        return psycopg.connect(self.address, autocommit=True, connect_timeout=self._patience)

    @contextmanager
    def _given(self) -> Iterator[Connection[TupleRow]]:
        """A connection of the pool.

        Where it gives none, though the database answers, the pool stands still: a new one takes its
        place.
        """
        pool = self._pool
        if pool is None:
            with self._connected() as connection:
                yield connection
            return
        try:
            taken = pool.getconn()
        except PoolTimeout:
            with self._connected() as connection:
                if self._pool is pool:
                    log.warning(
                        "a pool of connections stands still, and a new one takes its place: %s",
                        _state_of(pool),
                    )
                    self._pool = self._new_pool()
                    self.open()
                yield connection
            return
        with pool_returning(pool, taken) as connection:
            yield connection

    @contextmanager
    def connection(self) -> Iterator[Connection[TupleRow]]:
        """A connection in autocommit mode. Errors as of :func:`database_errors`."""
        with database_errors(), self._given() as connection:
            yield connection

    @contextmanager
    def transaction(self) -> Iterator[Connection[TupleRow]]:
        """A connection within one transaction, committed at the end, undone on any exception."""
        done = False
        try:
            with self.connection() as connection, connection.transaction():
                yield connection
                done = True
        except Unavailable as error:
            # All was written, and then the end of the transaction was not confirmed.
            if done:
                raise Uncertain(str(error)) from error
            raise

    def read(self, query: str, parameters: tuple[Any, ...] = ()) -> list[TupleRow]:
        """The rows of one query."""
        with self.connection() as connection:
            return connection.execute(query, parameters).fetchall()


@contextmanager
def connected(address: str) -> Iterator[Connection[TupleRow]]:
    """One connection in autocommit mode, without a pool.

    Errors as of :func:`database_errors`, also if none is named.
    """
    try:
        connection = psycopg.connect(address, autocommit=True, connect_timeout=PATIENCE_AT_START)
    except psycopg.OperationalError as error:
        raise Unavailable(_why(error)) from error
    except psycopg.ProgrammingError as error:
        raise Unavailable(
            f"{_why(error)}; a database is named as postgresql://USER@HOST/NAME"
        ) from None
    with database_errors(), connection:
        yield connection


@contextmanager
def alone(database: Database, what: int, name: str) -> Iterator[bool]:
    """True for the one service that does `what` to something of this name while the block runs;
    false for all others.
    """
    with database.connection() as connection:
        key = (what, crc32(name.encode()) - 2**31)
        row = connection.execute("SELECT pg_try_advisory_lock(%s, %s::int)", key).fetchone()
        if row is None or not row[0]:
            yield False
            return
        try:
            yield True
        finally:
            connection.execute("SELECT pg_advisory_unlock(%s, %s::int)", key)


#: The first line of a schema file after which services that do not know it answer as before. After
#: any other they refuse to.
OLDER_GO_ON = b"-- Older services may go on."
#: From this file on the database keeps that.
FIRST_THAT_SAYS = "020_older_services.sql"
#: The first step that this service (all whose steps are given) does not know and must not answer
#: after; null where there is none.
OUTDATED_BY = "(SELECT min(name) FROM schema_steps WHERE NOT older_may_answer AND name <> ALL(%s))"


class SchemaProblem(DrawknifeError):
    """The schema is not one that this version can use."""


def schema_steps() -> dict[str, tuple[bytes, str]]:
    """The schema files by name, in order: their bytes, and a digest of these."""
    found = (f for f in files(__package__).joinpath("schema").iterdir() if f.name.endswith(".sql"))
    return {
        f.name: (raw := f.read_bytes(), sha256(raw).hexdigest())
        for f in sorted(found, key=lambda f: f.name)
    }


def bring_up_to_date(address: str) -> list[str]:
    """Apply the schema files that have not been applied yet, each in its own transaction.

    Safe to run from several services at once: one applies them, the others wait for it. Returns the
    names of those applied now. :class:`Unavailable` if the database cannot be reached, or is
    read-only and steps are missing; :class:`SchemaProblem` if it was made by a newer version, or a
    file was changed after it was applied.
    """
    steps = schema_steps()
    applied = []
    with connected(address) as connection:
        if _is_read_only_and_up_to_date(connection, steps):
            return []
        connection.execute("SELECT pg_advisory_lock(%s)", (SCHEMA_LOCK,))
        connection.execute(
            "CREATE TABLE IF NOT EXISTS schema_steps"
            " (name text PRIMARY KEY, at timestamptz NOT NULL DEFAULT clock_timestamp())"
        )
        connection.execute("ALTER TABLE schema_steps ADD COLUMN IF NOT EXISTS digest text")
        done: dict[str, str | None] = dict(
            connection.execute("SELECT name, digest FROM schema_steps").fetchall()
        )
        _check_schema(done, steps)
        for name, (raw, digest) in steps.items():
            if name not in done:
                with connection.transaction():
                    connection.execute(raw)
                    connection.execute(
                        "INSERT INTO schema_steps (name, digest) VALUES (%s, %s)", (name, digest)
                    )
                    if raw.startswith(OLDER_GO_ON) and name >= FIRST_THAT_SAYS:
                        connection.execute(
                            "UPDATE schema_steps SET older_may_answer = true WHERE name = %s",
                            (name,),
                        )
                    connection.execute(f"NOTIFY {CHANNEL}")  # older services look at once
                applied.append(name)
            elif done[name] is None:  # applied by a version that noted no digests
                connection.execute(
                    "UPDATE schema_steps SET digest = %s WHERE name = %s", (digest, name)
                )
        connection.execute("SELECT pg_advisory_unlock(%s)", (SCHEMA_LOCK,))
    return applied


def _is_read_only_and_up_to_date(
    connection: Connection[TupleRow], steps: dict[str, tuple[bytes, str]]
) -> bool:
    """Does the database take no changes, and need none?

    :class:`SchemaProblem` as :func:`bring_up_to_date`.
    """
    row = connection.execute(
        "SELECT current_setting('transaction_read_only') = 'on' AND to_regclass('schema_steps') IS"
        " NOT NULL"
    ).fetchone()
    if row is None or not row[0]:
        return False
    done: dict[str, str | None] = dict(
        connection.execute("SELECT name, digest FROM schema_steps").fetchall()
    )
    _check_schema(done, steps)
    return done.keys() == steps.keys()


def _check_schema(done: dict[str, str | None], steps: dict[str, tuple[bytes, str]]) -> None:
    newer = sorted(set(done) - set(steps))
    if newer:
        raise SchemaProblem(
            f"the database was brought up to {newer[-1]} by a newer version, which this one does"
            " not know; start that version"
        )
    for name, digest in done.items():
        if digest is not None and digest != steps[name][1]:
            raise SchemaProblem(
                f"the schema file {name} was changed after it had been applied; put back what"
                " it was"
            )
