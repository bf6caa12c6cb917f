"""One place of the map: who can do what at a location, as it lies in one virtual path."""

from __future__ import annotations

from typing import Any, Protocol

from ..words.names import Place, join, rest_below
from .closed_form import NOBODY, Sets
from .disk_sets import DiskSets
from .division import Segment

STATES = ("no", "others", "own", "yes")


class Below(Protocol):
    """A map, which knows what a folder hands down."""

    def below(self, state: Any, row: int, distance: int) -> tuple[Sets, Sets]:
        """The sets so many levels below one row of a folder, where nothing is recorded
        in between.
        """


class Cell:
    """Who can do what at one location, as it lies in one segment.

    `members` have this location; `plain` holds for each right who has it on what is not its own,
    `owning` on what is its own. A synthetic location has no segment and no place.
    """

    __slots__ = ("_disk", "_location", "_source", "members", "owning", "path", "plain", "segment")

    def __init__(
        self,
        segment: Segment | None,
        path: str,
        members: int,
        plain: Sets,
        *,
        owning: Sets,
        location: str | None = None,
        source: tuple[Below, object, int] | None = None,
        disk: DiskSets | None = None,
    ) -> None:
        self.segment, self.path, self.members = segment, path, members
        self.plain, self.owning = (
            (plain, owning) if disk is None else disk.let(path, 0, plain, owning)
        )
        self._location, self._source, self._disk = location, source, disk

    def below(self, distance: int) -> tuple[Sets, Sets]:
        """The sets at a folder that is not recorded, one level or two below: on what is not its
        own, on what is.
        """
        if self._source is None:
            return NOBODY, NOBODY
        map_, state, row = self._source
        plain, owning = map_.below(state, row, distance)
        return (
            (plain, owning)
            if self._disk is None
            else self._disk.let(self.path, distance, plain, owning)
        )

    @property
    def shared(self) -> tuple[object, int] | None:
        """What all cells have in common that have the very same sets, here and below; None where
        that is not known.
        """
        return None if self._source is None or self._disk is not None else self._source[1:]

    @property
    def location(self) -> str:
        """The virtual location."""
        if self._location is None:
            assert self.segment is not None
            self._location = join(
                self.segment.path, rest_below(self.path, self.segment.place.path) or ""
            )
        return self._location

    @property
    def place(self) -> Place | None:
        """The store folder behind it."""
        return None if self.segment is None else Place(self.segment.place.store, self.path)

    def state(self, right: int, account: int) -> str:
        """``yes``, ``own``, ``others`` or ``no``: the right at this index for the account of this
        bit.
        """
        return STATES[self.plain[right] >> account & 1 | (self.owning[right] >> account & 1) << 1]
