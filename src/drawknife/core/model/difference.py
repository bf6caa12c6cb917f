"""What differs between two models, item by item."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from itertools import zip_longest
from typing import Any, NamedTuple

from .items import Model
from .kinds import FOLDER, LINES, SECTIONS, STORE, USAGE, Kind
from .soundness import new_items
from .units import unit_data


class Differs(NamedTuple):
    """One item that is not the same in both.

    `section` as in the model file, or ``folders``; None: not there.
    """

    section: str
    name: str
    before: Any
    after: Any


def differing(old: Model, new: Model) -> Iterator[Differs]:
    """Every item that was added, changed, or removed, section by section."""
    yield from _units(old, new)
    for kind in SECTIONS.values():
        before, after = getattr(old, kind.section), getattr(new, kind.section)
        if kind is STORE or kind is USAGE:
            continue
        if not kind.each_once:
            was, now = dict.fromkeys(before), dict.fromkeys(after)
            before, after = [x for x in was if x not in now], [x for x in now if x not in was]
        yield from _paired(kind, before, after)
    for section in LINES:
        there, now_there = (set(map(str, getattr(side, section))) for side in (old, new))
        for line in sorted(there ^ now_there):
            yield Differs(section, line, *((line, None) if line in there else (None, line)))
    stores = {s.name: s for s in old.stores}, {s.name: s for s in new.stores}
    for name in dict.fromkeys((*stores[0], *stores[1])):
        a, b = (side.get(name) for side in stores)
        if a is None or b is None or replace(a, folders=()) != replace(b, folders=()):
            yield Differs("stores", name, a, b)
        yield from _paired(FOLDER, a.folders if a else (), b.folders if b else (), f"{name}:")
    yield from _paired(USAGE, old.usage, new.usage)


def _units(old: Model, new: Model) -> Iterator[Differs]:
    """Units that come or go, or of which something else is known."""
    if old.units is new.units and old.unit_facts is new.unit_facts:
        return
    facts, there = (old.facts_of_units(), new.facts_of_units()), (set(old.units), set(new.units))

    def item(side: int, unit: str) -> Any:
        return unit_data(unit, facts[side].get(unit)) if unit in there[side] else None

    for unit in dict.fromkeys((*old.units, *new.units)):
        was, now = item(0, unit), item(1, unit)
        if was != now:
            yield Differs("units", unit, was, now)


def _paired(
    kind: Kind, old: Iterable[Any], new: Iterable[Any], where: str = ""
) -> Iterator[Differs]:
    """The items of two lists by their names, which are told with `where` before them."""
    section, called = kind.section, kind.called
    olds, news = tuple(old), tuple(new)
    if not olds and kind.each_once:
        for item in news:
            yield Differs(section, where + called(item), None, item)
        return
    gone, come = _by_name(kind, news, olds), _by_name(kind, olds, news)
    for name in dict.fromkeys((*gone, *come)):
        # Several virtual paths may be called alike.
        for a, b in zip_longest(gone.get(name, ()), come.get(name, ())):
            if a != b:
                yield Differs(section, where + name, a, b)


def _by_name(kind: Kind, other: tuple[Any, ...], items: tuple[Any, ...]) -> dict[str, list[Any]]:
    found: dict[str, list[Any]] = {}
    for _, item in new_items(other, items):
        found.setdefault(kind.called(item), []).append(item)
    return found
