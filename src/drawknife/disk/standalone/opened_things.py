"""Files and folders opened by name without following a link, and what is read and set there."""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager

from .file_names import shown
from .lists_and_modes import ACCESS, DEFAULT, Acl, Thing, acl_from_bytes, acl_to_bytes


@contextmanager
def opened(name: bytes, folder: int | None) -> Iterator[int]:
    fd = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=folder)
    with closing(fd):
        yield fd


@contextmanager
def opened_if_there(name: bytes, folder: int) -> Iterator[int | None]:
    try:
        fd = os.open(name, os.O_PATH | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=folder)
    except FileNotFoundError:
        yield None
        return
    with closing(fd):
        yield fd


@contextmanager
def closing(fd: int) -> Iterator[None]:
    try:
        yield
    finally:
        os.close(fd)


def open_below(top: int, path: bytes, flags: int) -> int:
    """Open what is at a path below a folder; no part of the path may be a link."""
    at = os.dup(top)
    parts = path.split(b"/") if path else []
    try:
        for part in parts[:-1]:
            inner = os.open(
                part, os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=at
            )
            os.close(at)
            at = inner
        return os.open(
            parts[-1] if parts else b".", flags | os.O_NOFOLLOW | os.O_CLOEXEC, dir_fd=at
        )
    finally:
        os.close(at)


def path_of(fd: int) -> str:
    """A path that leads to what was opened, wherever it is by now."""
    return f"/proc/self/fd/{fd}"


def thing_at(fd: int, is_folder: bool) -> Thing:
    status = os.fstat(fd)
    acl = _list_at(fd, ACCESS)
    return Thing(
        status.st_uid,
        status.st_gid,
        stat.S_IMODE(status.st_mode),
        acl,
        _list_at(fd, DEFAULT) if is_folder else None,
    )


def _list_at(fd: int, name: str) -> Acl | None:
    try:
        return acl_from_bytes(os.getxattr(path_of(fd), name))
    except OSError as error:
        if error.errno in (errno.ENODATA, errno.ENOTSUP):
            return None
        raise


def put(fd: int, path: bytes, now: Thing, wanted: Thing) -> None:
    """Give a thing that was opened its mode and lists.

    OSError where it cannot be done, or did not come out so.
    """
    through = path_of(fd)
    try:
        if wanted.acl is None and now.acl is not None:
            os.removexattr(through, ACCESS)
        os.chmod(through, wanted.mode)
        if wanted.acl is not None:
            os.setxattr(through, ACCESS, acl_to_bytes(wanted.acl))
        if wanted.default is not None:
            os.setxattr(through, DEFAULT, acl_to_bytes(wanted.default))
        elif now.default is not None:
            os.removexattr(through, DEFAULT)
    except OSError as error:
        raise OSError(error.errno, error.strerror, shown(b"/" + path)) from None
    came = thing_at(fd, now.default is not None or wanted.default is not None)
    plain = wanted.acl is not None and not (
        wanted.acl.users or wanted.acl.groups or wanted.acl.mask is not None
    )
    if came != (wanted._replace(acl=None) if plain and came.acl is None else wanted):
        raise OSError(errno.EPERM, f"it became {came}, and not {wanted}", shown(b"/" + path))
