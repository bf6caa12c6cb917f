"""A Windows tree: what descriptors let, and what a folder or file inherits (MS-DTYP, sections 2.5.3.2 and 2.5.3.4)."""

from __future__ import annotations

from collections.abc import Iterable

from ..model.descriptors import (
    CONTAINER_INHERIT,
    CREATOR_OWNER,
    INHERIT_ONLY,
    INHERITED,
    NO_PROPAGATE,
    OBJECT_INHERIT,
    OWNER_RIGHTS,
    Ace,
    DescribedFolder,
    Descriptor,
)
from ..words.names import parent

READ, WRITE, APPEND, TRAVERSE, DELETE_CHILD, ATTRIBUTES, DELETE = 0x1, 0x2, 0x4, 0x20, 0x40, 0x100, 0x10000
#: What each right asks of a folder itself, and of a file.
OF_FOLDER = {"enter": TRAVERSE, "list": READ, "upload": WRITE, "make-folder": APPEND, "delete-folder": DELETE}
OF_FILE = {
    "download": READ, "overwrite": WRITE, "append": APPEND, "rename": DELETE, "delete-file": DELETE, "set-attributes": ATTRIBUTES,
}  # fmt: skip
#: What has another way: whoever may delete what is in a folder needs no right on the thing.
BY_PARENT = {"rename", "delete-file", "delete-folder"}
#: Stands for an owner of whom nothing is known.
SOMEBODY = "S-1-0-0"


def for_folder(aces: Iterable[Ace], owner: str | None) -> tuple[Ace, ...]:
    """What a folder made in one with this list inherits, if it is `owner`'s."""
    found = []
    for ace in aces:
        ends = ace.flags & NO_PROPAGATE
        if ace.flags & CONTAINER_INHERIT:
            on = 0 if ends else ace.flags & (OBJECT_INHERIT | CONTAINER_INHERIT)
            if ace.sid == CREATOR_OWNER:
                found.append(ace._replace(flags=INHERITED, sid=owner or SOMEBODY))
                found += [] if ends else [ace._replace(flags=on | INHERIT_ONLY | INHERITED)]
            else:
                found.append(ace._replace(flags=on | INHERITED))
        elif ace.flags & OBJECT_INHERIT and not ends:
            found.append(ace._replace(flags=OBJECT_INHERIT | INHERIT_ONLY | INHERITED))
    return tuple(found)


def for_file(aces: Iterable[Ace], owner: str | None) -> tuple[Ace, ...]:
    """What a file made in a folder with this list inherits, if it is `owner`'s."""
    return tuple(
        ace._replace(flags=INHERITED, sid=(owner or SOMEBODY) if ace.sid == CREATOR_OWNER else ace.sid)
        for ace in aces
        if ace.flags & OBJECT_INHERIT
    )


def deciding(aces: tuple[Ace, ...], token: frozenset[str], right: int, owner: str | None) -> Ace | None:
    """The entry that decides about a single right for somebody who counts as all of `token`: the first that speaks of it."""
    for ace in aces:
        speaks = ace.mask & right and not ace.flags & INHERIT_ONLY
        if speaks and (ace.sid in token or (ace.sid == OWNER_RIGHTS and owner in token)):
            return ace
    return None


def allows(aces: tuple[Ace, ...] | None, token: frozenset[str], right: int, owner: str | None) -> bool:
    """May somebody who counts as all of `token` use a single right?"""
    if aces is None:
        return True
    found = deciding(aces, token, right, owner)
    return found is not None and found.allows


class WindowsTree:
    """The folders of a store, listed or not."""

    def __init__(self, folders: Iterable[DescribedFolder]) -> None:
        self.listed = {f.path: f.descriptor for f in folders}
        self._made: dict[str, Descriptor] = {}

    def folder(self, path: str) -> Descriptor:
        """The descriptor of a folder; of one that is not listed, as the folder above would make it, with its owner."""
        found = self.listed.get(path) or self._made.get(path)
        if found is None:
            above = self.folder(parent(path))
            aces = None if above.aces is None else for_folder(above.aces, above.owner)
            found = self._made[path] = Descriptor(above.owner, False, aces)
        return found

    def lets(self, token: frozenset[str], me: str, path: str, right: str, own: bool = False) -> bool:
        """May somebody use a right at a folder: on the folder, or on a file in it that is its own, or is not."""
        at = self.folder(path)
        if right in OF_FOLDER:
            if right == "delete-folder" and path != "/":
                above = self.folder(parent(path))
                if allows(above.aces, token, DELETE_CHILD, above.owner):
                    return True
            return allows(at.aces, token, OF_FOLDER[right], at.owner)
        if right in BY_PARENT and allows(at.aces, token, DELETE_CHILD, at.owner):
            return True
        owner = me if own else SOMEBODY
        aces = None if at.aces is None else for_file(at.aces, owner)
        return allows(aces, token, OF_FILE[right], owner)

    def decides(self, token: frozenset[str], me: str, path: str, right: str) -> Ace | None:
        """The entry that decides about a right at a folder, on the folder or on others' files in it; None where none speaks."""
        at = self.folder(path)
        aces = at.aces or ()
        if right in OF_FOLDER:
            return deciding(aces, token, OF_FOLDER[right], at.owner)
        return deciding(for_file(aces, SOMEBODY), token, OF_FILE[right], SOMEBODY)
