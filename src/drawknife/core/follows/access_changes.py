"""Who gains and loses which right where, between two models, as sets (docs/rules.md, "What follows").

Compared are the locations of either model, for each account those of its own, and at each of them also a folder
that is not recorded, directly in it and one deeper: a line may speak only there.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from ..everybody.access_map import AccessMap, access_of_all
from ..everybody.cell import Cell
from ..everybody.closed_form import Sets
from ..model.items import Endpoint
from ..prepared.prepared import Prepared
from ..words.names import Place, ancestors, join, rest_below, tree_key
from .access_differences import NONE, AccessChange, Depths, Three, compared, joined, told
from .pairing import Renames


class Side(NamedTuple):
    """One of two models, and the accounts that are compared: bit `i` of every set is the one at `accounts[i]`.

    `accounts` None: all of the model's. `through` is an endpoint that they come by; `admitted` restricts it to some. `disk`:
    what the disks let through counts, too.
    """

    prepared: Prepared
    accounts: Sequence[int] | None
    through: Endpoint | None = None
    admitted: int | None = None
    disk: bool = False


class Looking(NamedTuple):
    """A side, and the map of its accounts."""

    side: Side
    map: AccessMap


class _Seen:
    """The access of some accounts at one location: who has it as a location, and what they can do at each depth. `moved`
    are those of whom the folder there was moved out of sight, or came by being moved."""

    __slots__ = ("depths", "members", "moved")

    def __init__(self, members: int, depths: Depths, moved: int = 0) -> None:
        self.members, self.depths, self.moved = members, depths, moved


def access_changes(
    before: Side | None,
    after: Side | None,
    names: Sequence[str],
    branches: dict[str, list[str]] | None = None,
    renames: Renames | None = None,
    endpoint: str | None = None,
    under: frozenset[str] | None = None,
) -> list[AccessChange]:
    """What changes between two sides for the accounts of the same bits; None: there is nothing on that side.

    `branches` are folders by store: only they are looked at, in both; where the accounts are led to the same
    folders in both, and only these differ. `under` are virtual paths: only locations at them, below or above them, and
    those in `branches`, are looked at, as nothing else can differ.
    """
    renames = renames or Renames()
    one, other = (None if side is None else Looking(side, map_of(side)) for side in (before, after))
    old = _seen(one, branches, renames, under) if one is not None else {}
    new = _seen(other, branches, None, under) if other is not None else {}
    if renames.moves and other is not None:
        _mark_moved_in(new, other.map, renames)
    if branches is None or under is not None:
        _ask_the_other(one, old, new)
        _ask_the_other(other, new, old)
    compare, nothing = _Comparing(), _Seen(0, NONE)
    locations = {*old, *new}
    differences = {x: compare(old.get(x, nothing).depths, new.get(x, nothing).depths) for x in locations}
    return told(locations, differences, names, endpoint)


# --- looking ------------------------------------------------------------------------------------


def _seen(
    looking: Looking,
    branches: dict[str, list[str]] | None,
    renames: Renames | None,
    under: frozenset[str] | None = None,
) -> dict[str, _Seen]:
    """Every location of the accounts of a side, by what it is called afterwards."""
    side, map_ = looking
    found: dict[str, _Seen] = {}
    wanted = None if branches is None else _wanted(map_, branches)
    admitted = _Admitted(side.admitted)
    within = {store: frozenset(folders) for store, folders in (branches or {}).items()}
    for cell in map_.cells(wanted) if under is None else _cells_under(side.prepared, map_, under, wanted or {}):
        members = cell.members if side.admitted is None else cell.members & side.admitted
        if branches is not None and under is None and not _is_location(cell, within):
            continue
        if members:
            location, moved = _called(cell, renames) if renames else (cell.location, False)
            _put(found, location, members, admitted.depths(cell), members if moved else 0)
    return found


def _cells_under(
    prepared: Prepared, map_: AccessMap, under: frozenset[str], branches: dict[str, list[str]]
) -> Iterator[Cell]:
    """The cells at some virtual paths, below them, and above them: there only what is fixed can be another. And those of
    some folders."""
    division = map_.division
    above = {up for path in under for up in ancestors(path)}

    def is_under(location: str) -> bool:
        return not under.isdisjoint(ancestors(location))

    besides = {store: set(folders) for store, folders in branches.items()}
    wanted: dict[str, set[str]] = {store: set(folders) for store, folders in besides.items()}
    for path, segments in division.by_path.items():
        for segment in segments:
            store, top = segment.place
            folders = wanted.setdefault(store, set())
            whole = [top] if is_under(path) else []
            for to in () if whole else under:
                rest = rest_below(to, path)
                if rest is not None:
                    folder = join(top, rest)
                    folders.update(up for up in ancestors(folder) if rest_below(up, top) is not None)
                    whole.append(folder)
            for folder in whole:
                folders.add(folder)
                folders.update(f.path for f in prepared.stores[store].recorded_below(folder))
    yield from map_.synthetic(above | {x for x in division.above if is_under(x)})
    for cell in map_.cells({store: sorted(folders, key=tree_key) for store, folders in wanted.items() if folders}):
        at = cell.segment
        in_branch = at is not None and cell.path in besides.get(at.place.store, ())
        if not in_branch and cell.location not in above and not is_under(cell.location):
            continue
        recorded = at is None or prepared.stores[at.place.store].folder(cell.path) is not None
        if recorded or (at is not None and cell.location == at.path):
            yield cell  # else it is no location of theirs: it is only looked at as others have it


def map_of(side: Side) -> AccessMap:
    """The map of a side's accounts."""
    if side.accounts is None:
        return access_of_all(side.prepared, side.through, side.disk)
    found = AccessMap(side.prepared, side.accounts, side.through)
    return found.with_disks() if side.disk else found


class _Admitted:
    """Restricts sets to the accounts that are admitted; sets that many folders share stay shared."""

    def __init__(self, admitted: int | None) -> None:
        self._admitted = admitted
        # By the number of what it was made of, which is kept with it, so that nothing else gets that number.
        self._found: dict[int, tuple[Sets, Sets]] = {}
        self._depths: dict[tuple[int, int], tuple[object, Depths]] = {}

    def _of(self, sets: Sets) -> Sets:
        admitted = self._admitted
        if admitted is None:
            return sets
        found = self._found.get(id(sets))
        if found is None:
            found = self._found[id(sets)] = (sets, [s & admitted for s in sets])
        return found[1]

    def depths(self, cell: Cell) -> Depths:
        """The sets at a cell, in a folder that is not recorded in it, and one deeper."""
        shared = cell.shared
        if shared is not None and (known := self._depths.get((id(shared[0]), shared[1]))) is not None:
            return known[1]
        both = ((cell.plain, cell.owning), cell.below(1), cell.below(2))
        found = [(self._of(plain), self._of(owning)) for plain, owning in both]
        if shared is not None:
            self._depths[id(shared[0]), shared[1]] = (shared[0], found)
        return found


def _put(found: dict[str, _Seen], location: str, members: int, depths: Depths, moved: int = 0) -> None:
    there = found.get(location)
    if there is None:
        found[location] = _Seen(members, depths, moved)
    else:
        there.members |= members
        there.moved |= moved
        there.depths = joined(there.depths, depths)


def _wanted(map_: AccessMap, branches: dict[str, list[str]]) -> dict[str, list[str]]:
    """The folders of the branches that have a location: recorded in either model, or where a virtual path begins."""
    found: dict[str, list[str]] = {}
    for name, paths in branches.items():
        known = set(paths)
        starting = map_.division.starting.get(name, {})
        tops = [p for p in starting if any(at in known for at in ancestors(p))]
        found[name] = sorted({*paths, *tops})
    return found


def _is_location(cell: Cell, branches: dict[str, frozenset[str]]) -> bool:
    """Is it a location of the members, or does only a virtual path of others begin at that folder?"""
    segment = cell.segment
    if segment is None or cell.location == segment.path:
        return True
    return cell.path in branches[segment.place.store]


def _ask_the_other(looking: Looking | None, known: dict[str, _Seen], other: dict[str, _Seen]) -> None:
    """Where only the other has a location for somebody, ask this side of it as of any folder that is not recorded."""
    if looking is None:
        return
    side, map_ = looking
    missing: dict[str, int] = {}
    for location, seen in other.items():
        there = known.get(location)
        lacking = seen.members & ~seen.moved & ~(there.members if there is not None else 0)
        if lacking:
            missing[location] = lacking
    if not missing:
        return
    asked: list[tuple[str, int, Depths]] = []
    for cell in map_.at(missing):
        members = cell.members & missing[cell.location]
        if side.admitted is not None:
            members &= side.admitted
        if members:
            asked.append((cell.location, members, _Admitted(members).depths(cell)))
    for location, members, depths in asked:
        _put(known, location, members, depths)


def _called(cell: Cell, renames: Renames) -> tuple[str, bool]:
    """What a location of the model before is called afterwards, and whether its folder is out of sight then."""
    segment, place = cell.segment, cell.place
    if segment is None or place is None or not renames.moves:
        return cell.location, False
    to = renames.place(place)
    top = renames.place(segment.place)
    rest = rest_below(to.path, top.path) if to.store == top.store else None
    return (cell.location, True) if rest is None else (join(segment.path, rest), False)


def _mark_moved_in(new: dict[str, _Seen], map_: AccessMap, renames: Renames) -> None:
    """Note the locations of folders that were moved to where they are: before, nothing was there to compare with."""
    targets = [r for r in renames.each if r.kind == "folder"]
    for cell in map_.cells():
        place = cell.place
        if place is not None and any(_at_or_below(place, r.new) for r in targets) and cell.location in new:
            new[cell.location].moved |= cell.members


def _at_or_below(place: Place, top: str) -> bool:
    store, _, path = top.partition(":")
    return place.store == store and rest_below(place.path, path) is not None


class _Comparing:
    """Compares, and keeps what it found: folders that carry nothing have the very sets of the folder above."""

    def __init__(self) -> None:
        # By the numbers of what was compared, all of which is kept as long as this is.
        self._found: dict[tuple[int, int], Three] = {}

    def __call__(self, was: Depths, now: Depths) -> Three:
        found = self._found.get((id(was), id(now)))
        if found is None:
            found = self._found[id(was), id(now)] = compared(was, now)
        return found
