"""Scratch files: a folder for each store, and who owns what.

Every part of a path is opened from the folder above it, and no link is followed: nothing outside
can be reached.
"""

from __future__ import annotations

import errno
import os
import pwd
import shutil
import stat
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import NamedTuple

from drawknife.core.model.items import Model
from drawknife.core.words.names import Place, fold, parent

#: What a half-written file is called until it is whole; no name that a client can write begins so.
PART = ".part-"
#: As much of a file is copied at once.
_PIECE = 1 << 20


class FileOrFolder(NamedTuple):
    """A file or folder: its size in bytes, and when it was last changed (seconds since 1970)."""

    folder: bool
    size: int
    changed: float
    inode: int


class Tree:
    """The files of a rehearsal, in a folder of its own."""

    def __init__(self, root: Path) -> None:
        self.root = root
        root.mkdir(parents=True, exist_ok=True)
        #: By place the account that owns it; for others it is not known.
        self.owners: dict[Place, str] = {}
        #: Of these, the folders that somebody made; and how often that was changed.
        self.folder_owners: dict[Place, str] = {}
        self.folder_changes = 0

    def own_folder(self, place: Place, owner: str | None) -> None:
        """Note whose a folder is; None: nobody's any more."""
        self.owners.pop(place, None)
        self.folder_owners.pop(place, None)
        if owner is not None:
            self.owners[place] = self.folder_owners[place] = owner
        self.folder_changes += 1

    def make_folders_of(self, model: Model) -> None:
        """Make each store and each recorded folder that is not there."""
        for store in model.stores:
            for folder in store.folders:
                self.make_all(Place(store.name, folder.path))
            self.make_all(Place(store.name, "/"))

    def make_all(self, place: Place) -> None:
        """Make a folder, and those above it, where they are not there."""
        top = self.root / place.store
        top.mkdir(exist_ok=True)
        at = Place(place.store, "/")
        for name in filter(None, place.path.split("/")):
            at = Place(place.store, at.path.rstrip("/") + "/" + name)
            if self.look(at) is None:
                self.make_folder(at)

    @contextmanager
    def _above(self, place: Place) -> Iterator[tuple[int, str]]:
        """The open folder that something is in, and its name there; of a store's root: itself, and
        ``.``.
        """
        names = [x for x in place.path.split("/") if x]
        at = os.open(self.root / place.store, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
        try:
            for name in names[:-1]:
                below = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=at)
                os.close(at)
                at = below
            yield at, names[-1] if names else "."
        finally:
            os.close(at)

    def look(self, place: Place) -> FileOrFolder | None:
        """What is there: a file or a folder; None: nothing, or something else."""
        try:
            with self._above(place) as (above, name):
                found = os.stat(name, dir_fd=above, follow_symlinks=False)
        except OSError:
            return None
        if not (stat.S_ISREG(found.st_mode) or stat.S_ISDIR(found.st_mode)):
            return None
        folder = stat.S_ISDIR(found.st_mode)
        return FileOrFolder(folder, 0 if folder else found.st_size, found.st_mtime, found.st_ino)

    def names_in(self, place: Place) -> list[str]:
        """The names of the files and folders in a folder."""
        with self._above(place) as (above, name):
            at = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=above)
        try:
            return sorted(n for n in os.listdir(at) if not n.startswith(PART))
        finally:
            os.close(at)

    def open(self, place: Place, flags: int) -> int:
        """A file, opened with flags of :func:`os.open`."""
        with self._above(place) as (above, name):
            return os.open(name, flags | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600, dir_fd=above)

    def open_copy(self, place: Place, keep: int) -> tuple[int, str]:
        """A new file beside one, with the first `keep` bytes of that; and its name.

        :meth:`replace` puts it in its place.
        """
        made = f"{PART}{os.urandom(8).hex()}"
        at = Place(place.store, f"{parent(place.path).rstrip('/')}/{made}")
        new = self.open(at, os.O_RDWR | os.O_CREAT | os.O_EXCL)
        if keep:
            old = self.open(place, os.O_RDONLY)
            try:
                done = 0
                while done < keep:
                    done += os.sendfile(new, old, done, min(_PIECE, keep - done))
            finally:
                os.close(old)
        return new, made

    def replace(self, made: str, place: Place) -> None:
        """Put what :meth:`open_copy` made in the place of the file."""
        with self._above(place) as (above, name):
            os.rename(made, name, src_dir_fd=above, dst_dir_fd=above)

    def throw_away(self, made: str, place: Place) -> None:
        with self._above(place) as (above, _):
            os.unlink(made, dir_fd=above)

    def make_folder(self, place: Place) -> None:
        with self._above(place) as (above, name):
            os.mkdir(name, 0o700, dir_fd=above)

    def remove_file(self, place: Place) -> None:
        with self._above(place) as (above, name):
            os.unlink(name, dir_fd=above)
        self.owners.pop(place, None)

    def remove_folder(self, place: Place) -> bool:
        """Remove an empty folder; False: something is in it."""
        try:
            with self._above(place) as (above, name):
                os.rmdir(name, dir_fd=above)
        except OSError as error:
            if error.errno in (errno.ENOTEMPTY, errno.EEXIST):
                return False
            raise
        self.own_folder(place, None)
        return True

    def rename(self, place: Place, to: Place) -> None:
        """Move a file or folder; a file that is there is replaced."""
        with self._above(place) as (above, name), self._above(to) as (there, new):
            os.rename(name, new, src_dir_fd=above, dst_dir_fd=there)
        self.owners.pop(to, None)
        for at in [
            p for p in self.owners if p.store == place.store and _within(p.path, place.path)
        ]:
            now = Place(to.store, to.path + at.path[len(place.path) :])
            if at in self.folder_owners:
                owner = self.folder_owners[at]
                self.own_folder(at, None)
                self.own_folder(now, owner)
            else:
                self.owners[now] = self.owners.pop(at)

    def set_changed(self, place: Place, at: float) -> None:
        with self._above(place) as (above, name):
            os.utime(name, (at, at), dir_fd=above, follow_symlinks=False)

    def files_below(self, place: Place) -> Iterator[tuple[Place, int]]:
        """Every file at or below a place, with its size."""
        thing = self.look(place)
        if thing is not None and not thing.folder:
            yield place, thing.size
        elif thing is not None:
            for name in self.names_in(place):
                yield from self.files_below(Place(place.store, f"{place.path.rstrip('/')}/{name}"))

    def take_shape(self, store: str, like: Path, accounts: Iterable[str]) -> int:
        """Files and folders of the names and sizes of a real folder, without what is in them; the
        number of files.

        Whose a file is, its OS user says, where there is an account of that name. Links and special
        files are left out.
        """
        known = {fold(name): name for name in accounts}
        files = 0
        for folder, names, file_names in os.walk(like):
            inside = Place(store, "/" + "/".join(Path(folder).relative_to(like).parts))
            self.make_all(inside)
            names[:] = [
                n for n in names if not n.startswith(PART) and not Path(folder, n).is_symlink()
            ]
            for name in file_names:
                found = os.lstat(os.path.join(folder, name))
                if not stat.S_ISREG(found.st_mode) or name.startswith(PART):
                    continue
                place = Place(store, f"{inside.path.rstrip('/')}/{name}")
                if self.look(place) is not None:
                    continue
                made = self.open(place, os.O_WRONLY | os.O_CREAT | os.O_EXCL)
                os.truncate(made, found.st_size)
                os.close(made)
                self.set_changed(place, found.st_mtime)
                files += 1
                with suppress(KeyError):
                    if (owner := known.get(fold(pwd.getpwuid(found.st_uid).pw_name))) is not None:
                        self.owners[place] = owner
        return files

    def throw_all_away(self) -> None:
        shutil.rmtree(self.root, ignore_errors=True)


def _within(path: str, above: str) -> bool:
    return path == above or path.startswith(above.rstrip("/") + "/")
