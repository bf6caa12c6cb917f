"""Doing a plan on the disk itself, and taking it back.

Every thing is opened below its folder without following a link, looked at, and changed through what was opened: nobody who may
write there can lead a change astray. What a thing was is written down before it is changed.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from typing import NamedTuple

from drawknife.core.disk.plan_steps import PlanSteps
from drawknife.core.disk.read_folders import Disk
from drawknife.core.model.disk import ThingOnDisk
from drawknife.core.words.errors import Refused

from .attributes import ACCESS, DEFAULT, acl_to, read_list
from .from_text import things_from
from .plan_text import block
from .walking import TELL_EVERY, Progress, location_of

#: Takes a line of what was, and has it safe when it returns.
Keep = Callable[[str], None]


@dataclass(slots=True)
class DiskApplied:
    """How many things were changed, and what was left as it is, in words."""

    changed: int = 0
    left: list[str] = field(default_factory=list)


class _Met(NamedTuple):
    """A thing on the disk: where, what it is, and the file descriptor that it is changed through."""

    path: str
    thing: ThingOnDisk
    fd: int
    #: The folder that a file is in; None of a folder.
    folder: str | None
    names: int


def apply_plan(root: str, plan: PlanSteps, keep: Keep, progress: Progress | None = None) -> DiskApplied:
    """Make a disk what a plan says. OSError where something cannot be done: what was done until then is kept and stays.

    First all of it is looked at: :class:`Refused` where the disk is not as it was read, and nothing was changed.
    """
    for met in _walk(root, None):
        _check_as_read(plan.disk, met)
    done = DiskApplied()
    for met in _walk(root, progress):
        _check_as_read(plan.disk, met)
        wanted = plan.folder(met.path, met.thing) if met.folder is None else plan.file(met.folder, met.thing)
        if wanted == met.thing:
            continue
        if met.names > 1 and met.folder is not None:
            done.left.append(f"{met.path} has {met.names} names, of which others may lie elsewhere")
            continue
        keep(block(met.path, met.thing))
        _put(met.fd, met.path, met.thing, wanted)
        done.changed += 1
    return done


def put_back(root: str, text: bytes) -> int:
    """Put back what was kept when a plan was done; how many things that were. OSError where something cannot be done.

    :class:`drawknife.core.words.errors.BadInput` with the line that cannot be read; then nothing was changed.
    """
    was = things_from(text)
    done = 0
    for met in _walk(root, None):
        thing = was.get(met.path)
        if thing is not None and thing != met.thing:
            _put(met.fd, met.path, met.thing, thing._replace(uid=met.thing.uid, gid=met.thing.gid))
            done += 1
    return done


def _check_as_read(disk: Disk, met: _Met) -> None:
    if met.folder is None:
        as_read = disk.folder(met.path) == met.thing
    else:
        as_read = any(x.thing == met.thing for x in disk.files(met.folder))
    if not as_read:
        raise Refused(
            f"{met.path} is not as it was read ({met.thing} now): `drawknife disk read` reads the disk anew, and the plan is to be looked at again"
        )


# --- walking and changing ---------------------------------------------------------------------------


def _walk(root: str, progress: Progress | None) -> Iterator[_Met]:
    """Every folder and file that a reading tells of, each opened."""
    top = os.fsencode(os.path.realpath(root))  # a root may be a link; nothing below it is followed
    seen, device = 0, os.stat(top).st_dev
    paths: dict[bytes, str] = {top: "/"}

    def failed(error: OSError) -> None:
        raise error

    for at, folders, files, fd in os.fwalk(top, onerror=failed):
        path = paths.pop(at)
        status = os.fstat(fd)
        yield _Met(path, _thing(fd, status, True), fd, None, 1)
        kept = []
        for name in folders:
            below = location_of(path, name)
            here = os.stat(name, dir_fd=fd, follow_symlinks=False)
            if below is not None and stat.S_ISDIR(here.st_mode) and here.st_dev == device:
                paths[os.path.join(at, name)] = below
                kept.append(name)
        folders[:] = kept
        for name in files:
            seen += 1
            if progress is not None and seen % TELL_EVERY == 0:
                progress(seen)
            with _opened(name, fd) as file:
                status = os.fstat(file)
                if stat.S_ISREG(status.st_mode):
                    called = location_of(path, name) or f"{path.rstrip('/')}/{os.fsdecode(name)!r}"
                    yield _Met(called, _thing(file, status, False), file, path, status.st_nlink)


@contextmanager
def _opened(name: bytes, folder: int) -> Iterator[int]:
    fd = os.open(name, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
    try:
        yield fd
    finally:
        os.close(fd)


def _through(fd: int) -> bytes:
    """A path that leads to what was opened, wherever it is by now."""
    return f"/proc/self/fd/{fd}".encode()


def _thing(fd: int, status: os.stat_result, folder: bool) -> ThingOnDisk:
    path = _through(fd)
    return ThingOnDisk(
        status.st_uid, status.st_gid, stat.S_IMODE(status.st_mode), read_list(path, ACCESS, follow=True),
        read_list(path, DEFAULT, follow=True) if folder else None,
    )  # fmt: skip


def _put(fd: int, path: str, now: ThingOnDisk, wanted: ThingOnDisk) -> None:
    through = _through(fd)
    try:
        if wanted.acl is None and now.acl is not None:
            os.removexattr(through, ACCESS)
        os.chmod(through, wanted.mode)
        if wanted.acl is not None:
            os.setxattr(through, ACCESS, acl_to(wanted.acl))
        if wanted.default is not None:
            os.setxattr(through, DEFAULT, acl_to(wanted.default))
        elif now.default is not None:
            os.removexattr(through, DEFAULT)
    except OSError as error:
        raise OSError(error.errno, error.strerror, path) from None
    came = _thing(fd, os.fstat(fd), now.default is not None or wanted.default is not None)
    if came != wanted._replace(acl=came.acl if _plain(wanted) and came.acl is None else wanted.acl):
        raise OSError(errno.EPERM, f"it became {came}, and not {wanted}", path)


def _plain(thing: ThingOnDisk) -> bool:
    """Is a list one that says no more than a mode, which the file system does not keep?"""
    return thing.acl is not None and not (thing.acl.users or thing.acl.groups or thing.acl.mask is not None)
