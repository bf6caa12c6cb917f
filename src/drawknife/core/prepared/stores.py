"""Stores made ready: the folders that carry something, and what their entries say at each depth."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Mapping
from copy import copy
from typing import NamedTuple

from ..model.items import Entry, Folder, Store
from ..words.names import depth as depth_of
from ..words.names import parent, tree_key
from .people import People


class Rule(NamedTuple):
    """An allow or deny entry as the walk reads it: its rights, its subject's number, its effect."""

    rights: int
    sid: int
    effect: bool


class PreparedFolder:
    """A recorded folder that carries something: entries, a seal, or an owner.

    `up` is the nearest such folder above, `gap` levels away. `rules` and `forbids` hold what speaks
    at depth 0, at depth 1, and deeper. `varies` says that folders below without anything of their
    own need not all be alike. `forbids_above` says that there is a forbid here or above.
    """

    __slots__ = (
        "folder",
        "forbids",
        "forbids_above",
        "gap",
        "owner",
        "path",
        "ruled",
        "rules",
        "sealed",
        "sids",
        "up",
        "varies",
    )

    def __init__(self, folder: Folder, up: PreparedFolder | None, people: People) -> None:
        self.folder = folder
        self.path = folder.path
        self.up = up
        self.gap = depth_of(folder.path) - depth_of(up.path) if up is not None else 0
        self.owner = people.index.get(folder.owner, -1) if folder.owner is not None else -1
        self.sealed = folder.sealed
        self.sids = tuple(people.number(e.subject) for e in folder.entries)
        self.rules = _by_depth(folder.entries, people, forbid=False)
        self.forbids = _by_depth(folder.entries, people, forbid=True)
        self.ruled = 0
        self.forbids_above: int = up.forbids_above if up is not None else 0
        for entry in folder.entries:
            if entry.effect == "forbid":
                self.forbids_above |= entry.rights
            else:
                self.ruled |= entry.rights
        self.varies: bool = any(
            e.reach != "tree" or e.subject.kind == "owner" for e in folder.entries
        ) or (up is not None and up.varies)


_NOTHING: tuple[tuple[Rule, ...], ...] = ((), (), ())
SPEAKS_AT = (("tree", "here"), ("tree", "below", "children"), ("tree", "below"))


def _by_depth(
    entries: tuple[Entry, ...], people: People, *, forbid: bool
) -> tuple[tuple[Rule, ...], ...]:
    wanted = [e for e in entries if (e.effect == "forbid") is forbid]
    if not wanted:
        return _NOTHING
    if all(e.reach == "tree" for e in wanted):
        rules = tuple(Rule(e.rights, people.number(e.subject), e.effect == "allow") for e in wanted)
        return rules, rules, rules
    return tuple(
        tuple(
            Rule(e.rights, people.number(e.subject), e.effect == "allow")
            for e in wanted
            if e.reach in reaches
        )
        for reaches in SPEAKS_AT
    )


class PreparedStore:
    """One store: its recorded folders in tree order, and those among them that carry something."""

    def __init__(self, store: Store, people: People, before: PreparedStore | None = None) -> None:
        self.store = store
        self.name = store.name
        self.open = store.baseline == "open"
        folders = store.folders
        changed = None if before is None else _changed(before.store.folders, folders)
        if before is not None and changed is not None:
            self.order: list[str] = before.order
            self.marked: dict[str, PreparedFolder] = dict(before.marked)
            self._remake(folders, changed, people)
        else:
            self.order = [tree_key(f.path) for f in folders]
            self.marked = {}
            self._mark(folders, 0, len(folders), people)

    def owned(self, owners: Mapping[str, int], people: People) -> PreparedStore:
        """The same store in which some folders that carry nothing have owners; recorded they are
        not.
        """
        found = copy(self)
        found.marked = dict(self.marked)
        for path in sorted((p for p in owners if p not in self.marked), key=depth_of):
            above = found.nearest(parent(path))[0] if path != "/" else None
            node = PreparedFolder(Folder(path), above, people)
            node.owner = owners[path]
            found.marked[path] = node
        # What is marked below goes up past it as before: it carries no line.
        return found

    def _mark(self, folders: tuple[Folder, ...], start: int, stop: int, people: People) -> None:
        """Prepare the folders from `start` to `stop`, a whole branch, in tree order."""
        marked = self.marked
        trail: list[tuple[str, PreparedFolder]] = []
        if start < stop:
            above, _ = (
                self.nearest(parent(folders[start].path))
                if folders[start].path != "/"
                else (None, 0)
            )
            if above is not None:
                trail = [("", above)]
        for i in range(start, stop):
            folder = folders[i]
            if not (folder.entries or folder.sealed or folder.owner is not None):
                continue
            key = self.order[i]
            while trail and trail[-1][0] and not key.startswith(trail[-1][0] + "\x00"):
                trail.pop()
            node = PreparedFolder(folder, trail[-1][1] if trail else None, people)
            marked[folder.path] = node
            # The root's key is empty: it is above everything and never popped.
            trail.append((key, node))

    def _remake(self, folders: tuple[Folder, ...], changed: list[int], people: People) -> None:
        """Prepare anew the changed folders and what lies below them."""
        done = -1
        for i in changed:
            if i < done:
                continue
            _, done = self.branch(folders[i].path)
            for j in range(i, done):
                self.marked.pop(folders[j].path, None)
            self._mark(folders, i, done, people)

    def nearest(self, path: str) -> tuple[PreparedFolder | None, int]:
        """The nearest folder at or above `path` that carries something, and how far up it is."""
        marked = self.marked
        up = 0
        while True:
            node = marked.get(path)
            if node is not None:
                return node, up
            if path == "/":
                return None, 0
            path = path[: path.rindex("/")] or "/"
            up += 1

    def branch(self, path: str) -> tuple[int, int]:
        """The range of positions of the recorded folders at `path` and below it."""
        if path == "/":
            return 0, len(self.order)
        key = tree_key(path)
        start = bisect_left(self.order, key)
        return start, bisect_left(self.order, key + "\x01", start)

    def recorded_below(self, path: str) -> tuple[Folder, ...]:
        """The recorded folders at `path` and below it."""
        start, stop = self.branch(path)
        return self.store.folders[start:stop]

    def exists(self, path: str) -> bool:
        """Is `path` recorded, or above a folder that is? The root always exists."""
        start, stop = self.branch(path)
        return path == "/" or start < stop

    def folder(self, path: str) -> Folder | None:
        """The recorded folder at `path`."""
        i = bisect_left(self.order, tree_key(path))
        if i < len(self.order) and self.store.folders[i].path == path:
            return self.store.folders[i]
        return None


def _changed(old: tuple[Folder, ...], new: tuple[Folder, ...]) -> list[int] | None:
    """Positions at which folders differ, where the paths are the same; None if they are not."""
    if len(old) != len(new):
        return None
    changed = [i for i, (a, b) in enumerate(zip(old, new, strict=True)) if a is not b and a != b]
    if len(changed) > 1000 or any(old[i].path != new[i].path for i in changed):
        return None
    return changed
