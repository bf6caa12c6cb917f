"""A file that is written: as it comes, bounded by every limit, and whole or not at all where it replaces another."""

from __future__ import annotations

import os
from datetime import UTC, datetime
from typing import Any, NamedTuple, Protocol

from drawknife.core.model.items import UNLIMITED
from drawknife.core.words.names import Place

from .log import Log
from .refusals import LimitReached, NotThere
from .room import RoomLeft, Upload
from .tree import Tree


class Scene(NamedTuple):
    """What everybody in a rehearsal acts on."""

    room: RoomLeft
    tree: Tree
    log: Log


class Acting(Protocol):
    """Whoever writes."""

    scene: Scene
    account: str

    def setting(self, name: str) -> Any: ...
    def need(self, action: str, path: str, **more: Any) -> None: ...
    def at_a_limit(self, action: str, path: str, owner: str | None, length: int, more: int) -> LimitReached: ...


class Writing:
    """A file that is written. :meth:`finish` when all has come, :meth:`break_off` where it ended before.

    Of a new file and of what is appended what came is kept; what is overwritten is only replaced when all has come.
    """

    def __init__(
        self, session: Acting, place: Place, location: str, action: str, owner: str | None, start: int, length: int
    ) -> None:
        self.session, self.location, self.action, self.start = session, location, action, start
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
            self.place, owner or session.account, datetime.now(UTC), None if most == UNLIMITED else most
        )
        #: Bytes of the file that were counted before it began.
        self._free = length

    def put(self, data: bytes, at: int | None = None) -> None:
        """Write a piece, at the end or at an offset. :class:`LimitReached` where a limit does not let it in."""
        start = self.end if at is None else at
        end = start + len(data)
        if not self.upload.lets(end, self._free):
            raise self.session.at_a_limit(self.action, self.location, self.owner, self.end, end - self.end)
        os.pwrite(self.fd, data, start)
        self.end = max(self.end, end)

    def finish(self) -> None:
        os.close(self.fd)
        if self._made is not None:
            self.session.scene.tree.replace(self._made, self.place)
            if self.end < self._replaced:
                self.session.scene.room.count(self.place, self.owner, self.end - self._replaced, 0)

    def break_off(self) -> None:
        os.close(self.fd)
        if self._made is not None:
            self.session.scene.tree.throw_away(self._made, self.place)
            self.upload.give_back()


class Modifying(Writing):
    """A file that is written at offsets of the client's choice; each piece is asked for as what it is."""

    _asked: frozenset[str] = frozenset()

    def put(self, data: bytes, at: int | None = None) -> None:
        start = self.end if at is None else at
        wanted = {"overwrite"} if start < self._free else set()
        wanted |= {"append"} if start + len(data) > self._free else set()
        for action in sorted(wanted - self._asked):
            self.session.need(action, self.location, owner=self.owner, replaced_size=self._free)
        self._asked |= wanted
        super().put(data, start)

    def break_off(self) -> None:
        """What was only appended is kept."""
        if "overwrite" in self._asked:
            super().break_off()
        else:
            self.finish()
