"""Findings that were accepted until a day, by whom and why."""

from __future__ import annotations

from datetime import date, datetime
from typing import NamedTuple

from .database import Database


class Accepted(NamedTuple):
    """An acceptance: it counts up to the end of the day `until` (UTC)."""

    kind: str
    about: str
    until: date
    note: str
    who: str
    at: datetime


def accepted_on(database: Database, day: date) -> dict[tuple[str, str], Accepted]:
    """Read what is accepted on a day, by the kind of the finding and what it is about."""
    rows = database.read(
        "SELECT kind, about, until, note, who, at FROM accepted_findings WHERE until >= %s ORDER BY"
        " kind, about",
        (day,),
    )
    return {(row[0], row[1]): Accepted(*row) for row in rows}


def accept(database: Database, kind: str, about: str, until: date, note: str, who: str) -> None:
    """Accept a finding; what was said of it before is replaced."""
    with database.transaction() as connection:
        connection.execute(
            "INSERT INTO accepted_findings (kind, about, until, note, who) VALUES (%s, %s, %s, %s,"
            " %s) ON CONFLICT (kind, about) DO UPDATE SET until = excluded.until, note ="
            " excluded.note, who = excluded.who, at = clock_timestamp()",
            (kind, about, until, note, who),
        )


def reopen(database: Database, kind: str, about: str) -> bool:
    """Show a finding again; return whether it was accepted."""
    with database.transaction() as connection:
        gone = connection.execute(
            "DELETE FROM accepted_findings WHERE kind = %s AND about = %s RETURNING kind",
            (kind, about),
        ).fetchall()
    return bool(gone)
