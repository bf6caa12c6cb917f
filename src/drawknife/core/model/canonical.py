"""The canonical form of a sound model: names spelled as defined, everything sorted, nothing twice.

Equal models are then equal, and give equal files.
"""

from collections.abc import Callable, Iterable
from dataclasses import replace
from typing import Any

from ..words.names import Place, check_path, fold, tree_key
from .items import Account, Endpoint, Entry, Folder, Grant, Group, Model, Quota, Setting, Store, Subject, Usage
from .items import VirtualPath as VPath
from .soundness import WHOLE_HOME, Names


class Canonical:
    """Puts single items into canonical form, by the names that a model defines."""

    def __init__(self, names: Names) -> None:
        self.names = names

    def place(self, p: Place) -> Place:
        return Place(self.names.spell("store", p.store), check_path(p.path))

    def subjects(self, ss: Iterable[Subject]) -> tuple[Subject, ...]:
        return tuple(sorted({self.names.subject(s) for s in ss}))

    def entries(self, es: tuple[Entry, ...]) -> tuple[Entry, ...]:
        subject = self.names.subject
        spelled = [e if subject(e.subject) is e.subject else e._replace(subject=subject(e.subject)) for e in es]
        return tuple(sorted(set(spelled))) if len(spelled) > 1 else tuple(spelled)

    def grants(self, gs: tuple[Grant, ...]) -> tuple[Grant, ...]:
        return tuple(sorted({g._replace(subject=self.names.subject(g.subject)) for g in gs}))

    def account(self, a: Account) -> Account:
        unit = a.unit and self.names.spell("unit", a.unit)
        home = a.home and self.place(a.home)
        methods = tuple(sorted(set(a.methods)))
        same = unit == a.unit and home == a.home and methods == a.methods
        return a if same else replace(a, unit=unit, home=home, methods=methods)

    def group(self, g: Group) -> Group:
        return replace(g, members=self.subjects(g.members))

    def folder(self, f: Folder) -> Folder:
        if f.owner is None and not f.entries:
            return f
        owner, es = f.owner and self.names.spell("account", f.owner), self.entries(f.entries)
        return f if owner == f.owner and es == f.entries else Folder(f.path, owner, f.sealed, es)

    def virtual_path(self, v: VPath) -> VPath:
        leads_to = v.leads_to
        if leads_to != WHOLE_HOME:
            store_name, _, path = leads_to.partition(":")
            leads_to = f"{self.names.spell('store', store_name)}:{path}"
        return replace(v, leads_to=leads_to, grants=self.grants(v.grants))

    def endpoint(self, e: Endpoint) -> Endpoint:
        return replace(
            e, entries=self.entries(e.entries), host_names=tuple(sorted({h.lower() for h in e.host_names})),
            never=self.subjects(e.never), only=None if e.only is None else self.subjects(e.only),
        )  # fmt: skip

    def setting(self, s: Setting) -> Setting:
        values: dict[str, Any] = {k: tuple(sorted(set(v))) if isinstance(v, tuple) else v for k, v in s.values}
        if "uploads_owner" in values:
            values["uploads_owner"] = self.names.spell("account", values["uploads_owner"])
        return Setting(self.names.subject(s.subject), tuple(sorted(values.items())))

    def quota(self, q: Quota) -> Quota:
        return replace(q, shared_by=self.subjects(q.shared_by), folder=q.folder and self.place(q.folder))

    def usage(self, u: Usage) -> Usage:
        return replace(u, folder=self.place(u.folder), owner=u.owner and self.names.spell("account", u.owner))


def _each_once(rows: tuple[Usage, ...]) -> tuple[Usage, ...]:
    """Usage in which each folder and owner stands once: several rows are one, as where two owners become nobody known."""
    if len({(u.folder, u.owner) for u in rows}) == len(rows):
        return rows
    sums: dict[tuple[Place, str | None], Usage] = {}
    for u in rows:
        there = sums.get((u.folder, u.owner))
        sums[u.folder, u.owner] = (
            u if there is None else replace(u, bytes=u.bytes + there.bytes, files=u.files + there.files)
        )
    return tuple(sums.values())


def sort_key(section: str) -> Callable[[Any], Any]:
    """How the items of a section are ordered."""
    return _SORT.get(section, lambda x: fold(x.name))


_SORT: dict[str, Callable[[Any], Any]] = {
    "units": fold,
    "folders": lambda f: tree_key(f.path),
    "virtual_paths": lambda v: (tree_key(v.path), v.leads_to, v.listing, [str(g) for g in v.grants]),
    "settings": lambda s: (s.subject.kind, fold(s.subject.name)),
    "usage": lambda u: (fold(u.folder.store), tree_key(u.folder.path), fold(u.owner or "")),
}


def sound(model: Model, before: Model | None = None) -> Model:
    """The canonical form of a model without problems.

    Items that are the same objects in `before`, a model in canonical form, are taken as they are, where
    no name is spelled differently.
    """
    names = Names(model)
    if before is None or not Names(before).within(names):
        before = Model()
    canonical = Canonical(names)

    def made(section: str, one: Callable[[Any], Any], old: tuple[Any, ...], new: tuple[Any, ...]) -> tuple[Any, ...]:
        if new is old:
            return old
        known = set(map(id, old))
        found = [item if id(item) in known else one(item) for item in new]
        if section == "virtual_paths":
            found = list(dict.fromkeys(found))
        return tuple(sorted(found, key=sort_key(section)))

    def of(section: str, one: Callable[[Any], Any]) -> tuple[Any, ...]:
        return made(section, one, getattr(before, section), getattr(model, section))

    folders = {s.name: s.folders for s in before.stores}

    def store(s: Store) -> Store:
        return replace(s, folders=made("folders", canonical.folder, folders.get(s.name, ()), s.folders))

    gone = {s for s in model.gone if s.key not in {x.key for x in names.exact}} if model.gone else ()
    return Model(
        units=tuple(sorted(names.unit.values(), key=fold)),
        accounts=of("accounts", canonical.account),
        groups=of("groups", canonical.group),
        stores=of("stores", store),
        virtual_paths=of("virtual_paths", canonical.virtual_path),
        endpoints=of("endpoints", canonical.endpoint),
        settings=tuple(s for s in of("settings", canonical.setting) if s.values),
        quotas=of("quotas", canonical.quota),
        usage=_each_once(of("usage", canonical.usage)),
        unit_sources=tuple(sorted({(names.spell("unit", path), source) for path, source in model.unit_sources})),
        gone=tuple(sorted(gone)),
        lockouts=tuple(sorted(model.lockouts, key=lambda x: x.of)),
        inside=tuple(sorted(set(model.inside))),
        openings=tuple(sorted(set(model.openings))),
        forwardings=tuple(sorted(set(model.forwardings))),
    )
