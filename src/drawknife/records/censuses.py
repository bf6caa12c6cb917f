"""Censuses: how much each store held when, and what stood against each limit then."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any, NamedTuple

from psycopg import Connection
from psycopg.rows import TupleRow

from .database import Database


class Census(NamedTuple):
    store: str
    at: datetime
    who: str
    measured: str
    bytes: int
    files: int
    report: str


def record_census(
    connection: Connection[TupleRow], census: Census, levels: Iterable[tuple[str, str, int, int]]
) -> None:
    """Note a census, and what stands against each limit after it: (kind, name, bytes, files)."""
    connection.execute(
        "INSERT INTO censuses (store, at, who, measured, bytes, files, report) VALUES (%s, %s, %s,"
        " %s, %s, %s, %s) ON CONFLICT (store, at) DO UPDATE SET who = excluded.who, measured ="
        " excluded.measured, bytes = excluded.bytes, files = excluded.files, report ="
        " excluded.report",
        census,
    )
    connection.cursor().executemany(
        "INSERT INTO fill_levels (kind, name, at, bytes, files) VALUES (%s, %s, %s, %s, %s)"
        " ON CONFLICT (kind, name, at) DO UPDATE SET bytes = excluded.bytes, files ="
        " excluded.files",
        [(kind, name, census.at, b, n) for kind, name, b, n in levels],
    )


def read_censuses(database: Database, limit: int) -> list[Census]:
    """The censuses, the newest first."""
    rows = database.read(
        "SELECT store, at, who, measured, bytes, files, report FROM censuses ORDER BY at DESC,"
        " store LIMIT %s",
        (limit,),
    )
    return [Census(*row) for row in rows]


def forget(database: Database, store: str, at: datetime) -> bool:
    """Forget a census, and what stood against the limits then; false if there is none of that
    moment.
    """
    with database.transaction() as connection:
        gone = connection.execute(
            "DELETE FROM censuses WHERE store = %s AND date_trunc('second', at) ="
            " date_trunc('second', %s::timestamptz) RETURNING at",
            (store, at),
        ).fetchall()
        for (moment,) in gone:
            connection.execute("DELETE FROM fill_levels WHERE at = %s", (moment,))
    return bool(gone)


def last_census(connection: Connection[TupleRow], store: str) -> datetime | None:
    """When a store was measured last."""
    row: Any = connection.execute(
        "SELECT max(at) FROM censuses WHERE store = %s", (store,)
    ).fetchone()
    return row[0] if row else None


def read_levels(database: Database) -> dict[tuple[str, str], list[tuple[datetime, int, int]]]:
    """What stood against each limit, (kind, name), in order of time."""
    found: dict[tuple[str, str], list[tuple[datetime, int, int]]] = {}
    for kind, name, at, bytes_, files in database.read(
        "SELECT kind, name, at, bytes, files FROM fill_levels ORDER BY kind, name, at"
    ):
        found.setdefault((kind, name), []).append((at, bytes_, files))
    return found
