"""Who changed what, when."""

from __future__ import annotations

from datetime import datetime
from typing import Any, NamedTuple

from .database import Database


class Line(NamedTuple):
    """One change of the model."""

    revision: int
    at: datetime
    who: str
    what: str
    before: dict[str, Any]
    after: dict[str, Any]


def read_journal(database: Database, limit: int, offset: int = 0) -> tuple[int, list[Line]]:
    """How many lines there are, and some of them, the newest first."""
    rows = database.read(
        "SELECT revision, at, who, what, before, after, count(*) OVER () FROM journal"
        " ORDER BY revision DESC LIMIT %s OFFSET %s",
        (limit, offset),
    )
    total = rows[0][6] if rows else database.read("SELECT count(*) FROM journal")[0][0]
    return total, [Line(*row[:6]) for row in rows]
