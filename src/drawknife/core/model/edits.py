"""Edits: things of a model found, changed, and renamed (docs/rules.md, "Editing"); :mod:`removal`
takes them away.

Each takes a sound model and gives a sound one, or raises :class:`ChangeRefused` and changes
nothing. A rename carries all that names a thing along.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from ..words.errors import NotFound, Refused, Wrong
from ..words.key_paths import key_path
from ..words.names import Place, ancestors, fold, join, parse_place, rest_below
from .canonical import sound
from .items import Model, Store, Subject, VirtualPath
from .kinds import KINDS, SUBJECT_KINDS, VIRTUAL_PATH
from .placeholders import check_virtual_path
from .rewriting import Rewriting, located, same_endpoint, same_name, same_place, same_subject
from .soundness import Flaw, flaws


class ChangeRefused(Refused):
    """A change that the model does not allow: one problem or several, each with what would be
    right.
    """

    def __init__(self, found: list[Flaw], summary: str = "") -> None:
        super().__init__(summary or found[0].message)
        self.problems = found
        self.places = [Wrong(key_path(p.where), p.message, p.expected, p.nearest) for p in found]


def refuse(message: str, expected: str = "", where: tuple[str | int, ...] = ()) -> ChangeRefused:
    """An :class:`ChangeRefused` with one problem."""
    return ChangeRefused([Flaw(where, message, expected)])


# --- finding ------------------------------------------------------------------------------------


def find(model: Model, kind: str, name: str) -> Any:
    """The item of that name; a folder as ``STORE:/path``. :class:`NotFound` if there is none."""
    if kind == "folder":
        store, path = store_and_path(model, name)
        found = next((f for f in store.folders if f.path == path), None)
        if found is None:
            raise NotFound(
                "recorded folder", name, [f"{store.name}:{f.path}" for f in store.folders[:10_000]]
            )
        return found
    declared = KINDS[kind]
    items = getattr(model, declared.section)
    wanted = fold(name)
    if kind == "virtual-path":
        return one_virtual_path(items, name)
    found = next((x for x in items if fold(declared.called(x)) == wanted), None)
    if found is None:
        raise NotFound(declared.title, name, [declared.called(x) for x in items])
    return found


def find_all(model: Model, kind: str, names: Sequence[str]) -> list[Any]:
    """The items of those names, each as :func:`find` finds it; every item is looked at once."""
    declared = KINDS[kind]
    known: dict[str, Any] = {}
    if kind == "folder":
        known = {f"{fold(s.name)}:{f.path}": f for s in model.stores for f in s.folders}
    elif declared.each_once:
        known = {fold(declared.called(x)): x for x in getattr(model, declared.section)}
    at_path: dict[str, list[VirtualPath]] = {}
    for v in model.virtual_paths if kind == "virtual-path" else ():
        at_path.setdefault(v.path, []).append(v)
        at_path.setdefault(declared.called(v), []).append(v)

    def of(name: str) -> Any:
        if kind == "virtual-path":
            return one_virtual_path(at_path.get(name) or model.virtual_paths, name)
        place = parse_place(name) if kind == "folder" else None
        found = known.get(fold(name) if place is None else f"{fold(place.store)}:{place.path}")
        return found or find(model, kind, name)

    return [of(name) for name in names]


def one_virtual_path(items: Sequence[VirtualPath], name: str) -> VirtualPath:
    """The virtual path at ``PATH``, or the one that is called ``PATH>LEADS_TO``; refused if there
    are several.
    """
    there = [v for v in items if v.path == name] or [
        v for v in items if VIRTUAL_PATH.called(v) == name
    ]
    if len(there) > 1:
        each = dict.fromkeys(VIRTUAL_PATH.called(v) for v in there)
        if len(each) == 1:
            raise refuse(
                f"{len(there)} virtual paths are called {next(iter(each))}, and a change cannot"
                " tell them apart",
                "one with the grants of all: make them one in a model file, and load it",
            )
        raise refuse(f"{len(there)} virtual paths are at {name}", f"one of {', '.join(each)}")
    if not there:
        raise NotFound("virtual path", name, [v.path for v in items])
    return there[0]


def store_and_path(model: Model, name: str) -> tuple[Store, str]:
    """The store and the path of a folder written ``STORE:/path``."""
    place = parse_place(name)
    store: Store = find(model, "store", place.store)
    return store, place.path


def checked(model: Model, before: Model) -> Model:
    """The canonical form of an edited model; :class:`ChangeRefused` with every problem, if there
    are any.
    """
    found = flaws(model, before)
    if found:
        raise ChangeRefused(found)
    return sound(model, before)


def change(model: Model, kind: str, old: Any, new: Any) -> Model:
    """The model with `new` in the place of `old`, which has the same name and is no folder."""
    section = KINDS[kind].section
    items: Any = tuple(new if x is old else x for x in getattr(model, section))
    return checked(replace(model, **{section: items}), model)


# --- renaming -----------------------------------------------------------------------------------


def rename(model: Model, kind: str, pairs: Sequence[tuple[str, str]]) -> Model:
    """The model with things renamed, and everything that names them; pairs are (name, new name),
    well spelled.

    A unit takes those below it along, a folder its subfolders, the homes, quotas, and virtual paths
    there.
    """
    at_once = KINDS[kind].key == "name" and independent(pairs)
    if not at_once:
        for name, to in pairs:
            model = _rename_one(model, kind, name, to)
        return model
    return _rename_all(model, kind, pairs)


def independent(pairs: Sequence[tuple[str, str]]) -> bool:
    """Is no new name the old or new name of another? Then the order says nothing."""
    names = [fold(n) for pair in pairs for n in dict.fromkeys(map(fold, pair))]
    return len(names) == len(set(names))


def _rename_one(model: Model, kind: str, name: str, to: str) -> Model:
    if kind == "virtual-path":
        return _rename_path(model, name, to)
    item = find(model, kind, name)
    if kind == "folder":
        return _move(model, name, to)
    declared = KINDS[kind]
    if not declared.can_be_renamed:
        raise refuse(f"a {declared.title} has no name of its own", "a change of it")
    old = declared.called(item)
    if kind != "unit":
        return _rename_all(model, kind, [(old, to)])
    if fold(to) != fold(old) and any(fold(x) == fold(to) for x in model.units):
        raise refuse(f"unit {to!r} is there already", "another name")
    return _rename_unit(model, old, to)


def _rename_path(model: Model, name: str, to: str) -> Model:
    """A virtual path at another location; ``PATH>LEADS_TO`` is one of several at PATH.

    Where all at a path are moved, start folders, promises and trials that name a location in it go
    along.
    """
    path, _, leads_to = name.partition(">")
    to = check_virtual_path(to)
    moved = [v for v in model.virtual_paths if v.path == path and leads_to in ("", v.leads_to)]
    if not moved:
        raise NotFound("virtual path", name, [v.path for v in model.virtual_paths])
    if any(v.path == to for v in model.virtual_paths if v not in moved):
        raise refuse(f"there is a virtual path {to} already", "another path")
    paths = {v.path for v in model.virtual_paths}
    whole = all(v in moved for v in model.virtual_paths if v.path == path)

    def location(text: str) -> str:
        """Where a location is then; that of another virtual path below stays."""
        nearest = next((at for at in ancestors(text) if at in paths), None)
        return join(to, rest_below(text, path) or "") if whole and nearest == path else text

    virtual_paths = tuple(replace(v, path=to) if v in moved else v for v in model.virtual_paths)
    return checked(located(replace(model, virtual_paths=virtual_paths), location), model)


def _rename_all(model: Model, kind: str, pairs: Sequence[tuple[str, str]]) -> Model:
    section = KINDS[kind].section
    there = {fold(x.name): x.name for x in getattr(model, section)}
    new: dict[str, str] = {}
    for name, to in pairs:
        if fold(name) not in there:
            raise NotFound(kind, name, list(there.values()))
        if fold(to) in there and fold(to) != fold(name):
            raise refuse(f"{kind} {to!r} is there already", "another name")
        new[there[fold(name)]] = to
    subjects = (
        {Subject(kind, old): Subject(kind, to) for old, to in new.items()}
        if kind in SUBJECT_KINDS
        else {}
    )
    rewriting = Rewriting(
        lambda s: subjects.get(s, s),
        (lambda n: new.get(n, n)) if kind == "account" else same_name,
        same_name,
        (lambda p: Place(new.get(p.store, p.store), p.path)) if kind == "store" else same_place,
        (lambda n: new.get(n, n)) if kind == "endpoint" else same_endpoint,
    )
    items: Any = tuple(
        replace(x, name=new[x.name]) if x.name in new else x for x in getattr(model, section)
    )
    return checked(rewriting.of(replace(model, **{section: items})), model)


def _rename_unit(model: Model, old: str, to: str) -> Model:
    # What a directory once had below it, and lines still name, is not there, and keeps the name
    # that it had.
    moved = {path for path in model.units if path == old or path.startswith(old + "/")}

    def unit(path: str) -> str:
        return to + path[len(old) :] if path in moved else path

    if fold(to).startswith(fold(old) + "/"):
        raise refuse(f"unit {old} cannot go below itself, to {to}", "a place outside of it")
    rewriting = Rewriting(
        lambda s: Subject("unit", unit(s.name)) if s.kind == "unit" else s,
        same_name,
        unit,
        same_place,
    )
    units = tuple(map(unit, model.units))
    facts = tuple(known._replace(path=unit(known.path)) for known in model.unit_facts)
    return checked(rewriting.of(replace(model, units=units, unit_facts=facts)), model)


def _move(model: Model, name: str, to: str) -> Model:
    store, old = store_and_path(model, name)
    there, new = store_and_path(model, to)
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
