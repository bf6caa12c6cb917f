"""The people who may use the service: their roles, areas and passwords."""

from __future__ import annotations

from datetime import datetime
from typing import Any, NamedTuple

from argon2.exceptions import Argon2Error, InvalidHashError
from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.core.words.errors import NotFound, Refused
from drawknife.core.words.names import fold
from drawknife.core.words.roles import OWNER

from . import names_taken
from .credentials import HASHER, nobodys
from .database import Database
from .journal import write_line
from .tokens import AREA, tell_of_change


class Rights(NamedTuple):
    """What an administrator may do, and how it signs in, as it is given: its role, its area, what
    it reads, its directory.
    """

    role: str
    area: tuple[str, ...] | None
    reads: str = AREA
    directory: str | None = None


class Administrator(NamedTuple):
    """A person. `area` None is everything; of the password only whether there is one.

    `reads` is ``area`` or ``everything``: does the area bound what is read, too?
    """

    name: str
    role: str
    area: tuple[str, ...] | None
    reads: str
    has_password: bool
    added: datetime
    added_by: str
    #: Through which it signs in, with the password that it has there.
    directory: str | None = None


_ROWS = (
    "SELECT name, role, area, reads, password IS NOT NULL, added, added_by, directory FROM"
    " administrators"
)


def _administrator(row: Any) -> Administrator:
    name, role, area, *others = row
    return Administrator(name, role, None if area is None else tuple(area), *others)


def each(database: Database) -> list[Administrator]:
    """All of them, by name."""
    return [_administrator(row) for row in database.read(_ROWS + " ORDER BY folded")]


def signing_in_through(connection: Connection[TupleRow], directory: str) -> list[str]:
    """The names of those who sign in with the password that they have in a directory."""
    rows = connection.execute(
        "SELECT name FROM administrators WHERE directory = %s ORDER BY folded", (directory,)
    )
    return [name for (name,) in rows]


def find(database: Database, name: str) -> Administrator:
    """One; :class:`NotFound` with the nearest name."""
    rows = database.read(_ROWS + " WHERE folded = %s", (fold(name),))
    if not rows:
        raise NotFound("administrator", name, (a.name for a in each(database)))
    return _administrator(rows[0])


def add(database: Database, name: str, rights: Rights, who: str) -> None:
    """A new one; :class:`BadInput` if an administrator or a program has or had the name."""
    with database.transaction() as connection:
        _hold(connection)
        names_taken.take(connection, name, "an administrator's", "name")
        connection.execute(
            "INSERT INTO administrators (name, folded, role, area, reads, directory, added_by)"
            " VALUES (%s, %s, %s, %s, %s, %s, %s)",
            (name, fold(name), *_columns(rights), who),
        )
        write_line(connection, who, f"add administrator {name}", [_item(name, None, rights)])


def change(database: Database, name: str, rights: Rights, who: str) -> None:
    """Another role, area, reading or way of signing in, which counts at once.

    :class:`Refused` for the last owner.

    Who signs in through a directory has no password here any more.
    """
    with database.transaction() as connection:
        _hold(connection)
        before = _locked(connection, name)
        if before.role == OWNER and rights.role != OWNER:
            _check_not_the_last_owner(connection, name)
        connection.execute(
            "UPDATE administrators SET role = %s, area = %s, reads = %s, directory = %s,"
            " password = CASE WHEN %s::text IS NULL THEN password END WHERE name = %s",
            (*_columns(rights), rights.directory, name),
        )
        write_line(connection, who, f"change administrator {name}", [_item(name, before, rights)])
        tell_of_change(connection)


def remove(database: Database, name: str, who: str) -> int:
    """Take one away, with all tokens and sessions; returns how many these were.

    :class:`Refused` for the last owner.
    """
    with database.transaction() as connection:
        _hold(connection)
        before = _locked(connection, name)
        if before.role == OWNER:
            _check_not_the_last_owner(connection, name)
        ended = connection.execute("DELETE FROM tokens WHERE name = %s", (name,)).rowcount
        connection.execute("DELETE FROM administrators WHERE name = %s", (name,))
        write_line(
            connection,
            who,
            f"remove administrator {name}, and {ended} tokens",
            [_item(name, before, None)],
        )
        tell_of_change(connection)
    return ended


def set_password(database: Database, name: str, password: str, who: str) -> None:
    """Keep the argon2 hash (RFC 9106) of a password; the console sessions that there are end."""
    with database.transaction() as connection:
        connection.execute(
            "UPDATE administrators SET password = %s WHERE name = %s", (HASHER.hash(password), name)
        )
        connection.execute("DELETE FROM tokens WHERE name = %s AND kind <> 'token'", (name,))
        write_line(connection, who, f"set the password of administrator {name}")
        tell_of_change(connection)


def with_password(database: Database, name: str, password: str) -> str | None:
    """The administrator of this name and password; None if there is none.

    A name that there is not takes as long.
    """
    rows = database.read(
        "SELECT name, password FROM administrators WHERE folded = %s", (fold(name),)
    )
    known, kept = rows[0] if rows else (None, None)
    try:
        return known if HASHER.verify(kept or nobodys(), password) and kept else None
    except (Argon2Error, InvalidHashError):
        return None


def signs_in_through(database: Database, name: str) -> tuple[str, str] | None:
    """An administrator, as it is spelled, and the directory through which it signs in; None if
    through none.
    """
    rows = database.read(
        "SELECT name, directory FROM administrators WHERE folded = %s AND directory IS NOT NULL",
        (fold(name),),
    )
    return rows[0] if rows else None


def ensure_owner(database: Database, name: str) -> bool:
    """Let there be an owner of this name; true if it was none before."""
    with database.transaction() as connection:
        _hold(connection)
        made = connection.execute(
            "INSERT INTO administrators (name, folded, role, added_by) VALUES (%s, %s, 'owner',"
            " 'drawknife serve') ON CONFLICT (folded) DO UPDATE SET role = 'owner', area = NULL"
            " WHERE administrators.role <> 'owner'",
            (name, fold(name)),
        ).rowcount
        # Whoever starts the service may be this owner again.
        connection.execute(
            "INSERT INTO names_taken (name, by) VALUES (%s, %s) ON CONFLICT DO NOTHING",
            (name, "an administrator's"),
        )
        others = connection.execute(
            "SELECT count(*) FROM administrators WHERE name <> %s", (name,)
        ).fetchone()
        if made and others and others[0]:
            write_line(connection, "drawknife serve", f"made {name} an owner")
    return made > 0


def _hold(connection: Connection[TupleRow]) -> None:
    """One change of administrators at a time, so that two do not each take away what they think is
    not the last owner.
    """
    connection.execute("LOCK TABLE administrators, tokens IN SHARE ROW EXCLUSIVE MODE")


def _locked(connection: Connection[TupleRow], name: str) -> Rights:
    row = connection.execute(
        "SELECT role, area, reads, directory FROM administrators WHERE name = %s", (name,)
    ).fetchone()
    if row is None:
        raise NotFound("administrator", name)
    role, area, reads, directory = row
    return Rights(role, None if area is None else tuple(area), reads, directory)


def _columns(rights: Rights) -> tuple[str, list[str] | None, str, str | None]:
    return (
        rights.role,
        None if rights.area is None else list(rights.area),
        rights.reads,
        rights.directory,
    )


def _check_not_the_last_owner(connection: Connection[TupleRow], name: str) -> None:
    others = connection.execute(
        "SELECT count(*) FROM administrators WHERE role = 'owner' AND name <> %s", (name,)
    ).fetchone()
    if not others or not others[0]:
        raise Refused(
            f"{name} is the last owner, and somebody has to be: make somebody else an owner first"
        )


def _item(name: str, before: Rights | None, after: Rights | None) -> tuple[str, str, Any, Any]:
    """How the journal has it: beside the model, as directories are."""

    def side(of: Rights | None) -> Any:
        if of is None:
            return None
        return {"name": name, **of._asdict(), "area": None if of.area is None else list(of.area)}

    return "administrators", name, side(before), side(after)
