"""Reading a disk: a folder that is as the one above would make it is left out, and files that are alike are counted.

Links are not followed, other file systems not entered, and both are told. What changes while it is read does no harm.
"""

from __future__ import annotations

import errno
import grp
import os
import pwd
import stat
from collections import Counter
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime

from drawknife.core.disk.read_folders import made_below
from drawknife.core.model.disk import (
    MOUNT,
    UNREADABLE,
    FilesOnDisk,
    FolderOnDisk,
    OsGroup,
    OsUser,
    ThingOnDisk,
    UnknownBelow,
)
from drawknife.core.model.items import DiskReading
from drawknife.core.words.names import check_path
from drawknife.core.words.sizes import number_of

from .attributes import ACCESS, DEFAULT, read_list
from .standalone.carrying_out import location_of

#: Things seen so far, every now and then.
Progress = Callable[[int], None]
TELL_EVERY = 5000
#: So many links are followed on the way to a root, as Linux does it.
MOST_LINKS = 40
#: Where other kinds of access control lists are kept.
OTHER_LISTS = {"system.nfs4_acl", "system.richacl", "system.cifs_acl", "system.ntfs_acl"}


@dataclass(slots=True)
class WalkedDisk:
    """What was read, and what could not be."""

    folders: list[FolderOnDisk] = field(default_factory=list)
    files: list[FilesOnDisk] = field(default_factory=list)
    things: int = 0
    odd: int = 0
    links: int = 0
    others: int = 0
    unknown: list[UnknownBelow] = field(default_factory=list)
    vanished: int = 0

    def notes(self) -> list[str]:
        """What is not judged, in words."""
        counted = (
            (self.links, "link", "not followed"), (self.others, "device, socket or pipe", "left out"),
            (self._not_read(UNREADABLE), "folder", "which could not be read"), (self.vanished, "thing", "gone while it was read"),
            (self._not_read(MOUNT), "folder", "on other file systems, not entered"),
        )  # fmt: skip
        return [f"{number_of(count, what)} {how}" for count, what, how in counted if count]

    def _not_read(self, why: str) -> int:
        return sum(x.why == why for x in self.unknown)


def _thing(path: bytes, found: os.stat_result, folder: bool) -> ThingOnDisk:
    return ThingOnDisk(
        found.st_uid, found.st_gid, stat.S_IMODE(found.st_mode), read_list(path, ACCESS),
        read_list(path, DEFAULT) if folder else None,
    )  # fmt: skip


def read_disk(
    root: str,
    store: str,
    *,
    confined: bool = False,
    recorded: Iterable[str] = (),
    acting: Iterable[str] = (),
    progress: Progress | None = None,
) -> DiskReading:
    """Read the disk that a store is on, from its root. OSError if the root cannot be read.

    `recorded` are the folders that the model has: which of them are not there is a part of the reading. `acting` are the
    users that accounts act as: they are looked up by name, and whoever the disk names by number, as a directory of users
    need not list them.
    """
    called = os.fsencode(os.path.abspath(root))
    top = os.path.realpath(called)
    seen = _walk(top, progress)
    uids, gids = _numbers([*(f.thing for f in seen.folders), *(f.thing for f in seen.files)])
    users = _users(uids, acting)
    return DiskReading(
        store, datetime.now(UTC).replace(microsecond=0), confined, tuple(_above(called)), tuple(seen.folders),
        tuple(seen.files), tuple(users), tuple(_groups(gids.union(*((u.gid, *u.groups) for u in users)))),
        seen.odd, (*seen.notes(), *_seen_besides(top)), tuple(sorted(path for path in recorded if _is_absent(top, path))),
        tuple(sorted(seen.unknown)),
    )  # fmt: skip


def _is_absent(top: bytes, path: str) -> bool:
    """Is there certainly no folder at a path below the root?"""
    try:
        return not stat.S_ISDIR(os.lstat(top + os.fsencode(path.rstrip("/"))).st_mode)
    except (FileNotFoundError, NotADirectoryError):
        return True
    except OSError:
        return False


def _above(root: bytes) -> list[FolderOnDisk]:
    """The folders that the kernel passes on the way to the root, from the top of the file system: links are followed."""
    found: dict[str, FolderOnDisk] = {}
    at, todo = b"/", [part for part in root.split(b"/") if part]
    links = 0
    while todo:
        path = check_path(os.fsdecode(at))
        found.setdefault(path, FolderOnDisk(path, _thing(at, os.stat(at), True)))
        part = todo.pop(0)
        inner = os.path.normpath(os.path.join(at, part))
        if os.path.islink(inner):
            links += 1
            if links > MOST_LINKS:
                raise OSError(errno.ELOOP, os.strerror(errno.ELOOP), os.fsdecode(root))
            target = os.readlink(inner)
            at = b"/" if target.startswith(b"/") else at
            todo = [*(part for part in target.split(b"/") if part), *todo]
        else:
            at = inner
    return list(found.values())


def _seen_besides(top: bytes) -> list[str]:
    """What is seen at the root and not judged, in words."""
    found = []
    if os.statvfs(top).f_flag & os.ST_RDONLY:
        found.append("the file system is mounted read-only")
    names = {os.fsdecode(name) for name in os.listxattr(top)}
    labels = sorted(name for name in names if name.startswith("security.") and name != "security.capability")
    if labels:
        found.append(f"security labels ({', '.join(labels)})")
    others = sorted(names & OTHER_LISTS)
    if others:
        found.append(f"lists of another system ({', '.join(others)})")
    return found


def _numbers(things: Iterable[ThingOnDisk]) -> tuple[set[int], set[int]]:
    """The numbers of the users and groups that things name."""
    uids, gids = set(), set()
    for thing in set(things):
        uids.add(thing.uid)
        gids.add(thing.gid)
        for acl in filter(None, (thing.acl, thing.default)):
            uids.update(uid for uid, _ in acl.users)
            gids.update(gid for gid, _ in acl.groups)
    return uids, gids


def _groups(gids: Iterable[int]) -> list[OsGroup]:
    """The groups of this machine, those too that are only found by their numbers."""
    found = {OsGroup(g.gr_name, g.gr_gid) for g in grp.getgrall()}
    for gid in set(gids) - {g.gid for g in found}:
        with suppress(KeyError):
            found.add(OsGroup(grp.getgrgid(gid).gr_name, gid))
    return sorted(found)


def _users(uids: Iterable[int], names: Iterable[str]) -> list[OsUser]:
    """The users of this machine, those too that are only found by their numbers or names, with all their groups."""
    every = {user.pw_name: user for user in pwd.getpwall()}
    for name in set(names) - every.keys():
        with suppress(KeyError):
            every[name] = pwd.getpwnam(name)
    for uid in set(uids) - {user.pw_uid for user in every.values()}:
        with suppress(KeyError):
            user = pwd.getpwuid(uid)
            every[user.pw_name] = user
    found = []
    for name, user in every.items():
        groups = os.getgrouplist(name, user.pw_gid)
        further = tuple(sorted(set(groups) - {user.pw_gid}))
        found.append(OsUser(name, user.pw_uid, user.pw_gid, further))
    return sorted(found)


def _walk(top: bytes, progress: Progress | None) -> WalkedDisk:
    seen = WalkedDisk()
    status = os.stat(top)
    with os.scandir(top):
        pass  # that the root cannot be read is an error, and no finding
    root = _thing(top, status, True)
    seen.folders.append(FolderOnDisk("/", root))
    todo: list[ToRead] = [(top, "/", root)]
    while todo:
        path, location, thing = todo.pop()
        combinations: Counter[ThingOnDisk] = Counter()
        try:
            with os.scandir(path) as entries:
                for entry in entries:
                    seen.things += 1
                    if progress is not None and seen.things % TELL_EVERY == 0:
                        progress(seen.things)
                    below = _look(entry, location, made_below(thing), status.st_dev, combinations, seen)
                    if below is not None:
                        todo.append(below)
        except FileNotFoundError:
            seen.vanished += 1
        except OSError:
            seen.unknown.append(UnknownBelow(location, UNREADABLE))
        seen.files += [FilesOnDisk(location, thing, number) for thing, number in combinations.most_common()]
    seen.folders.sort(key=lambda x: x.path)
    seen.files.sort(key=lambda x: x.path)
    return seen


#: A folder to be read: where it is on this machine, and in its store, and what it is.
ToRead = tuple[bytes, str, ThingOnDisk]


def _look(
    entry: os.DirEntry[bytes],
    above: str,
    expected: ThingOnDisk,
    device: int,
    combinations: Counter[ThingOnDisk],
    seen: WalkedDisk,
) -> ToRead | None:
    """Look at one thing; a folder that is to be read is given back."""
    try:
        found = entry.stat(follow_symlinks=False)
        mode = found.st_mode
        if stat.S_ISREG(mode):
            combinations[_thing(entry.path, found, False)] += 1
        elif not stat.S_ISDIR(mode):
            seen.links += stat.S_ISLNK(mode)
            seen.others += not stat.S_ISLNK(mode)
        elif (location := location_of(above, entry.name)) is None:
            seen.odd += 1
        elif found.st_dev != device:
            seen.unknown.append(UnknownBelow(location, MOUNT))
        else:
            thing = _thing(entry.path, found, True)
            if thing != expected:
                seen.folders.append(FolderOnDisk(location, thing))
            return entry.path, location, thing
    except FileNotFoundError:
        seen.vanished += 1
    return None
