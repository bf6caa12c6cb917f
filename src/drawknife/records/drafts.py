"""Drafts as they are kept: named lists of steps that are not in force, and what was
said of them.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from datetime import datetime
from itertools import zip_longest
from typing import Any, NamedTuple

from psycopg import Connection
from psycopg.rows import TupleRow

from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import fold

from .database import Database

#: A draft holds no more steps than this.
MOST_STEPS = 10_000


class StoredStep(NamedTuple):
    """One step: what it does, as a change is written down, and who wrote it when, at which
    revision.

    `administrator` is the person; `who` may be a program of theirs.
    """

    number: int
    revision: int
    at: datetime
    who: str
    administrator: str
    step: dict[str, Any]
    why: str | None


class Draft(NamedTuple):
    """A draft. `version` is another whenever its steps are."""

    name: str
    about: str | None
    begun: datetime
    begun_by: str
    version: int
    steps: tuple[StoredStep, ...]


class Summary(NamedTuple):
    """A draft as it is listed."""

    name: str
    about: str | None
    begun: datetime
    begun_by: str
    writers: list[str]
    steps: int
    comments: int


_SUMMARY = (
    "SELECT d.name, about, begun, begun_by,"
    " ARRAY(SELECT DISTINCT who FROM draft_steps s WHERE s.draft = d.name ORDER BY who),"
    " (SELECT count(*) FROM draft_steps s WHERE s.draft = d.name),"
    " (SELECT count(*) FROM draft_comments c WHERE c.draft = d.name) FROM drafts d"
)


def each(database: Database) -> list[Summary]:
    """All drafts, the newest first."""
    return [Summary(*row) for row in database.read(_SUMMARY + " ORDER BY begun DESC, name")]


def summary(database: Database, name: str) -> Summary:
    """One, as it is listed; :class:`NotFound`."""
    rows = database.read(_SUMMARY + " WHERE folded = %s", (fold(name),))
    if not rows:
        raise missing(database, name)
    return Summary(*rows[0])


def missing(database: Database, name: str) -> NotFound:
    """That there is none of a name, with the nearest."""
    return NotFound(
        "draft", name, (row[0] for row in database.read("SELECT name FROM drafts")), "draft"
    )


def read(database: Database, name: str) -> Draft:
    """One with its steps, as of one moment; :class:`NotFound` with the nearest name."""
    rows = database.read(
        "SELECT d.name, about, begun, begun_by, version, number, revision, at, who, administrator,"
        " step, why FROM drafts d LEFT JOIN draft_steps s ON s.draft = d.name WHERE folded = %s"
        " ORDER BY number",
        (fold(name),),
    )
    if not rows:
        raise missing(database, name)
    steps = tuple(
        StoredStep(number, revision, at, who, administrator, json.loads(step), why)
        for *_, number, revision, at, who, administrator, step, why in rows
        if number is not None
    )
    called, about, begun, begun_by, version, *_ = rows[0]
    return Draft(called, about, begun, begun_by, version, steps)


def find(database: Database, name: str) -> tuple[str, int] | None:
    """Its name as it is spelled, and its version; None if there is none of the name."""
    rows = database.read("SELECT name, version FROM drafts WHERE folded = %s", (fold(name),))
    return (rows[0][0], rows[0][1]) if rows else None


def begin(database: Database, name: str, about: str | None, who: str) -> None:
    """A new one without steps; :class:`BadInput` if there is one of the name."""
    with database.transaction() as connection:
        if not _begun(connection, name, about, who):
            raise BadInput("name", f"there is a draft {name} already", "another name")


def _begun(connection: Connection[TupleRow], name: str, about: str | None, who: str) -> bool:
    return (
        connection.execute(
            "INSERT INTO drafts (name, folded, about, begun_by) VALUES (%s, %s, %s, %s) ON CONFLICT"
            " DO NOTHING",
            (name, fold(name), about, who),
        ).rowcount
        > 0
    )


def add(
    database: Database,
    name: str,
    steps: Sequence[dict[str, Any]],
    revision: int,
    who: str,
    *,
    administrator: str,
    expected: int | None,
    why: Sequence[str] = (),
    first: Callable[[Connection[TupleRow]], None] | None = None,
) -> bool:
    """Put steps at its end, each with `why` where that is known; it is begun if there is none, and
    true is returned.

    `expected` is the version that they were looked at with, None for a draft that there is none of
    yet. :class:`BadInput` if another version is there. `first` is called at the beginning of the
    transaction: both are done, or neither.
    """
    with database.transaction() as connection:
        if first is not None:
            first(connection)
        begun = expected is None and _begun(connection, name, None, who)
        row = connection.execute(
            "SELECT name, version, (SELECT coalesce(max(number), 0) FROM draft_steps WHERE draft ="
            " name), (SELECT count(*) FROM draft_steps WHERE draft = name) FROM drafts WHERE folded"
            " = %s FOR UPDATE",
            (fold(name),),
        ).fetchone()
        if row is None:
            raise NotFound("draft", name, [], "draft")
        called, now, last, count = row
        if not begun and now != expected:
            raise BadInput(
                "draft", f"the draft {called} was written on meanwhile", "the same again"
            )
        if count + len(steps) > MOST_STEPS:
            raise BadInput(
                "draft",
                f"the draft {called} would have more than {MOST_STEPS:,} steps",
                "another draft",
            )
        connection.cursor().executemany(
            "INSERT INTO draft_steps (draft, number, revision, who, administrator, step, why)"
            " VALUES (%s, %s, %s, %s, %s, %s, %s)",
            [
                (
                    called,
                    last + i,
                    revision,
                    who,
                    administrator,
                    json.dumps(step, ensure_ascii=False),
                    reason,
                )
                for i, (step, reason) in enumerate(zip_longest(steps, why), 1)
            ],
        )
        connection.execute("UPDATE drafts SET version = version + 1 WHERE name = %s", (called,))
    return begun


def leave_out(database: Database, name: str, number: int) -> None:
    """Take one step out; :class:`NotFound`."""
    with database.transaction() as connection:
        if not connection.execute(
            "DELETE FROM draft_steps WHERE draft = %s AND number = %s", (name, number)
        ).rowcount:
            raise NotFound(
                "step", str(number), [], "number", "the number of a step that the draft has"
            )
        connection.execute("UPDATE drafts SET version = version + 1 WHERE name = %s", (name,))


def drop(database: Database, name: str) -> None:
    """Take a draft away with all that was said of it."""
    with database.transaction() as connection:
        connection.execute("DELETE FROM drafts WHERE name = %s", (name,))


def took(connection: Connection[TupleRow], name: str, version: int) -> bool:
    """Take a draft away as it is applied, in the transaction that does; false if it is not there in
    that version.
    """
    return (
        connection.execute(
            "DELETE FROM drafts WHERE name = %s AND version = %s", (name, version)
        ).rowcount
        > 0
    )


def comment(database: Database, name: str, who: str, says: str) -> None:
    """Say something of a draft."""
    with database.transaction() as connection:
        connection.execute("SELECT FROM drafts WHERE name = %s FOR UPDATE", (name,))
        connection.execute(
            "INSERT INTO draft_comments (draft, number, who, says) SELECT name, (SELECT"
            " coalesce(max(number), 0) + 1 FROM draft_comments WHERE draft = name), %s, %s FROM"
            " drafts WHERE name = %s",
            (who, says, name),
        )


def comments(database: Database, name: str) -> list[tuple[datetime, str, str]]:
    """What was said of a draft, in order: when, who, what."""
    rows = database.read(
        "SELECT at, who, says FROM draft_comments WHERE draft = %s ORDER BY number", (name,)
    )
    return [(at, who, says) for at, who, says in rows]
