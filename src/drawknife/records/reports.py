"""Reports for somebody to sign, as they were told, and what was decided."""

from __future__ import annotations

from datetime import datetime
from typing import Any, NamedTuple

from psycopg.types.json import Jsonb

from drawknife.core.words.errors import NotFound, Refused

from .database import Database


class KeptReport(NamedTuple):
    """A report as it is kept: `document` and `signed` are documents."""

    number: int
    about: str
    revision: int
    made: datetime
    made_by: str
    document: dict[str, Any]
    since: int | None
    signed: dict[str, Any] | None


_ROWS = "SELECT number, about, revision, made, made_by, told, since, signed FROM reports"
#: So many are listed, the newest.
LISTED = 500


def add(database: Database, about: str, revision: int, who: str, document: dict[str, Any], since: int | None) -> int:
    """Keep a report; its number."""
    rows = database.read(
        "INSERT INTO reports (about, revision, made_by, told, since) VALUES (%s, %s, %s, %s, %s) RETURNING number",
        (about, revision, who, Jsonb(document), since),
    )
    return int(rows[0][0])


def each(database: Database, made_by: str | None = None) -> list[KeptReport]:
    """The newest, the newest first, without what they told; only those made by somebody, if that is given."""
    rows = database.read(
        "SELECT number, about, revision, made, made_by, '{}'::jsonb, since, signed FROM reports"
        " WHERE made_by = coalesce(%s, made_by) ORDER BY number DESC LIMIT %s", (made_by, LISTED),
    )  # fmt: skip
    return [KeptReport(*row) for row in rows]


def find(database: Database, number: int, made_by: str | None = None) -> KeptReport:
    """One; :class:`NotFound`, also for one that somebody else made than is asked for."""
    rows = database.read(_ROWS + " WHERE number = %s AND made_by = coalesce(%s, made_by)", (number, made_by))
    if not rows:
        raise NotFound("report", str(number), [], "number", "a number that the list of reports has")
    return KeptReport(*rows[0])


def last_signed(database: Database, about: str, made_by: str | None = None) -> KeptReport | None:
    """The one about the same that was signed last; only of those made by somebody, if that is given."""
    rows = database.read(
        _ROWS
        + " WHERE about = %s AND signed IS NOT NULL AND made_by = coalesce(%s, made_by) ORDER BY number DESC LIMIT 1",
        (about, made_by),
    )
    return KeptReport(*rows[0]) if rows else None


def sign(database: Database, number: int, signed: dict[str, Any]) -> None:
    """Keep what was decided; :class:`Refused` if it is signed already."""
    with database.transaction() as connection:
        done = connection.execute(
            "UPDATE reports SET signed = %s WHERE number = %s AND signed IS NULL", (Jsonb(signed), number)
        ).rowcount
        if not done:
            raise Refused(f"report {number} is signed already; make another to go through it again")
