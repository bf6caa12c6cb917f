"""The canonical form of a sound model: names spelled as defined, everything sorted, nothing twice.

Equal models are then equal, and give equal files.
"""

from bisect import insort
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

from ..words.names import Place, check_path, fold
from .items import Model, Store, UnitFacts, Usage
from .kinds import FOLDER, LINES, OF_SECTION, SECTIONS, STORE, Kind
from .lines import each_once
from .rewriting import Rewriting
from .soundness import MOST_CHANGED, Names
from .units import unit_facts

#: Puts items of one kind into canonical form.
Each = Callable[[Sequence[Any]], list[Any]]


class Canonical:
    """Puts single items into canonical form, by the names that a model defines."""

    def __init__(self, names: Names) -> None:
        self._spelled = Rewriting(
            names.subject,
            lambda name: names.spell("account", name),
            lambda path: names.spell("unit", path),
            lambda place: Place(names.spell("store", place.store), check_path(place.path)),
            lambda name: names.spell("endpoint", name),
        )

    def item(self, kind: Kind, item: Any) -> Any:
        """An item with every name spelled as it is defined, and every list sorted, each
        line once.
        """
        found = self._spelled.item(kind, item)
        changed: dict[str, Any] = {}
        for field, value in zip(kind.lists, kind.values_listed(found), strict=True):
            if value and len(value) > 1:
                ordered = each_once(value) if field.names == "line" else tuple(sorted(set(value)))
                if ordered != value:
                    changed[field.name] = ordered
        return kind.but(found, changed) if changed else found

    def items(self, kind: Kind, items: Iterable[Any]) -> list[Any]:
        """Each of some items; one that names nobody and lists nothing, as most folders are, is
        taken as it is.
        """
        looked_at, one = kind.values_looked_at, self.item
        return [one(kind, item) if any(looked_at(item)) else item for item in items]


def _in_place(
    kind: Kind, canonical: Each, old: tuple[Any, ...], new: tuple[Any, ...]
) -> tuple[Any, ...] | None:
    """Where a few items take the places of others that are called alike, or a few come in: the rest
    stays in its order.

    None where it is not so simple.
    """
    if len(new) == len(old):
        places = [i for i, (a, b) in enumerate(zip(old, new, strict=True)) if a is not b]
        if len(places) < MOST_CHANGED and all(
            kind.called(old[i]) == kind.called(new[i]) for i in places
        ):
            made = list(new)
            for i, item in zip(places, canonical([new[i] for i in places]), strict=True):
                made[i] = item
            return tuple(made)
        return None
    come = new[len(old) :]
    if (
        len(old) < len(new)
        and len(come) < MOST_CHANGED
        and all(a is b for a, b in zip(old, new, strict=False))
    ):
        made = list(old)
        for item in canonical(come):
            insort(made, item, key=kind.order)
        return tuple(made)
    return None


def _spelled(names: Names, known: Iterable[UnitFacts]) -> Iterable[UnitFacts]:
    by_path = {names.spell("unit", facts.path): facts for facts in known}
    return (facts._replace(path=path) for path, facts in by_path.items())


def _each_once(rows: tuple[Usage, ...]) -> tuple[Usage, ...]:
    """Usage in which each folder and owner stands once: several rows are one, as where two owners
    become nobody known.
    """
    if len({(u.folder, u.owner) for u in rows}) == len(rows):
        return rows
    sums: dict[tuple[Place, str | None], Usage] = {}
    for u in rows:
        there = sums.get((u.folder, u.owner))
        sums[u.folder, u.owner] = (
            u
            if there is None
            else replace(u, bytes=u.bytes + there.bytes, files=u.files + there.files)
        )
    return tuple(sums.values())


def sound(model: Model, before: Model | None = None) -> Model:
    """The canonical form of a model without problems.

    Items that are the same objects in `before`, a model in canonical form, are taken as they are,
    where no name is spelled differently.
    """
    names = Names(model)
    if before is None or not Names(before).within(names):
        before = Model()
    canonical = Canonical(names)

    def made(kind: Kind, each: Each, old: tuple[Any, ...], new: tuple[Any, ...]) -> tuple[Any, ...]:
        if new is old:
            return old
        if kind.each_once and (kept := _in_place(kind, each, old, new)) is not None:
            return kept
        known = set(map(id, old))
        found = [item for item in new if id(item) in known]
        found += each([item for item in new if id(item) not in known] if known else new)
        if not kind.each_once:
            found = list(dict.fromkeys(found))
        return tuple(sorted(found, key=kind.order))

    def of(section: str) -> tuple[Any, ...]:
        kind = OF_SECTION[section]
        return made(
            kind, partial(canonical.items, kind), getattr(before, section), getattr(model, section)
        )

    folders = {s.name: s.folders for s in before.stores}

    def with_folders(some: Iterable[Store]) -> list[Store]:
        each = partial(canonical.items, FOLDER)
        return [
            replace(s, folders=made(FOLDER, each, folders.get(s.name, ()), s.folders)) for s in some
        ]

    parts = {section: of(section) for section in SECTIONS if section != STORE.section}
    parts["settings"] = tuple(s for s in parts["settings"] if s.values)
    parts["usage"] = _each_once(parts["usage"])
    lines: dict[str, Any] = {
        section: tuple(sorted(set(getattr(model, section)))) for section in LINES
    }
    lines["gone"] = tuple(sorted(names.gone.values()))
    return Model(
        units=tuple(sorted(names.unit.values(), key=fold)),
        unit_facts=unit_facts(_spelled(names, model.unit_facts)),
        stores=made(STORE, with_folders, before.stores, model.stores),
        **parts,
        **lines,
        beside=model.beside,
    )
