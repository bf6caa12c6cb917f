"""What the processes of one service tell each other at once, without asking the database.

Each process writes only its own numbers, in memory that all of them see; whoever reads takes all together.
"""

from __future__ import annotations

import mmap
import struct

_NUMBER = struct.Struct("=q")
_EACH = 64  # bytes for a process, so that no two share a line of the processor's cache
_REVISION, _FORGOTTEN, _CONNECTIONS, _READY = 0, 8, 16, 24


class Shared:
    """Numbers of several processes; `mine` is the place of this one. Made before the processes part."""

    def __init__(self, processes: int = 1) -> None:
        self.processes = processes
        self.mine = 0
        self._memory = mmap.mmap(-1, _EACH * processes)

    def _read(self, process: int, what: int) -> int:
        return int(_NUMBER.unpack_from(self._memory, process * _EACH + what)[0])

    def _write(self, what: int, number: int) -> None:
        _NUMBER.pack_into(self._memory, self.mine * _EACH + what, number)

    def wrote(self, revision: int) -> None:
        """This process has put a revision in force."""
        self._write(_REVISION, max(revision, self._read(self.mine, _REVISION)))

    def newest(self) -> int:
        """The newest revision that any process has put in force."""
        return max(self._read(p, _REVISION) for p in range(self.processes))

    def ended_tokens(self) -> None:
        """This process has ended a token or a session."""
        self._write(_FORGOTTEN, self._read(self.mine, _FORGOTTEN) + 1)

    def ended(self) -> int:
        """A number that is another whenever any process has ended a token."""
        return sum(self._read(p, _FORGOTTEN) for p in range(self.processes))

    def is_ready(self) -> None:
        """This process can answer."""
        self._write(_READY, 1)

    def all_ready(self) -> bool:
        """Can every process answer, or could once?"""
        return all(self._read(p, _READY) for p in range(self.processes))

    def has_connections(self, count: int) -> None:
        """This process holds so many connections."""
        self._write(_CONNECTIONS, count)

    def fewest_elsewhere(self) -> int | None:
        """The least number of connections that another process holds; None where there is no other."""
        return min((self._read(p, _CONNECTIONS) for p in range(self.processes) if p != self.mine), default=None)
