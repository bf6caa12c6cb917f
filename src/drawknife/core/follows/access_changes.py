"""Who gains and loses which right where, between two models, as sets (docs/rules.md, "What
follows").

Compared are the locations of either model, for each account those of its own, and at each of them
also a folder that is not recorded, directly in it and one deeper: a line may speak only there.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from ..everybody.access_map import AccessMap, access_of_all
from ..everybody.cell import Cell
from ..model.items import Endpoint
from ..prepared.prepared import Prepared
from ..words.names import Place, ancestors, join, rest_below, tree_key
from .access_differences import (
    NONE,
    AccessChange,
    Depths,
    Levels,
    changes_at,
    compared,
    depths_of,
    joined,
)
from .pairing import Renames


class Side(NamedTuple):
    """One of two models, and the accounts that are compared: bit `i` of every set is the one at
    `accounts[i]`.

    `accounts` None: all of the model's. `through` is an endpoint that they come by. `disk`: what
    the disks let through counts, too. `shut`: they can do nothing on this side, whatever its lines
    say; its locations are compared all the same.
    """

    prepared: Prepared
    accounts: Sequence[int] | None
    through: Endpoint | None = None
    disk: bool = False
    shut: bool = False


class PartCompared(NamedTuple):
    """Virtual paths: the locations at them, below and above them; and folders by store."""

    paths: frozenset[str]
    folders: dict[str, list[str]]


class Looking(NamedTuple):
    """A side, and the map of its accounts."""

    side: Side
    map: AccessMap


class _Seen:
    """The access of some accounts at one location: who has it as a location, and what they can do
    at each depth.

    `moved` are those of whom the folder there was moved out of sight, or came by being moved.
    """

    __slots__ = ("depths", "members", "moved")

    def __init__(self, members: int, depths: Depths, moved: int = 0) -> None:
        self.members, self.depths, self.moved = members, depths, moved


def access_changes(
    before: Side | None,
    after: Side | None,
    names: Sequence[str],
    renames: Renames | None = None,
    endpoint: str | None = None,
    under: PartCompared | None = None,
) -> list[AccessChange]:
    """What changes between two sides for the accounts of the same bits; None: there is nothing on
    that side.

    Where nothing else can differ, only what is `under` is looked at.
    """
    renames = renames or Renames()
    one, other = (None if side is None else Looking(side, map_of(side)) for side in (before, after))
    old = _seen(one, renames, under) if one is not None else {}
    new = _seen(other, None, under) if other is not None else {}
    if renames.moves and other is not None:
        _mark_moved_in(new, other.map, renames)
    _ask_the_other(one, old, new)
    _ask_the_other(other, new, old)
    compare, nothing = _Comparing(), _Seen(0, NONE)
    locations, begin = paths_of([x.map for x in (one, other) if x is not None])
    differences: dict[str, Levels] = {}
    for x in {**old, **new}:
        was, now = old.get(x, nothing), new.get(x, nothing)
        locations[x] = locations.get(x, 0) | was.members | now.members
        differences[x] = compare(was.depths, now.depths)
    return changes_at(locations, begin, differences, names, endpoint)


# --- looking ------------------------------------------------------------------------------------


def _seen(
    looking: Looking, renames: Renames | None, under: PartCompared | None
) -> dict[str, _Seen]:
    """Every location of the accounts of a side, by what it is called afterwards."""
    found: dict[str, _Seen] = {}
    depths = _Depths()
    for cell in looking.map.cells() if under is None else _cells_under(looking, under):
        if cell.members:
            location, moved = _called(cell, renames) if renames else (cell.location, False)
            access = NONE if looking.side.shut else depths(cell)
            _put(found, location, cell.members, access, cell.members if moved else 0)
    return found


def _cells_under(looking: Looking, under: PartCompared) -> Iterator[Cell]:
    """The cells at some virtual paths, below them, and above them: there only what is fixed can be
    another.

    And those of some folders.
    """
    prepared, division = looking.side.prepared, looking.map.division
    above = {up for path in under.paths for up in ancestors(path)}

    def is_under(location: str) -> bool:
        return not under.paths.isdisjoint(ancestors(location))

    besides = {
        store: set(with_beginnings(folders, division.starting.get(store, ())))
        for store, folders in under.folders.items()
    }
    wanted: dict[str, set[str]] = {store: set(folders) for store, folders in besides.items()}
    for path, segments in division.by_path.items():
        for segment in segments:
            store, top = segment.place
            folders = wanted.setdefault(store, set())
            whole = [top] if is_under(path) else []
            for to in () if whole else under.paths:
                rest = rest_below(to, path)
                if rest is not None:
                    folder = join(top, rest)
                    folders.update(
                        up for up in ancestors(folder) if rest_below(up, top) is not None
                    )
                    whole.append(folder)
            for folder in whole:
                folders.add(folder)
                folders.update(f.path for f in prepared.stores[store].recorded_below(folder))
    yield from looking.map.synthetic(above | {x for x in division.above if is_under(x)})
    for cell in looking.map.cells(
        {store: sorted(folders, key=tree_key) for store, folders in wanted.items() if folders}
    ):
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


class _Depths:
    """The sets at a cell, in a folder that is not recorded in it, and one deeper; the same for all
    cells that share them.
    """

    def __init__(self) -> None:
        # By the number of what they share, which is kept with it, so that nothing else gets that
        # number.
        self._found: dict[tuple[int, int], tuple[object, Depths]] = {}

    def __call__(self, cell: Cell) -> Depths:
        shared = cell.shared
        if shared is None:
            return depths_of(cell)
        key = (id(shared[0]), shared[1])
        if key not in self._found:
            self._found[key] = (shared[0], depths_of(cell))
        return self._found[key][1]


def _put(
    found: dict[str, _Seen], location: str, members: int, depths: Depths, moved: int = 0
) -> None:
    there = found.get(location)
    if there is None:
        found[location] = _Seen(members, depths, moved)
    else:
        there.members |= members
        there.moved |= moved
        there.depths = joined(there.depths, depths)


def with_beginnings(folders: Iterable[str], starting: Iterable[str]) -> list[str]:
    """Some folders, and those at and below them where a virtual path begins, in tree order."""
    known = set(folders)
    return sorted(
        {*known, *(p for p in starting if any(at in known for at in ancestors(p)))}, key=tree_key
    )


def paths_of(
    maps: Sequence[AccessMap], admitted: int = -1
) -> tuple[dict[str, int], dict[str, int]]:
    """The locations that only lead to virtual paths, and those at which virtual paths begin; each
    with whose it is, of
    those `admitted`. Where only some folders are looked at, folders below them still lie below
    nothing else.
    """
    leading: dict[str, int] = {}
    beginning: dict[str, int] = {}
    for found in maps:
        for cell in found.synthetic():
            leading[cell.location] = leading.get(cell.location, 0) | cell.members & admitted
        for path, members in found.division.served.items():
            beginning[path] = beginning.get(path, 0) | members & admitted
    return leading, beginning


def _ask_the_other(
    looking: Looking | None, known: dict[str, _Seen], other: dict[str, _Seen]
) -> None:
    """Where only the other has a location for somebody, ask this side of it as of any folder that
    is not recorded.
    """
    if looking is None or looking.side.shut:
        return
    missing: dict[str, int] = {}
    for location, seen in other.items():
        there = known.get(location)
        lacking = seen.members & ~seen.moved & ~(there.members if there is not None else 0)
        if lacking:
            missing[location] = lacking
    if not missing:
        return
    asked: list[tuple[str, int, Depths]] = []
    for cell in looking.map.at(missing):
        members = cell.members & missing[cell.location]
        if members:
            both = [
                ([s & members for s in plain], [s & members for s in owning])
                for plain, owning in depths_of(cell)
            ]
            asked.append((cell.location, members, both))
    for location, members, depths in asked:
        _put(known, location, members, depths)


def _called(cell: Cell, renames: Renames) -> tuple[str, bool]:
    """What a location of the model before is called afterwards, and whether its folder is out of
    sight then.
    """
    segment, place = cell.segment, cell.place
    if segment is None or place is None or not renames.moves:
        return cell.location, False
    to = renames.place(place)
    top = renames.place(segment.place)
    rest = rest_below(to.path, top.path) if to.store == top.store else None
    return (cell.location, True) if rest is None else (join(segment.path, rest), False)


def _mark_moved_in(new: dict[str, _Seen], map_: AccessMap, renames: Renames) -> None:
    """Note the locations of folders that were moved to where they are: before, nothing was there to
    compare with.
    """
    targets = [r for r in renames.each if r.kind == "folder"]
    for cell in map_.cells():
        place = cell.place
        if (
            place is not None
            and any(_at_or_below(place, r.new) for r in targets)
            and cell.location in new
        ):
            new[cell.location].moved |= cell.members


def _at_or_below(place: Place, top: str) -> bool:
    store, _, path = top.partition(":")
    return place.store == store and rest_below(place.path, path) is not None


class _Comparing:
    """Compares, and keeps what it found: folders that carry nothing have the very sets of the
    folder above.
    """

    def __init__(self) -> None:
        # By the numbers of what was compared, all of which is kept as long as this is.
        self._found: dict[tuple[int, int], Levels] = {}

    def __call__(self, was: Depths, now: Depths) -> Levels:
        found = self._found.get((id(was), id(now)))
        if found is None:
            found = self._found[id(was), id(now)] = compared(was, now)
        return found
