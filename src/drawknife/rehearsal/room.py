"""What the rehearsal has added to the usage of the model, and how much more fits, while
bytes come.
"""

from __future__ import annotations

import threading
from dataclasses import replace
from datetime import datetime

from drawknife.core.limits.quotas import headroom
from drawknife.core.model.items import Usage
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.words.names import Place, parent

#: A limit, by its kind and name; and what it counts.
Key = tuple[str, str, str]


class RoomLeft:
    """Usage beside the model's. Charged from several threads at once."""

    def __init__(self, prepared: Prepared) -> None:
        self._base = prepared
        self._with_added = prepared
        self._added: dict[tuple[Place, str | None], list[int]] = {}
        self._stale = False
        #: By limit, how much was added since the beginning.
        self._grown: dict[Key, int] = {}
        self._lock = threading.Lock()

    def renew(self, prepared: Prepared) -> None:
        """Another revision of the model is in force: what was added stays."""
        with self._lock:
            self._base = self._with_added = prepared
            self._stale = bool(self._added)

    def prepared(self) -> Prepared:
        """The model with what was added counted as used."""
        with self._lock:
            if self._stale and self._base.has_limits:
                model = self._base.full.model
                used = {(u.folder, u.owner): [u.bytes, u.files] for u in model.usage}
                for key, (size, files) in self._added.items():
                    both = used.setdefault(key, [0, 0])
                    both[0], both[1] = max(0, both[0] + size), max(0, both[1] + files)
                usage = tuple(
                    Usage(folder, owner, b, f) for (folder, owner), (b, f) in used.items()
                )
                self._with_added = prepare(replace(model, usage=usage), self._base.full)
            self._stale = False
            return self._with_added

    def count(self, place: Place, owner: str | None, size: int, files: int) -> None:
        """Something was added (or taken away) at a place."""
        with self._lock:
            self._count(place, owner, size, files)

    def _count(self, place: Place, owner: str | None, size: int, files: int) -> None:
        both = self._added.setdefault((Place(place.store, parent(place.path)), owner), [0, 0])
        both[0] += size
        both[1] += files
        self._stale = True

    def upload(self, place: Place, owner: str, at: datetime, most: int | None) -> Upload:
        """An upload that begins: by `owner`, of no more than `most` bytes (None: as many as one
        likes).
        """
        prepared = self.prepared().on(at.date())
        account, folder = prepared.account(owner), Place(place.store, parent(place.path))
        limits = headroom(prepared, account, folder, at).limits if account is not None else ()
        with self._lock:
            left = {
                ("bytes", x.kind, x.name): room + self._grown.get(("bytes", x.kind, x.name), 0)
                for x in limits
                if (room := x.room_bytes(at)) is not None
            }
        return Upload(self, place, owner, left, most)

    def grow(self, upload: Upload, size: int) -> bool:
        """Count more bytes of an upload; False: a limit does not let them in, and nothing is
        counted.
        """
        with self._lock:
            if any(
                self._grown.get(key, 0) + size > ceiling for key, ceiling in upload.ceilings.items()
            ):
                return False
            for key in upload.ceilings:
                self._grown[key] = self._grown.get(key, 0) + size
            self._count(upload.place, upload.owner, size, 0)
            return True

    def shrink(self, upload: Upload, size: int) -> None:
        """Bytes of an upload are not kept."""
        with self._lock:
            for key in upload.ceilings:
                self._grown[key] = self._grown.get(key, 0) - size
            self._count(upload.place, upload.owner, -size, 0)


class Upload:
    """Bytes that come, each piece of which is let in by all limits together or not at all."""

    def __init__(
        self, room: RoomLeft, place: Place, owner: str, ceilings: dict[Key, int], most: int | None
    ) -> None:
        self._room, self.place, self.owner, self.ceilings, self._most = (
            room,
            place,
            owner,
            ceilings,
            most,
        )
        #: So long is it, and so many of its bytes were counted.
        self.length = 0
        self.counted = 0

    def lets(self, end: int, free: int = 0) -> bool:
        """May it be `end` bytes long, of which `free` were counted before it began?"""
        if self._most is not None and end > self._most:
            return False
        more = max(0, end - free) - self.counted
        if more > 0 and not self._room.grow(self, more):
            return False
        self.counted += max(0, more)
        self.length = max(self.length, end)
        return True

    def give_back(self) -> None:
        """Nothing of it is kept."""
        if self.counted:
            self._room.shrink(self, self.counted)
            self.counted = 0
