"""Folders and files of a disk with their modes and lists: as text, as the kernel keeps them, and
its check of one.
"""

from __future__ import annotations

import re
import struct
from typing import NamedTuple

READ, WRITE, SEARCH = 4, 2, 1
ACCESS, DEFAULT = "system.posix_acl_access", "system.posix_acl_default"


class Acl(NamedTuple):
    """An access control list; permissions are sums of READ, WRITE and SEARCH."""

    owner: int
    users: tuple[tuple[int, int], ...]
    group: int
    groups: tuple[tuple[int, int], ...]
    mask: int | None
    other: int


class Thing(NamedTuple):
    """A folder or file: numbers of its owner and group, mode, access list, and default list."""

    uid: int
    gid: int
    mode: int
    acl: Acl | None = None
    default: Acl | None = None


class User(NamedTuple):
    """A user with the primary group and further ones; -1 stands for one who is not known."""

    uid: int
    gid: int
    groups: tuple[int, ...] = ()


# --- text ---------------------------------------------------------------------------------------


def letters(permissions: int) -> str:
    """Permissions as ``rwx``."""
    return "".join(
        letter if permissions & bit else "-"
        for letter, bit in (("r", READ), ("w", WRITE), ("x", SEARCH))
    )


def acl_from_text(text: str) -> Acl:
    """A list in short text form, such as ``u::rwx,u:3001:r-x,g::r-x,m::r-x,o::---``."""
    single: dict[str, int] = {}
    named: dict[str, list[tuple[int, int]]] = {"u": [], "g": []}
    for part in text.split(","):
        kind, number, shown = part.split(":")
        permissions = sum(
            bit for letter, bit in zip(shown, (READ, WRITE, SEARCH), strict=True) if letter != "-"
        )
        if number:
            named[kind].append((int(number), permissions))
        else:
            single[kind] = permissions
    users, groups = (tuple(sorted(named[kind])) for kind in ("u", "g"))
    return Acl(single["u"], users, single["g"], groups, single.get("m"), single["o"])


def thing_from_text(text: str) -> Thing:
    """A thing as ``UID:GID MODE [acl=LIST] [default=LIST]``."""
    numbers, mode, *lists = text.split(" ")
    uid, gid = numbers.split(":")
    found = dict(each.split("=", 1) for each in lists)
    acl, default = (
        acl_from_text(found[key]) if key in found else None for key in ("acl", "default")
    )
    return Thing(int(uid), int(gid), int(mode, 8), acl, default)


def acl_to_text(acl: Acl) -> str:
    """A list in short text form."""
    lines = [f"u::{letters(acl.owner)}", *(f"u:{uid}:{letters(p)}" for uid, p in acl.users)]
    lines += [f"g::{letters(acl.group)}", *(f"g:{gid}:{letters(p)}" for gid, p in acl.groups)]
    lines += [] if acl.mask is None else [f"m::{letters(acl.mask)}"]
    return ",".join([*lines, f"o::{letters(acl.other)}"])


def thing_to_text(thing: Thing) -> str:
    """A thing as :func:`thing_from_text` reads it."""
    named = (("acl", thing.acl), ("default", thing.default))
    lists = "".join(f" {name}={acl_to_text(acl)}" for name, acl in named if acl is not None)
    return f"{thing.uid}:{thing.gid} {thing.mode:04o}{lists}"


def _escaped(path: bytes) -> bytes:
    """A path as getfacl writes it."""
    return b"".join(
        (
            b"\\\\"
            if byte == 0x5C
            else b"\\%03o" % byte
            if byte < 0x20 or byte == 0x7F
            else bytes([byte])
        )
        for byte in path
    )


def _unescaped(path: bytes) -> bytes:
    return re.sub(
        rb"\\([0-7]{3}|\\)",
        lambda m: b"\\" if m[1] == b"\\" else bytes([int(m[1], 8) & 0xFF]),
        path,
    )


def as_getfacl(path: bytes, thing: Thing) -> bytes:
    """A thing as ``getfacl -n`` writes it, by its path from the root; ``setfacl --restore`` reads
    it, too.
    """
    acl = thing.acl or Acl(thing.mode >> 6 & 7, (), thing.mode >> 3 & 7, (), None, thing.mode & 7)
    flags = "".join(
        letter if thing.mode & bit else "-"
        for letter, bit in (("s", 0o4000), ("s", 0o2000), ("t", 0o1000))
    )
    lines = [f"# owner: {thing.uid}", f"# group: {thing.gid}"]
    lines += [f"# flags: {flags}"] if flags != "---" else []
    lines += _long(acl, "")
    lines += _long(thing.default, "default:") if thing.default is not None else []
    return b"# file: " + _escaped(path or b".") + b"\n" + "\n".join(lines).encode() + b"\n\n"


def _long(acl: Acl, prefix: str) -> list[str]:
    lines = [f"user::{letters(acl.owner)}", *(f"user:{uid}:{letters(p)}" for uid, p in acl.users)]
    lines += [
        f"group::{letters(acl.group)}",
        *(f"group:{gid}:{letters(p)}" for gid, p in acl.groups),
    ]
    lines += [] if acl.mask is None else [f"mask::{letters(acl.mask)}"]
    return [prefix + line for line in (*lines, f"other::{letters(acl.other)}")]


class NotKept(ValueError):
    """A line that is none of those that are kept here."""


def kept_things(text: bytes) -> list[tuple[bytes, Thing]]:
    """What was kept, in order: paths from the root, and what each thing was.

    A last one that is cut off is left out.

    :class:`NotKept` with the number of a line that is none.
    """
    found = []
    number = 1
    *blocks, _cut = text.split(b"\n\n")
    for block in blocks:
        lines = block.split(b"\n")
        found.append(_kept_thing(lines, number))
        number += len(lines) + 1
    return found


_KEPT = re.compile(r"(default:)?(user|group|mask|other):(\d*):([r-][w-][x-])")


def _kept_thing(lines: list[bytes], first: int) -> tuple[bytes, Thing]:
    path = None
    heads = {"owner": 0, "group": 0}
    flags = 0
    lists: dict[str, list[str]] = {"": [], "default:": []}
    for number, line in enumerate(lines, first):
        text = line.decode("utf-8", "surrogateescape")
        head, _, value = text.removeprefix("# ").partition(": ")
        found = _KEPT.fullmatch(text)
        if text.startswith("# file: "):
            path = _unescaped(line[len(b"# file: ") :])
        elif text.startswith("# ") and head in heads and value.isdecimal():
            heads[head] = int(value)
        elif text.startswith("# flags: "):
            flags = sum(
                bit
                for letter, bit in zip(value, (0o4000, 0o2000, 0o1000), strict=True)
                if letter != "-"
            )
        elif found is not None:
            lists[found[1] or ""].append(f"{found[2][0]}:{found[3]}:{found[4]}")
        else:
            raise NotKept(f"line {number}: {text!r} is no line of what was kept")
    try:
        acl, default = (
            acl_from_text(",".join(lines)) if lines else None for lines in lists.values()
        )
    except KeyError:
        acl = None
    if path is None or acl is None:
        raise NotKept(
            f"line {first}: a thing without its name, or without user::, group:: and other::"
        )
    return (b"" if path == b"." else path), _with_list(
        Thing(heads["owner"], heads["group"], flags), acl, default
    )


def _with_list(thing: Thing, acl: Acl, default: Acl | None) -> Thing:
    group = acl.group if acl.mask is None else acl.mask
    plain = acl.mask is None and not acl.users and not acl.groups
    mode = thing.mode | acl.owner << 6 | group << 3 | acl.other
    return Thing(thing.uid, thing.gid, mode, None if plain else acl, default)


# --- the kernel's form, and its check -----------------------------------------------------------

_VERSION, _NOBODY = 2, 0xFFFFFFFF
_OWNER, _USER, _GROUP, _NAMED_GROUP, _MASK, _OTHER = 1, 2, 4, 8, 0x10, 0x20


def acl_from_bytes(data: bytes) -> Acl:
    """The list that an extended attribute holds."""
    single: dict[int, int] = {}
    named: dict[int, list[tuple[int, int]]] = {_USER: [], _NAMED_GROUP: []}
    for tag, permissions, number in struct.iter_unpack("<HHI", data[4:]):
        if tag in named:
            named[tag].append((number, permissions))
        else:
            single[tag] = permissions
    users, groups = (tuple(sorted(named[tag])) for tag in (_USER, _NAMED_GROUP))
    return Acl(single[_OWNER], users, single[_GROUP], groups, single.get(_MASK), single[_OTHER])


def acl_to_bytes(acl: Acl) -> bytes:
    """The extended attribute that holds a list."""
    entries = [
        (_OWNER, acl.owner, _NOBODY),
        *((_USER, p, uid) for uid, p in acl.users),
        (_GROUP, acl.group, _NOBODY),
    ]
    entries += [(_NAMED_GROUP, p, gid) for gid, p in acl.groups]
    entries += [] if acl.mask is None else [(_MASK, acl.mask, _NOBODY)]
    entries.append((_OTHER, acl.other, _NOBODY))
    return struct.pack("<I", _VERSION) + b"".join(struct.pack("<HHI", *entry) for entry in entries)


def allows(user: User, thing: Thing, bit: int) -> bool:
    """May a user do this to a thing?

    As Linux checks it (POSIX.1e draft 17, section 23.5.1); user 0 is not asked.
    """
    if user.uid == thing.uid:
        return bool(thing.mode >> 6 & bit)
    in_group = thing.gid in (user.gid, *user.groups)
    acl = thing.acl
    if acl is None or not thing.mode & 0o070:  # Linux ignores a list whose mask is empty
        return bool((thing.mode >> 3 if in_group else thing.mode) & bit)
    mask = 7 if acl.mask is None else acl.mask
    for uid, permissions in acl.users:
        if uid == user.uid:
            return bool(permissions & mask & bit)
    some = [acl.group] if in_group else []
    some += [permissions for gid, permissions in acl.groups if gid in (user.gid, *user.groups)]
    if some:
        return any(permissions & mask & bit for permissions in some)
    return bool(acl.other & bit)


def made_below(thing: Thing) -> Thing:
    """What a folder is that a reading does not list, where `thing` is the nearest above that it
    does.
    """
    mode, default = thing.mode & ~0o1000, thing.default
    if default is None:
        return thing._replace(mode=mode)
    group = default.group if default.mask is None else default.mask
    bits = default.owner << 6 | group << 3 | default.other
    return thing._replace(mode=mode & 0o7000 | bits, acl=default)
