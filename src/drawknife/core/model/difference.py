"""What differs between two models, item by item."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from itertools import zip_longest
from typing import Any, NamedTuple

from .edits import name_of
from .items import Model
from .soundness import new_items


class Differs(NamedTuple):
    """One item that is not the same in both. `section` as in the model file, or ``folders``; None: not there."""

    section: str
    name: str
    before: Any
    after: Any


_KINDS = {
    "accounts": "account",
    "groups": "group",
    "virtual_paths": "virtual-path",
    "endpoints": "endpoint",
    "settings": "setting",
    "quotas": "quota",
    "lockouts": "lockout",
}


def differing(old: Model, new: Model) -> Iterator[Differs]:
    """Every item that was added, changed, or removed, section by section."""
    yield from _units(old, new)
    for section, kind in _KINDS.items():
        if section != "virtual_paths":
            yield from _paired(section, kind, getattr(old, section), getattr(new, section))
            continue
        before, after = dict.fromkeys(old.virtual_paths), dict.fromkeys(new.virtual_paths)
        left = [v for v in before if v not in after]
        come = [v for v in after if v not in before]
        yield from _paired(section, kind, left, come)
    for section in ("inside", "openings", "forwardings", "gone"):
        there, now_there = (set(map(str, getattr(side, section))) for side in (old, new))
        for line in sorted(there ^ now_there):
            yield Differs(section, line, *((line, None) if line in there else (None, line)))
    was = {s.name: s for s in old.stores}
    now = {s.name: s for s in new.stores}
    for name in dict.fromkeys((*was, *now)):
        a, b = was.get(name), now.get(name)
        if a is None or b is None or (a.root, a.baseline, a.capacity) != (b.root, b.baseline, b.capacity):
            yield Differs("stores", name, a, b)
        folders_a, folders_b = (a.folders if a else ()), (b.folders if b else ())
        for d in _paired("folders", "folder", folders_a, folders_b):
            yield d._replace(name=f"{name}:{d.name}")
    yield from (
        Differs("usage", d.name, d.before, d.after)
        for d in _keyed("usage", lambda u: f"{u.folder} {u.owner or ''}".strip(), old.usage, new.usage)
    )


def _units(old: Model, new: Model) -> Iterator[Differs]:
    """Units that come or go, or have another source; one that is local is told as its path."""
    if old.units is new.units and old.unit_sources is new.unit_sources:
        return
    sources = dict(old.unit_sources), dict(new.unit_sources)
    there = set(old.units), set(new.units)

    def item(side: int, unit: str) -> Any:
        if unit not in there[side]:
            return None
        return {"path": unit, "source": sources[side][unit]} if unit in sources[side] else unit

    for unit in dict.fromkeys((*old.units, *new.units)):
        was, now = item(0, unit), item(1, unit)
        if was != now:
            yield Differs("units", unit, was, now)


def _paired(section: str, kind: str, old: Iterable[Any], new: Iterable[Any]) -> Iterator[Differs]:
    yield from _keyed(section, lambda item: name_of(kind, item), old, new)


def _keyed(section: str, key: Callable[[Any], str], old: Iterable[Any], new: Iterable[Any]) -> Iterator[Differs]:
    olds, news = tuple(old), tuple(new)
    gone, come = _by_key(key, news, olds), _by_key(key, olds, news)
    for name in dict.fromkeys((*gone, *come)):
        # Several virtual paths may be called alike.
        for a, b in zip_longest(gone.get(name, ()), come.get(name, ())):
            if a != b:
                yield Differs(section, name, a, b)


def _by_key(key: Callable[[Any], str], other: tuple[Any, ...], items: tuple[Any, ...]) -> dict[str, list[Any]]:
    found: dict[str, list[Any]] = {}
    for _, item in new_items(other, items):
        found.setdefault(key(item), []).append(item)
    return found
