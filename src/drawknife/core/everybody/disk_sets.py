"""Whom the disk lets do what in a folder, for all accounts at once: the gate ``disk`` as sets
(docs/rules.md, "The disk").

It is the check of :mod:`..disk.one_object`, turned round: of one thing, whose bits pass as its
owner, by a line, by a group, as others. Things that are alike are looked at once, and so is the way
down to a folder.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..decide.disk_gate import taken_on
from ..disk.one_object import ROOT
from ..disk.read_folders import made_below
from ..model.disk import READ, SEARCH, STICKY, WRITE, FilesOnDisk, ThingOnDisk
from ..prepared.prepared import Prepared
from ..words.names import parent
from ..words.rights import INDEX
from .closed_form import NOBODY, Sets

#: What is asked of a folder itself, and of nothing in it.
_OF_THE_FOLDER = frozenset(INDEX[right] for right in ("enter", "list", "delete-folder"))
#: So many folders that are alike are remembered.
KEPT = 4096


class DiskSets:
    """The disk of one store for some accounts: `accounts` are indices into the model's; bit `i` is
    the one at `accounts[i]`.
    """

    def __init__(self, prepared: Prepared, store: str, accounts: Sequence[int]) -> None:
        self.disk = prepared.disks[store]
        self.everybody = (1 << len(accounts)) - 1
        #: Of whom the disk is not asked, as it is not known whom the server takes on.
        self.not_asked = 0
        self._users: dict[int, int] = {}
        self._groups: dict[int, int] = {}
        self._anybody = 0
        for bit, index in enumerate(accounts):
            taken = taken_on(prepared, prepared.people.prepared(index), store)
            if taken is None:
                self.not_asked |= 1 << bit
            elif taken.user is not None:
                self._anybody |= 1 << bit
                self._users[taken.user.uid] = self._users.get(taken.user.uid, 0) | 1 << bit
                for gid in {taken.user.gid, *taken.user.groups}:
                    self._groups[gid] = self._groups.get(gid, 0) | 1 << bit
        self.root = self._users.get(ROOT, 0)
        self._let: dict[tuple[ThingOnDisk, int], int] = {}
        self._come: dict[str, int] = {}
        self._at: dict[tuple[str, int], Sets] = {}
        self._near: dict[str, tuple[str, int]] = {}
        self._let_by: dict[tuple[int, int, int], tuple[Sets, Sets, object]] = {}

    def at(self, path: str, below: int = 0) -> Sets:
        """For each right, whom the disk lets use it at a folder; or so many levels `below` it,
        where nothing is listed.
        """
        key = (path, below)
        found = self._at.get(key)
        if found is None:
            listed, level = self._nearest(path)
            if self.disk.unknown and (kept := self._of_unknown(path, below)) is not None:
                found = kept
            elif level and not self.disk.files(path):
                # What is not listed is as the folder above it made it, and so are all such folders
                # below that.
                found = self.at(listed, min(level + below, 2))
            else:
                passing = self._of(path, below) if self._anybody else NOBODY
                found = [x | self.not_asked for x in passing]
            self._at[key] = found
        return found

    def setting_attributes(self, path: str) -> int:
        """Who may set the attributes of a folder itself: who owns it and can come to the folder
        that holds it.
        """
        if self.disk.unknown_at(path) is not None:
            return self.not_asked
        come = self._anybody if path == "/" else self._comes(parent(path))
        return come & self.owning(self.disk.folder(path)) | self.not_asked

    def let(self, path: str, below: int, plain: Sets, owning: Sets) -> tuple[Sets, Sets]:
        """What remains of rights at a folder where the disk has its say, too."""
        disk = self.at(path, below)
        key = (id(disk), id(plain), id(owning))
        found = self._let_by.get(key)
        if found is None:
            if len(self._let_by) >= KEPT:
                self._let_by.clear()
            some = [a & d for a, d in zip(plain, disk, strict=True)]
            both = (
                some,
                some if owning is plain else [a & d for a, d in zip(owning, disk, strict=True)],
            )
            # What was asked of is kept with it: an identity counts as long as that lives.
            found = self._let_by[key] = (*both, (disk, plain, owning))
        return found[0], found[1]

    def _of_unknown(self, path: str, below: int) -> Sets | None:
        """What is known to be let at a folder of which not all is known; None where all is."""
        if self.disk.unknown_at(path) is not None or (below and path in self.disk.unknown):
            return [self.not_asked] * len(NOBODY)
        if path not in self.disk.unknown:
            return None
        of_itself = self._of(path, 0) if self._anybody else NOBODY
        return [
            (x if number in _OF_THE_FOLDER else 0) | self.not_asked
            for number, x in enumerate(of_itself)
        ]

    def _nearest(self, path: str) -> tuple[str, int]:
        """The nearest folder that is listed, and how many levels above a folder that is."""
        found = self._near.get(path)
        if found is None:
            if self.disk.lists(path):
                found = path, 0
            else:
                listed, level = self._nearest(path[: path.rindex("/")] or "/")
                found = listed, level + 1
            self._near[path] = found
        return found

    def _of(self, path: str, below: int) -> Sets:
        folder, come = self.disk.folder(path), self._comes(path)
        files = self.disk.files(path)
        before = self._comes(parent(path)) if path != "/" else 0
        holding = self.disk.folder(parent(path)) if path != "/" else None
        for _ in range(below):
            holding, before, files = folder, come, []
            folder = made_below(folder)
            come &= self.lets(folder, SEARCH)
        changing = come & self.lets(folder, WRITE | SEARCH)
        taking = changing
        if folder.mode & STICKY and files:
            taking &= self.owning(folder) | self._any(files, self.owning)
        away = 0 if holding is None else before & self.lets(holding, WRITE | SEARCH)
        if holding is not None and holding.mode & STICKY:
            away &= self.owning(holding) | self.owning(folder)
        reading = come & self._any(files, lambda thing: self.lets(thing, READ)) if files else come
        writing = come & self._any(files, lambda thing: self.lets(thing, WRITE)) if files else come
        return [
            come,
            come & self.lets(folder, READ),
            reading,
            changing,
            writing,
            writing,
            taking,
            taking,
            changing,
            away,
            come & self._any(files, self.owning) if files else come,
        ]

    def _any(self, files: list[FilesOnDisk], good: Callable[[ThingOnDisk], int]) -> int:
        found = 0
        for line in files:
            found |= good(line.thing)
        return found

    def owning(self, thing: ThingOnDisk) -> int:
        """Who owns a thing, or is asked for nothing."""
        return self._users.get(thing.uid, 0) | self.root

    def _comes(self, path: str) -> int:
        """Who may search every folder from the top to `path`, that one too."""
        found = self._come.get(path)
        if found is None:
            if path == "/":
                found = self._anybody
                for above in () if self.disk.reading.confined else self.disk.reading.above:
                    found &= self.lets(above.thing, SEARCH)
            else:
                found = self._comes(path[: path.rindex("/")] or "/")
            found = self._come[path] = (
                found & self.lets(self.disk.folder(path), SEARCH) if found else 0
            )
        return found

    def lets(self, thing: ThingOnDisk, wanted: int) -> int:
        """Who may do all of `wanted` to one thing at once."""
        key = (thing, wanted)
        found = self._let.get(key)
        if found is None:
            found = self._let[key] = self._judged(thing, wanted) | self.root
        return found

    def _judged(self, thing: ThingOnDisk, wanted: int) -> int:
        mode, acl = thing.mode, thing.acl
        judged = self._users.get(thing.uid, 0)
        passing = judged if mode >> 6 & wanted == wanted else 0
        group = self._groups.get(thing.gid, 0)
        if acl is None or not mode & 0o070:  # a list whose mask is empty is not looked at
            group &= ~judged
            passing |= group if mode >> 3 & wanted == wanted else 0
            return passing | (self._anybody & ~(judged | group) if mode & wanted == wanted else 0)
        mask = 7 if acl.mask is None else acl.mask
        for uid, permissions in acl.users:
            some = self._users.get(uid, 0) & ~judged
            judged |= some
            passing |= some if permissions & mask & wanted == wanted else 0
        in_any = 0
        for gid, permissions in ((thing.gid, acl.group), *acl.groups):
            some = self._groups.get(gid, 0) & ~judged
            in_any |= some
            passing |= some if permissions & mask & wanted == wanted else 0
        return passing | (self._anybody & ~(judged | in_any) if acl.other & wanted == wanted else 0)
