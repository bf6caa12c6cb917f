"""How far the schema of a database is, and how much is kept in it."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import NamedTuple

from psycopg import sql

from .database import connected, schema_steps


class Status(NamedTuple):
    """Steps of the schema that were applied, with when, and those that are missing; what is kept,
    and how much of it.
    """

    applied: list[tuple[str, datetime]]
    missing: list[str]
    kept: list[tuple[str, int]]


def look(address: str) -> Status:
    """Look at a database, and change nothing. :class:`Unavailable` if it cannot be reached."""
    with connected(address) as connection:
        row = connection.execute("SELECT to_regclass('schema_steps')").fetchone()
        steps = "SELECT name, at FROM schema_steps ORDER BY name"
        applied = connection.execute(steps).fetchall() if row and row[0] else []
        tables = connection.execute(
            "SELECT relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace"
            " WHERE n.nspname = 'public' AND relkind = 'r' ORDER BY relname"
        ).fetchall()
        kept = []
        for (name,) in tables:
            counted = connection.execute(
                sql.SQL("SELECT count(*) FROM {}").format(sql.Identifier(name))
            ).fetchone()
            kept.append((f"rows of {name}", int(counted[0]) if counted else 0))
        size = connection.execute("SELECT pg_database_size(current_database())").fetchone()
        kept.append(("bytes in all", int(size[0]) if size else 0))
    done = {name for name, _ in applied}
    return Status(
        [(n, at.astimezone(UTC)) for n, at in applied],
        [n for n in schema_steps() if n not in done],
        kept,
    )
