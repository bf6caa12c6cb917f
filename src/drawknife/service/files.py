"""Files that the service may read: regular ones, of bounded size, below the folders that were named
at its start.

Certificates, lists of people and passwords of directories are named by whoever may change the
model; they are not to be a way to read the machine's other files, nor the service's own secrets,
wherever these lie.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from drawknife.core.words.errors import OutOfReach
from drawknife.core.words.sizes import show_size

LARGEST = 2**20


class NotReadable(OutOfReach):
    """A file that the service does not read, and why, in words that give nothing of it away."""


class ReadableFolders:
    """The folders below which files are read, and how large a file may be (bytes).

    Those that are the service's `own` are never read for others, under whatever name.
    """

    def __init__(
        self, folders: tuple[Path, ...] = (), largest: int = LARGEST, own: tuple[Path, ...] = ()
    ) -> None:
        self.folders = tuple(f.resolve() for f in folders)
        self.largest = largest
        self.own = own

    def _is_own(self, seen: os.stat_result) -> bool:
        """Is it one of the service's own?

        By its number, so that no other name or link leads to it.
        """
        for path in self.own:
            try:
                if os.path.samestat(path.stat(), seen):
                    return True
            except OSError:
                continue
        return False

    def find(self, name: str) -> Path:
        """Where a file is: an absolute path, or one within one of the folders.

        :class:`NotReadable` if it is outside.
        """
        if "\x00" in name:
            raise NotReadable("the path holds a character that none has")
        if not self.folders:
            raise NotReadable("the service reads no files: it was started without --files FOLDER")
        given = Path(name)
        for folder in self.folders:
            try:
                path = (folder / given).resolve()
            except (OSError, RuntimeError):
                continue
            if path.is_relative_to(folder) and (given.is_absolute() or os.path.lexists(path)):
                return path
        named = ", ".join(map(str, self.folders))
        raise NotReadable(f"{name} is not there, or outside of what the service may read ({named})")

    def read(self, name: str) -> bytes:
        """The bytes of a file; :class:`NotReadable` if it is not a regular one, is too large, or
        cannot be read.
        """
        path = self.find(name)
        try:
            # Without waiting for the other end of a pipe, and not through a link put there
            # meanwhile.
            number = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW | os.O_CLOEXEC)
        except OSError as error:
            raise NotReadable(f"{name} cannot be read: {error.strerror}") from None
        with os.fdopen(number, "rb") as file:
            seen = os.fstat(number)
            if not stat.S_ISREG(seen.st_mode):
                raise NotReadable(f"{name} is no regular file")
            if self._is_own(seen):
                raise NotReadable(
                    f"{name} is a file of the service itself, which it reads for nobody"
                )
            raw = file.read(self.largest + 1)
        if len(raw) > self.largest:
            limit = show_size(self.largest)
            raise NotReadable(
                f"{name} is larger than {limit}; start the service with a larger --largest-file"
            )
        return raw
