"""Lines that count until a day, and from then on as if they were not there (docs/rules.md,
"Until").
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from datetime import date
from itertools import chain
from typing import Any, TypeVar

from .items import Endpoint, Folder, Group, Model, VirtualPath
from .kinds import ENDPOINT, FOLDER, GROUP, VIRTUAL_PATH, Kind
from .lines import Line, has_ended

T = TypeVar("T", Folder, Group, VirtualPath, Endpoint)

#: The kinds that hold lines which may end, each with the field that holds them.
HOLDING: tuple[tuple[Kind, str], ...] = tuple(
    (kind, field.name)
    for kind in (GROUP, FOLDER, VIRTUAL_PATH, ENDPOINT)
    for field in kind.fields
    if field.names == "line"
)


def ending(model: Model) -> Iterator[tuple[Kind, str, Line]]:
    """Every line that has an end: the kind and name of what it stands in (a folder as
    ``STORE:/path``), and the line.
    """
    for kind, name in HOLDING:
        if kind is FOLDER:
            some = ((f"{s.name}:{f.path}", f) for s in model.stores for f in s.folders if f.entries)
        else:
            some = ((kind.placed(x), x) for x in getattr(model, kind.section))
        for called, item in some:
            for line in getattr(item, name):
                if line.until is not None:
                    yield kind, called, line


def ends(model: Model) -> list[date]:
    """The days until which some line counts, in order."""
    items: Iterator[tuple[Line, ...]] = chain(
        (x.members for x in model.groups),
        (x.grants for x in model.virtual_paths),
        (x.entries for x in model.endpoints),
        (f.entries for s in model.stores for f in s.folders),
    )
    return sorted({line.until for lines in items for line in lines if line.until is not None})


def without_ended(model: Model, day: date) -> Model:
    """The model without the lines that count no more on a day; what has none of them stays the same
    object.

    An endpoint whose entries have all ended has none, and lets nobody do anything.
    """
    parts: dict[str, Any] = {}
    for kind, name in HOLDING:
        if kind is not FOLDER:
            there = getattr(model, kind.section)
            some = _each(there, name, day)
            if some is not there and not kind.each_once:
                # Several that are called alike, and so are told apart by their lines: what is left
                # of them may be the same.
                some = tuple(sorted(dict.fromkeys(some), key=kind.order))
            parts[kind.section] = some
    stores = (replace(s, folders=_each(s.folders, "entries", day)) for s in model.stores)
    parts["stores"] = tuple(
        new if new.folders is not s.folders else s
        for s, new in zip(model.stores, stores, strict=True)
    )
    return replace(model, **parts)


def _each(items: tuple[T, ...], name: str, day: date) -> tuple[T, ...]:
    """The items without lines that have ended; the same tuple where there are none."""
    found = tuple(_without(item, name, day) for item in items)
    return found if any(a is not b for a, b in zip(found, items, strict=True)) else items


def _without(item: T, name: str, day: date) -> T:
    lines = getattr(item, name)
    kept = tuple(x for x in lines if not has_ended(x, day))
    if len(kept) == len(lines):
        return item
    changed: dict[str, Any] = {name: kept}
    return replace(item, **changed)
