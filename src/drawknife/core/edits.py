"""Edits: one thing of a model added, changed, renamed, or removed (docs/rules.md, "Editing").

Each takes a sound model and gives a sound one, or raises :class:`EditRefused` and changes nothing. What
still names a thing is told when its removal is refused; a rename carries all that names it along.
"""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator
from dataclasses import replace
from typing import Any, NamedTuple

from .canonical import sound
from .model import Model, Store, Subject
from .names import Place, fold, join, parse_place, rest_below
from .rewriting import Rewriting, same_name, same_place, same_subject
from .soundness import WHOLE_HOME, Problem, nearest, problems

#: What can be edited, and the section of the model that holds it. A folder is in its store.
SECTION_OF = {
    "account": "accounts",
    "group": "groups",
    "unit": "units",
    "store": "stores",
    "folder": "stores",
    "virtual-path": "virtual_paths",
    "endpoint": "endpoints",
    "setting": "settings",
    "quota": "quotas",
    "lockout": "lockouts",
}
KINDS = tuple(SECTION_OF)
SUBJECT_KINDS = ("account", "group", "unit")


class EditRefused(ValueError):
    """An edit that cannot be done: one problem or several, each with what would be right."""

    def __init__(self, found: list[Problem], summary: str = "") -> None:
        super().__init__(summary or found[0].message)
        self.problems = found


class NotThere(LookupError):
    """What is to be edited does not exist. `near` is the nearest name that does."""

    def __init__(self, kind: str, name: str, names: list[str]) -> None:
        self.kind, self.name, self.near = kind, name, nearest(name, names)
        super().__init__(f"there is no {kind} {name!r}" + (f"; did you mean {self.near}?" if self.near else ""))


def refuse(message: str, expected: str = "", where: tuple[str | int, ...] = ()) -> EditRefused:
    """An :class:`EditRefused` with one problem."""
    return EditRefused([Problem(where, message, expected)])


# --- finding ------------------------------------------------------------------------------------


def name_of(kind: str, item: Any) -> str:
    """What an item is called. Of virtual paths with one path, each is ``PATH>LEADS_TO``."""
    if kind == "unit":
        return str(item)
    if kind == "setting":
        return str(item.subject)
    if kind == "virtual-path":
        return f"{item.path}>{item.leads_to}"
    if kind == "lockout":
        return str(item.of)
    return str(item.path if kind == "folder" else item.name)


def find(model: Model, kind: str, name: str) -> Any:
    """The item of that name; a folder as ``STORE:/path``. :class:`NotThere` if there is none."""
    if kind == "folder":
        store, path = _store_and_path(model, name)
        found = next((f for f in store.folders if f.path == path), None)
        if found is None:
            raise NotThere("recorded folder", name, [f"{store.name}:{f.path}" for f in store.folders[:10_000]])
        return found
    items = getattr(model, SECTION_OF[kind])
    wanted = fold(name)
    if kind == "virtual-path":
        there = [v for v in items if v.path == name] or [v for v in items if name_of(kind, v) == name]
        if len(there) > 1:
            each = ", ".join(name_of(kind, v) for v in there)
            raise refuse(f"{len(there)} virtual paths are at {name}", f"one of {each}")
        found = there[0] if there else None
    else:
        found = next((x for x in items if fold(name_of(kind, x)) == wanted), None)
    if found is None:
        names = [x.path for x in items] if kind == "virtual-path" else [name_of(kind, x) for x in items]
        raise NotThere(kind.replace("-", " "), name, names)
    return found


def _store_and_path(model: Model, name: str) -> tuple[Store, str]:
    place = parse_place(name)
    store: Store = find(model, "store", place.store)
    return store, place.path


def checked(model: Model, before: Model) -> Model:
    """The canonical form of an edited model; :class:`EditRefused` with every problem, if there are any."""
    found = problems(model, before)
    if found:
        raise EditRefused(found)
    return sound(model, before)


# --- adding and changing ------------------------------------------------------------------------


def add(model: Model, kind: str, item: Any, store: str | None = None) -> Model:
    """The model with `item` added; a folder goes into `store`."""
    if kind == "unit":
        if fold(item) in map(fold, model.units):
            raise refuse(f"unit {item!r} is there already", "another name")
        return checked(replace(model, units=(*model.units, item)), model)
    if kind == "folder":
        assert store is not None
        into = find(model, "store", store)
        if any(f.path == item.path for f in into.folders):
            raise refuse(f"folder {into.name}:{item.path} is recorded already", "a change of it")
        return checked(_with_store(model, into, replace(into, folders=(*into.folders, item))), model)
    section = SECTION_OF[kind]
    items = getattr(model, section)
    wanted = fold(name_of(kind, item))
    if any(fold(name_of(kind, x)) == wanted for x in items):
        raise refuse(
            f"{kind.replace('-', ' ')} {name_of(kind, item)!r} is there already", "a change of it, or another name"
        )
    return checked(replace(model, **{section: (*items, item)}), model)


def change(model: Model, kind: str, old: Any, new: Any, store: str | None = None) -> Model:
    """The model with `new` in the place of `old`, which has the same name."""
    if kind == "folder":
        assert store is not None
        into = find(model, "store", store)
        folders = tuple(new if f is old else f for f in into.folders)
        return checked(_with_store(model, into, replace(into, folders=folders)), model)
    section = SECTION_OF[kind]
    items = tuple(new if x is old else x for x in getattr(model, section))
    return checked(replace(model, **{section: items}), model)


def _with_store(model: Model, old: Store, new: Store) -> Model:
    return replace(model, stores=tuple(new if s is old else s for s in model.stores))


# --- renaming -----------------------------------------------------------------------------------


def rename(model: Model, kind: str, name: str, to: str) -> Model:
    """The model with a thing renamed, and everything that names it; `to` has been checked for spelling.

    A unit takes those below it along, a folder its subfolders, the homes, quotas, and virtual paths there.
    """
    item = find(model, kind, name)
    if kind == "folder":
        return _move(model, name, to)
    if kind in ("virtual-path", "setting", "lockout"):
        raise refuse(f"a {kind.replace('-', ' ')} has no name of its own", "a change of it")
    old = name_of(kind, item)
    if fold(to) != fold(old) and any(fold(name_of(kind, x)) == fold(to) for x in getattr(model, SECTION_OF[kind])):
        raise refuse(f"{kind} {to!r} is there already", "another name")
    if kind == "unit":
        return _rename_unit(model, old, to)
    rewriting = Rewriting(
        _renaming_subject(kind, old, to) if kind in SUBJECT_KINDS else same_subject,
        (lambda n: to if n == old else n) if kind == "account" else same_name,
        same_name,
        (lambda p: Place(to, p.path) if p.store == old else p) if kind == "store" else same_place,
    )
    section = SECTION_OF[kind]
    items = tuple(replace(x, name=to) if x.name == old else x for x in getattr(model, section))
    return checked(rewriting.of(replace(model, **{section: items})), model)


def _renaming_subject(kind: str, old: str, to: str) -> Callable[[Subject], Subject]:
    before, after = Subject(kind, old), Subject(kind, to)
    return lambda s: after if s == before else s


def _rename_unit(model: Model, old: str, to: str) -> Model:
    def unit(path: str) -> str:
        if path == old:
            return to
        return to + path[len(old) :] if path.startswith(old + "/") else path

    if unit(to) != to:
        raise refuse(f"unit {old} cannot go below itself, to {to}", "a place outside of it")
    rewriting = Rewriting(
        lambda s: Subject("unit", unit(s.name)) if s.kind == "unit" else s, same_name, unit, same_place
    )
    units = tuple(map(unit, model.units))
    sources = tuple((unit(path), source) for path, source in model.unit_sources)
    return checked(rewriting.of(replace(model, units=units, unit_sources=sources)), model)


def _move(model: Model, name: str, to: str) -> Model:
    store, old = _store_and_path(model, name)
    there, new = _store_and_path(model, to)
    if old == "/" or new == "/":
        raise refuse("the root of a store stays where it is", "a folder below it")
    if store is there and rest_below(new, old) is not None:
        raise refuse(f"{name} cannot go below itself, to {to}", "a place outside of it")
    if any(f.path == new for f in there.folders):
        raise refuse(f"folder {there.name}:{new} is recorded already", "another place")

    def place(p: Place) -> Place:
        rest = rest_below(p.path, old) if p.store == store.name else None
        return p if rest is None else Place(there.name, join(new, rest))

    moved = [f for f in store.folders if rest_below(f.path, old) is not None]
    gone = set(map(id, moved))
    folders = {s.name: [f for f in s.folders if id(f) not in gone] for s in model.stores}
    folders[there.name] += [replace(f, path=place(Place(store.name, f.path)).path) for f in moved]
    stores = tuple(replace(s, folders=tuple(folders[s.name])) for s in model.stores)
    rewriting = Rewriting(same_subject, same_name, same_name, place)
    return checked(rewriting.of(replace(model, stores=stores)), model)


# --- removing -----------------------------------------------------------------------------------


def remove(model: Model, kind: str, name: str, everywhere: bool = False) -> Model:
    """The model without a thing. Refused, with every place that still names it, if any does.

    `everywhere`, for an account, a group or a unit, strikes out the lines that name it as well; what an
    account owned then belongs to nobody known.
    """
    item = find(model, kind, name)
    if kind == "folder":
        store, _ = _store_and_path(model, name)
        return checked(
            _with_store(model, store, replace(store, folders=tuple(f for f in store.folders if f is not item))), model
        )
    called = name_of(kind, item)
    if everywhere and kind in SUBJECT_KINDS:
        model_without = _struck_out(model, kind, called)
    else:
        naming = list(references(model, kind, called))
        if naming:
            hint = ", or remove it everywhere" if kind in SUBJECT_KINDS else ""
            count = f"{len(naming)} places still name" if len(naming) > 1 else "something still names"
            raise EditRefused(
                [Problem((), str(what)) for what in naming], f"{count} {kind} {called}; change these first{hint}"
            )
        model_without = model
    section = SECTION_OF[kind]
    rest = tuple(x for x in getattr(model_without, section) if name_of(kind, x) != called)
    without = replace(model_without, **{section: rest})
    if kind == "unit":
        without = replace(without, unit_sources=tuple(x for x in without.unit_sources if x[0] != called))
    return checked(without, model)


def _struck_out(model: Model, kind: str, name: str) -> Model:
    below = [u for u in model.units if u.startswith(name + "/")] if kind == "unit" else []
    if below:
        raise refuse(f"unit {name} still holds {below[0]}", "the units below it removed first")
    gone = Subject(kind, name)
    return Rewriting(
        lambda s: None if s == gone else s,
        (lambda n: None if n == name else n) if kind == "account" else same_name,
        (lambda u: None if u == name else u) if kind == "unit" else same_name,
        same_place,
    ).of(model)


class Reference(NamedTuple):
    """A place that names a thing: the kind and name of what it stands in, and its line, if it is one."""

    kind: str
    name: str
    line: str = ""

    def __str__(self) -> str:
        return f"{self.kind} {self.name}" + (f", `{self.line}`" if self.line else "")


def references(model: Model, kind: str, name: str) -> Iterator[Reference]:
    """Every place that names an account, a group, a unit, or a store, as the model spells it."""
    if kind in SUBJECT_KINDS:
        yield from (reference for _, reference in lines_naming(model, {Subject(kind, name)}))
    if kind == "account":
        yield from _owned(model, name)
    elif kind == "unit":
        yield from (Reference("account", a.name, f"unit: {name}") for a in model.accounts if a.unit == name)
        yield from (Reference("unit", u) for u in model.units if u.startswith(name + "/"))
    elif kind == "store":
        yield from _in_store(model, name)


def lines_naming(model: Model, subjects: Container[Subject]) -> Iterator[tuple[Subject, Reference]]:
    """Every line that names one of these subjects: memberships, entries, grants, settings, quotas."""
    for group in model.groups:
        for member in group.members:
            if member in subjects:
                yield member, Reference("group", group.name, str(member))
    for store in model.stores:
        for folder in store.folders:
            for entry in folder.entries:
                if entry.subject in subjects:
                    yield entry.subject, Reference("folder", f"{store.name}:{folder.path}", str(entry))
    for vpath in model.virtual_paths:
        for grant in vpath.grants:
            if grant.subject in subjects:
                yield grant.subject, Reference("virtual path", vpath.path, str(grant))
    for endpoint in model.endpoints:
        for entry in endpoint.entries:
            if entry.subject in subjects:
                yield entry.subject, Reference("endpoint", endpoint.name, str(entry))
        for word, named in (("never", endpoint.never), ("only", endpoint.only)):
            yield from ((s, Reference("endpoint", endpoint.name, f"{word} {s}")) for s in named if s in subjects)
    for setting in model.settings:
        if setting.subject in subjects:
            names = ", ".join(name for name, _ in setting.values)
            yield setting.subject, Reference("setting", str(setting.subject), names)
    for quota in model.quotas:
        for subject in quota.shared_by:
            if subject in subjects:
                yield subject, Reference("quota", quota.name, str(subject))


def _owned(model: Model, name: str) -> Iterator[Reference]:
    for store in model.stores:
        yield from (
            Reference("folder", f"{store.name}:{f.path}", f"owner: {name}") for f in store.folders if f.owner == name
        )
    for setting in model.settings:
        if dict(setting.values).get("uploads_owner") == name:
            yield Reference("setting", str(setting.subject), f"uploads_owner: {name}")
    yield from (Reference("usage", str(u.folder), f"owner: {name}") for u in model.usage if u.owner == name)


def _in_store(model: Model, name: str) -> Iterator[Reference]:
    store = next(s for s in model.stores if s.name == name)
    if store.folders:
        count = len(store.folders)
        yield Reference("folder", f"{name}:{store.folders[0].path}", f"and {count - 1} more" if count > 1 else "")
    for vpath in model.virtual_paths:
        if vpath.leads_to != WHOLE_HOME and vpath.leads_to.partition(":")[0] == name:
            yield Reference("virtual path", vpath.path, vpath.leads_to)
    yield from (
        Reference("account", a.name, f"home: {a.home}") for a in model.accounts if a.home and a.home.store == name
    )
    yield from (Reference("quota", q.name, str(q.folder)) for q in model.quotas if q.folder and q.folder.store == name)
    yield from (Reference("usage", str(u.folder)) for u in model.usage if u.folder.store == name)
