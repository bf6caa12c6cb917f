"""Where two accounts differ, or one account in two models."""

from __future__ import annotations

from typing import NamedTuple

from ..model.items import Endpoint
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import tree_key
from ..words.rights import RIGHTS
from .effective import effective_access


class Difference(NamedTuple):
    """One right at one location that is not the same on both sides. None: it has no such location."""

    location: str
    right: str
    one: str | None
    other: str | None


def differences(
    one: tuple[Prepared, PreparedAccount],
    other: tuple[Prepared, PreparedAccount],
    endpoint: tuple[Endpoint | None, Endpoint | None] = (None, None),
    under: str = "/",
) -> list[Difference]:
    """Every right at every location at or below `under` in which the two differ, in tree order.

    A location that only one side has differs in the rights that are not ``no`` there.
    """
    left = {row.location: row.states for row in effective_access(*one, endpoint[0], under)[0]}
    right = {row.location: row.states for row in effective_access(*other, endpoint[1], under)[0]}
    nothing = ("no",) * len(RIGHTS)
    found = []
    for location in sorted({*left, *right}, key=tree_key):
        a, b = left.get(location), right.get(location)
        for name, here, there in zip(RIGHTS, a or nothing, b or nothing, strict=True):
            if here != there:
                found.append(Difference(location, name, here if a else None, there if b else None))
    return found
