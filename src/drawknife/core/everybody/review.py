"""Who can get at what, at and below a folder: for whoever answers for it, in as few lines as say
all of it.

Accounts that may do the same at a place, by the same entries, are one line. A place has a line for
those whose rights differ from what the place above gives them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cache, reduce
from itertools import chain, groupby
from math import inf
from operator import attrgetter, or_
from typing import NamedTuple

from ..decide.folder_decision import deciding_entry
from ..model.items import Entry
from ..prepared.prepared import Prepared
from ..prepared.stores import PreparedStore
from ..words.names import Place, join, parent, rest_below, tree_key
from ..words.rights import FILE_RIGHTS, RIGHTS
from .access_map import AccessMap, access_of_all
from .cell import STATES, Cell
from .closed_form import Sets
from .division import Segment, bits_in


class Deciding(NamedTuple):
    """An entry that lets somebody do something, and the folder that it is on."""

    at: Place
    entry: Entry


class Reviewed(NamedTuple):
    """Some accounts that may do the same at one place, under one virtual location.

    `below` 0: in the folder itself; 1: in the folders directly in it that carry nothing; 2: in
    those in them; 3: in all deeper ones. `by` are the entries that let them; none where nothing
    decides. `states` are as in :class:`~.effective.Access`.
    """

    place: Place
    below: int
    location: str
    states: tuple[str, ...]
    accounts: tuple[str, ...]
    by: tuple[Deciding, ...]


def review(prepared: Prepared, top: Place) -> list[Reviewed]:
    """Who may do what at `top`, and where below it that is different; without endpoints, and as the
    disks let it.
    """
    found = review_within(prepared, top, inf)
    assert found is not None
    return found


def review_within(prepared: Prepared, top: Place, most: float) -> list[Reviewed] | None:
    """The same; None where it would be more than `most` lines."""
    map_ = access_of_all(prepared, None, disk=True)
    if top.store not in map_.division.starting:
        return []
    paths, replaced = _places(map_, top)
    cells = {
        path: list(some)
        for path, some in groupby(map_.cells({top.store: sorted(paths)}), attrgetter("path"))
    }
    found: list[_Line] = []
    above: dict[tuple[int, str], Cell] = {}
    for path in sorted(cells.keys() | replaced.keys(), key=tree_key):
        lines, taken = _taken(map_, above, Place(top.store, path), replaced.get(path, ()), top.path)
        found += lines
        for cell in cells.get(path, ()):
            key = id(cell.segment)
            before = _before(above, key, path, top.path)
            above[key, path] = cell
            for below in (0, 1, 2, 3):
                # What the folder above, or the level above, says of it already.
                was = (
                    _sets(cell, below - 1) if below else None if before is None else _sets(*before)
                )
                for states, members in _classes(_sets(cell, below), was, cell.members):
                    if was is None and states == NOTHING:
                        members &= taken.get(cell.location, 0)
                    if members:
                        found += _lines(map_, cell, below, states, members)
        if len(found) > most:
            return None
    people = prepared.people.accounts
    names = cache(
        lambda members: tuple(sorted(people[bit].name for bit in bits_in(members)))
    )  # many lines have the same
    named = [
        Reviewed(x.place, x.below, x.location, x.states, names(x.members), x.by) for x in found
    ]
    named.sort(key=lambda r: (r.place.path.split("/"), r.below, r.location, r.accounts))
    return named


class _Line(NamedTuple):
    """A line whose accounts are a set; else as :class:`Reviewed`."""

    place: Place
    below: int
    location: str
    states: tuple[str, ...]
    members: int
    by: tuple[Deciding, ...]


#: By folder, the virtual paths by which it is seen, and the locations at which others take its
#: place.
Replaced = dict[str, list[tuple[Segment, str]]]


def _places(map_: AccessMap, top: Place) -> tuple[set[str], Replaced]:
    """The folders at and below one at which something may be different; and those whose place a
    virtual path takes.
    """
    division, store = map_.division, map_.prepared.stores[top.store]
    paths = {top.path, *store.marked, *division.starting[top.store]}
    replaced: Replaced = {}
    locations = division.paths | division.above_paths
    for segment in (s for some in division.starting[top.store].values() for s in some):
        # Other virtual paths that lie below it take the place of a folder; what lies above them
        # cannot be deleted.
        for location in locations if segment.inner else ():
            rest = rest_below(location, segment.path)
            if rest:
                path = join(segment.place.path, rest)
                paths.add(path)
                if location in division.paths and rest_below(path, top.path) is not None:
                    replaced.setdefault(path, []).append((segment, location))
    return {path for path in paths if rest_below(path, top.path) is not None}, replaced


def _taken(
    map_: AccessMap,
    above: dict[tuple[int, str], Cell],
    place: Place,
    replaced: Iterable[tuple[Segment, str]],
    top: str,
) -> tuple[list[_Line], dict[str, int]]:
    """Lines for those who do not see a folder where the lines above say so, as another virtual path
    of theirs is there.

    Where it leads to that very folder, there is no such line; who they are is given back by
    location: all that they have there is told, be it nothing.
    """
    lines: list[_Line] = []
    taken: dict[str, int] = {}
    for segment, location in replaced:
        before = _before(above, id(segment), place.path, top)
        if before is None:
            continue
        had = reduce(or_, chain(*_sets(*before)))
        gone = before[0].members & map_.division.having(location) & had
        here = reduce(
            or_, (s.members for s in map_.division.by_path.get(location, ()) if s.place == place), 0
        )
        taken[location] = taken.get(location, 0) | gone & here
        if gone & ~here:
            lines.append(_Line(place, 0, location, NOTHING, gone & ~here, ()))
    return lines, taken


def _before(
    above: dict[tuple[int, str], Cell], key: int, path: str, top: str
) -> tuple[Cell, int] | None:
    """The nearest place above that has a line of the same virtual path, and how far it is."""
    distance = 0
    while path != top and path != "/":
        path, distance = parent(path), distance + 1
        if (key, path) in above:
            return above[key, path], distance
    return None


NOTHING = ("no",) * len(RIGHTS)


def _sets(cell: Cell, distance: int) -> tuple[Sets, Sets]:
    return (cell.plain, cell.owning) if distance == 0 else cell.below(min(distance, 3))


def _classes(
    now: tuple[Sets, Sets], was: tuple[Sets, Sets] | None, members: int
) -> Iterator[tuple[tuple[str, ...], int]]:
    """The members whose rights differ from what they were, by what these are now."""
    if was is not None:
        changed = 0
        for before, after in zip(was, now, strict=True):
            for x, y in zip(before, after, strict=True):
                changed |= x ^ y
        members &= changed
    classes: list[tuple[tuple[str, ...], int]] = [((), members)] if members else []
    for plain, owning in zip(*now, strict=True):
        split: list[tuple[tuple[str, ...], int]] = []
        for states, some in classes:
            parts = (
                some & ~plain & ~owning,
                some & plain & ~owning,
                some & owning & ~plain,
                some & plain & owning,
            )
            split += [((*states, STATES[state]), part) for state, part in enumerate(parts) if part]
        classes = split
    yield from classes


def _lines(
    map_: AccessMap, cell: Cell, below: int, states: tuple[str, ...], members: int
) -> Iterator[_Line]:
    """A line for each set of entries by which some of the members have what they have."""
    place, people = cell.place, map_.prepared.people
    assert place is not None
    store = map_.prepared.stores[place.store]
    path = join(place.path, "/\x00" * below)  # a name that no folder has
    held = [(right, state) for right, state in zip(RIGHTS, states, strict=True) if state != "no"]
    by: dict[tuple[Deciding, ...], int] = {}
    for some in _alike(map_, store, path, members) if held else (members,):
        account = people.prepared(next(bits_in(some)))
        deciding: dict[Deciding, None] = {}
        for right, state in held:
            own = state in ("yes", "own") if right in FILE_RIGHTS else None
            decision = deciding_entry(store, path, right, account, own)
            if decision is not None:
                deciding[Deciding(Place(store.name, decision.at), decision.entry)] = None
        lines = tuple(deciding)
        by[lines] = by.get(lines, 0) | some
    for lines, some in by.items():
        yield _Line(place, below, cell.location, states, some, lines)


def _alike(map_: AccessMap, store: PreparedStore, path: str, members: int) -> list[int]:
    """The members, parted by which of the entries at and above a folder are about them: one of each
    part stands for all.
    """
    parts = [members]
    node, up = store.nearest(path)
    sets = [1 << node.owner] if node is not None and up == 0 and node.owner >= 0 else []
    while node is not None:
        sets += (map_.form.bits.get(sid, 0) for sid in node.sids)
        node = node.up
    for about in set(sets):
        parts = [part for some in parts for part in (some & about, some & ~about) if part]
    return parts
