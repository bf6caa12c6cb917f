"""Effective access, folded: most folders say what the one above says, and are only counted there.

A location is worth a line if its rights differ from those of the nearest location above it, or if
it is a virtual path, lies above one, or was asked for. Folders that carry nothing are not even
looked at one by one where all of a branch is alike: then their number is known from the order of
the store.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from ..decide.disk_gate import taken_on
from ..model.items import Endpoint
from ..prepared.namespace import Unserved
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.stores import PreparedStore
from ..words.names import Place, join, rest_below, tree_key
from ..words.rights import RIGHTS
from .access_map import AccessMap
from .cell import STATES, Cell
from .closed_form import Sets
from .division import Segment
from .effective import Access

States = tuple[str, ...]


class FoldedAccess(NamedTuple):
    """The access at one location, and at so many `below` it, each of which is as the
    one above it.
    """

    location: str
    kind: str
    place: Place | None
    states: States
    below: int


def fold(rows: Iterable[tuple[Access, int]], asked: str) -> list[FoldedAccess]:
    """The rows that are worth a line, of rows in tree order, each with how many more lie below that
    are as it is.
    """
    found: list[FoldedAccess] = []
    last: list[int] = []  # the lines above, outermost first
    for row, more in rows:
        while last and rest_below(row.location, found[last[-1]].location) is None:
            last.pop()
        above = found[last[-1]] if last else None
        if (
            above is not None
            and row.kind == "folder"
            and row.location != asked
            and row.states == above.states
        ):
            found[last[-1]] = above._replace(below=above.below + 1 + more)
        else:
            last.append(len(found))
            found.append(FoldedAccess(*row, more))
    return found


def folded_access(
    prepared: Prepared,
    account: PreparedAccount,
    endpoint: Endpoint | None = None,
    under: str = "/",
    disk: bool = False,
) -> tuple[list[FoldedAccess], list[Unserved], int]:
    """The folded access at and below a location, the paths that are not served, and how many
    locations there are in all.
    """
    map_ = AccessMap(prepared, [account.index], endpoint)
    map_ = map_.with_disks() if disk else map_
    rows: list[tuple[Access, int]] = []
    for cell in map_.synthetic():
        if rest_below(cell.location, under) is not None:
            rows.append(
                (Access(cell.location, "synthetic", None, _states(cell.plain, cell.owning)), 0)
            )
    for name, starting in map_.division.starting.items():
        segments = [s for some in starting.values() for s in some if s.members]
        whole = any(s.inner for s in segments) or (
            disk and taken_on(prepared, account, name) is not None
        )
        if whole:
            paths = sorted(
                {
                    f.path
                    for s in segments
                    for f in prepared.stores[name].recorded_below(s.place.path)
                }
                | starting.keys()
            )
        else:
            paths = list(dict.fromkeys(_carrying(prepared, name, segments, under)))
        known = None if whole else _Carriers(prepared.stores[name], paths)
        for cell in map_.cells({name: paths}):
            if cell.members and cell.segment is not None:
                rows += (
                    x
                    for x in _of_cell(prepared, cell, known)
                    if rest_below(x[0].location, under) is not None
                )
    rows.sort(key=lambda row: tree_key(row[0].location))
    closed = sorted(prepared.namespace(account).unserved.values(), key=lambda u: tree_key(u.path))
    total = sum(1 + more for _, more in rows)
    return fold(rows, under), [u for u in closed if rest_below(u.path, under) is not None], total


def _carrying(prepared: Prepared, store: str, segments: list[Segment], under: str) -> Iterator[str]:
    """The folders that carry something, those at which virtual paths begin, and the one that is
    asked for.
    """
    ready = prepared.stores[store]
    for segment in segments:
        top = segment.place.path
        yield top
        yield from (path for path in ready.marked if rest_below(path, top) is not None)
        rest = rest_below(under, segment.path)
        if rest and ready.exists(join(top, rest)):
            yield join(top, rest)


class _Carriers:
    """Folders of a store that have cells of their own, in tree order."""

    def __init__(self, store: PreparedStore, paths: Iterable[str]) -> None:
        self.store = store
        self.keys = sorted(map(tree_key, paths))

    def below(self, path: str) -> Iterator[tuple[int, int]]:
        """The branches of those below a folder, as positions in the store's order: the outermost
        only.
        """
        key = tree_key(path)
        prefix = key + "\x00" if key else ""
        at = bisect_right(self.keys, key)
        while at < len(self.keys) and self.keys[at].startswith(prefix):
            first = bisect_left(self.store.order, self.keys[at])
            yield first, bisect_left(self.store.order, self.keys[at] + "\x01", first)
            at = bisect_left(self.keys, self.keys[at] + "\x01", at)


def _of_cell(
    prepared: Prepared, cell: Cell, carriers: _Carriers | None
) -> Iterator[tuple[Access, int]]:
    """The row of a folder, and what carries nothing below it: counted where all is alike, else
    folder by folder.

    Without `carriers` all folders have cells of their own.
    """
    segment, place = cell.segment, cell.place
    assert segment is not None and place is not None
    store = prepared.stores[place.store]
    begins, recorded = cell.location == segment.path, store.folder(cell.path) is not None
    here = _states(cell.plain, cell.owning)
    own = Access(cell.location, "virtual path" if begins else "folder", place, here)
    start, stop = store.branch(cell.path) if carriers is not None else (0, 0)
    if (
        carriers is None or stop - start == recorded
    ):  # all that is below has cells of its own, or nothing is
        if begins or recorded:
            yield own, 0
        return
    below, sets = [cell.below(distance) for distance in (1, 2, 3)], (cell.plain, cell.owning)
    if (begins or recorded) and all(level == sets for level in below):
        count = stop - start - recorded
        yield own, count - sum(last - first for first, last in carriers.below(cell.path))
        return
    if begins or recorded:
        yield own, 0
    levels = [_states(*level) for level in below]
    at = start + recorded
    for first, last in (*carriers.below(cell.path), (stop, stop)):
        for folder in store.store.folders[at:first]:
            level = (rest_below(folder.path, cell.path) or "").count("/")
            location = join(segment.path, rest_below(folder.path, segment.place.path) or "")
            yield (
                Access(
                    location, "folder", Place(place.store, folder.path), levels[min(level, 3) - 1]
                ),
                0,
            )
        at = last


def _states(plain: Sets, owning: Sets) -> States:
    return tuple(STATES[plain[r] & 1 | (owning[r] & 1) << 1] for r in range(len(RIGHTS)))
