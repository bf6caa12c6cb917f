"""NFSv4 lists of a tree: the text of ``nfs4_getfacl -R``, with owners as ``find -printf
'%y\\t%u\\t%g\\t%p\\n'`` lists them.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from drawknife.core.disk.described import for_file, for_folder
from drawknife.core.model.described_folders import DescribedFolder, SidName
from drawknife.core.model.descriptors import INHERITED, Ace
from drawknife.core.model.nfs4 import Nfs4Descriptor, parse_entries
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue, check_path, parent, tree_key
from drawknife.core.words.sizes import several

from .exported import exported_text

#: What lists the owners, for people.
OWNERS_COMMAND = "find ROOT -printf '%y\\t%u\\t%g\\t%p\\n'"
_OWNER_LINE = re.compile(r"(\S)\t(.+)\t(.+)\t(/.*|\.|\./.*)")


class Nfs4Item(NamedTuple):
    """A folder or file of a store with its list, an entry a line; `line` is where its entries begin
    in a text.
    """

    path: str
    is_folder: bool
    owner: str
    group: str
    entries: str
    line: int = 0


def items_from_text(text: bytes, owners: bytes, root: str) -> tuple[list[Nfs4Item], list[str]]:
    """The folders and files below `root`, and notes on what was left out.

    :class:`BadInput` with the line that is wrong.
    """
    owned = _owners(exported_text(owners, "owners"), root)
    found = []
    without_owner = outside = 0
    for line, name, entries in _blocks(exported_text(text, "nfs4"), root):
        path = _placed(name, root)
        if path is None:
            outside += 1
        elif path not in owned:
            without_owner += 1
        else:
            found.append(Nfs4Item(path, *owned[path], entries, line))
    if all(item.path != "/" for item in found):
        raise BadInput(
            "root",
            f"the text has no list of {root}",
            f"nfs4_getfacl -R {root}, and {OWNERS_COMMAND}",
        )
    counted = (
        (without_owner, "lists of which no owner is listed"),
        (outside, "names outside the root, or not in NFC"),
    )
    return found, [f"{what}: {number}" for number, what in counted if number]


def folders_from_items(
    items: Iterable[Nfs4Item], names: Iterable[SidName]
) -> tuple[list[DescribedFolder], list[str]]:
    """The folders that differ from what the one above passes on, and notes on what is not judged.

    What a list has from the folder above is marked as inherited, as older servers do not say it.
    The owner is the identifier in `names` with that name, or with that name before its ``@``.
    """
    users, groups = _by_short_name(names)
    made: dict[str, Nfs4Descriptor] = {}
    listed, own_lists = [], []
    left_out = 0
    for item in sorted(items, key=lambda item: (tree_key(item.path), not item.is_folder)):
        try:
            aces, more = parse_entries(item.entries.splitlines())
        except BadValue as bad:
            raise BadInput(
                f"nfs4:{item.line}" if item.line else "nfs4", str(bad), bad.expected
            ) from None
        left_out += more
        owner, group = (
            users.get(item.owner, f"user:{item.owner}"),
            groups.get(item.group, f"group:{item.group}"),
        )
        above = made.get(parent(item.path)) if item.path != "/" else None
        if not item.is_folder:
            if above is not None and not _is_same(aces, for_file(above.aces or (), owner)):
                own_lists.append(item.path)
            continue
        expected = () if above is None else for_folder(above.aces or (), owner)
        descriptor = Nfs4Descriptor(owner, False, _with_inherited(aces, expected), 0, group)
        made[item.path] = descriptor
        if above is None or (descriptor.aces, owner, group) != (expected, above.owner, above.group):
            listed.append(DescribedFolder(item.path, str(descriptor)))
    notes = [f"entries of audits and alarms: {left_out}"] if left_out else []
    if own_lists:
        notes.append(
            f"files with other lists than their folder passes on: {len(own_lists)}"
            f" ({several(own_lists, 5)})"
        )
    notes.append("the mode that a server asks for, and folders above the root")
    return listed, notes


def _is_same(aces: Iterable[Ace], others: Iterable[Ace]) -> bool:
    plain = (
        [tuple(ace._replace(flags=ace.flags & ~INHERITED)) for ace in some]
        for some in (aces, others)
    )
    return next(plain) == next(plain)


def _with_inherited(aces: tuple[Ace, ...], expected: tuple[Ace, ...]) -> tuple[Ace, ...]:
    """A list in which what comes from the folder above is marked so; as it is where the server
    marks that itself.
    """
    if any(ace.flags & INHERITED for ace in aces):
        return aces
    left = list(expected)
    found = []
    for ace in aces:
        marked = ace._replace(flags=ace.flags | INHERITED)
        if marked in left:
            left.remove(marked)
            found.append(marked)
        else:
            found.append(ace)
    return tuple(found)


def _by_short_name(names: Iterable[SidName]) -> tuple[dict[str, str], dict[str, str]]:
    """Identifiers of users and of groups by the names that a listing of owners has for them, where
    that is one only.
    """
    found: dict[str, dict[str, set[str]]] = {"user": {}, "group": {}}
    for line in names:
        kind, _, name = line.sid.partition(":")
        for short in {name, name.partition("@")[0]} if kind in found else ():
            found[kind].setdefault(short, set()).add(line.sid)
    users, groups = (
        {short: next(iter(sids)) for short, sids in found[kind].items() if len(sids) == 1}
        for kind in ("user", "group")
    )
    return users, groups


def _owners(text: str, root: str) -> dict[str, tuple[bool, str, str]]:
    """Is it a folder, its owner, and its group: by path in the store.

    Links and devices are passed over.
    """
    found = {}
    for number, line in enumerate(text.splitlines(), 1):
        if not line:
            continue
        parts = _OWNER_LINE.fullmatch(line)
        if parts is None:
            raise BadInput(
                f"owners:{number}", f"{line!r} is not a type, owner, group and path", OWNERS_COMMAND
            )
        path = _placed(parts[4], root)
        if path is not None and parts[1] in "df":
            found[path] = parts[1] == "d", parts[2], parts[3]
    return found


def _blocks(text: str, root: str) -> Iterator[tuple[int, str, str]]:
    """The entries of each thing with its name, and the number of the first line.

    Entries without a name are the root's.
    """
    name, first, lines = root, 1, list[str]()
    for number, line in enumerate(text.splitlines(), 1):
        if line.startswith("# file: "):
            if lines:
                yield first, name, "\n".join(lines)
            name, first, lines = line[len("# file: ") :], number + 1, []
        elif line.strip() and not line.startswith("#"):
            lines.append(line.strip())
    if lines:
        yield first, name, "\n".join(lines)


def _placed(name: str, root: str) -> str | None:
    """A name as a path of the store; None if it is outside, or no model can hold it."""
    top = "/" + root.strip("/")
    path = re.sub(r"/+", "/", name).rstrip("/")
    if path == "." or path.startswith("./"):
        inner = path[1:]
    else:
        path = "/" + path.lstrip("/")
        if path != top and top != "/" and not path.startswith(top + "/"):
            return None
        inner = path if top == "/" else path[len(top) :]
    try:
        return check_path(inner or "/")
    except BadValue:
        return None
