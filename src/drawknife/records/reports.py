"""Reports for somebody to sign, as they were told, and what was decided."""

from __future__ import annotations

import secrets
from datetime import datetime, timedelta
from typing import Any, NamedTuple

from psycopg import Connection
from psycopg.rows import TupleRow
from psycopg.types.json import Jsonb

from drawknife.core.words.errors import NotFound, Refused

from .database import Database
from .tokens import digest


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
    has_returned: bool = False


_ROWS = (
    "SELECT number, about, revision, made, made_by, told, since, signed, returned IS NOT NULL FROM"
    " reports"
)
#: So many are listed, the newest.
LISTED = 500


def add(
    database: Database,
    about: str,
    revision: int,
    who: str,
    document: dict[str, Any],
    since: int | None,
) -> int:
    """Keep a report; its number."""
    rows = database.read(
        "INSERT INTO reports (about, revision, made_by, told, since) VALUES (%s, %s, %s, %s, %s)"
        " RETURNING number",
        (about, revision, who, Jsonb(document), since),
    )
    return int(rows[0][0])


def each(database: Database, made_by: str | None = None) -> list[KeptReport]:
    """The newest, the newest first, without what they told; only those made by somebody, if that is
    given.
    """
    rows = database.read(
        "SELECT number, about, revision, made, made_by, '{}'::jsonb, since, signed FROM reports"
        " WHERE made_by = coalesce(%s, made_by) ORDER BY number DESC LIMIT %s",
        (made_by, LISTED),
    )
    return [KeptReport(*row) for row in rows]


def find(database: Database, number: int, made_by: str | None = None) -> KeptReport:
    """One; :class:`NotFound`, also for one that somebody else made than is asked for."""
    rows = database.read(
        _ROWS + " WHERE number = %s AND made_by = coalesce(%s, made_by)", (number, made_by)
    )
    if not rows:
        raise NotFound("report", str(number), [], "number", "a number that the list of reports has")
    return KeptReport(*rows[0])


def last_signed(database: Database, about: str, made_by: str | None = None) -> KeptReport | None:
    """The one about the same that was signed last; only of those made by somebody, if that is
    given.
    """
    rows = database.read(
        _ROWS
        + " WHERE about = %s AND signed IS NOT NULL AND made_by = coalesce(%s, made_by) ORDER BY"
        " number DESC LIMIT 1",
        (about, made_by),
    )
    return KeptReport(*rows[0]) if rows else None


def sign(
    connection: Connection[TupleRow], number: int, signed: dict[str, Any], returned: bytes
) -> None:
    """Keep the decisions, and the document that came back as it was; its links end.

    :class:`Refused` if the report is signed already.
    """
    done = connection.execute(
        "UPDATE reports SET signed = %s, returned = %s WHERE number = %s AND signed IS NULL",
        (Jsonb(signed), returned, number),
    ).rowcount
    if not done:
        raise already_signed(number)
    connection.execute("DELETE FROM review_links WHERE report = %s", (number,))


def already_signed(number: int) -> Refused:
    """That nothing more can be decided of a report."""
    return Refused(f"report {number} is signed already; make another to go through it again")


def returned(database: Database, number: int) -> bytes | None:
    """What came back when it was signed; None where nothing was kept."""
    rows = database.read("SELECT returned FROM reports WHERE number = %s", (number,))
    return None if not rows or rows[0][0] is None else bytes(rows[0][0])


# --- links --------------------------------------------------------------------------------------


class Link(NamedTuple):
    """A link that can be used: to which mail address `administrator` sent it, and until when it is
    good.
    """

    report: int
    address: str
    administrator: str
    sent: datetime
    expires: datetime


_LINKS = (
    "SELECT report, address, administrator, sent, expires FROM review_links WHERE expires >"
    " clock_timestamp()"
)


def add_link(
    database: Database, number: int, address: str, administrator: str, lasts: timedelta
) -> str:
    """The code of a new link, of which only the digest is kept."""
    code = secrets.token_urlsafe(32)
    with database.transaction() as connection:
        connection.execute("DELETE FROM review_links WHERE expires <= clock_timestamp()")
        connection.execute(
            "INSERT INTO review_links (digest, report, address, administrator, expires)"
            " VALUES (%s, %s, %s, %s, clock_timestamp() + %s)",
            (digest(code), number, address, administrator, lasts),
        )
    return code


def end_link(database: Database, code: str) -> None:
    """A link is good no more."""
    with database.transaction() as connection:
        connection.execute("DELETE FROM review_links WHERE digest = %s", (digest(code),))


def link_of(database: Database, code: str) -> Link | None:
    """The link of a code; None if it is none, is too old, or was used."""
    rows = database.read(f"{_LINKS} AND digest = %s", (digest(code),))
    return Link(*rows[0]) if rows else None


def links_to(database: Database, number: int) -> list[Link]:
    """The links by which a report can be signed, the newest first."""
    return [
        Link(*row)
        for row in database.read(f"{_LINKS} AND report = %s ORDER BY sent DESC", (number,))
    ]
