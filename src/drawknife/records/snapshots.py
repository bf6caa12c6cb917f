"""Whole models of one revision, read from the database.

A snapshot that is there already is brought forward by reading only the parts that have changed
since; what has not changed is the same object in both, which is what makes preparing it cheap.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from psycopg import Connection, sql
from psycopg.rows import TupleRow

from drawknife.core.model import items as m
from drawknife.core.words.names import tree_key

from .database import Database
from .tables import PARTS, TABLES, Row, Table, make_folders, make_part

#: More folders than this are not told one by one: the whole store's are read again.
FEW = 1000


@dataclass(frozen=True, slots=True)
class Snapshot:
    """The model at one revision; revision 0 is the empty model of a new database."""

    revision: int
    model: m.Model


EMPTY = Snapshot(0, m.Model())


def current_revision(connection: Connection[TupleRow]) -> int:
    """The newest revision."""
    row = connection.execute("SELECT coalesce(max(number), 0) FROM revisions").fetchone()
    return int(row[0]) if row else 0


def read_snapshot(database: Database, before: Snapshot = EMPTY) -> Snapshot:
    """The newest snapshot, brought forward from `before` where that helps."""
    with database.transaction() as connection:
        connection.execute("SET TRANSACTION ISOLATION LEVEL REPEATABLE READ, READ ONLY")
        return snapshot_within(connection, before)


def snapshot_within(connection: Connection[TupleRow], before: Snapshot = EMPTY) -> Snapshot:
    """As :func:`read_snapshot`, within a transaction of the caller's."""
    revision = current_revision(connection)
    if revision == before.revision:
        return before
    if revision < before.revision:  # another database stands there now
        before = EMPTY
    changed: set[str] = set(PARTS) if before is EMPTY else set()
    if not changed:
        for (parts,) in connection.execute(
            "SELECT changed FROM revisions WHERE number > %s", (before.revision,)
        ):
            changed.update(parts)
    return Snapshot(revision, _bring_forward(connection, before.model, changed, before is EMPTY))


def _bring_forward(
    connection: Connection[TupleRow], model: m.Model, changed: set[str], whole: bool
) -> m.Model:
    def fetch(table: Table) -> list[Row]:
        if table.kind is None:
            return _select(connection, table.name)
        where = sql.SQL(" WHERE {} = %(kind)s").format(sql.Identifier(table.columns[0]))
        return _select(connection, table.name, where, {"kind": table.kind})

    parts: dict[str, Any] = {}
    for part in PARTS:
        if part in changed:
            parts.update(make_part(part, fetch))
    folders = {s.name: s.folders for s in model.stores}
    if whole:
        made = make_folders(_select(connection, "folders"), _select(connection, "entries"))
        folders = {name: tuple(found) for name, found in made.items()}
    else:
        _bring_folders_forward(connection, folders, changed)
    stores = []
    old = {s.name: s for s in model.stores}
    for store in parts.pop("stores", model.stores):
        now = replace(store, folders=folders.get(store.name, ()))
        was = old.get(store.name)
        stores.append(was if was is not None and was.folders is now.folders and was == now else now)
    return replace(model, **parts, stores=tuple(stores))


def _bring_folders_forward(
    connection: Connection[TupleRow], folders: dict[str, tuple[m.Folder, ...]], changed: set[str]
) -> None:
    whole = {name.removeprefix("folders:") for name in changed if name.startswith("folders:")}
    single: dict[str, list[str]] = {}
    for name in changed:
        if name.startswith("folder:"):
            store, _, path = name.removeprefix("folder:").partition(":")
            if store not in whole:
                single.setdefault(store, []).append(path)
    for store in whole:
        rows = [
            _select(connection, table, sql.SQL(" WHERE store = %(store)s"), {"store": store})
            for table in ("folders", "entries")
        ]
        folders[store] = tuple(make_folders(*rows).get(store, ()))
    for store, paths in single.items():
        where = sql.SQL(" WHERE store = %(store)s AND path = ANY(%(paths)s)")
        parameters = {"store": store, "paths": paths}
        rows = [_select(connection, table, where, parameters) for table in ("folders", "entries")]
        made = {f.path: f for f in make_folders(*rows).get(store, ())}
        gone = set(paths)
        kept = [
            made.pop(f.path) if f.path in made else f
            for f in folders.get(store, ())
            if f.path in made or f.path not in gone
        ]
        if made:
            kept = sorted([*kept, *made.values()], key=lambda f: tree_key(f.path))
        folders[store] = tuple(kept)


_BY_NAME = {table.name: table for table in TABLES}


def _select(
    connection: Connection[TupleRow],
    name: str,
    where: sql.Composable = sql.SQL(""),
    parameters: dict[str, Any] | None = None,
) -> list[Row]:
    columns = sql.SQL(", ").join(map(sql.Identifier, _BY_NAME[name].columns))
    query = sql.SQL("SELECT {} FROM {}").format(columns, sql.Identifier(name)) + where
    return connection.execute(query, parameters).fetchall()
