"""A disk reading of this machine, or of another on which the same scan was run."""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache
from typing import Any

from drawknife.core.model.disk import (
    Acl,
    FilesOnDisk,
    FolderOnDisk,
    OsGroup,
    OsUser,
    ThingOnDisk,
    UnknownBelow,
)
from drawknife.core.model.items import DiskReading
from drawknife.core.words.errors import BadInput
from drawknife.formats.nfs4_text import Nfs4Item

from .standalone.lists_and_modes import Thing
from .standalone.scanning import Progress, Scan, scan


def read_disk(
    root: str,
    store: str,
    *,
    confined: bool = False,
    recorded: Iterable[str] = (),
    acting: Iterable[str] = (),
    progress: Progress | None = None,
) -> DiskReading:
    """The reading of the disk that a store is on, from its root.

    OSError if the root cannot be read.
    """
    return reading_of(scan(root, recorded, acting, progress), store, confined)


def reading_of(found: Scan, store: str, confined: bool) -> DiskReading:
    """A scan as the disk reading of a store.

    BadValue if the way to the root has a name that no model can hold.
    """
    return DiskReading(
        store=store,
        taken=found.taken,
        confined=confined,
        above=tuple(FolderOnDisk(path, _thing(thing)) for path, thing in found.above),
        folders=tuple(FolderOnDisk(path, _thing(thing)) for path, thing in found.folders),
        files=tuple(
            FilesOnDisk(path, _thing(thing), number) for path, thing, number in found.files
        ),
        users=tuple(OsUser(*user) for user in found.users),
        groups=tuple(OsGroup(*group) for group in found.groups),
        odd=found.odd,
        notes=tuple(found.notes()),
        absent=tuple(found.absent),
        unknown=tuple(UnknownBelow(*each) for each in found.unknown),
        empty=tuple(found.empty),
        complete=True,
    )


def nfs4_items(things: Iterable[Any]) -> list[Nfs4Item]:
    """The folders and files with NFSv4 lists of a scan, also of one that another machine printed as
    plain data.

    :class:`BadInput` if they are none.
    """
    try:
        return [
            Nfs4Item(_text(path), bool(is_folder), _text(owner), _text(group), _text(entries))
            for path, is_folder, owner, group, entries in things
        ]
    except (TypeError, ValueError):
        remedy = "the output of the script that `drawknife disk scanner` prints"
        raise BadInput("nfs4", "not a list of folders and files with NFSv4 lists", remedy) from None


def _text(value: object) -> str:
    if not isinstance(value, str):
        raise TypeError
    return value


@lru_cache(1 << 14)
def _thing(thing: Thing) -> ThingOnDisk:
    acl, default = (None if each is None else Acl(*each) for each in (thing.acl, thing.default))
    return ThingOnDisk(thing.uid, thing.gid, thing.mode, acl, default)
