"""Changing the model: one transaction, one revision, one journal line.

What changes is worked out row by row against the revision in force, so that a small change of a
large model writes little; many rows go in by COPY.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from itertools import chain
from typing import Any

from psycopg import Connection, sql
from psycopg.rows import TupleRow

from drawknife.core.limits.usage import with_clocks
from drawknife.core.model import items as m
from drawknife.core.model.difference import differing
from drawknife.core.model.kinds import SECTIONS, STORE
from drawknife.core.words.collecting import many_objects
from drawknife.core.words.errors import Conflict
from drawknife.formats.model_file import change_data

from . import credentials
from .database import CHANGE_LOCK, CHANNEL, Database
from .journal import Item, LineKind, write_line
from .snapshots import FEW, Snapshot, snapshot_within
from .tables import TABLES, Row, Table

#: Makes a new model of the one in force. What it writes on the connection is part of the same
#: transaction.
Edit = Callable[[m.Model, Connection[TupleRow]], m.Model]


def change_model(
    database: Database,
    edit: Edit,
    who: str,
    what: str | Callable[[m.Model, m.Model], str],
    expected: int | None = None,
    *,
    at_hand: Snapshot | None = None,
    even_if_same: bool = False,
    beside: Sequence[Item] | None = None,
    renames: Sequence[tuple[str, str, str]] = (),
    kind: LineKind = "change",
) -> Snapshot:
    """Put in force what `edit` makes of the model in force; returns the snapshot of it.

    `expected` is the revision that the change was made for: :class:`Conflict` if another is in
    force. `what` is what the journal says of it, or makes that of the model before and after;
    `kind` the sort of its line. `at_hand` is a snapshot that spares reading. Where nothing differs
    there is no new revision, unless `even_if_same`. `beside` are items that changed beside the
    model, for the journal; `renames`, which `edit` may fill, is what it renamed: (kind, old name,
    new name). Nothing is kept if anything fails, or `edit` raises.
    """
    with database.transaction() as connection:
        hold_changes(connection)
        with many_objects():
            old = (
                snapshot_within(connection, at_hand)
                if at_hand is not None
                else snapshot_within(connection)
            )
            if expected is not None and expected != old.revision:
                raise Conflict(expected, old.revision)
            model = with_clocks(
                edit(old.model, connection), old.model, datetime.now(UTC).replace(microsecond=0)
            )
            _forget_credentials(connection, old, model)
            if old.model == model and old.revision and not even_if_same:
                return old
            changed = _write(connection, old.model, model)
            number = old.revision + 1
            connection.execute(
                "INSERT INTO revisions (number, changed) VALUES (%s, %s)", (number, sorted(changed))
            )
            # Made while the database takes those before them: a load has a hundred thousand.
            items = (
                (
                    d.section,
                    d.name,
                    change_data(d.section, d.before),
                    change_data(d.section, d.after),
                )
                for d in differing(old.model, model)
            )
            said = what if isinstance(what, str) else what(old.model, model)
            write_line(
                connection,
                who,
                said,
                chain(items, beside or ()),
                number,
                renames=renames,
                kind=kind,
            )
        connection.execute("SELECT pg_notify(%s, %s)", (CHANNEL, str(number)))
    return Snapshot(number, model)


def hold_changes(connection: Connection[TupleRow]) -> None:
    """Let nothing else change the model, or what is kept beside it, until the transaction ends."""
    connection.execute("SELECT pg_advisory_xact_lock(%s)", (CHANGE_LOCK,))


def replace_model(
    database: Database,
    model: m.Model,
    who: str,
    what: str,
    expected: int | None = None,
    before: Snapshot | None = None,
) -> Snapshot:
    """Make `model` (sound, in canonical form) the one in force; see :func:`change_model`."""
    return change_model(database, lambda _, __: model, who, what, expected, at_hand=before)


def _forget_credentials(connection: Connection[TupleRow], old: Snapshot, new: m.Model) -> None:
    """Credentials go with their account, and are kept for a while, so that they can come back with
    it.
    """
    if old.model.accounts is new.accounts:
        return
    gone = list({a.name for a in old.model.accounts} - {a.name for a in new.accounts})
    if gone:  # a renamed account's have been carried to its new name by now
        credentials.put_by(connection, gone, old.revision + 1)


def _trimmed(old: m.Model, new: m.Model) -> tuple[m.Model, m.Model]:
    """The two models without the items that are the same objects in both: they cannot differ."""
    known = _ids(old)
    return (_only(old, _ids(new)), _only(new, known)) if known else (old, new)


_ITEMS = tuple(kind.section for kind in SECTIONS.values() if kind is not STORE)


def _ids(model: m.Model) -> set[tuple[str, int]]:
    """The items by identity; a folder also by its store, as it may have moved to another."""
    found = {("", id(x)) for part in _ITEMS for x in getattr(model, part)}
    found.update((s.name, id(f)) for s in model.stores for f in s.folders)
    return found


def _only(model: m.Model, known: set[tuple[str, int]]) -> m.Model:
    parts: dict[str, Any] = {
        p: tuple(x for x in getattr(model, p) if ("", id(x)) not in known) for p in _ITEMS
    }
    stores = tuple(
        replace(s, folders=tuple(f for f in s.folders if (s.name, id(f)) not in known))
        for s in model.stores
    )
    return replace(model, stores=stores, **parts)


def _write(connection: Connection[TupleRow], old: m.Model, new: m.Model) -> set[str]:
    """Write what differs; returns the parts of the model that have changed."""
    less_old, less_new = _trimmed(old, new)
    rows = [(t, *_difference(t, less_old, less_new)) for t in TABLES if not _same(t.part, old, new)]
    for table, gone, _ in reversed(rows):
        if gone:
            _delete(
                connection,
                table,
                gone,
                every=table.kind is None and len(gone) == sum(1 for _ in table.rows(old)),
            )
    written = [(t, bool(gone) | _copy(connection, t, added)) for t, gone, added in rows]
    changed = {t.part for t, differs in written if differs and t.part != "folders"}
    return changed | _parts_of_stores(less_old, less_new)


def _parts_of_stores(old: m.Model, new: m.Model) -> set[str]:
    """The parts of the model that are folders: one by one where few differ, else those of a store
    as a whole.
    """
    was, now = ({s.name: s.folders for s in model.stores} for model in (old, new))
    parts = {f"folders:{store}" for store in was.keys() ^ now.keys()}
    for store in was.keys() & now.keys():
        before, after = ({f.path: f for f in folders[store]} for folders in (was, now))
        paths = [path for path in {**before, **after} if before.get(path) != after.get(path)]
        parts.update(
            [f"folders:{store}"]
            if len(paths) > FEW
            else [f"folder:{store}:{path}" for path in paths]
        )
    return parts


def _same(part: str, old: m.Model, new: m.Model) -> bool:
    part = "stores" if part == "folders" else part
    if part == "units" and old.unit_facts != new.unit_facts:
        return False
    return getattr(old, part) is getattr(new, part) or getattr(old, part) == getattr(new, part)


def _difference(table: Table, old: m.Model, new: m.Model) -> tuple[list[Row], Iterable[Row]]:
    """The rows that go, and those that come; where there were none, each of these is only made as
    it is written.
    """
    before = dict.fromkeys(table.rows(old))
    if not before:
        return [], table.rows(new)
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


def _copy(connection: Connection[TupleRow], table: Table, rows: Iterable[Row]) -> bool:
    """Write rows, by COPY, while more of them are made. Were there any?"""
    rest = iter(rows)
    first = next(rest, None)
    if first is None:
        return False
    query = sql.SQL("COPY {} ({}) FROM STDIN").format(
        sql.Identifier(table.name), sql.SQL(", ").join(map(sql.Identifier, table.columns))
    )
    with connection.cursor() as cursor, cursor.copy(query) as copy:
        for row in chain([first], rest):
            copy.write_row(
                [list(v) if isinstance(v, tuple) else v for v in row] if table.key == 1 else row
            )
    return True
