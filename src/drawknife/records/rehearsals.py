"""What clients did at stand-ins: kept for the console."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any, NamedTuple

from psycopg.types.json import Jsonb

from drawknife.core.words.names import fold

from .database import Database


class KeptLine(NamedTuple):
    """A line, with the number that it has here, and the draft that was rehearsed."""

    id: int
    draft: str | None
    line: dict[str, Any]


def add_lines(database: Database, draft: str | None, lines: Iterable[dict[str, Any]]) -> int:
    """Keep what was done; returns how many lines came in."""
    rows = [(draft, fold(x["account"]), fold(x["endpoint"]), x["allowed"], Jsonb(x)) for x in lines]
    with database.transaction() as connection:
        connection.cursor().executemany(
            "INSERT INTO rehearsal_lines (draft, folded, endpoint, allowed, line) VALUES (%s, %s,"
            " %s, %s, %s)",
            rows,
        )
    return len(rows)


def kept_lines(
    database: Database,
    most: int,
    after: int = 0,
    account: str | None = None,
    endpoint: str | None = None,
    *,
    allowed: bool | None = None,
    accounts: Collection[str] | None = None,
) -> list[KeptLine]:
    """The newest lines, the newest first: those after a number, of an account, at an endpoint, let
    or refused.

    `accounts`: only of these, in the form in which names are compared.
    """
    rows = database.read(
        "SELECT id, draft, line FROM rehearsal_lines WHERE id > %s AND folded = coalesce(%s,"
        " folded) AND endpoint = coalesce(%s, endpoint) AND allowed = coalesce(%s, allowed) AND"
        " (%s::text[] IS NULL OR folded = ANY(%s)) ORDER BY id DESC LIMIT %s",
        (
            after,
            account and fold(account),
            endpoint and fold(endpoint),
            allowed,
            *[None if accounts is None else list(accounts)] * 2,
            most,
        ),
    )
    return [KeptLine(*row) for row in rows]
