"""Changing the model: one transaction, one revision, one journal line.

What changes is worked out row by row against the revision in force, so that a small change of a
large model writes little; many rows go in by COPY.
"""

from __future__ import annotations

import json
from collections import Counter
from typing import Any

from psycopg import Connection, sql
from psycopg.rows import TupleRow

from drawknife.core import model as m

from .database import CHANGE_LOCK, Database
from .snapshots import FEW, Snapshot, snapshot_within
from .tables import TABLES, Row, Table

#: Told to every service that listens when there is a new revision.
CHANNEL = "drawknife_revision"


class Conflict(Exception):
    """The model is at another revision than the change was made for."""

    def __init__(self, expected: int, found: int) -> None:
        super().__init__(f"the model is at revision {found}, and the change was made for revision {expected}")
        self.expected, self.found = expected, found


def replace_model(
    database: Database, model: m.Model, who: str, what: str, expected: int | None = None, before: Snapshot | None = None
) -> Snapshot:
    """Make `model` (sound, in canonical form) the one in force; returns its snapshot.

    `expected` is the revision that the change was made for: :class:`Conflict` if another is in force.
    `before` is a snapshot at hand, which spares reading. Where nothing differs there is no new
    revision. Nothing is kept if anything fails.
    """
    with database.transaction() as connection:
        connection.execute("SELECT pg_advisory_xact_lock(%s)", (CHANGE_LOCK,))
        old = snapshot_within(connection, before) if before is not None else snapshot_within(connection)
        if expected is not None and expected != old.revision:
            raise Conflict(expected, old.revision)
        if old.model == model and old.revision:
            return old
        changed = _write(connection, old.model, model)
        number = old.revision + 1
        connection.execute("INSERT INTO revisions (number, changed) VALUES (%s, %s)", (number, sorted(changed)))
        connection.execute(
            "INSERT INTO journal (revision, who, what, before, after) VALUES (%s, %s, %s, %s, %s)",
            (number, who, what, json.dumps(_counts(old.model)), json.dumps(_counts(model))),
        )
        connection.execute("SELECT pg_notify(%s, %s)", (CHANNEL, str(number)))
    return Snapshot(number, model)


def _counts(model: m.Model) -> dict[str, Any]:
    found = {name: len(getattr(model, name)) for name in m.Model.__dataclass_fields__}
    found["folders"] = sum(len(s.folders) for s in model.stores)
    found["entries"] = sum(len(f.entries) for s in model.stores for f in s.folders)
    return {name: count for name, count in found.items() if count}


def _write(connection: Connection[TupleRow], old: m.Model, new: m.Model) -> set[str]:
    """Write what differs; returns the parts of the model that have changed."""
    differing = [(t, *_difference(t, old, new)) for t in TABLES if not _same(t.part, old, new)]
    for table, gone, _ in reversed(differing):
        if gone:
            _delete(connection, table, gone, every=len(gone) == sum(1 for _ in table.rows(old)))
    for table, _, added in differing:
        if added:
            _copy(connection, table, added)
    changed: set[str] = set()
    folders: Counter[str] = Counter()
    touched: set[tuple[str, str]] = set()
    for table, gone, added in differing:
        if table.part == "folders":
            touched.update(row[:2] for rows in (gone, added) for row in rows)
        elif gone or added:
            changed.add(table.part)
    for store, _ in touched:
        folders[store] += 1
    changed.update(f"folders:{store}" for store, count in folders.items() if count > FEW)
    changed.update(f"folder:{store}:{path}" for store, path in touched if folders[store] <= FEW)
    return changed


def _same(part: str, old: m.Model, new: m.Model) -> bool:
    part = "stores" if part == "folders" else part
    return getattr(old, part) is getattr(new, part) or getattr(old, part) == getattr(new, part)


def _difference(table: Table, old: m.Model, new: m.Model) -> tuple[list[Row], list[Row]]:
    before = dict.fromkeys(table.rows(old))
    if not before:
        return [], list(table.rows(new))
    after = dict.fromkeys(table.rows(new))
    return [row for row in before if row not in after], [row for row in after if row not in before]


def _delete(connection: Connection[TupleRow], table: Table, rows: list[Row], every: bool) -> None:
    if every:
        connection.execute(sql.SQL("DELETE FROM {}").format(sql.Identifier(table.name)))
        return
    key = table.columns[: table.key]
    lists = [[row[i] for row in rows] for i in range(table.key)]
    query = sql.SQL("DELETE FROM {} WHERE ({}) IN (SELECT * FROM unnest({}))").format(
        sql.Identifier(table.name),
        sql.SQL(", ").join(map(sql.Identifier, key)),
        sql.SQL(", ").join([sql.SQL("%s::text[]")] * table.key),
    )
    connection.execute(query, lists)


def _copy(connection: Connection[TupleRow], table: Table, rows: list[Row]) -> None:
    query = sql.SQL("COPY {} ({}) FROM STDIN").format(
        sql.Identifier(table.name), sql.SQL(", ").join(map(sql.Identifier, table.columns))
    )
    with connection.cursor() as cursor, cursor.copy(query) as copy:
        for row in rows:
            copy.write_row([list(v) if isinstance(v, tuple) else v for v in row] if table.key == 1 else row)
