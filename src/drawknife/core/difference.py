"""What differs between two models, item by item."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any, NamedTuple

from .edits import name_of
from .model import Model
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
    yield from (Differs("units", u, u, None) for u in old.units if u not in set(new.units))
    yield from (Differs("units", u, None, u) for u in new.units if u not in set(old.units))
    for section, kind in _KINDS.items():
        if section != "virtual_paths":
            yield from _paired(section, kind, getattr(old, section), getattr(new, section))
            continue
        before, after = dict.fromkeys(old.virtual_paths), dict.fromkeys(new.virtual_paths)
        left = [v for v in before if v not in after]
        come = [v for v in after if v not in before]
        yield from _paired(section, kind, left, come)
    for section in ("inside", "openings", "forwardings"):
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


def _paired(section: str, kind: str, old: Iterable[Any], new: Iterable[Any]) -> Iterator[Differs]:
    yield from _keyed(section, lambda item: name_of(kind, item), old, new)


def _keyed(section: str, key: Any, old: Iterable[Any], new: Iterable[Any]) -> Iterator[Differs]:
    olds, news = tuple(old), tuple(new)
    gone = {key(item): item for _, item in new_items(news, olds)}
    come = {key(item): item for _, item in new_items(olds, news)}
    for name in dict.fromkeys((*gone, *come)):
        a, b = gone.get(name), come.get(name)
        if a != b:
            yield Differs(section, name, a, b)
