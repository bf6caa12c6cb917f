"""Where two accounts differ, or one account in two models."""

from __future__ import annotations

from collections.abc import Set
from typing import NamedTuple

from ..model.items import Endpoint
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import parent, rest_below, tree_key
from ..words.rights import RIGHTS
from .access_map import AccessMap
from .closed_form import Sets
from .effective import effective_access


class Difference(NamedTuple):
    """One right at one location that is not the same on both sides.

    None: it has no such location.
    """

    location: str
    right: str
    one: str | None
    other: str | None
    #: Folded: so many locations below differ alike.
    below: int = 0


def differences(
    one: tuple[Prepared, PreparedAccount],
    other: tuple[Prepared, PreparedAccount],
    endpoint: tuple[Endpoint | None, Endpoint | None] = (None, None),
    under: str = "/",
    disk: bool = False,
    folded: bool = False,
) -> tuple[list[Difference], int]:
    """Every right at every location at or below `under` in which the two differ, in tree order; and
    how many these are.

    A location that only one side has differs in the rights that are not ``no`` there. `folded`: a
    location that differs as the nearest location above it does is only counted there.
    """
    if one[0] is other[0] and endpoint[0] is endpoint[1]:
        where, alike = _in_one_pass(one[0], one[1], other[1], endpoint[0], under, disk)
    else:
        where, alike = _side_by_side(one, other, endpoint, under, disk)
    lines: list[list[Difference]] = []
    above: list[tuple[str, Differs, int]] = []  # location, how it differs, its line
    total = 0
    for location in sorted(where, key=tree_key):
        here = where[location]
        total += len(here)
        while above and rest_below(location, above[-1][0]) is None:
            above.pop()
        if (
            folded
            and above
            and above[-1][1] == here
            and not _between(location, above[-1][0], alike)
        ):
            line = above[-1][2]
            lines[line] = [d._replace(below=d.below + 1) for d in lines[line]]
        else:
            line = len(lines)
            lines += [[Difference(location, *x) for x in here]]
        above.append((location, here, line))
    return [d for line in lines for d in line], total


#: How a location differs: each right that does, and its state on either side.
Differs = list[tuple[str, str | None, str | None]]


def _between(location: str, above: str, alike: Set[str]) -> bool:
    """Is there a location between the two at which both sides are alike?"""
    while (location := parent(location)) != above:
        if location in alike:
            return True
    return False


def _side_by_side(
    one: tuple[Prepared, PreparedAccount],
    other: tuple[Prepared, PreparedAccount],
    endpoint: tuple[Endpoint | None, Endpoint | None],
    under: str,
    disk: bool,
) -> tuple[dict[str, Differs], set[str]]:
    """The locations at which two sides differ, and how; and those at which they are alike."""
    left = {row.location: row.states for row in effective_access(*one, endpoint[0], under, disk)[0]}
    right = {
        row.location: row.states for row in effective_access(*other, endpoint[1], under, disk)[0]
    }
    every = {location: _at(left.get(location), right.get(location)) for location in {*left, *right}}
    return {at: here for at, here in every.items() if here}, {
        at for at, here in every.items() if not here
    }


def _in_one_pass(
    prepared: Prepared,
    one: PreparedAccount,
    other: PreparedAccount,
    endpoint: Endpoint | None,
    under: str,
    disk: bool,
) -> tuple[dict[str, Differs], set[str]]:
    """The same of two accounts of one model: one pass for both, in which folders that carry nothing
    share their sets.
    """
    if one.index == other.index:
        return {}, set()
    map_ = AccessMap(prepared, [one.index, other.index], endpoint)
    left: dict[str, tuple[str, ...]] = {}
    right: dict[str, tuple[str, ...]] = {}
    alike: set[str] = set()
    known: dict[
        tuple[int, int], tuple[Sets, Sets, bool]
    ] = {}  # the sets are kept, so that no others get their number
    for cell in (map_.with_disks() if disk else map_).cells():
        location = cell.location
        if not cell.members or rest_below(location, under) is None:
            continue
        if cell.members == 3:
            key = (id(cell.plain), id(cell.owning))
            found = known.get(key)
            if found is None:
                same = all(x & 3 in (0, 3) for sets in (cell.plain, cell.owning) for x in sets)
                found = known[key] = (cell.plain, cell.owning, same)
            if found[2]:
                alike.add(location)
                continue
        for bit, side in ((0, left), (1, right)):
            if cell.members >> bit & 1:
                side[location] = tuple(cell.state(r, bit) for r in range(len(RIGHTS)))
    every = {location: _at(left.get(location), right.get(location)) for location in {*left, *right}}
    return {at: here for at, here in every.items() if here}, alike | {
        at for at, here in every.items() if not here
    }


def _at(a: tuple[str, ...] | None, b: tuple[str, ...] | None) -> Differs:
    nothing = ("no",) * len(RIGHTS)
    return [
        (name, here if a else None, there if b else None)
        for name, here, there in zip(RIGHTS, a or nothing, b or nothing, strict=True)
        if here != there
    ]
