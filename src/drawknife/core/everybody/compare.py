"""Where two accounts differ, or one account in two models."""

from __future__ import annotations

from typing import NamedTuple

from ..model.items import Endpoint
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import rest_below, tree_key
from ..words.rights import RIGHTS
from .effective import effective_access


class Difference(NamedTuple):
    """One right at one location that is not the same on both sides. None: it has no such location."""

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
    """Every right at every location at or below `under` in which the two differ, in tree order; and how many these are.

    A location that only one side has differs in the rights that are not ``no`` there. `folded`: a location that differs as
    the nearest location above it does is only counted there.
    """
    left = {row.location: row.states for row in effective_access(*one, endpoint[0], under, disk)[0]}
    right = {row.location: row.states for row in effective_access(*other, endpoint[1], under, disk)[0]}
    lines: list[list[Difference]] = []
    above: list[tuple[str, list[tuple[str, str | None, str | None]], int]] = []  # location, how it differs, its line
    total = 0
    for location in sorted({*left, *right}, key=tree_key):
        here = _at(left.get(location), right.get(location))
        total += len(here)
        while above and rest_below(location, above[-1][0]) is None:
            above.pop()
        if folded and here and above and above[-1][1] == here:
            line = above[-1][2]
            lines[line] = [d._replace(below=d.below + 1) for d in lines[line]]
        else:
            line = len(lines)
            lines += [[Difference(location, *x) for x in here]]
        above.append((location, here, line))
    return [d for line in lines for d in line], total


def _at(a: tuple[str, ...] | None, b: tuple[str, ...] | None) -> list[tuple[str, str | None, str | None]]:
    nothing = ("no",) * len(RIGHTS)
    return [
        (name, here if a else None, there if b else None)
        for name, here, there in zip(RIGHTS, a or nothing, b or nothing, strict=True)
        if here != there
    ]
