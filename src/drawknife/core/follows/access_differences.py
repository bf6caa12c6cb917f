"""What is different between what some accounts had at a place and what they have, as sets, and how
it is told.

At each location also a folder is looked at that is not recorded, directly in it, one and two
deeper: a line may speak only there, and whether a folder can be deleted also depends on the folder
that holds it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from ..everybody.access_map import OF_FILES
from ..everybody.cell import Cell
from ..everybody.closed_form import NOBODY, Sets
from ..words.names import UNRECORDED, rest_below, tree_key
from ..words.rights import RIGHTS
from .some_names import Roll, SomeNames

#: Access at a location, in a folder that is not recorded in it, and one and two deeper: (on what is
#: not its own, on what is).
Depths = list[tuple[Sets, Sets]]
#: The rights gained, lost, widened, narrowed; and of these, what is only so of one's own things, or
#: of others'.
Changes = tuple[
    tuple[str, ...],
    tuple[str, ...],
    tuple[str, ...],
    tuple[str, ...],
    tuple[str, ...],
    tuple[str, ...],
]
#: Some accounts, and what changes for them.
Parts = list[tuple[int, Changes]]
#: What changes at a location, and at each depth below it.
Levels = list[Parts]
NONE: Depths = [(NOBODY, NOBODY)] * 4
UNCHANGED: Levels = [[], [], [], []]


class AccessChange(NamedTuple):
    """Some accounts gain and lose the same rights at some locations, through an endpoint if one is
    named.

    A right that remains with fewer or more files (one's own, others') is in `narrowed` or
    `widened`. Of all these rights, `own` are those that the accounts gain, lose or keep for their
    own things only, `others` for others' only. A location that ends in ``/…`` is a folder in it
    that is not recorded, ``/…/…`` one deeper; they are told only where they change otherwise than
    what they lie in.
    """

    accounts: Sequence[str]
    locations: tuple[str, ...]
    gained: tuple[str, ...]
    lost: tuple[str, ...]
    widened: tuple[str, ...]
    narrowed: tuple[str, ...]
    own: tuple[str, ...] = ()
    others: tuple[str, ...] = ()
    endpoint: str | None = None
    #: So many of the locations, from the first on, are worth a line; of each of the rest it is so
    #: at the location above it.
    tops: int = 0

    @property
    def worth_a_line(self) -> tuple[str, ...]:
        """The locations of which it is not so at the nearest location above them."""
        return self.locations[: self.tops] if self.tops else self.locations


def changes_at(
    locations: Mapping[str, int],
    beginnings: Mapping[str, int],
    differences: Mapping[str, Levels],
    names: Sequence[str],
    endpoint: str | None = None,
) -> list[AccessChange]:
    """What changes at some of all these locations, each with the accounts that it is one of.

    Folded is a location at which it is the same as at the nearest above it that these accounts
    have. At `beginnings` virtual paths of theirs begin: those are always worth a line.
    """
    found: dict[tuple[int, Changes], tuple[list[str], list[str]]] = {}  # worth a line, and folded
    ways: list[
        tuple[str, int, Parts]
    ] = []  # the locations above, whose they are, and what changes there
    for location in sorted({*locations, *beginnings}, key=tree_key):
        while ways and rest_below(location, ways[-1][0]) is None:
            ways.pop()
        levels = differences.get(location, UNCHANGED)
        begin = beginnings.get(location, 0)
        above: Parts = []
        shown = location
        for depth, here in enumerate(levels):
            for accounts, changes in here:
                folded = (
                    depth == 0
                    and not begin & accounts
                    and (accounts, changes) in _nearest(ways, accounts)
                )
                for members, same in above:
                    if same == changes:
                        accounts &= ~members
                if accounts:
                    found.setdefault((accounts, changes), ([], []))[folded].append(shown)
            above = here
            shown = f"{shown if shown != '/' else ''}/{UNRECORDED}"
        ways.append((location, locations.get(location, 0) | begin, levels[0]))
    roll = Roll(names)
    return [
        AccessChange(SomeNames(roll, accounts), (*tops, *folded), *changes, endpoint, len(tops))
        for (accounts, changes), (tops, folded) in found.items()
    ]


def _nearest(ways: list[tuple[str, int, Parts]], accounts: int) -> Parts:
    """What changes at the nearest location above that is one of some of these accounts."""
    return next((parts for _, members, parts in reversed(ways) if members & accounts), [])


def depths_of(cell: Cell) -> Depths:
    """The access at a cell."""
    return [(cell.plain, cell.owning), cell.below(1), cell.below(2), cell.below(3)]


def compared(was: Depths, now: Depths) -> Levels:
    """What changes at each of the depths."""
    return [_alike(a, b) for a, b in zip(was, now, strict=True)]


def joined(a: Depths, b: Depths) -> Depths:
    """The sets of accounts of which some are in the one, and others in the other."""
    return [
        ([x | y for x, y in zip(p, q, strict=True)], [x | y for x, y in zip(o, w, strict=True)])
        for (p, o), (q, w) in zip(a, b, strict=True)
    ]


def _alike(was: tuple[Sets, Sets], now: tuple[Sets, Sets]) -> list[tuple[int, Changes]]:
    """The accounts for which something changes, parted by what changes."""
    if was[0] == now[0] and was[1] == now[1]:
        return []
    kinds: list[tuple[int, int, int]] = []  # accounts, which part of Changes, which right
    touched = 0
    for r in range(len(RIGHTS)):
        if was[0][r] == now[0][r] and was[1][r] == now[1][r]:
            continue
        had, has = was[0][r] | was[1][r], now[0][r] | now[1][r]
        gained, lost = has & ~had, had & ~has
        wider = narrower = only_own = only_others = 0
        if r in OF_FILES:
            both = had & has
            wider = both & (now[0][r] & ~was[0][r] | now[1][r] & ~was[1][r])
            narrower = both & (was[0][r] & ~now[0][r] | was[1][r] & ~now[1][r])
            remains = gained | wider | narrower
            only_own = remains & now[1][r] & ~now[0][r] | lost & was[1][r] & ~was[0][r]
            only_others = remains & now[0][r] & ~now[1][r] | lost & was[0][r] & ~was[1][r]
        for which, accounts in enumerate((gained, lost, wider, narrower, only_own, only_others)):
            if accounts:
                kinds.append((accounts, which, r))
                touched |= accounts
    parts: list[tuple[int, Changes]] = [(touched, ((), (), (), (), (), ()))] if touched else []
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
