"""Doing the steps of trials at a server that speaks FTP or SFTP, and nothing that harms what is
there.

What the trial has not created itself is never deleted, overwritten, moved or appended to: such
steps are not tried. What it has created is deleted at the end.
"""

from __future__ import annotations

import ftplib
import io
import secrets
import ssl
from contextlib import suppress
from pathlib import Path, PurePosixPath
from typing import Any, NamedTuple, Protocol
from urllib.parse import urlsplit

from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadValue
from drawknife.core.words.names import ancestors, child, parent
from drawknife.core.words.sizes import show_size

#: Seconds for which an answer is waited.
PATIENCE = 30
#: What a trial puts somewhere, and how much of it at most.
DATA, MOST = b"a trial of Drawknife\n", 1 << 20
#: What changes something.
WRITING = (
    "upload",
    "overwrite",
    "append",
    "rename",
    "delete-file",
    "make-folder",
    "delete-folder",
    "set-attributes",
)


class ServerDid(NamedTuple):
    """What a server did with a step: let it, or not, or (None) it was not tried; and its words, or
    why.
    """

    allowed: bool | None
    text: str


class RefusedByServer(Exception):
    """The server does not do it."""


class Shown(NamedTuple):
    """A name that a server shows in a folder; `perm` is its fact (RFC 3659), or None where it is
    not told.
    """

    name: str
    folder: bool
    perm: str | None


class Speaking(Protocol):
    """One account signed in at a server.

    Each raises :class:`RefusedByServer` with the server's words.
    """

    def enter(self, path: str) -> None: ...
    def list_names(self, path: str) -> None: ...
    def download(self, path: str) -> None: ...
    def there(self, path: str) -> bool: ...
    def seen(self, path: str) -> list[Shown]: ...
    def upload(self, path: str, size: int, new: bool) -> None:
        """Send a file; with `new` only where there is none, as far as the protocol has a way to say
        so.
        """
        ...

    def append(self, path: str) -> None: ...
    def rename(self, path: str, to: str) -> None: ...
    def delete_file(self, path: str) -> None: ...
    def make_folder(self, path: str) -> None: ...
    def delete_folder(self, path: str) -> None: ...
    def set_attributes(self, path: str) -> None: ...
    def close(self) -> None: ...


class Address(NamedTuple):
    """Where a server is: ``ftp``, ``ftpes`` (explicit TLS), ``ftps`` (implicit) or ``sftp``."""

    protocol: str
    host: str
    port: int


class Credentials(NamedTuple):
    """What somebody signs in with: the name there, a password or a private key in a file.

    `checked`: the server's certificate or host key has to be known; `known_hosts` is a file of such
    keys.
    """

    name: str
    password: str
    checked: bool
    key: Path | None = None
    known_hosts: Path | None = None


_PORTS = {"ftp": 21, "ftpes": 21, "ftps": 990, "sftp": 22}


def read_address(text: str) -> Address:
    """The address that ``sftp://host:port`` names."""
    parts = urlsplit(text)
    try:
        port = parts.port or _PORTS.get(parts.scheme, 0)
    except ValueError:
        port = 0
    if parts.scheme not in _PORTS or not parts.hostname or not port:
        raise BadValue(
            f"{text!r} is no server",
            "ftp://, ftpes://, ftps:// or sftp://, a host and perhaps a port",
        )
    return Address(parts.scheme, parts.hostname, port)


class AtServer:
    """The steps of one trial, done at a server.

    Whatever is written there is written under a name that is made up for this run, in the folder
    that the step names: so nothing can be overwritten, whatever the server says is there. Only what
    was created under such a name is overwritten, moved or deleted afterwards.
    """

    def __init__(self, speaking: Speaking, may_write: bool) -> None:
        self._speaking, self._may_write = speaking, may_write
        #: What the trial has created, by the location that its steps call it: what it is called
        #: there.
        self._own: dict[str, _Created] = {}
        #: What was refused, and may have been created in part all the same.
        self._perhaps: list[_Created] = []

    def do(self, question: Question, let_by_model: bool = False) -> ServerDid:
        """Do what a question asks.

        What the model lets, and is not to be had as nothing lies there, says nothing.
        """
        action, path = question.action, question.path
        if action in WRITING and not self._may_write:
            return ServerDid(None, "it changes something there, and --may-write was not given")
        new = action in ("upload", "make-folder")
        if new and path in self._own:
            return ServerDid(None, "the trial has created it already")
        if action in WRITING and not new and path not in self._own:
            return ServerDid(None, "it is not the trial's own, and is left alone")
        try:
            self._act(question)
        except RefusedByServer as refused:
            if let_by_model and action == "download" and not self._speaking.there(self._at(path)):
                return ServerDid(None, f"nothing of that name is to be seen there: {refused}")
            return ServerDid(False, str(refused))
        if (question.size or 0) > MOST:
            return ServerDid(
                None, f"it took {show_size(MOST)}, and not as much as is asked was sent"
            )
        return ServerDid(True, "")

    def _at(self, path: str) -> str:
        """Where a location is there: below what the trial has created, under the name that this
        has.
        """
        for above in ancestors(path):
            if above in self._own:
                return self._own[above].path + path[len(above) :]
        return path

    def _made_up(self, path: str) -> str:
        """A name that nothing has, in the folder of a location.

        What is random stands first, as servers cut names.
        """
        return child(
            self._at(parent(path)), f"{secrets.token_hex(12)}-trial{PurePosixPath(path).suffix}"
        )

    def _act(self, question: Question) -> None:
        action, path, speaking = question.action, question.path, self._speaking
        size = question.size or len(DATA)
        if action in ("upload", "make-folder"):
            made = _Created(self._made_up(path), action == "make-folder")
            try:
                if made.folder:
                    speaking.make_folder(made.path)
                else:
                    speaking.upload(made.path, size, new=True)
            except RefusedByServer:
                self._perhaps.append(made)
                raise
            self._own[path] = made
        elif action == "rename":
            to = str(question.to)
            moved = _Created(self._made_up(to), self._own[path].folder)
            speaking.rename(self._own[path].path, moved.path)
            del self._own[path]
            self._own[to] = moved
        elif action in ("delete-file", "delete-folder"):
            (speaking.delete_file if action == "delete-file" else speaking.delete_folder)(
                self._own[path].path
            )
            del self._own[path]
        elif action == "overwrite":
            speaking.upload(self._own[path].path, size, new=False)
        else:
            getattr(speaking, "list_names" if action == "list" else action.replace("-", "_"))(
                self._at(path)
            )

    def clean_up(self) -> list[str]:
        """Delete what the trial has created; return what could not be, in words."""
        left = []
        called = [(location, made) for location, made in self._own.items()]
        called += [("", made) for made in self._perhaps]
        for location, made in sorted(called, key=lambda x: -len(x[1].path)):
            try:
                (self._speaking.delete_folder if made.folder else self._speaking.delete_file)(
                    made.path
                )
            except RefusedByServer as refused:
                if location:
                    left.append(f"{made.path} is still there, created for {location}: {refused}")
                elif self._speaking.there(made.path):
                    left.append(
                        f"{made.path} is still there, though creating it was refused: {refused}"
                    )
        return left


class _Created(NamedTuple):
    """What a trial has created at a server: what it is called there, and whether it is a folder."""

    path: str
    folder: bool


class OverFtp:
    def __init__(self, address: Address, account: str, password: str, checked: bool) -> None:
        context = ssl.create_default_context()
        if not checked:
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        self._ftp: ftplib.FTP
        try:
            if address.protocol == "ftp":
                self._ftp = ftplib.FTP(encoding="utf-8", timeout=PATIENCE)
            else:
                self._ftp = (_Implicit if address.protocol == "ftps" else ftplib.FTP_TLS)(
                    context=context, encoding="utf-8", timeout=PATIENCE
                )
            self._ftp.connect(address.host, address.port)
            self._ftp.login(account, password)
            if isinstance(self._ftp, ftplib.FTP_TLS):
                self._ftp.prot_p()
        except ftplib.Error as error:
            raise RefusedByServer(str(error)) from None

    def _say(self, command: str) -> None:
        try:
            self._ftp.voidcmd(command)
        except ftplib.Error as error:
            raise RefusedByServer(str(error)) from None

    def _data(self, command: str, sent: bytes | None) -> None:
        try:
            if sent is not None:
                self._ftp.storbinary(command, io.BytesIO(sent))
                return
            # Enough to see that it comes: of a large file the rest is not fetched.
            self._ftp.voidcmd("TYPE I")
            data = self._ftp.transfercmd(command)
            data.recv(4096)
            data.close()
            with suppress(ftplib.error_temp):
                self._ftp.voidresp()
        except ftplib.Error as error:
            raise RefusedByServer(str(error)) from None

    def enter(self, path: str) -> None:
        self._say(f"CWD {path}")
        self._say("CWD /")

    def list_names(self, path: str) -> None:
        try:
            self._ftp.retrlines(f"NLST {path}", lambda _: None)
        except ftplib.Error as error:
            raise RefusedByServer(str(error)) from None

    def download(self, path: str) -> None:
        self._data(f"RETR {path}", None)

    def there(self, path: str) -> bool:
        try:
            self._ftp.voidcmd(f"SIZE {path}")
        except ftplib.Error:
            with suppress(ftplib.Error):
                self._ftp.voidcmd(f"MLST {path}")
                return True
            return False
        return True

    def seen(self, path: str) -> list[Shown]:
        try:
            lines = list(self._ftp.mlsd(path))
        except ftplib.Error as error:
            raise RefusedByServer(str(error)) from None
        return [
            Shown(name, facts.get("type", "").lower() == "dir", facts.get("perm"))
            for name, facts in lines
            if facts.get("type", "").lower() not in ("cdir", "pdir")
        ]

    def upload(self, path: str, size: int, new: bool) -> None:
        """How much it will be is announced (RFC 959, ALLO): a server that looks at it refuses at
        once.
        """
        with suppress(ftplib.Error):
            self._ftp.voidcmd(f"ALLO {size}")
        self._data(f"STOR {path}", some_data(size))

    def append(self, path: str) -> None:
        self._data(f"APPE {path}", DATA)

    def rename(self, path: str, to: str) -> None:
        try:
            self._ftp.rename(path, to)
        except ftplib.Error as error:
            raise RefusedByServer(str(error)) from None

    def delete_file(self, path: str) -> None:
        self._say(f"DELE {path}")

    def make_folder(self, path: str) -> None:
        self._say(f"MKD {path}")

    def delete_folder(self, path: str) -> None:
        self._say(f"RMD {path}")

    def set_attributes(self, path: str) -> None:
        self._say(f"MFMT 20260101000000 {path}")

    def close(self) -> None:
        self._ftp.close()


class _Implicit(ftplib.FTP_TLS):
    """TLS from the first byte."""

    _plain: Any = None

    @property
    def sock(self) -> Any:
        return self._plain

    @sock.setter
    def sock(self, value: Any) -> None:
        wrap = value is not None and not isinstance(value, ssl.SSLSocket)
        self._plain = self.context.wrap_socket(value, server_hostname=self.host) if wrap else value


def some_data(size: int) -> bytes:
    """As much as is asked for, up to a bound."""
    return (DATA * (min(size, MOST) // len(DATA) + 1))[: min(size, MOST)]
