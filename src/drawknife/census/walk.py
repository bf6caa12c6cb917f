"""Walking a folder tree: what lies in it, by folder and owner.

Regular files count. A file with several names counts once, where it is met first. Symbolic links are not
followed, other file systems not entered unless told. What changes while it is walked does no harm.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

#: (files so far, bytes so far), every now and then.
Progress = Callable[[int, int], None]
TELL_EVERY = 2000


@dataclass(slots=True)
class Walked:
    """What was found. Folders are paths below the root, as bytes, the root empty; owners are numbers of OS users."""

    #: (folder, owner) to [bytes, files]
    sums: dict[tuple[bytes, int], list[int]] = field(default_factory=dict)
    folders: set[bytes] = field(default_factory=set)
    unreadable: list[bytes] = field(default_factory=list)
    other_file_systems: list[bytes] = field(default_factory=list)
    linked_again: int = 0
    others: int = 0
    vanished: int = 0


def _again(s: os.stat_result, seen: set[tuple[int, int]]) -> bool:
    """Was the file met already under another name?"""
    key = s.st_dev, s.st_ino
    known = key in seen
    seen.add(key)
    return known


def _opened(path: bytes, folder: bytes, found: Walked) -> Any:
    """What lies in a folder; None, and noted, where that cannot be had."""
    try:
        return os.scandir(path)
    except FileNotFoundError:
        found.vanished += 1
    except OSError:
        found.unreadable.append(folder)
    return None


def walk(root: str, *, by_disk: bool = False, cross: bool = False, progress: Progress | None = None) -> Walked:
    """Walk `root`. `by_disk` counts what files occupy instead of their length; `cross` enters other file systems.

    Raises OSError if the root itself cannot be read.
    """
    found = Walked()
    top = os.fsencode(os.path.abspath(root))
    device = os.stat(top).st_dev
    with os.scandir(top):
        pass  # that the root cannot be read is an error, and no finding
    seen: set[tuple[int, int]] = set()
    files = size = 0
    todo: list[bytes] = [b""]
    while todo:
        folder = todo.pop()
        found.folders.add(folder)
        owner, total = -1, [0, 0]
        entries = _opened(os.path.join(top, folder) if folder else top, folder, found)
        if entries is None:
            continue
        with entries:
            while True:
                try:
                    entry = next(entries, None)
                except OSError:
                    found.unreadable.append(folder)
                    entry = None
                if entry is None:
                    break
                try:
                    s = entry.stat(follow_symlinks=False)
                except OSError:
                    found.vanished += 1
                    continue
                mode = s.st_mode
                if stat.S_ISDIR(mode):
                    path = folder + b"/" + entry.name if folder else entry.name
                    if s.st_dev == device or cross:
                        todo.append(path)
                    else:
                        found.other_file_systems.append(path)
                    continue
                if not stat.S_ISREG(mode):
                    found.others += 1
                    continue
                if s.st_nlink > 1 and _again(s, seen):
                    found.linked_again += 1
                    continue
                if s.st_uid != owner:
                    owner = s.st_uid
                    total = found.sums.setdefault((folder, owner), [0, 0])
                bytes_ = s.st_blocks * 512 if by_disk else s.st_size
                total[0] += bytes_
                total[1] += 1
                files += 1
                size += bytes_
                if progress is not None and files % TELL_EVERY == 0:
                    progress(files, size)
    return found
