"""What a disk reading says: things with owner, mode and access control lists, as lines
(docs/rules.md, "The disk").

A thing is written ``UID:GID MODE``, with ``acl=…`` and for a folder ``default=…`` where it has such
lists (POSIX.1e draft 17, in the short text form, with ids in the place of names). A folder's line
ends with its path; a line of files begins with how many they are.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any, NamedTuple

from ..words.names import BadValue, check_path

READ, WRITE, SEARCH = 4, 2, 1
STICKY = 0o1000


class Acl(NamedTuple):
    """An access control list; permissions are sums of 4 (read), 2 (write) and 1 (search).

    `mask` is None where there is none.
    """

    owner: int
    users: tuple[tuple[int, int], ...]
    group: int
    groups: tuple[tuple[int, int], ...]
    mask: int | None
    other: int

    def __str__(self) -> str:
        lines = [f"u::{letters(self.owner)}", *(f"u:{uid}:{letters(p)}" for uid, p in self.users)]
        lines += [f"g::{letters(self.group)}", *(f"g:{gid}:{letters(p)}" for gid, p in self.groups)]
        lines += [] if self.mask is None else [f"m::{letters(self.mask)}"]
        return ",".join([*lines, f"o::{letters(self.other)}"])


class ThingOnDisk(NamedTuple):
    """A folder or file on disk: numbers of its owner and group, mode (with setgid and sticky), and
    access control lists.

    The permissions of owner and others are those of `mode`; where there is an `acl`, the mode's
    group bits are its mask.
    """

    uid: int
    gid: int
    mode: int
    acl: Acl | None = None
    default: Acl | None = None

    def __str__(self) -> str:
        lists = (f" acl={self.acl}" if self.acl else "") + (
            f" default={self.default}" if self.default else ""
        )
        return f"{self.uid}:{self.gid} {self.mode:04o}{lists}"


class FolderOnDisk(NamedTuple):
    """A folder of a reading; its path is counted from the store's root, or for those above it from
    the top.
    """

    path: str
    thing: ThingOnDisk

    def __str__(self) -> str:
        return f"{self.thing} {self.path}"


class FilesOnDisk(NamedTuple):
    """So many files of a folder are alike."""

    path: str
    thing: ThingOnDisk
    number: int

    def __str__(self) -> str:
        return f"{self.number} of {self.thing} in {self.path}"


#: Why nothing is known below a folder: it could not be read, or another file system is mounted
#: there.
UNREADABLE, MOUNT = "unreadable", "mount"


class UnknownBelow(NamedTuple):
    """A folder below which nothing was read, and why; of a mount point nothing is known, itself
    included.
    """

    path: str
    why: str

    def __str__(self) -> str:
        return f"{self.why} {self.path}"


class OsUser(NamedTuple):
    """A user of the machine, with the primary group and the further ones."""

    name: str
    uid: int
    gid: int
    groups: tuple[int, ...] = ()

    def __str__(self) -> str:
        return f"{self.name} {self.uid} {','.join(map(str, (self.gid, *self.groups)))}"


class OsGroup(NamedTuple):
    """A group of the machine."""

    name: str
    gid: int

    def __str__(self) -> str:
        return f"{self.name} {self.gid}"


# --- reading lines ------------------------------------------------------------------------------

_THING = (
    r"(?P<uid>\d{1,10}):(?P<gid>\d{1,10}) (?P<mode>[0-7]{3,4})(?: acl=(?P<acl>\S+))?(?:"
    r" default=(?P<default>\S+))?"
)
_ALONE = re.compile(_THING)
_FOLDER = re.compile(_THING + r" (?P<path>/.*)", re.DOTALL)
_FILES = re.compile(r"(?P<count>\d{1,12}) of " + _THING + r" in (?P<path>/.*)", re.DOTALL)
#: Names of a domain may have spaces, backslashes and `@`: numbers come last.
_USER = re.compile(r"(\S(?:.*\S)?) (\d{1,10}) (\d{1,10}(?:,\d{1,10})*)")
_ENTRY = re.compile(r"([ugmo]):(\d*):([r-][w-][x-])")
_LARGEST_ID = 2**32 - 2


def letters(permissions: int) -> str:
    """Permissions as ``rwx``."""
    return "".join(
        letter if permissions & bit else "-"
        for letter, bit in (("r", READ), ("w", WRITE), ("x", SEARCH))
    )


def _id(text: str) -> int:
    found = int(text)
    if found > _LARGEST_ID:
        raise BadValue(
            f"{text} is no number of a user or group", f"a number from 0 to {_LARGEST_ID}"
        )
    return found


def parse_acl(text: str) -> Acl:
    """An access control list in its short text form."""
    kept: dict[str, list[tuple[int, int]]] = {"u": [], "g": []}
    single: dict[str, int] = {}
    for part in text.split(","):
        found = _ENTRY.fullmatch(part)
        if found is None or (found[1] in "mo" and found[2]):
            raise BadValue(
                f"{part!r} is no line of an access control list",
                "such as u::rwx, g:2001:r-x, m::rwx or o::---",
            )
        permissions = sum(
            bit
            for letter, bit in zip(found[3], (READ, WRITE, SEARCH), strict=True)
            if letter != "-"
        )
        if found[2]:
            kept[found[1]].append((_id(found[2]), permissions))
        elif found[1] in single:
            raise BadValue(f"{text!r} has two lines {found[1]}::", "each once")
        else:
            single[found[1]] = permissions
    missing = [x for x in "ugo" if x not in single] + (
        ["m"] if (kept["u"] or kept["g"]) and "m" not in single else []
    )
    if missing:
        raise BadValue(
            f"{text!r} has no line {missing[0]}::",
            "u::, g:: and o::, and m:: where users or groups are named",
        )
    for lines in kept.values():
        if len({x for x, _ in lines}) < len(lines):
            raise BadValue(f"{text!r} names somebody twice", "each once")
    return Acl(
        single["u"],
        tuple(sorted(kept["u"])),
        single["g"],
        tuple(sorted(kept["g"])),
        single.get("m"),
        single["o"],
    )


def _thing(found: re.Match[str], folder: bool) -> ThingOnDisk:
    if found["default"] and not folder:
        raise BadValue("a file has no default list", "the folder's line to have it")
    acl, default = (parse_acl(found[name]) if found[name] else None for name in ("acl", "default"))
    return ThingOnDisk(_id(found["uid"]), _id(found["gid"]), int(found["mode"], 8), acl, default)


@lru_cache(1 << 12)
def parse_thing(text: str) -> ThingOnDisk:
    """How a file is on disk: a thing without its path."""
    found = _ALONE.fullmatch(text)
    if found is None:
        raise BadValue(
            f"{text!r} is no thing on a disk", "UID:GID MODE [acl=…], such as 3001:4001 0640"
        )
    return _thing(found, False)


def parse_described(text: str) -> ThingOnDisk:
    """Any thing as it is written, a folder or a file, without its path."""
    found = _ALONE.fullmatch(text)
    if found is None:
        raise BadValue(f"{text!r} is no thing on a disk", "UID:GID MODE [acl=…] [default=…]")
    return _thing(found, True)


def parse_folder(text: str) -> FolderOnDisk:
    """A line of a folder."""
    found = _FOLDER.fullmatch(text)
    if found is None:
        raise BadValue(
            f"{text!r} is no folder of a reading", "UID:GID MODE [acl=…] [default=…] /path"
        )
    return FolderOnDisk(check_path(found["path"]), _thing(found, True))


def parse_files(text: str) -> FilesOnDisk:
    """A line of the files of a folder that are alike."""
    found = _FILES.fullmatch(text)
    if found is None:
        raise BadValue(
            f"{text!r} tells of no files of a reading", "COUNT of UID:GID MODE [acl=…] in /path"
        )
    return FilesOnDisk(check_path(found["path"]), _thing(found, False), int(found["count"]))


def parse_unknown(text: str) -> UnknownBelow:
    """A line of a folder below which nothing was read."""
    why, _, path = text.partition(" ")
    if why not in (UNREADABLE, MOUNT):
        raise BadValue(
            f"{text!r} names no folder that was not read", "unreadable /path, or mount /path"
        )
    return UnknownBelow(check_path(path), why)


def parse_user(text: str) -> OsUser:
    """A line of a user of the machine."""
    found = _USER.fullmatch(text)
    if found is None:
        raise BadValue(
            f"{text!r} is no user of a machine", "NAME UID GID[,GID…], such as ines 1001 1001,2001"
        )
    gid, *further = map(_id, found[3].split(","))
    return OsUser(found[1], _id(found[2]), gid, tuple(sorted(set(further) - {gid})))


def parse_group(text: str) -> OsGroup:
    """A line of a group of the machine."""
    name, _, gid = text.rpartition(" ")
    if not name.strip() or not gid.isdecimal():
        raise BadValue(f"{text!r} is no group of a machine", "NAME GID, such as survey 2001")
    return OsGroup(name, _id(gid))


def check_acts_as(value: str) -> str:
    """The user that a server takes on for an account: a name, ``{account}``, or a name with that in
    it.
    """
    bare: Any = value.replace("{account}", "")
    if (
        not value.strip()
        or value != value.strip()
        or any(c in bare for c in ":/{}")
        or not value.isprintable()
    ):
        raise BadValue(f"{value!r} is no user of a machine", "a name such as ftpd, or {account}")
    return value


def parse_creation_mode(text: str) -> str:
    """The modes that a server asks for: of files, and of folders."""
    if re.fullmatch(r"0?[0-7]{3} 0?[0-7]{3,4}", text) is None:
        raise BadValue(
            f"{text!r} are no two modes", "that of files and that of folders, such as 0660 0770"
        )
    return text
