"""What the processes of one service tell each other at once, without asking the database.

Each process writes only its own numbers, in memory that all of them see; whoever reads takes all
together.
"""

from __future__ import annotations

import mmap

_EACH = (
    8  # numbers of eight bytes for a process, so that no two share a line of the processor's cache
)
_REVISION, _FORGOTTEN, _CONNECTIONS, _READY, _RESERVED, _STOPPING = range(6)


class Shared:
    """Numbers of several processes; `mine` is the place of this one.

    Made before the processes part.
    """

    def __init__(self, processes: int = 1) -> None:
        self.processes = processes
        self.mine = 0
        self._numbers = memoryview(mmap.mmap(-1, 8 * _EACH * processes)).cast("q")

    def _every(self, what: int) -> memoryview:
        return self._numbers[what::_EACH]

    def _write(self, what: int, number: int) -> None:
        self._numbers[self.mine * _EACH + what] = number

    def wrote(self, revision: int) -> None:
        """This process has put a revision in force."""
        self._write(_REVISION, max(revision, self._every(_REVISION)[self.mine]))

    def newest(self) -> int:
        """The newest revision that any process has put in force."""
        return max(self._every(_REVISION))

    def ended_tokens(self) -> None:
        """This process has ended a token or a session."""
        self._write(_FORGOTTEN, self._every(_FORGOTTEN)[self.mine] + 1)

    def ended(self) -> int:
        """A number that is another whenever any process has ended a token."""
        return sum(self._every(_FORGOTTEN))

    def is_ready(self) -> None:
        """This process can answer."""
        self._write(_READY, 1)

    def all_ready(self) -> bool:
        """Can every process answer, or could once?"""
        return all(self._every(_READY))

    def begin_to_stop(self) -> None:
        """The whole service is to stop, and not this process alone."""
        self._write(_STOPPING, 1)

    def is_stopping(self) -> bool:
        """Is the whole service to stop?"""
        return any(self._every(_STOPPING))

    def has_connections(self, count: int) -> None:
        """This process holds so many connections."""
        self._write(_CONNECTIONS, count)

    def fewest_elsewhere(self) -> int | None:
        """The least number of connections that another process holds; None where there
        is no other.
        """
        return min(
            (n for p, n in enumerate(self._every(_CONNECTIONS)) if p != self.mine), default=None
        )

    def reserves(self, size: int) -> None:
        """This process keeps room for so many bytes of requests."""
        self._write(_RESERVED, size)

    def reserved(self) -> int:
        """Bytes for which all processes keep room."""
        return sum(self._every(_RESERVED))
