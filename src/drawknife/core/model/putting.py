"""Putting items into a model, by section and name, whatever stands there: how a model is taken back
to what it was.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Set
from dataclasses import replace
from typing import Any

from ..words.names import fold, tree_key
from .items import Folder, Model
from .kinds import FOLDER, LINES, SECTIONS, STORE, UNIT
from .units import unit_data, unit_facts, unit_from

#: For each section, for each name, the items that there are to be: none, one, or of virtual paths
#: several.
Put = Mapping[str, Mapping[str, Sequence[Any]]]


def with_items(model: Model, put: Put) -> Model:
    """The model with some items in the place of those of their names; all else stays the same
    objects.

    Sections and names are those of :func:`drawknife.core.model.difference.differing`: folders are
    in the section ``folders``, by ``STORE:/path``; units are text, or mappings with a source or a
    note. Items are in canonical form, and so is what comes out if each is as it was in one model.
    """
    parts: dict[str, Any] = {}
    for section, kind in SECTIONS.items():
        if section in put and kind is not STORE:
            kept = [x for x in getattr(model, section) if kind.called(x) not in put[section]]
            new = [x for items in put[section].values() for x in items]
            parts[section] = tuple(sorted([*kept, *new], key=kind.order))
    for section in LINES:
        if section in put:
            kept = [x for x in getattr(model, section) if str(x) not in put[section]]
            parts[section] = tuple(
                sorted([*kept, *(x for items in put[section].values() for x in items)])
            )
    if UNIT.section in put:
        parts.update(_units(model, put[UNIT.section]))
    if STORE.section in put or FOLDER.section in put:
        parts["stores"] = _stores(model, put.get(STORE.section, {}), put.get(FOLDER.section, {}))
    return replace(model, **parts)


def items_at(model: Model, names: Set[tuple[str, str]]) -> dict[tuple[str, str], list[Any]]:
    """The items that there are of some sections and names, as :func:`with_items` takes them."""
    wanted: dict[str, set[str]] = {}
    for section, name in names:
        wanted.setdefault(section, set()).add(name)
    found: dict[tuple[str, str], list[Any]] = {}
    for section, called in wanted.items():
        if section == UNIT.section:
            known = model.facts_of_units()
            some = [(u, unit_data(u, known.get(u))) for u in model.units if u in called]
        elif section == FOLDER.section:
            some = [(f"{s.name}:{f.path}", f) for s in model.stores for f in s.folders]
        elif section == STORE.section:
            some = [(s.name, replace(s, folders=())) for s in model.stores]
        elif section in LINES:
            some = [(str(x), x) for x in getattr(model, section)]
        else:
            some = [(SECTIONS[section].called(x), x) for x in getattr(model, section)]
        for name, item in some:
            if name in called:
                found.setdefault((section, name), []).append(item)
    return found


def _units(model: Model, put: Mapping[str, Sequence[Any]]) -> dict[str, Any]:
    data = [unit_from(item) for items in put.values() for item in items]
    units = sorted(
        [*(u for u in model.units if u not in put), *(facts.path for facts in data)], key=fold
    )
    known = [*(facts for facts in model.unit_facts if facts.path not in put), *data]
    return {"units": tuple(units), "unit_facts": unit_facts(known)}


def _stores(
    model: Model, stores: Mapping[str, Sequence[Any]], folders: Mapping[str, Sequence[Any]]
) -> tuple[Any, ...]:
    by_store: dict[str, dict[str, Sequence[Folder]]] = {}
    for name, items in folders.items():
        store, _, path = name.partition(":")
        by_store.setdefault(store, {})[path] = items
    there = {s.name: s for s in model.stores}
    bare = {s.name: s for s in model.stores if s.name not in stores} | {
        x.name: x for xs in stores.values() for x in xs
    }
    made = []
    for name, store in bare.items():
        was = there[name].folders if name in there else ()
        changed = by_store.get(name, {})
        if changed:
            kept = [f for f in was if f.path not in changed]
            was = tuple(
                sorted(
                    [*kept, *(f for xs in changed.values() for f in xs)],
                    key=lambda f: tree_key(f.path),
                )
            )
        made.append(store if store.folders is was else replace(store, folders=was))
    return tuple(sorted(made, key=STORE.order))
