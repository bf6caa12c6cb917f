"""A tree with descriptors: what they allow, and what a folder or file inherits.

Windows: MS-DTYP, sections 2.5.3.2 and 2.5.3.4. NFSv4: RFC 8881, sections 6.2.1 and 6.4.3. Both
evaluate a list alike; they differ in who deletes, and in that NFSv4 asks for a search of every
folder on the way.
"""

from __future__ import annotations

from collections.abc import Iterable

from ..model.described_folders import DescribedFolder
from ..model.descriptors import (
    CONTAINER_INHERIT,
    CREATOR_OWNER,
    INHERIT_ONLY,
    INHERITED,
    NO_PROPAGATE,
    OBJECT_INHERIT,
    OWNER_RIGHTS,
    Ace,
    Descriptor,
)
from ..model.nfs4 import GROUP_AT, OWNER_AT, Nfs4Descriptor
from ..words.names import ancestors, parent

READ, WRITE, APPEND, TRAVERSE, DELETE_CHILD, ATTRIBUTES, DELETE = (
    0x1,
    0x2,
    0x4,
    0x20,
    0x40,
    0x100,
    0x10000,
)
#: What each right asks of a folder itself, and of a file.
OF_FOLDER = {
    "enter": TRAVERSE,
    "list": READ,
    "upload": WRITE,
    "make-folder": APPEND,
    "delete-folder": DELETE,
}
OF_FILE = {
    "download": READ,
    "overwrite": WRITE,
    "append": APPEND,
    "rename": DELETE,
    "delete-file": DELETE,
    "set-attributes": ATTRIBUTES,
}
_ON_FOLDER = {**OF_FOLDER, "rename": DELETE, "set-attributes": ATTRIBUTES}
#: Whoever may delete what is in a folder needs no right on the thing.
BY_PARENT = {"rename", "delete-file"}
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
        ace._replace(
            flags=INHERITED, sid=(owner or SOMEBODY) if ace.sid == CREATOR_OWNER else ace.sid
        )
        for ace in aces
        if ace.flags & OBJECT_INHERIT
    )


def counting_as(
    token: frozenset[str], owner: str | None, group: str | None = None
) -> frozenset[str]:
    """All that somebody with `token` counts as at a thing: its owner, or one of its
    group, besides.
    """
    if owner in token:
        token |= {OWNER_RIGHTS, OWNER_AT}
    return token | {GROUP_AT} if group in token else token


def deciding(aces: Iterable[Ace], who: frozenset[str], right: int) -> Ace | None:
    """The entry that decides a single right for somebody who counts as all of `who`: the first that
    names it.
    """
    for ace in aces:
        if ace.mask & right and ace.sid in who and not ace.flags & INHERIT_ONLY:
            return ace
    return None


def allows(aces: tuple[Ace, ...] | None, who: frozenset[str], right: int) -> bool:
    """May somebody who counts as all of `who` use a single right?

    None for `aces`: there is no list, and anybody may.
    """
    if aces is None:
        return True
    found = deciding(aces, who, right)
    return found is not None and found.allows


class DescribedTree:
    """The folders of a store, listed or not."""

    def __init__(self, folders: Iterable[DescribedFolder]) -> None:
        self.listed = {f.path: f.descriptor for f in folders}
        self._made: dict[str, Descriptor] = {}
        self._is_nfs4 = any(isinstance(found, Nfs4Descriptor) for found in self.listed.values())

    def folder(self, path: str) -> Descriptor:
        """The descriptor of a folder; of one that is not listed, as the folder above would make it,
        with its owner.
        """
        found = self.listed.get(path) or self._made.get(path)
        if found is None:
            above = self.folder(parent(path))
            aces = None if above.aces is None else for_folder(above.aces, above.owner)
            found = self._made[path] = above._replace(protected=False, aces=aces, left_out=0)
        return found

    def allows_on_folder(self, token: frozenset[str], path: str, action: str) -> bool:
        """May somebody do something to a folder: a right of OF_FOLDER, ``rename`` or
        ``set-attributes``?
        """
        is_taken_away = action in ("delete-folder", "rename")
        if is_taken_away and path == "/":
            return False
        way = list(ancestors(path))
        if not self._passes(token, way[1:] if is_taken_away or action == "set-attributes" else way):
            return False
        at = self.folder(path)
        who = counting_as(token, at.owner, at.group)
        if is_taken_away:
            return self._may_delete(token, self.folder(parent(path)), at.aces, who)
        return allows(at.aces, who, _ON_FOLDER[action])

    def allows_on_file(
        self, token: frozenset[str], me: str, path: str, right: str, own: bool
    ) -> bool:
        """May somebody do something to a file in a folder that is its own, or is not?"""
        if not self._passes(token, ancestors(path)):
            return False
        at = self.folder(path)
        aces, who = self._file(token, at, me if own else SOMEBODY)
        if right in BY_PARENT:
            return self._may_delete(token, at, aces, who)
        return allows(aces, who, OF_FILE[right])

    def decides_on_folder(self, token: frozenset[str], path: str, action: str) -> Ace | None:
        """The entry of a folder that decides what is done to it; None where none names it."""
        at = self.folder(path)
        return deciding(at.aces or (), counting_as(token, at.owner, at.group), _ON_FOLDER[action])

    def decides_on_file(self, token: frozenset[str], path: str, right: str) -> Ace | None:
        """The entry that decides what is done to others' files in a folder; None where none names
        it.
        """
        aces, who = self._file(token, self.folder(path), SOMEBODY)
        return deciding(aces or (), who, OF_FILE[right])

    def not_passed(self, token: frozenset[str], path: str) -> str | None:
        """The first folder on the way to one, that one too, that somebody cannot search; None where
        nothing asks for it.
        """
        if not self._is_nfs4:
            return None
        way = reversed(list(ancestors(path)))
        return next((up for up in way if not self._allows_at(token, up, TRAVERSE)), None)

    def _passes(self, token: frozenset[str], way: Iterable[str]) -> bool:
        """May somebody search every folder of a way?

        With Windows descriptors nothing asks for it.
        """
        return not self._is_nfs4 or all(self._allows_at(token, path, TRAVERSE) for path in way)

    def _allows_at(self, token: frozenset[str], path: str, right: int) -> bool:
        at = self.folder(path)
        return allows(at.aces, counting_as(token, at.owner, at.group), right)

    def _file(
        self, token: frozenset[str], folder: Descriptor, owner: str
    ) -> tuple[tuple[Ace, ...] | None, frozenset[str]]:
        """The list of a file that `owner` creates in a folder, and as what somebody counts there:
        its group is the folder's.
        """
        aces = None if folder.aces is None else for_file(folder.aces, owner)
        return aces, counting_as(token, owner, folder.group)

    def _may_delete(
        self,
        token: frozenset[str],
        above: Descriptor,
        aces: tuple[Ace, ...] | None,
        who: frozenset[str],
    ) -> bool:
        """May somebody delete a thing with the list `aces`, by that or by the folder that holds it?

        Where NFSv4 lists name neither, whoever may add a file to the folder may delete (RFC 8881,
        section 6.2.1.3.2).
        """
        at_folder = counting_as(token, above.owner, above.group)
        if allows(above.aces, at_folder, DELETE_CHILD) or allows(aces, who, DELETE):
            return True
        if not isinstance(above, Nfs4Descriptor):
            return False
        is_named = deciding(above.aces or (), at_folder, DELETE_CHILD) or deciding(
            aces or (), who, DELETE
        )
        return not is_named and allows(above.aces, at_folder, WRITE)
