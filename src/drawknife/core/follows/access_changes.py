"""Who gains and loses which right where, between two models, as sets (docs/rules.md, "What follows").

Compared are the locations of either model, for each account those of its own, and at each of them also a folder
that is not recorded, directly in it and one deeper: a line may speak only there.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from ..everybody.access_map import OF_FILES, AccessMap, Cell, access_of_all
from ..everybody.closed_form import NOBODY, Sets
from ..everybody.division import bits_in
from ..model.items import Endpoint
from ..prepared.prepared import Prepared
from ..words.names import UNRECORDED, Place, ancestors, join, rest_below, tree_key
from ..words.rights import RIGHTS
from .pairing import Renames

#: Access at a location, in a folder that is not recorded in it, and one deeper: (on what is not its own, on what is).
Depths = list[tuple[Sets, Sets]]
Changes = tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...], tuple[str, ...]]
_NONE: Depths = [(NOBODY, NOBODY)] * 3


class AccessChange(NamedTuple):
    """Some accounts gain and lose the same rights at some locations, through an endpoint if one is named.

    A right that remains with fewer or more files (one's own, others') is in `narrowed` or `widened`. A location
    that ends in ``/…`` is a folder in it that is not recorded, ``/…/…`` one deeper; they are told only where they
    change otherwise than what they lie in.
    """

    accounts: tuple[str, ...]
    locations: tuple[str, ...]
    gained: tuple[str, ...]
    lost: tuple[str, ...]
    widened: tuple[str, ...]
    narrowed: tuple[str, ...]
    endpoint: str | None = None
    #: So many of the locations, from the first on, are worth a line; of each of the rest it is so at the location above it.
    tops: int = 0

    @property
    def worth_a_line(self) -> tuple[str, ...]:
        """The locations of which it is not so at the nearest location above them."""
        return self.locations[: self.tops] if self.tops else self.locations


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
    """The access of some accounts at one location: who has it as a location, and what they can do at each depth."""

    __slots__ = ("depths", "members", "moved")

    def __init__(self, members: int, depths: Depths, moved: bool = False) -> None:
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
    one, other = (None if side is None else Looking(side, _map_of(side)) for side in (before, after))
    old = _seen(one, branches, renames, under) if one is not None else {}
    new = _seen(other, branches, None, under) if other is not None else {}
    if renames.moves and other is not None:
        _mark_moved_in(new, other.map, renames)
    if branches is None or under is not None:
        _ask_the_other(one, old, new)
        _ask_the_other(other, new, old)
    found: dict[tuple[int, Changes], tuple[list[str], list[str]]] = {}  # worth a line, and folded
    nothing = _Seen(0, _NONE)
    ways: list[tuple[str, list[tuple[int, Changes]]]] = []  # the locations above, and what changes there
    for location in sorted({*old, *new}, key=tree_key):
        was, now = old.get(location, nothing).depths, new.get(location, nothing).depths
        while ways and rest_below(location, ways[-1][0]) is None:
            ways.pop()
        nearest = ways[-1][1] if ways else []
        above: list[tuple[int, Changes]] = []
        shown = location
        for depth in range(3):
            here = _alike(was[depth], now[depth])
            if depth == 0:
                ways.append((location, here))
            for accounts, changes in here:
                folded = depth == 0 and (accounts, changes) in nearest
                for members, same in above:
                    if same == changes:
                        accounts &= ~members
                if accounts:
                    found.setdefault((accounts, changes), ([], []))[folded].append(shown)
            above = here
            shown = f"{shown if shown != '/' else ''}/{UNRECORDED}"
    return [
        AccessChange(tuple(names[bit] for bit in bits_in(accounts)), (*tops, *folded), *changes, endpoint, len(tops))
        for (accounts, changes), (tops, folded) in found.items()
    ]


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
    for cell in map_.cells(wanted) if under is None else _cells_under(side.prepared, map_, under, wanted or {}):
        members = cell.members if side.admitted is None else cell.members & side.admitted
        if branches is not None and under is None and not _is_location(cell, branches):
            continue
        if members:
            location, moved = _called(cell, renames) if renames else (cell.location, False)
            _put(found, location, members, _depths(cell, side.admitted), moved)
    return found


def _cells_under(
    prepared: Prepared, map_: AccessMap, under: frozenset[str], branches: dict[str, list[str]]
) -> Iterator[Cell]:
    """The cells at some virtual paths, below them, and above them: there only what is fixed can be another. And those of
    some folders."""
    division = map_.division
    above = {up for path in under for up in ancestors(path)}

    def is_under(location: str) -> bool:
        return any(rest_below(location, path) is not None for path in under)

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


def _map_of(side: Side) -> AccessMap:
    if side.accounts is None:
        return access_of_all(side.prepared, side.through, side.disk)
    found = AccessMap(side.prepared, side.accounts, side.through)
    return found.with_disks() if side.disk else found


def _depths(cell: Cell, admitted: int | None) -> Depths:
    found = [(cell.plain, cell.owning), cell.below(1), cell.below(2)]
    if admitted is None:
        return found
    return [([s & admitted for s in plain], [s & admitted for s in owning]) for plain, owning in found]


def _put(found: dict[str, _Seen], location: str, members: int, depths: Depths, moved: bool = False) -> None:
    there = found.get(location)
    if there is None:
        found[location] = _Seen(members, depths, moved)
    else:
        there.members |= members
        there.depths = [_joined(a, b) for a, b in zip(there.depths, depths, strict=True)]


def _joined(a: tuple[Sets, Sets], b: tuple[Sets, Sets]) -> tuple[Sets, Sets]:
    return [x | y for x, y in zip(a[0], b[0], strict=True)], [x | y for x, y in zip(a[1], b[1], strict=True)]


def _wanted(map_: AccessMap, branches: dict[str, list[str]]) -> dict[str, list[str]]:
    """The folders of the branches that have a location: recorded in either model, or where a virtual path begins."""
    found: dict[str, list[str]] = {}
    for name, paths in branches.items():
        known = set(paths)
        starting = map_.division.starting.get(name, {})
        tops = [p for p in starting if any(at in known for at in ancestors(p))]
        found[name] = sorted({*paths, *tops})
    return found


def _is_location(cell: Cell, branches: dict[str, list[str]]) -> bool:
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
        lacking = seen.members & ~(there.members if there is not None else 0)
        if lacking and not seen.moved:
            missing[location] = lacking
    if not missing:
        return
    asked: list[tuple[str, int, Depths]] = []
    for cell in map_.at(missing):
        members = cell.members & missing[cell.location]
        if side.admitted is not None:
            members &= side.admitted
        if members:
            asked.append((cell.location, members, _depths(cell, members)))
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
            new[cell.location].moved = True


def _at_or_below(place: Place, top: str) -> bool:
    store, _, path = top.partition(":")
    return place.store == store and rest_below(place.path, path) is not None


# --- comparing ----------------------------------------------------------------------------------


def _alike(was: tuple[Sets, Sets], now: tuple[Sets, Sets]) -> list[tuple[int, Changes]]:
    """The accounts for which something changes, parted by what changes: gained, lost, widened, narrowed."""
    if was[0] == now[0] and was[1] == now[1]:
        return []
    kinds: list[tuple[int, int, int]] = []  # accounts, which of the four, which right
    touched = 0
    for r in range(len(RIGHTS)):
        had, has = was[0][r] | was[1][r], now[0][r] | now[1][r]
        gained, lost = has & ~had, had & ~has
        wider = narrower = 0
        if r in OF_FILES:
            both = had & has
            wider = both & (now[0][r] & ~was[0][r] | now[1][r] & ~was[1][r])
            narrower = both & (was[0][r] & ~now[0][r] | was[1][r] & ~now[1][r])
        for which, accounts in enumerate((gained, lost, wider, narrower)):
            if accounts:
                kinds.append((accounts, which, r))
                touched |= accounts
    parts: list[tuple[int, Changes]] = [(touched, ((), (), (), ()))] if touched else []
    for accounts, which, r in kinds:
        parted: list[tuple[int, Changes]] = []
        for members, changes in parts:
            if members & accounts:
                more = tuple((*c, RIGHTS[r]) if i == which else c for i, c in enumerate(changes))
                parted.append((members & accounts, more))  # type: ignore[arg-type]
            if members & ~accounts:
                parted.append((members & ~accounts, changes))
        parts = parted
    return parts
