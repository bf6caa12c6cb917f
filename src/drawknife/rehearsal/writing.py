"""A file that is written: as it comes, bounded by every limit, and whole or not at all where it
replaces another.
"""

from __future__ import annotations

import os
from dataclasses import replace
from datetime import UTC, date, datetime
from typing import Any, Protocol

from drawknife.core.model.items import UNLIMITED
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.names import Place

from .log import ActionLine, Log
from .refusals import LimitReached, NotThere
from .room import RoomLeft, Upload
from .tree import FileOrFolder, Tree


class Scene:
    """What everybody in a rehearsal acts on."""

    def __init__(self, room: RoomLeft, tree: Tree, log: Log) -> None:
        self.room, self.tree, self.log = room, tree, log
        #: The model of a day, the owners that its folders have, and both together.
        self._known: tuple[Prepared, int, Prepared] | None = None

    def model(self, day: date) -> Prepared:
        """The model of a day, with what was added as used, and whoever made a folder as
        its owner.
        """
        base = self.room.prepared().on(day)
        if not self.tree.folder_owners:
            return base
        known = self._known
        if known is None or known[0] is not base or known[1] != self.tree.folder_changes:
            owned = base.with_owned_folders(self.tree.folder_owners)
            known = self._known = (base, self.tree.folder_changes, owned)
        return known[2]


class Acting(Protocol):
    """Whoever writes."""

    scene: Scene
    account: str

    def setting(self, name: str) -> Any: ...
    def take_line(self) -> ActionLine | None: ...
    def need(self, action: str, path: str, **more: Any) -> None: ...
    def at_a_limit(
        self, action: str, path: str, owner: str | None, length: int, more: int
    ) -> LimitReached: ...


class Writing:
    """A file that is written.

    :meth:`finish` when all has come, :meth:`break_off` where it ended before.

    Of a new file and of what is appended what came is kept; what is overwritten is only replaced
    when all has come.
    """

    def __init__(
        self,
        session: Acting,
        place: Place,
        location: str,
        action: str,
        *,
        owner: str | None,
        start: int,
        length: int,
    ) -> None:
        self.session, self.location, self.action, self.start = session, location, action, start
        #: What is written down when it is known whether it came whole.
        self._lines = [line for line in [session.take_line()] if line is not None]
        self.place = place
        tree = session.scene.tree
        self._made: str | None = None
        self._replaced = length if action == "overwrite" else 0
        self.end = start
        if action == "overwrite":
            self.fd, self._made = tree.open_copy(self.place, min(start, length))
        elif action == "append":
            self.fd = tree.open(self.place, os.O_RDWR)
        else:
            try:
                self.fd = tree.open(self.place, os.O_RDWR | os.O_CREAT | os.O_EXCL)
            except OSError:
                raise NotThere(location) from None
            tree.owners[self.place] = owner or session.account
            session.scene.room.count(self.place, owner, 0, 1)
        self.owner = owner
        most = session.setting("upload_limit")
        self.upload: Upload = session.scene.room.upload(
            self.place,
            owner or session.account,
            datetime.now(UTC),
            None if most == UNLIMITED else most,
        )
        #: Bytes of the file that were counted before it began.
        self._free = length

    def put(self, data: bytes, at: int | None = None) -> None:
        """Write a piece, at the end or at an offset.

        :class:`LimitReached` where a limit does not let it in.
        """
        start = self.end if at is None else at
        end = start + len(data)
        if not self.upload.lets(end, self._free):
            self._lines = []
            raise self.session.at_a_limit(
                self.action, self.location, self.owner, self.end, end - self.end
            )
        os.pwrite(self.fd, data, start)
        self.end = max(self.end, end)

    def finish(self) -> None:
        """Keep what was written: all has come."""
        self._keep()
        self._write_down()

    def break_off(self) -> None:
        """End it before all has come: what was there before stays, or what came of a new file is
        kept.
        """
        came = self.end - self.start
        self._drop()
        what = "what was there before stays" if self._made is not None else "what came is kept"
        self._write_down(f"cut off after {came:,} bytes; {what}", done=False)

    def _write_down(self, note: str | None = None, done: bool = True) -> None:
        for line in self._lines:
            self.session.scene.log.write(replace(line, note=note, done=done))
        self._lines = []

    def _keep(self) -> None:
        os.close(self.fd)
        if self._made is not None:
            self.session.scene.tree.replace(self._made, self.place)
            if self.end < self._replaced:
                self.session.scene.room.count(self.place, self.owner, self.end - self._replaced, 0)

    def _drop(self) -> None:
        os.close(self.fd)
        if self._made is not None:
            self.session.scene.tree.throw_away(self._made, self.place)
            self.upload.give_back()


class Modifying(Writing):
    """A file that is written at offsets of the client's choice; each piece is asked for as what it
    is.
    """

    _asked: frozenset[str] = frozenset()

    def put(self, data: bytes, at: int | None = None) -> None:
        start = self.end if at is None else at
        wanted = {"overwrite"} if start < self._free else set()
        wanted |= {"append"} if start + len(data) > self._free else set()
        for action in sorted(wanted - self._asked):
            self.session.need(action, self.location, owner=self.owner, replaced_size=self._free)
            self._lines += [line for line in [self.session.take_line()] if line is not None]
        self._asked |= wanted
        super().put(data, start)

    def _drop(self) -> None:
        """What was only appended is kept."""
        if "overwrite" in self._asked:
            super()._drop()
        else:
            self._keep()


def move(scene: Scene, one: Place, other: Place, there: FileOrFolder | None) -> None:
    """Rename a file or a folder, whose room goes along; what is `there` is replaced."""
    tree, room = scene.tree, scene.room
    if there is not None:
        room.count(other, tree.owners.get(other), -there.size, -1)
    moved = [(place, size, tree.owners.get(place)) for place, size in tree.files_below(one)]
    tree.rename(one, other)
    for place, size, owner in moved:
        room.count(place, owner, -size, -1)
        room.count(Place(other.store, other.path + place.path[len(one.path) :]), owner, size, 1)
