"""Which rows a model has in which table, and which model the rows make.

One :class:`Table` for each table, and one for each kind that is kept in the table of items: `rows`
takes them from a model, `part` names the part of the model that they belong to, and
:func:`make_part` is the way back. Which columns accounts have, and what is in an item's document,
comes from the declarations of the kinds.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from functools import cache, partial
from hashlib import sha256
from typing import Any, NamedTuple

from drawknife.core.model import items as m
from drawknife.core.model import values
from drawknife.core.model.kinds import ACCOUNT, GROUP, LINES, SECTIONS, USAGE, VIRTUAL_PATH, Kind
from drawknife.core.model.units import unit_facts
from drawknife.core.words.names import Place, fold, tree_key
from drawknife.core.words.rights import format_rights, parse_rights
from drawknife.formats.model_file import read_item

Row = tuple[Any, ...]

_words = cache(format_rights)
_mask = cache(parse_rights)


class Table(NamedTuple):
    """A table: its columns, how many of the first make its key, its rows, and the part they belong
    to.

    `kind` is that of the items, where the table has those of several kinds.
    """

    name: str
    columns: tuple[str, ...]
    key: int
    rows: Callable[[m.Model], Iterable[Row]]
    part: str
    kind: str | None = None


# --- items as documents -------------------------------------------------------------------------

#: Kinds that are kept as documents.
DOCUMENTS = tuple(kind for kind in SECTIONS.values() if kind is not ACCOUNT and kind is not USAGE)


def _key(kind: Kind, item: Any) -> str:
    """What an item is kept under: what it is called; of virtual paths, which may be called alike, a
    digest.
    """
    if kind is not VIRTUAL_PATH:
        return kind.called(item)
    said = json.dumps([item.path, item.leads_to, item.listing, [str(g) for g in item.grants]])
    notes = [item.note, *(g.note for g in item.grants)]
    said += json.dumps(notes) if any(notes) else ""
    return sha256(said.encode()).hexdigest()[:32]


def _document(kind: Kind, item: Any) -> str:
    """An item as JSON; members and folders are in tables of their own."""
    data = kind.alone(item)
    if kind is GROUP:
        data.pop("members", None)
    return json.dumps(data, ensure_ascii=False, separators=(",", ":"))


def _documents(kind: Kind, model: m.Model) -> Iterator[Row]:
    return ((kind.name, _key(kind, x), _document(kind, x)) for x in getattr(model, kind.section))


# --- accounts -----------------------------------------------------------------------------------


def _account_columns() -> tuple[str, ...]:
    found: list[str] = []
    for field in ACCOUNT.fields:
        found += (
            [f"{field.name}_store", f"{field.name}_path"]
            if field.names == "place"
            else [field.name]
        )
    return (found[0], "folded", *found[1:])


def _accounts(model: m.Model) -> Iterator[Row]:
    rest = ACCOUNT.fields[1:]
    for a in model.accounts:
        row: list[Any] = [a.name, fold(a.name)]
        for field in rest:
            value = getattr(a, field.name)
            if field.names == "place":
                row += (None, None) if value is None else value
            else:
                row.append(value)
        yield tuple(row)


def _make_account(row: Row) -> m.Account:
    name, _, *columns = row
    left = iter(columns)
    found: dict[str, Any] = {"name": name}
    for field in ACCOUNT.fields[1:]:
        value = next(left)
        if field.names == "place":
            path = next(left)
            value = None if value is None else Place(value, path)
        found[field.name] = tuple(value) if field.many else value
    return m.Account(**found)


# --- the others ---------------------------------------------------------------------------------


def _member(member: m.Member) -> Row:
    return *member.subject, member.until, member.note


def _entry(entry: m.Entry) -> Row:
    return entry.effect, *entry.subject, _words(entry.rights), entry.reach, entry.until, entry.note


def _units(model: m.Model) -> Iterator[Row]:
    known = model.facts_of_units()
    return (known.get(unit, m.UnitFacts(unit)) for unit in model.units)


def _model_lines(section: str, model: m.Model) -> Iterator[Row]:
    return ((section, str(line)) for line in getattr(model, section))


SUBJECT = ("subject_kind", "subject_name")
TABLES = (
    Table("units", m.UnitFacts._fields, 1, _units, "units"),
    Table("accounts", _account_columns(), 1, _accounts, "accounts"),
    Table(
        "memberships",
        ("group_name", "member_kind", "member_name", "until", "note"),
        3,
        lambda x: ((g.name, *_member(y)) for g in x.groups for y in g.members),
        GROUP.section,
    ),
    Table(
        "folders",
        ("store", "path", "owner", "sealed", "note"),
        2,
        lambda x: (
            (s.name, f.path, f.owner, f.sealed, f.note) for s in x.stores for f in s.folders
        ),
        "folders",
    ),
    Table(
        "entries",
        ("store", "path", "effect", *SUBJECT, "rights", "reach", "until", "note"),
        7,
        lambda x: (
            (s.name, f.path, *_entry(e)) for s in x.stores for f in s.folders for e in f.entries
        ),
        "folders",
    ),
    Table(
        "usage",
        ("store", "path", "owner", "bytes", "files"),
        3,
        lambda x: ((*u.folder, u.owner or "", u.bytes, u.files) for u in x.usage),
        "usage",
    ),
    *(
        Table(
            "items", ("kind", "key", "item"), 2, partial(_documents, kind), kind.section, kind.name
        )
        for kind in DOCUMENTS
    ),
    *(
        Table(
            "model_lines", ("section", "line"), 2, partial(_model_lines, section), section, section
        )
        for section in LINES
    ),
)
#: A store's folders are a part of their own each: ``folders:NAME``.
PARTS = tuple(dict.fromkeys(t.part for t in TABLES if t.part != "folders"))


# --- the way back -------------------------------------------------------------------------------

#: The rows of a table; of one that has several kinds, those of one.
Fetch = Callable[[Table], list[Row]]


def _grouped(rows: Iterable[Row], key: int) -> dict[Any, list[Row]]:
    found: dict[Any, list[Row]] = defaultdict(list)
    for row in rows:
        found[row[0] if key == 1 else row[:key]].append(row[key:])
    return found


def _make_entry(row: Row) -> m.Entry:
    effect, kind, name, rights, reach, until, note = row
    return m.Entry(effect, m.Subject(kind, name), _mask(rights), reach, until, note)


def _entries(rows: Iterable[Row]) -> tuple[m.Entry, ...]:
    found = [_make_entry(row) for row in rows]
    return tuple(sorted(found)) if len(found) > 1 else tuple(found)


def _members(rows: Iterable[Row]) -> tuple[m.Member, ...]:
    return tuple(
        sorted(m.Member(m.Subject(kind, name), until, note) for kind, name, until, note in rows)
    )


def make_folders(
    folder_rows: Iterable[Row], entry_rows: Iterable[Row]
) -> dict[str, list[m.Folder]]:
    """Folders by store, in tree order, from the rows of `folders` and `entries`."""
    entries = _grouped(entry_rows, 2)
    stores: dict[str, list[m.Folder]] = defaultdict(list)
    for store, path, owner, sealed, note in folder_rows:
        stores[store].append(
            m.Folder(path, owner, sealed, _entries(entries.get((store, path), ())), note)
        )
    for folders in stores.values():
        folders.sort(key=lambda f: tree_key(f.path))
    return stores


#: Lines of older versions may mix addresses of both families; they lead nowhere, and are kept.
KEPT_LINES: dict[str, values.Read] = {
    "openings": partial(values.opening, mixed=True),
    "forwardings": partial(values.forwarding, mixed=True),
}


def make_part(part: str, fetch: Fetch) -> dict[str, tuple[Any, ...]]:
    """The fields of the model that make one part (see PARTS; stores without folders), from the rows
    of its tables.
    """
    tables = {t.name: t for t in TABLES if t.part == part}
    if part == "units":
        rows = [m.UnitFacts(*row) for row in fetch(tables["units"])]
        return {
            "units": tuple(sorted((x.path for x in rows), key=fold)),
            "unit_facts": unit_facts(rows),
        }
    if part in LINES:
        read = KEPT_LINES.get(part, LINES[part].read)
        return {part: tuple(sorted(read(line) for _, line in fetch(tables["model_lines"])))}
    kind = SECTIONS[part]
    if kind is ACCOUNT:
        found: list[Any] = [_make_account(row) for row in fetch(tables["accounts"])]
    elif kind is USAGE:
        found = [
            m.Usage(Place(s, path), owner or None, b, n)
            for s, path, owner, b, n in fetch(tables["usage"])
        ]
    else:
        found = [_made(kind, json.loads(document)) for _, _, document in fetch(tables["items"])]
    if kind is GROUP:
        members = _grouped(fetch(tables["memberships"]), 1)
        found = [GROUP.but(g, {"members": _members(members.get(g.name, ()))}) for g in found]
    return {part: tuple(sorted(found, key=kind.order))}


def _made(kind: Kind, data: dict[str, Any]) -> Any:
    """An item from its document, its lists sorted as in canonical form."""
    return kind.sorted(read_item(kind.name, data))
