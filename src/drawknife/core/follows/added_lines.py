"""The lines that a change adds, and a model without one of them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import Any, NamedTuple

from ..model.difference import differing
from ..model.items import Grant, Model


class Added(NamedTuple):
    """A line that a change adds: where it stands, and the line (an Entry, a Grant, or a Member)."""

    kind: str  # folder, virtual path, endpoint, group
    name: str
    line: Any

    def __str__(self) -> str:
        return (
            f"`{self.line}` on {self.name}"
            if self.kind != "group"
            else f"{self.line} in group {self.name}"
        )


_LISTS = {
    "folders": ("folder", "entries"),
    "endpoints": ("endpoint", "entries"),
    "groups": ("group", "members"),
}


def added_lines(before: Model, after: Model) -> Iterator[Added]:
    """The entries, grants and members that `after` has and `before` has not, as they are found."""
    grants: dict[str, set[Grant]] = {}
    for v in before.virtual_paths:
        grants.setdefault(v.path, set()).update(map(_counting, v.grants))
    for d in differing(before, after):
        if d.after is None:
            continue
        if d.section in _LISTS:
            kind, key = _LISTS[d.section]
            there = set(map(_counting, getattr(d.before, key))) if d.before is not None else set()
            yield from (
                Added(kind, d.name, line)
                for line in getattr(d.after, key)
                if _counting(line) not in there
            )
        elif d.section == "virtual_paths":
            known = grants.get(d.after.path, set())
            yield from (
                Added("virtual path", d.after.path, g)
                for g in d.after.grants
                if _counting(g) not in known
            )


def _counting(line: Any) -> Any:
    """A line without its note, which decides nothing."""
    return line if line.note is None else line._replace(note=None)


def comes_with_its_item(model: Model, added: Added) -> bool:
    """Does what carries the line come with it?"""
    if added.kind == "folder":
        store, _, path = added.name.partition(":")
        return not any(f.path == path for s in model.stores if s.name == store for f in s.folders)
    names = {
        "group": (g.name for g in model.groups),
        "endpoint": (e.name for e in model.endpoints),
        "virtual path": (v.path for v in model.virtual_paths),
    }[added.kind]
    return added.name not in set(names)


def without_line(model: Model, added: Added) -> Model:
    """The model without one line."""
    if added.kind == "folder":
        store, _, path = added.name.partition(":")
        folder = next(
            f for s in model.stores if s.name == store for f in s.folders if f.path == path
        )
        return model.with_folder(
            store, replace(folder, entries=tuple(e for e in folder.entries if e != added.line))
        )
    if added.kind == "group":
        groups = (
            (
                replace(g, members=tuple(m for m in g.members if m != added.line))
                if g.name == added.name
                else g
            )
            for g in model.groups
        )
        return replace(model, groups=tuple(groups))
    if added.kind == "endpoint":
        endpoints = (
            (
                replace(e, entries=tuple(x for x in e.entries if x != added.line))
                if e.name == added.name
                else e
            )
            for e in model.endpoints
        )
        return replace(model, endpoints=tuple(endpoints))
    paths = (
        (
            replace(v, grants=tuple(g for g in v.grants if g != added.line))
            if v.path == added.name
            else v
        )
        for v in model.virtual_paths
    )
    return replace(model, virtual_paths=tuple(paths))
