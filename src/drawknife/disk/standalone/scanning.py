"""A disk read: folders that differ from what the one above would create, and files counted by
owner, mode and list.

Links are not followed and other file systems not entered. Both are noted. A change during the
reading does no harm.
"""

from __future__ import annotations

import ctypes
import errno
import grp
import json
import os
import pwd
import stat
import struct
import sys
from collections import Counter
from collections.abc import Callable, Iterable
from contextlib import suppress
from datetime import datetime, timezone
from typing import Any, NamedTuple

from .file_names import location_of, shown
from .lists_and_modes import ACCESS, DEFAULT, Acl, Thing, acl_from_bytes, made_below, thing_to_text

#: Called with the number of things seen so far, once in so many.
Progress = Callable[[int], None]
PROGRESS_EVERY = 5000
#: Linux follows at most so many links on the way to a file.
MOST_LINKS = 40
#: Why nothing is known below a folder.
UNREADABLE, MOUNT = "unreadable", "mount"
NFS4 = "system.nfs4_acl"
#: Where Linux keeps lists of other systems.
OTHER_LISTS = {NFS4, "system.richacl", "system.cifs_acl", "system.ntfs_acl"}
#: Of things with something that is not judged, so many are named.
MOST_NAMED = 5


class Nfs4Thing(NamedTuple):
    """A folder or file with an NFSv4 list, as nfs4_getfacl writes it: an entry a line."""

    path: str
    is_folder: bool
    owner: str
    group: str
    entries: str


class Scan:
    """What was read of a disk, and what was not."""

    def __init__(self) -> None:
        self.taken = datetime.now(timezone.utc).replace(microsecond=0)  # noqa: UP017
        self.above: list[tuple[str, Thing]] = []
        self.folders: list[tuple[str, Thing]] = []
        self.files: list[tuple[str, Thing, int]] = []
        self.unknown: list[tuple[str, str]] = []
        self.absent: list[str] = []
        #: Folders that are not in `folders` and have nothing in them.
        self.empty: list[str] = []
        self.users: list[tuple[str, int, int, tuple[int, ...]]] = []
        self.groups: list[tuple[str, int]] = []
        self.nfs4: list[Nfs4Thing] = []
        self.things = self.odd = self.links = self.others = self.vanished = 0
        #: Things with what is not judged, by what that is: how many, and the first of them.
        self.not_judged: dict[str, tuple[int, list[str]]] = {}

    def add_not_judged(self, what: str, path: str) -> None:
        """Count a thing that has something that is not judged."""
        number, named = self.not_judged.get(what, (0, []))
        self.not_judged[what] = number + 1, [*named, path][:MOST_NAMED]

    def notes(self) -> list[str]:
        """What is not judged, in words."""
        unreadable = sum(why == UNREADABLE for _, why in self.unknown)
        counted = [
            (self.links, "links not followed"),
            (self.others, "devices, sockets or pipes left out"),
            (unreadable, "folders that could not be read"),
            (self.vanished, "things removed while the disk was read"),
            (len(self.unknown) - unreadable, "mount points not entered"),
        ]
        found = [f"{what}: {number}" for number, what in counted if number]
        for what, (number, named) in sorted(self.not_judged.items()):
            more = f" and {number - len(named)} more" if number > len(named) else ""
            found.append(f"{what}: {', '.join(named)}{more}")
        return found

    def data(self, store: str, confined: bool) -> dict[str, Any]:
        """The reading as plain data, with the fields of a disk reading."""
        return {
            "store": store,
            "taken": self.taken.isoformat().replace("+00:00", "Z"),
            "confined": confined,
            "above": [f"{thing_to_text(thing)} {path}" for path, thing in self.above],
            "folders": [f"{thing_to_text(thing)} {path}" for path, thing in self.folders],
            "files": [
                f"{number} of {thing_to_text(thing)} in {path}"
                for path, thing, number in self.files
            ],
            "users": [
                f"{name} {uid} {','.join(map(str, (gid, *more)))}"
                for name, uid, gid, more in self.users
            ],
            "groups": [f"{name} {gid}" for name, gid in self.groups],
            "odd": self.odd,
            "notes": self.notes(),
            "absent": self.absent,
            "unknown": [f"{why} {path}" for path, why in self.unknown],
            "empty": self.empty,
            "complete": True,
        }


def scan(
    root: str, recorded: Iterable[str], acting: Iterable[str], progress: Progress | None = None
) -> Scan:
    """Read the disk below a root. OSError if the root cannot be read.

    `recorded` are folders that the model has; those that do not exist are a part of the reading.
    `acting` are users that accounts act as; they are looked up by name, and whoever the disk names
    by number, as a directory of users need not list them.
    """
    named = os.fsencode(os.path.abspath(root))
    top = os.path.realpath(named)
    found = Scan()
    _walk(top, found, progress)
    found.above = _above(named)
    uids, gids = _numbers(
        [*(thing for _, thing in found.folders), *(thing for _, thing, _ in found.files)]
    )
    found.users = _users(uids, acting)
    found.groups = _groups(gids.union(*((gid, *more) for _, _, gid, more in found.users)))
    found.absent = sorted(path for path in recorded if _is_absent(top, path))
    return found


# --- the tree -----------------------------------------------------------------------------------


class _Folder(NamedTuple):
    """A folder to be read: where it is on this machine, and in its store, and what it is."""

    path: bytes
    location: str
    thing: Thing
    is_listed: bool


def _walk(top: bytes, found: Scan, progress: Progress | None) -> None:
    status = os.stat(top)
    with os.scandir(top):
        pass  # a root that cannot be read is an error, not a part of the reading
    root = _folder(top, "/", status, found)
    found.folders.append(("/", root))
    todo = [_Folder(top, "/", root, True)]
    while todo:
        folder = todo.pop()
        files: Counter[Thing] = Counter()
        before = len(todo)
        try:
            with os.scandir(folder.path) as entries:
                for entry in entries:
                    found.things += 1
                    if progress is not None and found.things % PROGRESS_EVERY == 0:
                        progress(found.things)
                    below = _look(entry, folder, status.st_dev, files, found)
                    if below is not None:
                        todo.append(below)
        except FileNotFoundError:
            found.vanished += 1
        except OSError:
            found.unknown.append((folder.location, UNREADABLE))
        else:
            if not folder.is_listed and not files and len(todo) == before:
                found.empty.append(folder.location)
        found.files += [(folder.location, thing, number) for thing, number in files.most_common()]
    found.folders.sort(key=lambda each: each[0])
    found.files.sort(key=lambda each: each[0])
    found.unknown.sort()
    found.empty.sort()


def _look(
    entry: os.DirEntry[bytes], above: _Folder, device: int, files: Counter[Thing], found: Scan
) -> _Folder | None:
    """Look at one thing; returns a folder that is to be read."""
    try:
        status = entry.stat(follow_symlinks=False)
        if stat.S_ISREG(status.st_mode):
            files[_file(entry, above.location, status, found)] += 1
        elif not stat.S_ISDIR(status.st_mode):
            found.links += stat.S_ISLNK(status.st_mode)
            found.others += not stat.S_ISLNK(status.st_mode)
        elif (location := location_of(above.location, entry.name)) is None:
            found.odd += 1
        elif status.st_dev != device:
            found.unknown.append((location, MOUNT))
        else:
            thing = _folder(entry.path, location, status, found)
            is_listed = thing != made_below(above.thing)
            if is_listed:
                found.folders.append((location, thing))
            return _Folder(entry.path, location, thing, is_listed)
    except FileNotFoundError:
        found.vanished += 1
    return None


def _folder(path: bytes, location: str, status: os.stat_result, found: Scan) -> Thing:
    names = _attributes(path)
    _note_what_is_not_judged(path, location, status, names, found)
    acl, default = (_list_of(path, name) if name in names else None for name in (ACCESS, DEFAULT))
    return Thing(status.st_uid, status.st_gid, stat.S_IMODE(status.st_mode), acl, default)


def _file(entry: os.DirEntry[bytes], above: str, status: os.stat_result, found: Scan) -> Thing:
    names = _attributes(entry.path)
    _note_what_is_not_judged(
        entry.path, f"{above.rstrip('/')}/{shown(entry.name)}", status, names, found
    )
    acl = _list_of(entry.path, ACCESS) if ACCESS in names else None
    return Thing(status.st_uid, status.st_gid, stat.S_IMODE(status.st_mode), acl)


def _list_of(path: bytes, name: str) -> Acl | None:
    try:
        return acl_from_bytes(os.getxattr(path, name, follow_symlinks=False))
    except OSError as error:
        if error.errno in (errno.ENODATA, errno.ENOTSUP):
            return None
        raise


# --- what is not judged -------------------------------------------------------------------------

#: Of statx(2): from this folder, without following a link, and where the attributes are in what it
#: fills.
_AT_FDCWD, _AT_SYMLINK_NOFOLLOW, _STATX_SIZE, _ATTRIBUTES_AT = -100, 0x100, 256, 8
_FLAGS = (
    (0x10, "attribute i (cannot be changed)"),
    (0x20, "attribute a (can only be appended to)"),
)
_LIBRARY = ctypes.CDLL(None, use_errno=True)


def _attributes(path: bytes) -> list[str]:
    """The names of the extended attributes of a thing."""
    try:
        return os.listxattr(path, follow_symlinks=False)
    except OSError as error:
        if error.errno in (errno.ENOTSUP, errno.EACCES):
            return []
        raise


def _note_what_is_not_judged(
    path: bytes, location: str, status: os.stat_result, names: list[str], found: Scan
) -> None:
    is_folder = stat.S_ISDIR(status.st_mode)
    for name in names:
        if name.startswith("security.") and name != "security.capability":
            found.add_not_judged(f"security label {name}", location)
        elif name in OTHER_LISTS:
            found.add_not_judged(f"list of another system ({name})", location)
    if NFS4 in names:
        entries = nfs4_entries(os.getxattr(path, NFS4, follow_symlinks=False), is_folder)
        owner, group = _user_name(status.st_uid), _group_name(status.st_gid)
        found.nfs4.append(Nfs4Thing(location, is_folder, owner, group, entries))
    flags = _flags(path)
    for flag, what in _FLAGS:
        if flags & flag:
            found.add_not_judged(what, location)
    if is_folder and os.statvfs(path).f_flag & os.ST_RDONLY:
        found.add_not_judged("mounted read-only", location)


def _flags(path: bytes) -> int:
    """The attributes that a file system keeps, as ``lsattr`` shows them; none where it has none.

    Nothing is opened.
    """
    found = ctypes.create_string_buffer(_STATX_SIZE)
    if _LIBRARY.statx(_AT_FDCWD, path, _AT_SYMLINK_NOFOLLOW, 0, found):
        return 0
    return int.from_bytes(found.raw[_ATTRIBUTES_AT : _ATTRIBUTES_AT + 8], sys.byteorder)


# --- NFSv4 lists --------------------------------------------------------------------------------

#: Kinds, flags and permissions of an entry, in the order in which nfs4_getfacl writes them (RFC
#: 8881, section 6.2.1).
NFS4_KINDS = "ADUL"
NFS4_FLAGS = {"f": 0x1, "d": 0x2, "n": 0x4, "i": 0x8, "S": 0x10, "F": 0x20, "g": 0x40}
NFS4_PERMISSIONS = {
    "r": 0x1,
    "w": 0x2,
    "a": 0x4,
    "x": 0x20,
    "d": 0x10000,
    "D": 0x40,
    "t": 0x80,
    "T": 0x100,
    "n": 0x8,
    "N": 0x10,
    "c": 0x20000,
    "C": 0x40000,
    "o": 0x80000,
    "y": 0x100000,
}


def nfs4_entries(data: bytes, is_folder: bool) -> str:
    """The entries that an extended attribute holds (XDR, RFC 4506), as nfs4_getfacl writes them:
    one a line.
    """
    (count,) = struct.unpack_from(">I", data)
    at, lines = 4, []
    for _ in range(count):
        kind, flags, mask, length = struct.unpack_from(">IIII", data, at)
        who = data[at + 16 : at + 16 + length].decode("utf-8", "surrogateescape")
        at += 16 + (length + 3 & ~3)
        shown_flags = "".join(letter for letter, bit in NFS4_FLAGS.items() if flags & bit)
        letters = (
            x for x, bit in NFS4_PERMISSIONS.items() if mask & bit and (is_folder or x != "D")
        )
        lines.append(f"{NFS4_KINDS[kind]}:{shown_flags}:{who}:{''.join(letters)}")
    return "\n".join(lines)


# --- the way to the root, and the machine's users -----------------------------------------------


def _above(root: bytes) -> list[tuple[str, Thing]]:
    """The folders that the kernel passes on the way to the root, from the top of the file system:
    links are followed.
    """
    found: dict[str, Thing] = {}
    at, todo = b"/", [part for part in root.split(b"/") if part]
    links = 0
    while todo:
        path = os.fsdecode(at)
        if at != b"/" and location_of("/", at[1:]) is None:
            raise OSError(errno.EINVAL, "its name has control characters, or is not in NFC", path)
        if path not in found:
            status = os.stat(at)
            lists = (_list_of(at, name) for name in (ACCESS, DEFAULT))
            found[path] = Thing(status.st_uid, status.st_gid, stat.S_IMODE(status.st_mode), *lists)
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
    return list(found.items())


def _is_absent(top: bytes, path: str) -> bool:
    """Is there certainly no folder at a path below the root?"""
    try:
        return not stat.S_ISDIR(os.lstat(top + os.fsencode(path.rstrip("/"))).st_mode)
    except (FileNotFoundError, NotADirectoryError):
        return True
    except OSError:
        return False


def _numbers(things: Iterable[Thing]) -> tuple[set[int], set[int]]:
    """The numbers of the users and groups that things name."""
    uids, gids = set(), set()
    for thing in set(things):
        uids.add(thing.uid)
        gids.add(thing.gid)
        for acl in filter(None, (thing.acl, thing.default)):
            uids.update(uid for uid, _ in acl.users)
            gids.update(gid for gid, _ in acl.groups)
    return uids, gids


def _user_name(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return str(uid)


def _group_name(gid: int) -> str:
    try:
        return grp.getgrgid(gid).gr_name
    except KeyError:
        return str(gid)


def _groups(gids: Iterable[int]) -> list[tuple[str, int]]:
    """The groups of this machine, also those that are only found by their numbers."""
    found = {(group.gr_name, group.gr_gid) for group in grp.getgrall()}
    for gid in set(gids) - {gid for _, gid in found}:
        with suppress(KeyError):
            found.add((grp.getgrgid(gid).gr_name, gid))
    return sorted(found)


def _users(
    uids: Iterable[int], names: Iterable[str]
) -> list[tuple[str, int, int, tuple[int, ...]]]:
    """The users of this machine, also those that are only found by their numbers or names, with all
    their groups.
    """
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
        further = tuple(sorted(set(os.getgrouplist(name, user.pw_gid)) - {user.pw_gid}))
        found.append((name, user.pw_uid, user.pw_gid, further))
    return sorted(found)


def print_scan(asked: dict[str, Any], arguments: Iterable[str]) -> int:
    """Run as a script: print what was read, for ``disk read STORE -``.

    An argument is a root to read in place of the store's.
    """
    root = next(iter(arguments), asked["root"])
    try:
        found = scan(root, asked["recorded"], asked["acting"])
    except OSError as error:
        print(
            f"{shown(os.fsencode(error.filename or root))} cannot be read: {error.strerror}",
            file=sys.stderr,
        )
        return 1
    data = found.data(asked["store"], bool(asked["confined"]))
    data["nfs4"] = [list(each) for each in found.nfs4]
    json.dump(data, sys.stdout, ensure_ascii=True)
    print()
    return 0
