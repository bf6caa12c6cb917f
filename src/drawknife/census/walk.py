"""Walking a folder tree: what lies in it, by folder and owner.

Regular files count. A file with several names counts once, in the first of their folders by name.
Symbolic links are not followed, other file systems not entered unless told. What changes while it
is walked does no harm.

A large tree is walked piece by piece, by several processes: what a piece has come to and not gone
through is given out again.
"""

from __future__ import annotations

import errno
import os
import signal
import stat
import threading
from collections.abc import Callable, Iterable
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass, field
from multiprocessing import get_context
from typing import Any, NamedTuple

#: (files so far, bytes so far), every now and then.
Progress = Callable[[int, int], None]
#: After so many files a piece ends with the folder that it is in.
PIECE = 5_000


@dataclass(slots=True)
class Walked:
    """What was found.

    Folders are paths below the root, as bytes, the root empty; owners are numbers of OS users.
    """

    #: (folder, owner) to [bytes, files]
    sums: dict[tuple[bytes, int], list[int]] = field(default_factory=dict)
    folders: set[bytes] = field(default_factory=set)
    unreadable: list[bytes] = field(default_factory=list)
    other_file_systems: list[bytes] = field(default_factory=list)
    linked_again: int = 0
    others: int = 0
    vanished: int = 0


class Linked(NamedTuple):
    """A file with several names: the first folder that it was met in, its owner and bytes, and how
    many names were met.
    """

    folder: bytes
    owner: int
    bytes: int
    names: int

    def joined(self, other: Linked | None) -> Linked:
        return self if other is None else min(self, other)._replace(names=self.names + other.names)


class _Looking(NamedTuple):
    """How a tree is walked."""

    top: bytes
    device: int
    by_disk: bool
    cross: bool
    piece: int


class _Piece:
    """What some folders hold, and the folders in them that are still to be gone through."""

    def __init__(self) -> None:
        self.found = Walked()
        self.linked: dict[tuple[int, int], Linked] = {}
        self.rest: list[bytes] = []
        self.files = self.bytes = 0

    def take(self, other: _Piece) -> None:
        """Add what another piece has found. No folder is in two pieces."""
        mine, theirs = self.found, other.found
        mine.sums.update(theirs.sums)
        mine.folders |= theirs.folders
        mine.unreadable += theirs.unreadable
        mine.other_file_systems += theirs.other_file_systems
        mine.others += theirs.others
        mine.vanished += theirs.vanished
        for inode, linked in other.linked.items():
            self.linked[inode] = linked.joined(self.linked.get(inode))
        self.rest += other.rest
        self.files += other.files
        self.bytes += other.bytes

    def whole(self) -> Walked:
        """What was found, each file with several names in its place."""
        for linked in self.linked.values():
            total = self.found.sums.setdefault((linked.folder, linked.owner), [0, 0])
            total[0] += linked.bytes
            total[1] += 1
            self.found.linked_again += linked.names - 1
        return self.found


def walk_files(
    root: str,
    *,
    by_disk: bool = False,
    cross: bool = False,
    progress: Progress | None = None,
    processes: int = 1,
) -> Walked:
    """Walk `root`.

    `by_disk` counts what files occupy instead of their length; `cross` enters other file systems.

    A tree that is not small is walked by so many `processes`. Raises OSError if the root itself
    cannot be read.
    """
    top = os.fsencode(os.path.abspath(root))
    looking = _Looking(top, os.stat(top).st_dev, by_disk, cross, PIECE)
    with os.scandir(top):
        pass  # that the root cannot be read is an error, and no finding
    all_ = _Piece()
    all_.rest = [b""]

    def took(piece: _Piece) -> None:
        all_.take(piece)
        if progress is not None:
            progress(all_.files, all_.bytes)

    took(_gone_through(looking, _given_out(all_, 1)))
    if processes > 1 and all_.rest:
        _share(looking, all_, took, processes)
    while all_.rest:
        took(_gone_through(looking, _given_out(all_, 1)))
    return all_.whole()


def _given_out(all_: _Piece, parts: int) -> list[bytes]:
    """One of so many parts of the folders that are to be gone through."""
    start = len(all_.rest) - max(1, len(all_.rest) // parts)
    given = all_.rest[start:]
    del all_.rest[start:]
    return given


def _share(looking: _Looking, all_: _Piece, took: Callable[[_Piece], None], processes: int) -> None:
    """Have the rest gone through by several processes."""
    # Forked, they begin at once; but not where a thread runs: what it holds at that moment would be
    # held in them for ever. Ctrl-C reaches all of them: they leave it to the first one.
    way = "fork" if threading.active_count() == 1 else "forkserver"
    leave = (signal.SIGINT, signal.SIG_IGN)
    running: set[Future[_Piece]] = set()
    try:
        with ProcessPoolExecutor(processes, get_context(way), signal.signal, leave) as pool:
            while all_.rest or running:
                while all_.rest and len(running) < 2 * processes:
                    running.add(
                        pool.submit(_gone_through, looking, _given_out(all_, 2 * processes))
                    )
                done, running = wait(running, return_when=FIRST_COMPLETED)
                for piece in done:
                    took(piece.result())
    except BrokenProcessPool:
        raise OSError(errno.ECHILD, "one of the processes that walked it was ended") from None


def _gone_through(looking: _Looking, folders: Iterable[bytes]) -> _Piece:
    """Go through some folders and those in them, until there were files enough."""
    piece = _Piece()
    piece.rest = todo = list(folders)
    while todo and piece.files < looking.piece:
        folder = todo.pop()
        piece.found.folders.add(folder)
        entries = _opened(
            os.path.join(looking.top, folder) if folder else looking.top, folder, piece.found
        )
        if entries is not None:
            with entries:
                _look(looking, folder, entries, piece)
    return piece


def _opened(path: bytes, folder: bytes, found: Walked) -> Any:
    """What lies in a folder; None, and noted, where that cannot be had."""
    try:
        return os.scandir(path)
    except FileNotFoundError:
        found.vanished += 1
    except OSError:
        found.unreadable.append(folder)
    return None


def _look(looking: _Looking, folder: bytes, entries: Any, piece: _Piece) -> None:
    """Add what lies in one folder."""
    found, by_disk = piece.found, looking.by_disk
    owner, total = -1, [0, 0]
    while True:
        try:
            entry = next(entries, None)
        except OSError:
            found.unreadable.append(folder)
            entry = None
        if entry is None:
            return
        try:
            s = entry.stat(follow_symlinks=False)
        except OSError:
            found.vanished += 1
            continue
        mode = s.st_mode
        if stat.S_ISDIR(mode):
            path = folder + b"/" + entry.name if folder else entry.name
            if s.st_dev == looking.device or looking.cross:
                piece.rest.append(path)
            else:
                found.other_file_systems.append(path)
            continue
        if not stat.S_ISREG(mode):
            found.others += 1
            continue
        bytes_ = s.st_blocks * 512 if by_disk else s.st_size
        if s.st_nlink > 1:
            inode = s.st_dev, s.st_ino
            known = piece.linked.get(inode)
            piece.linked[inode] = Linked(folder, s.st_uid, bytes_, 1).joined(known)
            if known is not None:
                continue
        else:
            if s.st_uid != owner:
                owner = s.st_uid
                total = found.sums.setdefault((folder, owner), [0, 0])
            total[0] += bytes_
            total[1] += 1
        piece.files += 1
        piece.bytes += bytes_
