"""Doing the steps of trials at a server that speaks FTP or SFTP, and nothing that harms what is there.

What the trial has not put there itself is never deleted, overwritten, moved or appended to: such steps are not tried. What
it has put is taken away at the end.
"""

from __future__ import annotations

import ftplib
import io
import ssl
from contextlib import suppress
from typing import Any, NamedTuple, Protocol
from urllib.parse import urlsplit

from drawknife.core.prepared.question import Question
from drawknife.core.words.errors import BadValue
from drawknife.core.words.sizes import show_size

#: Seconds for which an answer is waited.
PATIENCE = 30
#: What a trial puts somewhere, and how much of it at most.
DATA, MOST = b"a trial of Drawknife\n", 1 << 20
#: What changes something.
WRITING = ("upload", "overwrite", "append", "rename", "delete-file", "make-folder", "delete-folder", "set-attributes")


class ServerDid(NamedTuple):
    """What a server did with a step: let it, or not, or (None) it was not tried; and its words, or why."""

    allowed: bool | None
    text: str


class RefusedByServer(Exception):
    """The server does not do it."""


class Shown(NamedTuple):
    """A name that a server shows in a folder; `perm` is its fact (RFC 3659), or None where it is not told."""

    name: str
    folder: bool
    perm: str | None


class Speaking(Protocol):
    """One account signed in at a server. Each raises :class:`RefusedByServer` with the server's words."""

    def enter(self, path: str) -> None: ...
    def list_names(self, path: str) -> None: ...
    def download(self, path: str) -> None: ...
    def there(self, path: str) -> bool: ...
    def seen(self, path: str) -> list[Shown]: ...
    def upload(self, path: str, size: int) -> None: ...
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


_PORTS = {"ftp": 21, "ftpes": 21, "ftps": 990, "sftp": 22}


def read_address(text: str) -> Address:
    """The address that ``sftp://host:port`` names."""
    parts = urlsplit(text)
    try:
        port = parts.port or _PORTS.get(parts.scheme, 0)
    except ValueError:
        port = 0
    if parts.scheme not in _PORTS or not parts.hostname or not port:
        raise BadValue(f"{text!r} is no server", "ftp://, ftpes://, ftps:// or sftp://, a host and perhaps a port")
    return Address(parts.scheme, parts.hostname, port)


class AtServer:
    """The steps of one trial, done at a server."""

    def __init__(self, speaking: Speaking, may_write: bool) -> None:
        self._speaking, self._may_write = speaking, may_write
        #: What the trial has put there, and is there still: by location, is it a folder?
        self._own: dict[str, bool] = {}

    def do(self, question: Question, let_by_model: bool = False) -> ServerDid:
        """Do what a question asks. What the model lets, and is not to be had as nothing lies there, says nothing."""
        action, path, to = question.action, question.path, question.to
        if action in WRITING and not self._may_write:
            return ServerDid(None, "it changes something there, and --may-write was not given")
        new = action in ("upload", "make-folder")
        if action in WRITING and not new and path not in self._own:
            return ServerDid(None, "it is not the trial's own, and is left alone")
        try:
            if (new and self._speaking.there(path)) or (to is not None and self._speaking.there(to)):
                return ServerDid(None, "something is there already, and is left alone")
            self._act(action, path, to, question.size or len(DATA))
        except RefusedByServer as refused:
            if let_by_model and action == "download" and not self._speaking.there(path):
                return ServerDid(None, f"nothing of that name is to be seen there: {refused}")
            return ServerDid(False, str(refused))
        if (question.size or 0) > MOST:
            return ServerDid(None, f"it took {show_size(MOST)}, and not as much as is asked was sent")
        return ServerDid(True, "")

    def _act(self, action: str, path: str, to: str | None, size: int) -> None:
        speaking = self._speaking
        if action in ("upload", "overwrite"):
            speaking.upload(path, size)
            self._own[path] = False
        elif action == "make-folder":
            speaking.make_folder(path)
            self._own[path] = True
        elif action == "rename":
            speaking.rename(path, str(to))
            self._own[str(to)] = self._own.pop(path)
        elif action in ("delete-file", "delete-folder"):
            (speaking.delete_file if action == "delete-file" else speaking.delete_folder)(path)
            self._own.pop(path)
        else:
            getattr(speaking, "list_names" if action == "list" else action.replace("-", "_"))(path)

    def clean_up(self) -> list[str]:
        """Take away what the trial has put there; what could not be is told."""
        left = []
        for path in sorted(self._own, key=lambda p: -len(p)):
            try:
                (self._speaking.delete_folder if self._own[path] else self._speaking.delete_file)(path)
            except RefusedByServer as refused:
                left.append(f"{path} is still there: {refused}")
        return left


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

    def upload(self, path: str, size: int) -> None:
        """How much it will be is announced (RFC 959, ALLO): a server that looks at it refuses at once."""
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
