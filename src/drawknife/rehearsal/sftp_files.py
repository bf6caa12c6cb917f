"""What a client does with files over SFTP, and how a refusal is told (draft-ietf-secsh-filexfer-02,
version 3).
"""

from __future__ import annotations

import asyncio
import os
import stat
from collections.abc import AsyncIterator
from contextlib import suppress
from typing import Any

import asyncssh
import structlog
from asyncssh import sftp as wire

from drawknife.core.model.items import UNLIMITED

from .acting import Session
from .listed import Listed
from .refusals import BadName, Denied, InTheWay, NotDone, NotThere
from .writing import Writing

log = structlog.get_logger()

#: What a client is told; of asyncssh's own classes, as its scp goes by them.
_SENTENCES: dict[type[NotDone], tuple[type[asyncssh.SFTPError], str]] = {
    Denied: (asyncssh.SFTPPermissionDenied, "not permitted"),
    NotThere: (asyncssh.SFTPNoSuchFile, "no such file or folder"),
    InTheWay: (asyncssh.SFTPFailure, "something is in the way"),
    BadName: (asyncssh.SFTPFailure, "no name can be so"),
}


#: So many files may a session have open.
MOST_OPEN = 200


class _Open:
    """A file that a client has open, for reading, for writing, or both: then it reads what it
    wrote.

    `reading` is the handle that is read from; `failed` says that a piece was not taken, so that the
    file is not whole.
    """

    def __init__(self, reading: int | None, writing: Writing | None, appends: bool) -> None:
        self.reading, self.writing, self.appends = reading, writing, appends
        self.failed = False
        #: How fast it may be read and written.
        self.down: Pacing = Pacing(None)
        self.up: Pacing = Pacing(None)

    def __bool__(self) -> bool:
        return True


class Files(asyncssh.SFTPServer):
    """What a client does with files.

    Each operation says what it does not let in the words of version 3, and no more.
    """

    def __init__(self, chan: asyncssh.SSHServerChannel[bytes]) -> None:
        super().__init__(chan)
        # What :mod:`.sftp` made of the connection: by now somebody has signed in.
        connection = chan.get_connection().get_extra_info("drawknife")
        session: Session = connection.session
        self._session, self._stand, self._connection = session, connection.stand, connection
        self._open: set[_Open] = set()
        self._loop = asyncio.get_running_loop()
        self._asked_at = self._loop.time()
        self._idle: asyncio.TimerHandle | None = None
        landing = session.setting("landing")
        if landing != "/":
            found, thing = session.ask("enter", landing), session.look(landing)
            if found.allowed and thing is not None and thing.folder:
                session.directory = landing
            else:
                session.tell("enter", landing, found, note="it starts at / instead of there")
        self._look_whether_idle()

    # --- what each operation begins with ---------------------------------------------------------

    def _busy(self) -> None:
        """Something is asked: the time until the session ends for want of it begins anew."""
        self._asked_at = self._loop.time()

    def _look_whether_idle(self) -> None:
        """End the session if nothing was asked for as long as is set; else look again when it may
        be so.
        """
        seconds = UNLIMITED
        with suppress(Denied):
            seconds = self._session.setting("idle_timeout")
        left = 60.0 if seconds == UNLIMITED else self._asked_at + float(seconds) - self._loop.time()
        if left <= 0:
            self.channel.close()
        else:
            self._idle = self._loop.call_later(left, self._look_whether_idle)

    def _at(self, path: bytes) -> str:
        """The location that is meant, by the model as it is now."""
        self._busy()
        self._stand.refresh()
        try:
            return self._session.absolute(path.decode("utf-8"))
        except UnicodeDecodeError:
            raise BadName(path.decode("utf-8", "backslashreplace")) from None

    def _do(self, work: Any, *arguments: Any) -> Any:
        """Do something, and tell a refusal as version 3 has it."""
        try:
            return work(*arguments)
        except NotDone as refused:
            if isinstance(refused, BadName):
                self._session.refused_name("look", str(refused))
            kind, text = _SENTENCES.get(
                type(refused), (asyncssh.SFTPFailure, "there is no room for it")
            )
            raise kind(text) from None  # type: ignore[call-arg, arg-type]
        except asyncssh.SFTPError:
            raise
        except Exception:
            # asyncssh would send the client the text of what it was.
            log.exception("an operation failed")
            raise asyncssh.SFTPError(wire.FX_FAILURE, "it did not work") from None

    # --- folders and facts -----------------------------------------------------------------------

    def realpath(self, path: bytes) -> bytes:
        return self._do(lambda: self._at(path).encode())  # type: ignore[no-any-return]

    def stat(self, path: bytes) -> asyncssh.SFTPAttrs:
        return self._do(lambda: _attributes(self._session.see(self._at(path))))  # type: ignore[no-any-return]

    def lstat(self, path: bytes) -> asyncssh.SFTPAttrs:
        return self.stat(path)

    def scandir(self, path: bytes) -> AsyncIterator[asyncssh.SFTPName]:
        seen = self._do(lambda: self._session.list(self._at(path)))

        async def names() -> AsyncIterator[asyncssh.SFTPName]:
            here = asyncssh.SFTPAttrs(
                type=wire.FILEXFER_TYPE_DIRECTORY, permissions=stat.S_IFDIR | 0o700
            )
            for name in (b".", b".."):
                yield asyncssh.SFTPName(name, attrs=here)
            for x in seen:
                yield asyncssh.SFTPName(os.fsencode(x.name), attrs=_attributes(x))

        return names()

    def mkdir(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        self._do(lambda: self._session.make_folder(self._at(path)))

    def rmdir(self, path: bytes) -> None:
        self._do(lambda: self._session.remove_folder(self._at(path)))

    def remove(self, path: bytes) -> None:
        self._do(lambda: self._session.delete(self._at(path)))

    def rename(self, oldpath: bytes, newpath: bytes) -> None:
        self._do(lambda: self._session.rename(self._at(oldpath), self._at(newpath), replaces=False))

    def posix_rename(self, oldpath: bytes, newpath: bytes) -> None:
        self._do(lambda: self._session.rename(self._at(oldpath), self._at(newpath), replaces=True))

    def setstat(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        self._do(self._set, self._at(path), attrs)

    def lsetstat(self, path: bytes, attrs: asyncssh.SFTPAttrs) -> None:
        self.setstat(path, attrs)

    def _set(self, at: str, attrs: asyncssh.SFTPAttrs) -> None:
        if attrs.size is not None:
            self._cut(at, attrs.size)
        elif attrs.mtime is not None:
            self._session.set_changed(at, float(attrs.mtime))
        else:
            # Modes and owners are not kept: it is asked whether they might be set.
            thing = self._session.look(at)
            folder = thing is not None and thing.folder
            owner = self._session.owner(at)
            self._session.need(
                "set-attributes", at, thing="folder" if folder else "file", owner=owner
            )
            self._session.write_down(
                *(("there is no such file or folder", False) if thing is None else ())
            )
            if thing is None:
                raise NotThere(at)

    def _cut(self, at: str, size: int) -> None:
        """A file's length set: it is overwritten with as much of itself, or with
        nothing after it.
        """
        thing = self._session.look(at)
        if thing is None or thing.folder:
            self._session.need("overwrite", at)
            self._session.write_down("there is no such file", done=False)
            raise NotThere(at)
        writing = self._session.write(at, min(size, thing.size) if size != thing.size else 0)
        try:
            if size == thing.size:
                writing.break_off()
                return
            if size > writing.end:
                writing.put(b"\0", size - 1)
        except NotDone:
            writing.break_off()
            raise
        os.ftruncate(writing.fd, size)
        writing.finish()

    def readlink(self, path: bytes) -> bytes:
        raise asyncssh.SFTPError(wire.FX_OP_UNSUPPORTED, "there are no links here")

    def symlink(self, oldpath: bytes, newpath: bytes) -> None:
        raise asyncssh.SFTPError(wire.FX_OP_UNSUPPORTED, "there are no links here")

    def link(self, oldpath: bytes, newpath: bytes) -> None:
        raise asyncssh.SFTPError(wire.FX_OP_UNSUPPORTED, "there are no links here")

    def statvfs(self, path: bytes) -> Any:
        raise asyncssh.SFTPError(wire.FX_OP_UNSUPPORTED, "that is not told here")

    # --- files -----------------------------------------------------------------------------------

    def open(self, path: bytes, pflags: int, attrs: asyncssh.SFTPAttrs) -> _Open:
        return self._do(self._opened, self._at(path), pflags)  # type: ignore[no-any-return]

    def _opened(self, at: str, flags: int) -> _Open:
        if len(self._open) >= MOST_OPEN:
            raise asyncssh.SFTPError(wire.FX_FAILURE, "too many files are open")
        reading, writing = None, None
        appends = bool(flags & wire.FXF_APPEND)
        if not flags & (wire.FXF_WRITE | wire.FXF_APPEND):
            reading = self._session.download(at)
        else:
            if flags & wire.FXF_READ:
                self._session.may_read_back(at)
            writing = self._writing(at, flags, appends)
            if flags & wire.FXF_READ:
                reading = writing.fd
        made = _Open(reading, writing, appends)
        made.down, made.up = (
            Pacing(_rate(self._session.setting(name))) for name in ("rate_down", "rate_up")
        )
        self._open.add(made)
        return made

    def _writing(self, at: str, flags: int, appends: bool) -> Writing:
        thing = self._session.look(at)
        there = thing is not None and not thing.folder
        if there and flags & wire.FXF_CREAT and flags & wire.FXF_EXCL:
            self._session.need("upload", at)
            self._session.write_down("something is in the way", done=False)
            raise InTheWay(at)
        if not there and not flags & wire.FXF_CREAT:
            self._session.need("append" if appends else "overwrite", at)
            self._session.write_down("there is no such file", done=False)
            raise NotThere(at)
        if appends and there:
            return self._session.write(at, None)
        if there and not flags & wire.FXF_TRUNC:
            return self._session.modify(at)
        return self._session.write(at, 0)

    async def read(self, file_obj: Any, offset: int, size: int) -> bytes:
        self._busy()
        if file_obj.reading is None:
            raise asyncssh.SFTPError(wire.FX_PERMISSION_DENIED, "not permitted")
        found: bytes = self._do(os.pread, file_obj.reading, size, offset)
        await file_obj.down.wait(len(found))
        return found

    async def write(self, file_obj: Any, offset: int, data: bytes) -> int:
        self._busy()
        writing = file_obj.writing
        if writing is None:
            raise asyncssh.SFTPError(wire.FX_PERMISSION_DENIED, "not permitted")
        if file_obj.failed:
            raise asyncssh.SFTPError(wire.FX_FAILURE, "what came before was not taken")
        try:
            self._do(writing.put, data, None if file_obj.appends else offset)
        except asyncssh.SFTPError as refused:
            # A piece that the rules refuse is no part of it; one for which there is no room is
            # missing.
            file_obj.failed = refused.code != wire.FX_PERMISSION_DENIED
            raise
        await file_obj.up.wait(len(data))
        return len(data)

    def fsync(self, file_obj: Any) -> None:
        """What was written is on the disk when this is answered."""
        self._busy()
        if file_obj.writing is not None:
            os.fsync(file_obj.writing.fd)

    def fstat(self, file_obj: Any) -> asyncssh.SFTPAttrs:
        self._busy()
        fd = (
            file_obj.reading
            if file_obj.reading is not None
            else file_obj.writing.fd
            if file_obj.writing
            else -1
        )
        found = os.fstat(fd)
        return asyncssh.SFTPAttrs(
            size=found.st_size,
            permissions=stat.S_IFREG | 0o600,
            atime=int(found.st_mtime),
            mtime=int(found.st_mtime),
        )

    def fsetstat(self, file_obj: Any, attrs: asyncssh.SFTPAttrs) -> None:
        """What comes with a copy: times and modes of a file that this client is writing are let,
        and not kept.
        """
        self._busy()

    def close(self, file_obj: Any) -> None:
        # Called for what is still open, too, when the client is gone; then the channel is not open
        # any more either way.
        self._busy()
        states = (
            getattr(self.channel, "_send_state", "open"),
            getattr(self.channel, "_recv_state", "open"),
        )
        self._closed(file_obj, broken=states != ("open", "open"))

    def _closed(self, file_obj: _Open, broken: bool) -> None:
        if file_obj not in self._open:
            return
        self._open.discard(file_obj)
        if file_obj.writing is None:
            os.close(file_obj.reading if file_obj.reading is not None else -1)
        elif broken or file_obj.failed:
            # What was there before stays; to who closes it, it is not answered as done.
            self._do(file_obj.writing.break_off)
            if not broken:
                raise asyncssh.SFTPError(wire.FX_FAILURE, "not all of it was taken")
        else:
            self._do(file_obj.writing.finish)

    def exit(self) -> None:
        """The session ends; what is still open was broken off."""
        if self._idle is not None:
            self._idle.cancel()
        for file_obj in list(self._open):
            with suppress(asyncssh.SFTPError):
                self._closed(file_obj, broken=True)
        with suppress(OSError, asyncssh.Error):
            self.channel.exit(0)  # else scp takes a good copy for a failed one


class Pacing:
    """Waits so that no more than so many bytes a second go by; None: as many as there are."""

    def __init__(self, rate: int | None) -> None:
        self._rate, self._gone, self._began = rate, 0, 0.0

    async def wait(self, size: int) -> None:
        if self._rate is None:
            return
        now = asyncio.get_running_loop().time()
        self._began = self._began or now
        self._gone += size
        early = self._began + self._gone / max(1, self._rate) - now
        if early > 0:
            await asyncio.sleep(early)


def _rate(value: Any) -> int | None:
    return None if value == UNLIMITED else int(value)


def _attributes(seen: Listed) -> asyncssh.SFTPAttrs:
    folder = seen.thing.folder
    mode = stat.S_IFDIR | 0o700 if folder else stat.S_IFREG | 0o600
    # Version 3 has no type; asyncssh's own scp goes by it.
    kind = wire.FILEXFER_TYPE_DIRECTORY if folder else wire.FILEXFER_TYPE_REGULAR
    at = int(seen.thing.changed)
    return asyncssh.SFTPAttrs(type=kind, size=seen.thing.size, permissions=mode, atime=at, mtime=at)
