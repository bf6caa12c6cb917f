"""Who changed what, when: a line for each change, with every item before and after it."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime
from typing import Any, Literal, NamedTuple

from psycopg import Connection
from psycopg.rows import TupleRow
from pydantic_core import to_json

from .database import Database

#: An item that a change changed: section, name, and what it was and is, as plain data; None: it was
#: not there.
Item = tuple[str, str, Any, Any]
#: What sort of thing a line tells: a change of the model; a census; what else was done; a sign-in
#: to the console.
LineKind = Literal["change", "census", "other", "sign-in"]
#: Of a change of many items so many stand in a list of lines; all of them are had with the line by
#: itself.
SHOWN = 50


class JournalRow(NamedTuple):
    """One line.

    `revision` is None where the model is not changed; `followed` None where that was not looked at.

    `items` are the first of `item_count`.
    """

    id: int
    revision: int | None
    kind: LineKind
    at: datetime
    who: str
    what: str
    followed: list[str] | None
    item_count: int
    items: list[Item]


def write_line(
    connection: Connection[TupleRow],
    who: str,
    what: str,
    items: Iterable[Item] = (),
    revision: int | None = None,
    *,
    renames: Sequence[tuple[str, str, str]] = (),
    kind: LineKind = "change",
) -> None:
    """Add a line, in the transaction that makes the change.

    `renames` are (kind, old name, new name).
    """
    row = connection.execute(
        "INSERT INTO journal (revision, kind, who, what, renames) VALUES (%s, %s, %s, %s, %s)"
        " RETURNING id",
        (revision, kind, who, what, _text(list(renames)) if renames else None),
    ).fetchone()
    assert row is not None
    with (
        connection.cursor() as cursor,
        cursor.copy(
            "COPY item_changes (line, number, section, name, before, after) FROM STDIN"
        ) as copy,
    ):
        for number, (section, name, before, after) in enumerate(items):
            copy.write_row((row[0], number, section, name, _text(before), _text(after)))


def _text(item: Any) -> str | None:
    """Plain data as JSON, by the encoder that is the quickest: the items of a load are a hundred
    thousand and more.
    """
    return None if item is None else to_json(item).decode()


def note(
    database: Database, who: str, what: str, items: Iterable[Item] = (), kind: LineKind = "other"
) -> None:
    """Add a line about something that is no change of the model."""
    with database.transaction() as connection:
        write_line(connection, who, what, items, kind=kind)


def note_followed(database: Database, revision: int, followed: Sequence[str]) -> None:
    """Keep what followed from a revision."""
    with database.connection() as connection:
        connection.execute(
            "UPDATE journal SET followed = %s WHERE revision = %s", (list(followed), revision)
        )


_LINES = "SELECT id, revision, kind, at, who, what, followed, before, after FROM journal"


class LinesWanted(NamedTuple):
    """Which lines: of whom, about what (a section and a name, and how a line of text names it),
    from when, up to when.

    `kind` is the sort of line; ``done`` is all but the sign-ins.
    """

    who: str | None = None
    about: tuple[str, str, str] | None = None
    since: datetime | None = None
    until: datetime | None = None
    kind: LineKind | Literal["done"] | None = None

    def where(self) -> tuple[str, tuple[Any, ...]]:
        """The condition, with its parameters."""
        conditions: list[str] = []
        parameters: list[Any] = []
        for condition, value in (
            ("who = %s", self.who),
            ("at >= %s", self.since),
            ("at <= %s", self.until),
        ):
            if value is not None:
                conditions.append(condition)
                parameters.append(value)
        if self.kind == "done":
            conditions.append("kind <> 'sign-in'")
        elif self.kind is not None:
            conditions.append("kind = %s")
            parameters.append(self.kind)
        if self.about is not None:
            section, name, said = self.about
            conditions.append(
                "EXISTS (SELECT FROM item_changes WHERE line = id AND (section = %s AND name = %s"
                " OR before ~* %s OR after ~* %s))"
            )
            named = f'(^|[" ]){re.escape(said)}($|[" ,])'
            parameters += [section, name, named, named]
        return f" WHERE {' AND '.join(conditions)}" if conditions else "", tuple(parameters)


def read_journal(
    database: Database, limit: int, offset: int = 0, wanted: LinesWanted = LinesWanted()
) -> tuple[int, list[JournalRow]]:
    """How many lines there are of those wanted, and some, the newest first, each with the first of
    its items.
    """
    where, parameters = wanted.where()
    if (
        wanted.about is not None
    ):  # what is in the items is searched once, for the count and the page
        every = [
            id_
            for (id_,) in database.read(
                f"SELECT id FROM journal{where} ORDER BY id DESC", parameters
            )
        ]
        total, ids = len(every), every[offset : offset + limit]
        rows = database.read(f"{_LINES} WHERE id = ANY(%s) ORDER BY id DESC", (ids,))
    else:
        total = database.read("SELECT count(*) FROM journal" + where, parameters)[0][0]
        rows = database.read(
            f"{_LINES}{where} ORDER BY id DESC LIMIT %s OFFSET %s", (*parameters, limit, offset)
        )
        ids = [row[0] for row in rows]
    items: dict[int, list[Item]] = {}
    for line, *item in database.read(
        "SELECT line, section, name, before, after FROM item_changes WHERE line = ANY(%s) AND"
        " number < %s ORDER BY line, number",
        (ids, SHOWN),
    ):
        items.setdefault(line, []).append(_item(item))
    counts: dict[int, int] = dict(
        database.read(
            "SELECT line, max(number) + 1 FROM item_changes WHERE line = ANY(%s) GROUP BY line",
            (ids,),
        )
    )
    return total, [_line(row, items.get(row[0], []), counts.get(row[0], 0)) for row in rows]


def read_line(database: Database, revision: int, limit: int, offset: int = 0) -> JournalRow | None:
    """The line of a revision, with some of its items; None if there is no such revision."""
    rows = database.read(f"{_LINES} WHERE revision = %s", (revision,))
    if not rows:
        return None
    line = rows[0][0]
    found = database.read(
        "SELECT section, name, before, after FROM item_changes WHERE line = %s ORDER BY number"
        " LIMIT %s OFFSET %s",
        (line, limit, offset),
    )
    count = database.read("SELECT count(*) FROM item_changes WHERE line = %s", (line,))[0][0]
    return _line(rows[0], [_item(list(item)) for item in found], count)


def every_item(database: Database, line: int) -> Iterator[Item]:
    """All items of a line, by its id."""
    rows = database.read(
        "SELECT section, name, before, after FROM item_changes WHERE line = %s ORDER BY number",
        (line,),
    )
    return (_item(list(row)) for row in rows)


def _item(row: list[Any]) -> Item:
    section, name, before, after = row
    return section, name, before and json.loads(before), after and json.loads(after)


def _line(row: TupleRow, items: list[Item], count: int) -> JournalRow:
    id_, revision, kind, at, who, what, followed, before, after = row
    if not count and (before or after):  # kept by an older version, many items only as their number
        items = list(sides_of(before or {}, after or {}))
        count = len(items)
    return JournalRow(id_, revision, kind, at, who, what, followed, count, items)


def sides_of(before: dict[str, Any], after: dict[str, Any]) -> Iterable[Item]:
    """The items of a line that an older version kept; where it only counted them, ``counted`` in
    the place of each side.
    """
    for section in dict.fromkeys((*before, *after)):
        a, b = before.get(section), after.get(section)
        if isinstance(a, int) or isinstance(b, int):
            if a != b:
                yield section, f"{a or 0} → {b or 0}", "counted", "counted"
            continue
        for name in dict.fromkeys((*(a or {}), *(b or {}))):
            yield section, name, (a or {}).get(name), (b or {}).get(name)
