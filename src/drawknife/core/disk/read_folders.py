"""A disk reading made ready: what each folder is, listed or not, and what lies on the way to it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import TYPE_CHECKING

from ..model.disk import MOUNT, SEARCH, STICKY, FilesOnDisk, OsUser, ThingOnDisk
from ..words.names import ancestors, parent
from ..words.sizes import several
from .one_object import lets

if TYPE_CHECKING:
    from ..model.items import DiskReading


#: Of so many folders it is remembered whether a user can come to them, and what they are.
MOST_KNOWN = 200_000


def made_below(thing: ThingOnDisk) -> ThingOnDisk:
    """What a folder is that a reading does not list, where `thing` is the nearest above that it
    does.
    """
    mode, default = thing.mode & ~STICKY, thing.default
    if default is None:
        return thing._replace(mode=mode)
    group = default.mask if default.mask is not None else default.group
    bits = default.owner << 6 | group << 3 | default.other
    return thing._replace(mode=mode & 0o7000 | bits, acl=default)


#: The owner or group of what somebody will create, of whom nothing is known.
UNKNOWN = -1
#: What a server asks for where its store does not say: of files, and of folders.
ASKED_FOR = "0666 0777"
#: The umask of a process where nothing else is known.
UMASK = 0o022


def file_created_in(folder: ThingOnDisk, asked: int, umask: int = UMASK) -> ThingOnDisk:
    """A file that somebody creates in a folder with the mode that is asked for (docs/rules.md, "The
    disk").

    A default list takes the place of the umask; its owner, mask (or group) and others are cut to
    the mode.
    """
    gid = folder.gid if folder.mode & 0o2000 else UNKNOWN
    default = folder.default
    if default is None:
        return ThingOnDisk(UNKNOWN, gid, asked & ~umask & 0o777)
    group = default.group if default.mask is None else default.mask
    mode = (default.owner << 6 | group << 3 | default.other) & asked
    if default.mask is None and not default.users and not default.groups:
        return ThingOnDisk(UNKNOWN, gid, mode)
    acl = default._replace(owner=mode >> 6 & 7, other=mode & 7)
    acl = (
        acl._replace(group=mode >> 3 & 7)
        if default.mask is None
        else acl._replace(mask=mode >> 3 & 7)
    )
    return ThingOnDisk(UNKNOWN, gid, mode, acl)


class Disk:
    """The reading of one store."""

    def __init__(self, reading: DiskReading) -> None:
        self.reading = reading
        #: Folders below which nothing was read, and why.
        self.unknown = {x.path: x.why for x in reading.unknown}
        self._listed = {folder.path: folder.thing for folder in reading.folders}
        self._found: dict[str, ThingOnDisk] = {}
        self._users = {user.name: user for user in reading.users}
        self._reached: dict[str, dict[str, bool]] = {}

    def user(self, name: str) -> OsUser | None:
        """The user of the machine of that name; names are told apart by case."""
        return self._users.get(name)

    @cached_property
    def _names(self) -> tuple[dict[int, str], dict[int, str]]:
        """The users and groups of the machine by their numbers."""
        return {u.uid: u.name for u in self.reading.users}, {
            g.gid: g.name for g in self.reading.groups
        }

    def group(self, gid: int) -> str:
        """What a group is called."""
        name = self._names[1].get(gid)
        return f"group {gid if name is None else name}"

    def called(self, uid: int) -> str:
        """What a user is called."""
        return str(self._names[0].get(uid, uid))

    def in_words(self, thing: ThingOnDisk) -> str:
        """Whose a thing is, and its mode."""
        users, groups = self._names
        return (
            f"{users.get(thing.uid, thing.uid)}:{groups.get(thing.gid, thing.gid)} {thing.mode:04o}"
        )

    def unknown_at(self, path: str) -> str | None:
        """The folder for which nothing is known of what lies at a path; None where it is known."""
        for up in ancestors(path) if self.unknown else ():
            if self.unknown.get(up) == MOUNT or (up in self.unknown and up != path):
                return up
        return None

    def unknown_in_words(self) -> list[str]:
        """What was not read, for people: one line."""
        if not self.unknown:
            return []
        named = several([f"{self.reading.store}:{path}" for path in sorted(self.unknown)], 5)
        return [f"not read, and unknown: the contents of {named}"]

    def lists(self, path: str) -> bool:
        """Does the reading list a folder?"""
        return path in self._listed

    def folder(self, path: str) -> ThingOnDisk:
        """What a folder of the store is."""
        found = self._listed.get(path) or self._found.get(path)
        if found is None:
            above = path
            while above not in self._listed:
                above = parent(above)
            if len(self._found) >= MOST_KNOWN:
                self._found.clear()
            found = self._found[path] = made_below(self._listed[above])
        return found

    @cached_property
    def _files(self) -> dict[str, list[FilesOnDisk]]:
        found: dict[str, list[FilesOnDisk]] = {}
        for files in self.reading.files:
            found.setdefault(files.path, []).append(files)
        return found

    def files(self, folder: str) -> list[FilesOnDisk]:
        """The combinations of the files in a folder; none where no files were read there."""
        return self._files.get(folder, [])

    def reached_by(self, user: OsUser) -> dict[str, bool]:
        """Folders of which it is known already whether a user can come to them."""
        return self._reached.setdefault(user.name, {})

    def can_come_to(self, user: OsUser, path: str) -> bool:
        """May the user search every folder from the top to `path`, that one too?"""
        known = self.reached_by(user)
        if len(known) >= MOST_KNOWN:
            known.clear()
        ways = []
        at = path
        while at not in known and at != "/":
            ways.append(at)
            at = parent(at)
        if at not in known:
            above = () if self.reading.confined else self.reading.above
            things = [*(x.thing for x in above), self.folder("/")]
            known["/"] = all(lets(user, thing, SEARCH) for thing in things)
        found = known[at]
        for at in reversed(ways):
            found = known[at] = found and lets(user, self.folder(at), SEARCH)
        return found

    def way(self, path: str) -> Iterator[tuple[str, ThingOnDisk]]:
        """Every folder from the top to `path`, that one too, and what it is called."""
        if not self.reading.confined:
            for above in self.reading.above:
                yield above.path, above.thing
        for at in reversed(list(ancestors(path))):
            yield f"{self.reading.store}:{at}", self.folder(at)
