"""What changes in some folders, for accounts that are led to the same folders in both models.

Both maps go down side by side, folder by folder, and what was compared is let go: of two models at
their full size only the differences are kept.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import reduce
from heapq import merge
from itertools import chain, groupby
from operator import attrgetter, itemgetter, or_
from weakref import WeakKeyDictionary

from ..everybody.access_map import AccessMap
from ..everybody.cell import Cell
from ..words.names import tree_key
from .access_changes import Side, map_of, paths_of, with_beginnings
from .access_differences import (
    NONE,
    AccessChange,
    Depths,
    Levels,
    Parts,
    changes_at,
    compared,
    depths_of,
    joined,
)

#: Folders by store.
Folders = dict[str, list[str]]
#: The cells at a location: of the model before, and of the one after.
Both = tuple[list[Cell], list[Cell]]


def changes_in_branches(
    before: Side, after: Side, names: Sequence[str], branches: Folders, admitted: int | None = None
) -> list[AccessChange]:
    """What changes between two sides for the accounts of the same bits, of which some may be
    `admitted`, in some folders.
    """
    one, other = map_of(before), map_of(after)
    among = -1 if admitted is None else admitted
    differences: dict[str, Levels] = {}
    locations, beginnings = paths_of((one, other), among)
    compare = _Comparing()
    for store, folders in branches.items():
        known = frozenset(folders)
        for cells in _side_by_side(one, other, store, known):
            for location, both in _by_location(cells, known, among).items():
                members = reduce(or_, (cell.members for cell in chain(*both)))
                locations[location] = locations.get(location, 0) | members & among
                levels = [
                    [(a & among, changes) for a, changes in parts if a & among]
                    for parts in compare(*both)
                ]
                if any(levels):
                    there = differences.get(location)
                    differences[location] = (
                        levels if there is None else [*map(_together, there, levels)]
                    )
    return changes_at(locations, beginnings, differences, names)


def _side_by_side(
    one: AccessMap, other: AccessMap, store: str, known: frozenset[str]
) -> Iterator[Both]:
    """The cells of both maps at each of the folders, and at those below them where a virtual path
    begins.
    """
    starting = {*one.division.starting.get(store, ()), *other.division.starting.get(store, ())}
    wanted = {store: with_beginnings(known, starting)}

    def cells_of(map_: AccessMap, side: int) -> Iterator[tuple[str, int, list[Cell]]]:
        for path, cells in groupby(map_.cells(wanted), attrgetter("path")):
            yield tree_key(path), side, list(cells)

    together = merge(cells_of(one, 0), cells_of(other, 1), key=itemgetter(0, 1))
    for _, found in groupby(together, itemgetter(0)):
        both: Both = ([], [])
        for _, side, cells in found:
            both[side].extend(cells)
        yield both


def _by_location(both: Both, known: frozenset[str], among: int) -> dict[str, Both]:
    """The cells that are a location of somebody who is compared; others only have a virtual path
    that begins there.
    """
    found: dict[str, Both] = {}
    for side, cells in enumerate(both):
        for cell in cells:
            begins = cell.segment is None or cell.location == cell.segment.path
            if cell.members & among and (begins or cell.path in known):
                found.setdefault(cell.location, ([], []))[side].append(cell)
    return found


def _together(one: Parts, other: Parts) -> Parts:
    """What changes for these accounts, and for others."""
    found = {changes: accounts for accounts, changes in one}
    for accounts, changes in other:
        found[changes] = found.get(changes, 0) | accounts
    return [(accounts, changes) for changes, accounts in found.items()]


class _Comparing:
    """Compares what is at one location, and keeps it as long as the folders above are looked at,
    which those below share.
    """

    def __init__(self) -> None:
        self._found: WeakKeyDictionary[object, dict[object, tuple[object, Levels]]] = (
            WeakKeyDictionary()
        )

    def __call__(self, was: list[Cell], now: list[Cell]) -> Levels:
        if (
            len(was) == len(now) == 1
            and (old := was[0].shared) is not None
            and (new := now[0].shared) is not None
        ):
            known = self._found.setdefault(new[0], {})
            key = (id(old[0]), old[1], new[1])
            if key not in known:
                known[key] = (old[0], compared(_depths(was), _depths(now)))
            return known[key][1]
        return compared(_depths(was), _depths(now))


def _depths(cells: list[Cell]) -> Depths:
    found = NONE
    for i, cell in enumerate(cells):
        found = joined(found, depths_of(cell)) if i else depths_of(cell)
    return found
