"""What the service is used with: tokens of programs, console sessions, and codes of sign-in links.

Only their SHA-256 digests are kept.
"""

from __future__ import annotations

import secrets
from datetime import datetime, timedelta
from hashlib import sha256
from typing import NamedTuple

from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.core.words.errors import NotFound
from drawknife.core.words.roles import narrower

from . import names_taken
from .database import CHANNEL, Database, ReadOnly

PREFIX = "dk_"
#: What an administrator with an area reads: what touches the area, or everything.
AREA, EVERYTHING = "area", "everything"


class Holder(NamedTuple):
    """Who asks.

    `name` is what the journal calls it: the administrator, or the program whose token it is.

    `area` None is everything; `by` is the administrator; `session` is false for a program.
    """

    name: str
    role: str
    area: tuple[str, ...] | None
    by: str
    session: bool
    expires: datetime | None = None
    #: The directory that it provisions, and does nothing else.
    directory: str | None = None
    reads: str = AREA

    @property
    def shown(self) -> tuple[str, ...] | None:
        """The area that bounds what it reads; None: it reads everything."""
        return None if self.reads == EVERYTHING else self.area

    @property
    def person(self) -> bool:
        """Is it a person, by a session or a token of their own, and no program?"""
        return self.name == self.by


class Token(NamedTuple):
    """A token that is in use, a session, or a link that nobody has opened yet, as it is listed."""

    id: int
    administrator: str
    kind: str
    called: str | None
    role: str
    made: datetime
    expires: datetime | None
    last_used: datetime | None
    directory: str | None


def digest(token: str) -> bytes:
    """What is kept of a token. The token is random and long, so a fast digest is enough."""
    return sha256(token.encode("utf-8", "surrogatepass")).digest()


def make_token(
    database: Database,
    name: str,
    kind: str = "token",
    lasts: timedelta | None = None,
    called: str | None = None,
    *,
    role: str | None = None,
    until: datetime | None = None,
    directory: str | None = None,
) -> str:
    """Make a program's `token`, a console `session`, or a `code` that can be exchanged for one
    once, of an administrator.

    It `lasts` from now, or `until` a moment, or without end; with `directory` it provisions that
    one, and nothing else. A token is `called` by a name of its own: :class:`BadInput` if an
    administrator or a program has or had it.
    """
    token = PREFIX + secrets.token_urlsafe(32)
    with database.transaction() as connection:
        connection.execute("DELETE FROM tokens WHERE expires < clock_timestamp()")
        if called is not None and called != name:
            names_taken.take(connection, called, "a program's", "called")
        connection.execute(
            "INSERT INTO tokens (digest, name, kind, expires, called, role, directory)"
            " VALUES (%s, %s, %s, coalesce(%s, clock_timestamp() + %s), %s, %s, %s)",
            (digest(token), name, kind, until, lasts, called, role, directory),
        )
    return token


_OF_HOLDER = "t.name, called, kind, t.role, a.role, area, expires, t.directory, a.reads"
_GOOD = (
    "a.name = t.name AND digest = %s AND kind = ANY(%s) AND (expires IS NULL OR expires >"
    " clock_timestamp())"
)
_USED_BY = (
    f"UPDATE tokens t SET last_used = clock_timestamp() FROM administrators a WHERE {_GOOD}"
    f" RETURNING {_OF_HOLDER}"
)
_HELD_BY = f"SELECT {_OF_HOLDER} FROM tokens t, administrators a WHERE {_GOOD}"


def holder(database: Database, token: str, kind: str | None = None) -> Holder | None:
    """Whose token or session it is; None if it is none, or no longer.

    `kind`: only one of this kind.

    Its use is noted, where the database takes changes.
    """
    asked = digest(token), [kind] if kind else ["token", "session"]
    try:
        rows = database.read(_USED_BY, asked)
    except ReadOnly:
        rows = database.read(_HELD_BY, asked)
    if not rows:
        return None
    name, called, of_kind, role, makers, area, expires, directory, reads = rows[0]
    session = of_kind == "session"
    return Holder(
        name if session else called or name,
        makers if session else narrower(role or makers, makers),
        None if area is None else tuple(area),
        name,
        session,
        expires,
        directory,
        reads,
    )


def spend_code(database: Database, code: str) -> str | None:
    """Whose sign-in code it is, once: it is void afterwards."""
    rows = database.read(
        "DELETE FROM tokens WHERE digest = %s AND kind = 'code' AND expires > clock_timestamp()"
        " RETURNING name",
        (digest(code),),
    )
    return rows[0][0] if rows else None


def each(database: Database, administrator: str | None = None) -> list[Token]:
    """All that are good, of one administrator or of all; the newest last."""
    rows = database.read(
        "SELECT id, t.name, kind, called, coalesce(t.role, a.role), a.role, created, expires,"
        " last_used, t.directory FROM tokens t JOIN administrators a ON a.name = t.name WHERE"
        " (expires IS NULL OR expires > clock_timestamp()) AND (%s::text IS NULL OR t.name = %s)"
        " ORDER BY id",
        (administrator, administrator),
    )
    return [
        Token(number, by, kind, called, narrower(role, makers), *when)
        for number, by, kind, called, role, makers, *when in rows
    ]


def revoke(database: Database, token: str) -> None:
    """Make a token void everywhere, at once."""
    with database.transaction() as connection:
        connection.execute("DELETE FROM tokens WHERE digest = %s", (digest(token),))
        tell_of_change(connection)


def end(database: Database, number: int, administrator: str | None = None) -> Token:
    """End one that is listed, everywhere, at once; only one of `administrator`, if that is given.

    :class:`NotFound`.
    """
    found = next((t for t in each(database, administrator) if t.id == number), None)
    with database.transaction() as connection:
        if (
            found is None
            or not connection.execute("DELETE FROM tokens WHERE id = %s", (number,)).rowcount
        ):
            raise NotFound("token", str(number), [], "id", "a number that the list of tokens has")
        tell_of_change(connection)
    return found


def end_all(database: Database, name: str) -> int:
    """End every token, session and code of one administrator, everywhere, at once; returns how many
    there were.
    """
    with database.transaction() as connection:
        count = connection.execute("DELETE FROM tokens WHERE name = %s", (name,)).rowcount
        tell_of_change(connection)
    return count


def tell_of_change(connection: Connection[TupleRow]) -> None:
    """Let every service look anew at who holds what, once the transaction is done."""
    connection.execute("SELECT nextval('token_changes')")
    connection.execute("SELECT pg_notify(%s, 'tokens')", (CHANNEL,))
