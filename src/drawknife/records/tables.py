"""Which rows a model has in which table, and which model the rows make.

One :class:`Table` for each table: `rows` takes them from a model, `part` names the part of the model
that they belong to. :func:`assemble` is the way back.
"""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC
from functools import cache, partial
from hashlib import sha256
from typing import Any, NamedTuple

from drawknife.core.model import items as m
from drawknife.core.words.names import Place, fold, tree_key
from drawknife.core.words.rights import format_rights, parse_rights
from drawknife.formats import values

Row = tuple[Any, ...]
#: A store's folders are a part of their own each: ``folders:NAME``.
PARTS = (
    "units",
    "accounts",
    "groups",
    "stores",
    "virtual_paths",
    "endpoints",
    "settings",
    "quotas",
    "lockouts",
    "usage",
    "gone",
    "networks",
)

_words = cache(format_rights)
_mask = cache(parse_rights)


class Table(NamedTuple):
    """A table: its columns, how many of the first make its key, its rows, and the part it belongs to."""

    name: str
    columns: tuple[str, ...]
    key: int
    rows: Callable[[m.Model], Iterable[Row]]
    part: str


def _subject(subject: m.Subject) -> tuple[str, str]:
    return subject.kind, subject.name


def _entry(entry: m.Entry) -> Row:
    return entry.effect, entry.subject.kind, entry.subject.name, _words(entry.rights), entry.reach


def _place(place: Place | None) -> tuple[str | None, str | None]:
    return (None, None) if place is None else (place.store, place.path)


def _digest(v: m.VirtualPath) -> str:
    said = json.dumps([v.path, v.leads_to, v.listing, [str(g) for g in v.grants]])
    return sha256(said.encode()).hexdigest()[:32]


def _units(model: m.Model) -> Iterator[Row]:
    sources = dict(model.unit_sources)
    return ((unit, sources.get(unit, "local")) for unit in model.units)


def _accounts(model: m.Model) -> Iterator[Row]:
    for a in model.accounts:
        yield (
            a.name, fold(a.name), a.kind, a.display, a.mail, a.unit, *_place(a.home), a.enabled, a.expires,
            a.methods, a.source,
        )  # fmt: skip


def _settings(model: m.Model) -> Iterator[Row]:
    for s in model.settings:
        for name, value in s.values:
            yield (*_subject(s.subject), name, json.dumps(value, ensure_ascii=False))


def _endpoints(model: m.Model) -> Iterator[Row]:
    for e in model.endpoints:
        first, last = e.passive_ports or (None, None)
        yield (
            e.name, fold(e.name), e.protocol, e.address, e.port, first, last, e.tls, e.host_names, e.enabled,
            e.certificate, e.certificate_key, e.only is not None,
        )  # fmt: skip


def _endpoint_lists(model: m.Model) -> Iterator[Row]:
    for e in model.endpoints:
        for name, subjects in (("never", e.never), ("only", e.only)):
            yield from ((e.name, name, *_subject(s)) for s in subjects or ())


NETWORK_SECTIONS = ("inside", "openings", "forwardings")


def _network_lines(model: m.Model) -> Iterator[Row]:
    return ((section, str(line)) for section in NETWORK_SECTIONS for line in getattr(model, section))


def _quotas(model: m.Model) -> Iterator[Row]:
    for q in model.quotas:
        yield (
            q.name, fold(q.name), *_place(q.folder), q.hard_bytes, q.soft_bytes, q.hard_files, q.soft_files, q.grace,
            q.bytes_over_since, q.files_over_since,
        )  # fmt: skip


SUBJECT = ("subject_kind", "subject_name")
TABLES = (
    Table("units", ("path", "source"), 1, _units, "units"),
    Table(
        "accounts",
        ("name", "folded", "kind", "display", "mail", "unit", "home_store", "home_path", "enabled", "expires", "methods", "source"),
        1, _accounts, "accounts",
    ),
    Table(
        "groups", ("name", "folded", "source"), 1, lambda x: ((g.name, fold(g.name), g.source) for g in x.groups),
        "groups",
    ),
    Table(
        "memberships", ("group_name", "member_kind", "member_name"), 3,
        lambda x: ((g.name, *_subject(s)) for g in x.groups for s in g.members), "groups",
    ),
    Table(
        "stores", ("name", "folded", "root", "baseline", "capacity"), 1,
        lambda x: ((s.name, fold(s.name), s.root, s.baseline, s.capacity) for s in x.stores), "stores",
    ),
    Table(
        "folders", ("store", "path", "owner", "sealed"), 2,
        lambda x: ((s.name, f.path, f.owner, f.sealed) for s in x.stores for f in s.folders), "folders",
    ),
    Table(
        "entries", ("store", "path", "effect", *SUBJECT, "rights", "reach"), 7,
        lambda x: ((s.name, f.path, *_entry(e)) for s in x.stores for f in s.folders for e in f.entries), "folders",
    ),
    Table(
        "virtual_paths", ("id", "path", "leads_to", "listing"), 1,
        lambda x: ((_digest(v), v.path, v.leads_to, v.listing) for v in x.virtual_paths), "virtual_paths",
    ),
    Table(
        "grants", ("virtual_path", *SUBJECT, "rights"), 4,
        lambda x: ((_digest(v), *_subject(g.subject), _words(g.rights)) for v in x.virtual_paths for g in v.grants),
        "virtual_paths",
    ),
    Table(
        "endpoints",
        ("name", "folded", "protocol", "address", "port", "passive_first", "passive_last", "tls", "host_names", "enabled", "certificate", "certificate_key", "narrowed"),
        1, _endpoints, "endpoints",
    ),
    Table(
        "endpoint_entries", ("endpoint", "effect", *SUBJECT, "rights"), 5,
        lambda x: ((e.name, *_entry(n)[:4]) for e in x.endpoints for n in e.entries), "endpoints",
    ),
    Table("endpoint_lists", ("endpoint", "list", *SUBJECT), 4, _endpoint_lists, "endpoints"),
    Table("settings", (*SUBJECT, "name", "value"), 3, _settings, "settings"),
    Table(
        "quotas",
        ("name", "folded", "folder_store", "folder_path", "hard_bytes", "soft_bytes", "hard_files", "soft_files", "grace", "bytes_over_since", "files_over_since"),
        1, _quotas, "quotas",
    ),
    Table(
        "quota_subjects", ("quota", *SUBJECT), 3,
        lambda x: ((q.name, *_subject(s)) for q in x.quotas for s in q.shared_by), "quotas",
    ),
    Table(
        "usage", ("store", "path", "owner", "bytes", "files"), 3,
        lambda x: ((*u.folder, u.owner or "", u.bytes, u.files) for u in x.usage), "usage",
    ),
    Table(
        "lockouts", ("of", "failures", "within", "lasts"), 1,
        lambda x: ((k.of, k.failures, k.within, k.lasts) for k in x.lockouts), "lockouts",
    ),
    Table("network_lines", ("section", "line"), 2, _network_lines, "networks"),
    Table("gone", SUBJECT, 2, lambda x: map(_subject, x.gone), "gone"),
)  # fmt: skip


# --- the way back -------------------------------------------------------------------------------

Fetch = Callable[[str], list[Row]]


def _grouped(rows: Iterable[Row], key: int) -> dict[Any, list[Row]]:
    found: dict[Any, list[Row]] = defaultdict(list)
    for row in rows:
        found[row[0] if key == 1 else row[:key]].append(row[key:])
    return found


def _make_entry(row: Row) -> m.Entry:
    effect, kind, name, rights, reach = row
    return m.Entry(effect, m.Subject(kind, name), _mask(rights), reach)


def _entries(rows: Iterable[Row]) -> tuple[m.Entry, ...]:
    found = [_make_entry(row) for row in rows]
    return tuple(sorted(found)) if len(found) > 1 else tuple(found)


def make_folders(folder_rows: Iterable[Row], entry_rows: Iterable[Row]) -> dict[str, list[m.Folder]]:
    """Folders by store, in tree order, from the rows of `folders` and `entries`."""
    entries = _grouped(entry_rows, 2)
    stores: dict[str, list[m.Folder]] = defaultdict(list)
    for store, path, owner, sealed in folder_rows:
        stores[store].append(m.Folder(path, owner, sealed, _entries(entries.get((store, path), ()))))
    for folders in stores.values():
        folders.sort(key=lambda f: tree_key(f.path))
    return stores


def _value(name: str, text: str) -> Any:
    value = json.loads(text)
    return tuple(value) if isinstance(value, list) else value


def _make_place(store: str | None, path: str | None) -> Place | None:
    return Place(store, path) if store is not None and path is not None else None


def make_units(fetch: Fetch) -> dict[str, tuple[Any, ...]]:
    """The units and their sources: two fields of the model from one table."""
    rows = fetch("units")
    return {
        "units": tuple(sorted((path for path, _ in rows), key=fold)),
        "unit_sources": tuple(sorted((path, source) for path, source in rows if source != "local")),
    }


_KEPT_LINES: dict[str, Callable[[str], Any]] = {
    "inside": values.network,
    "openings": partial(values.opening, mixed=True),
    "forwardings": partial(values.forwarding, mixed=True),
}


def make_networks(fetch: Fetch) -> dict[str, tuple[Any, ...]]:
    """The networks inside, the openings and the forwardings: three fields of the model from one table."""
    found: dict[str, list[Any]] = {section: [] for section in NETWORK_SECTIONS}
    for section, line in fetch("network_lines"):
        found[section].append(_KEPT_LINES[section](line))
    return {section: tuple(sorted(lines)) for section, lines in found.items()}


def make_part(part: str, fetch: Fetch) -> tuple[Any, ...]:
    """One part of the model (see PARTS; `stores` without folders) from the rows that `fetch` gives."""

    def by_name(items: Iterable[Any]) -> tuple[Any, ...]:
        return tuple(sorted(items, key=lambda x: fold(x.name)))

    if part == "accounts":
        return by_name(
            m.Account(name, kind, display, mail, unit, _make_place(hs, hp), enabled, expires, tuple(methods), source)
            for name, _, kind, display, mail, unit, hs, hp, enabled, expires, methods, source in fetch("accounts")
        )
    if part == "groups":
        members = _grouped(fetch("memberships"), 1)
        return by_name(
            m.Group(name, tuple(sorted(m.Subject(*row) for row in members.get(name, ()))), source)
            for name, _, source in fetch("groups")
        )
    if part == "stores":
        return by_name(m.Store(name, root, baseline, capacity) for name, _, root, baseline, capacity in fetch("stores"))
    if part == "virtual_paths":
        grants = _grouped(fetch("grants"), 1)
        made = [
            m.VirtualPath(
                path, leads_to, listing,
                tuple(sorted(m.Grant(m.Subject(k, n), _mask(r)) for k, n, r in grants.get(id_, ()))),
            )
            for id_, path, leads_to, listing in fetch("virtual_paths")
        ]  # fmt: skip
        made.sort(key=lambda v: (tree_key(v.path), v.leads_to, v.listing, [str(g) for g in v.grants]))
        return tuple(made)
    if part == "endpoints":
        entries, lists = _grouped(fetch("endpoint_entries"), 1), _grouped(fetch("endpoint_lists"), 2)

        def listed(endpoint: str, name: str) -> tuple[m.Subject, ...]:
            return tuple(sorted(m.Subject(*row) for row in lists.get((endpoint, name), ())))

        return by_name(
            m.Endpoint(
                name, protocol, port, address, None if first is None else (first, last), tls, tuple(hosts), enabled,
                _entries((*row, "tree") for row in entries.get(name, ())), listed(name, "never"),
                listed(name, "only") if narrowed else None, *certificate,
            )
            for name, _, protocol, address, port, first, last, tls, hosts, enabled, *certificate, narrowed in fetch("endpoints")
        )  # fmt: skip
    if part == "settings":
        values = _grouped(fetch("settings"), 2)
        return tuple(
            m.Setting(m.Subject(*subject), tuple(sorted((n, _value(n, v)) for n, v in rows)))
            for subject, rows in sorted(values.items(), key=lambda x: (x[0][0], fold(x[0][1])))
        )
    if part == "quotas":
        shared = _grouped(fetch("quota_subjects"), 1)
        return by_name(
            m.Quota(
                name, tuple(sorted(m.Subject(*row) for row in shared.get(name, ()))), _make_place(fs, fp), *rest,
                *(at and at.astimezone(UTC) for at in clocks),
            )
            for name, _, fs, fp, *rest, clocks in ((*row[:-2], row[-2:]) for row in fetch("quotas"))
        )  # fmt: skip
    if part == "lockouts":
        return tuple(m.Lockout(*row) for row in sorted(fetch("lockouts")))
    if part == "gone":
        return tuple(sorted(m.Subject(*row) for row in fetch("gone")))
    assert part == "usage"
    return tuple(
        sorted(
            (m.Usage(Place(store, path), owner or None, b, n) for store, path, owner, b, n in fetch("usage")),
            key=lambda u: (fold(u.folder.store), tree_key(u.folder.path), fold(u.owner or "")),
        )
    )
