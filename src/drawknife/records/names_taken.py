"""Names of administrators and programs, which are theirs for good: nobody gets one that was ever
somebody's.
"""

from __future__ import annotations

from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.core.words.confusable import look
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import fold

#: Names under which the service itself writes in the journal, or a protocol would.
RESERVED = ("drawknife", "drawknife serve", "scim")


def take(connection: Connection[TupleRow], name: str, whose: str, where: str) -> None:
    """Take a name for good; `whose` it is, in words: `an administrator's`, `a program's`.

    :class:`BadInput` at `where` if it, or a name of the same look, was ever taken, or is reserved.
    """
    connection.execute("LOCK TABLE names_taken IN SHARE ROW EXCLUSIVE MODE")
    reserved = [(name, "the service's own") for name in RESERVED]
    for taken, theirs in (
        *reserved,
        *connection.execute("SELECT name, by FROM names_taken").fetchall(),
    ):
        if _looks(taken) & _looks(name):
            alike = "it" if taken == name else f"it looks like {taken}, which"
            raise BadInput(
                where,
                f"the name {name} is taken: {alike} is or was {theirs}",
                "a name that nobody has or had",
            )
    connection.execute("INSERT INTO names_taken (name, by) VALUES (%s, %s)", (name, whose))


def _looks(name: str) -> set[str]:
    """How a name looks as it is written, and in small letters."""
    return {look(name), look(fold(name))}
