"""A disk reading from the text of ``getfacl -R``, and lines of passwd and group, for machines where
nothing may be installed.
"""

from __future__ import annotations

import os
import re
from collections import Counter
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field

from drawknife.core.disk.read_folders import made_below
from drawknife.core.model.disk import (
    READ,
    SEARCH,
    WRITE,
    Acl,
    FilesOnDisk,
    FolderOnDisk,
    OsGroup,
    OsUser,
    ThingOnDisk,
)
from drawknife.core.model.items import DiskReading
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue, check_path, parent
from drawknife.core.words.sizes import number_of
from drawknife.formats.exported import exported_bytes

_LINE = re.compile(rb"(default:)?(user|group|mask|other):([^:]*):([r-][w-][x-])\s*(?:#.*)?")
_ESCAPE = re.compile(rb"\\([0-7]{3}|\\)")


@dataclass(slots=True)
class _Block:
    """What stands of one thing."""

    line: int
    path: str
    owner: bytes = b"0"
    group: bytes = b"0"
    flags: int = 0
    access: list[tuple[bytes, bytes, int]] = field(default_factory=list)
    default: list[tuple[bytes, bytes, int]] = field(default_factory=list)


def users_from(passwd: Iterable[str], group: Iterable[str]) -> tuple[list[OsUser], list[OsGroup]]:
    """The users and groups of lines of passwd and group.

    :class:`BadInput` with the line that is none.

    Lines with ``+`` or ``-`` refer to a directory of users (nsswitch ``compat``), and are no users.
    """
    groups, members = [], {}
    for number, line in enumerate(group, 1):
        if line.strip() and not line.startswith(("#", "+", "-")):
            parts = line.rstrip("\r\n").split(":")
            if len(parts) < 4 or not parts[2].isdecimal():
                raise BadInput(
                    f"group:{number}",
                    f"{line.strip()!r} is no line of a group file",
                    "NAME:x:GID:MEMBER,…",
                )
            groups.append(OsGroup(parts[0], int(parts[2])))
            members[int(parts[2])] = set(filter(None, parts[3].split(",")))
    users = []
    for number, line in enumerate(passwd, 1):
        if line.strip() and not line.startswith(("#", "+", "-")):
            parts = line.rstrip("\r\n").split(":")
            if len(parts) < 4 or not (parts[2].isdecimal() and parts[3].isdecimal()):
                raise BadInput(
                    f"passwd:{number}",
                    f"{line.strip()!r} is no line of a passwd file",
                    "NAME:x:UID:GID:…",
                )
            name, gid = parts[0], int(parts[3])
            further = tuple(sorted(g for g, names in members.items() if name in names and g != gid))
            users.append(OsUser(name, int(parts[2]), gid, further))
    return sorted(users), sorted(groups)


def reading_from(
    text: bytes,
    store: str,
    root: str,
    users: list[OsUser],
    groups: list[OsGroup],
    *,
    folders: Iterable[bytes] = (),
    recorded: Iterable[str] = (),
) -> DiskReading:
    """The reading of a store whose root is at `root` in the text of ``getfacl -R``.

    The text does not tell folders from files: a folder is what has something in it, a default list
    or setgid or sticky bits, or is one of `folders`, as ``find -type d`` lists them. Of the folders
    that the model has (`recorded`) it is told then which are not there. :class:`BadInput` with the
    line that is none.
    """
    text = exported_bytes(text)
    numbers = {"user": {u.name: u.uid for u in users}, "group": {g.name: g.gid for g in groups}}
    things: dict[str, _Block] = {}
    odd = 0
    top = os.path.normpath("/" + root.strip("/"))
    for block in _blocks(text, top):
        if block is None:
            odd += 1
        else:
            things[block.path] = block
    if "/" not in things:
        raise BadInput(
            "root",
            f"the text does not tell of {root}",
            "the folder that `getfacl -R` was called with",
        )
    known = {parent(path) for path in things if path != "/"} | {"/"}
    folders = exported_bytes(b"\n".join(line.rstrip(b"\r\n") for line in folders)).split(b"\n")
    folders = [line for line in folders if line]
    for line in folders:
        place = _placed(line, top)
        if place is not None:
            known.add(place)
    # A file may be setuid, and hardly ever sticky; where the folders are listed, they are those
    # that are.
    marks = 0 if folders else 0o3000
    known |= {
        path
        for path, block in things.items()
        if block.default or (block.flags & marks and not block.flags & 0o4000)
    }
    made = {path: _made(block, numbers, path in known) for path, block in things.items()}
    listed: list[FolderOnDisk] = []
    files: Counter[tuple[str, ThingOnDisk]] = Counter()
    holding = {parent(path) for path in made if path != "/"}
    for path, thing in sorted(made.items()):
        if path not in known:
            files[parent(path), thing] += 1
        elif path == "/" or made_below(made[parent(path)]) != thing:
            listed.append(FolderOnDisk(path, thing))
    empty = sorted((known & made.keys()) - holding - {folder.path for folder in listed})
    notes = ["the folders above the root were not told of, and are not asked"]
    leaves = len(things) - len(known & things.keys())
    if not folders and leaves:
        notes.append(
            f"{number_of(leaves, 'thing')} in which there is nothing taken for files: empty folders"
            " look like them"
        )
    return DiskReading(
        store,
        None,
        False,
        (),
        tuple(listed),
        tuple(FilesOnDisk(p, t, n) for (p, t), n in sorted(files.items(), key=str)),
        tuple(users),
        tuple(groups),
        odd,
        tuple(notes),
        tuple(sorted(set(recorded) - known)) if folders else (),
        (),
        tuple(empty) if folders else (),
        bool(folders),
    )


def _placed(name: bytes, top: str) -> str | None:
    """Where a thing is in the store that a text names: from the top of the machine, or from the
    root as ``.`` and ``./a``.
    """
    name = re.sub(rb"/+", b"/", name)
    if name == b"." or name.startswith(b"./"):
        return _within(b"/" + name[1:].strip(b"/"), "/")
    return _within(b"/" + name.strip(b"/"), top)


def _within(path: bytes, top: str) -> str | None:
    """A path of the machine as one of the store; None if it is outside, or no model can hold it."""
    try:
        found = path.decode("utf-8")
        if found == top or top == "/":
            return check_path(found if top == "/" else "/")
        return check_path(found[len(top) :]) if found.startswith(top + "/") else None
    except (BadValue, UnicodeDecodeError):
        return None


def _blocks(text: bytes, top: str) -> Iterator[_Block | None]:
    """What stands of each thing below the root; None for one whose name no model can hold."""
    block: _Block | None = None
    begun = False
    for number, line in enumerate(text.split(b"\n"), 1):
        if line.startswith(b"# file: "):
            if begun:
                yield block
            name = _ESCAPE.sub(
                lambda x: b"\\" if x[1] == b"\\" else bytes([int(x[1], 8) & 0xFF]), line[8:]
            )
            path = _placed(name, top)
            begun, block = True, None if path is None else _Block(number, path)
        elif not line.strip():
            continue
        elif not begun:
            raise BadInput(
                f"getfacl:{number}",
                f"{line.decode(errors='replace')!r} stands before the first `# file:` line",
                "the text of getfacl",
            )
        elif block is None:
            continue
        else:
            _read_line(block, line, number)
    if begun:
        yield block


def _read_line(block: _Block, line: bytes, number: int) -> None:
    """Put a line of getfacl into the block of its thing; :class:`BadInput` where it is none."""
    if line.startswith(b"# owner: "):
        block.owner = line[9:].strip()
    elif line.startswith(b"# group: "):
        block.group = line[9:].strip()
    elif line.startswith(b"# flags: "):
        block.flags = _bits(line[9:12], (0o4000, 0o2000, 0o1000))
    elif not line.startswith(b"#"):
        entry = _LINE.fullmatch(line.strip())
        if entry is None:
            raise BadInput(
                f"getfacl:{number}",
                f"{line.decode(errors='replace')!r} is no line of getfacl",
                "such as user:ines:rwx",
            )
        permissions = _bits(entry[4], (READ, WRITE, SEARCH))
        (block.default if entry[1] else block.access).append((entry[2], entry[3], permissions))


def _bits(letters: bytes, bits: tuple[int, ...]) -> int:
    """The bits whose letters are not ``-``."""
    return sum(bit for letter, bit in zip(letters, bits, strict=False) if letter != ord("-"))


def _id(name: bytes, numbers: dict[str, int], what: str, line: int) -> int:
    text = name.decode(errors="replace")
    if text in numbers:
        return numbers[text]
    if text.isdecimal():
        return int(text)
    remedy = (
        f"its line of {'passwd' if what == 'user' else 'group'}, or the text of `getfacl -R -n`"
    )
    raise BadInput(f"getfacl:{line}", f"{what} {text!r} is in none of the lines given", remedy)


def _acl(lines: list[tuple[bytes, bytes, int]], numbers: dict[str, dict[str, int]], at: int) -> Acl:
    single = {kind: p for kind, name, p in lines if not name}
    if not {b"user", b"group", b"other"} <= single.keys():
        raise BadInput(
            f"getfacl:{at}",
            "a list without user::, group:: or other::",
            "the whole text of getfacl",
        )
    named = {
        kind: tuple(
            sorted(
                (_id(name, numbers[what], what, at), p)
                for k, name, p in lines
                if k == kind and name
            )
        )
        for kind, what in ((b"user", "user"), (b"group", "group"))
    }
    return Acl(
        single[b"user"],
        named[b"user"],
        single[b"group"],
        named[b"group"],
        single.get(b"mask"),
        single[b"other"],
    )


def _made(block: _Block, numbers: dict[str, dict[str, int]], folder: bool) -> ThingOnDisk:
    acl = _acl(block.access, numbers, block.line)
    group = acl.group if acl.mask is None else acl.mask
    plain = acl.mask is None and not acl.users and not acl.groups
    return ThingOnDisk(
        _id(block.owner, numbers["user"], "user", block.line),
        _id(block.group, numbers["group"], "group", block.line),
        block.flags | acl.owner << 6 | group << 3 | acl.other,
        None if plain else acl,
        _acl(block.default, numbers, block.line) if block.default and folder else None,
    )
