"""Data connections of FTP: opened either way, only with the client itself, and read and written in
threads of their own.
"""

from __future__ import annotations

import asyncio
import os
import socket
import ssl
import time
from collections.abc import Iterator

#: Seconds that a data connection may take to come, and to stand still.
COMING, STANDING = 20.0, 60.0
PIECE = 256 * 1024
#: How long, in seconds and bytes, the rest of a refused upload is read, so that the client hears
#: why.
HEARING_OUT, REST = 5.0, 16 * 1024 * 1024
#: Delayed acknowledgements cost 50 ms for each small file.
_QUICKACK = getattr(socket, "TCP_QUICKACK", None)


class CutOff(Exception):
    """The connection ended before it should."""


class DataConnections:
    """Where the next data connection of a session comes from: one listens for it, or connects."""

    def __init__(self, peer: str, local: str, span: tuple[int, int] | None, offset: int) -> None:
        """Between these addresses; `span` is the endpoint's passive range, which is moved by
        `offset`.
        """
        self._peer, self._local, self._span, self._offset = peer, local, span, offset
        self._listening: socket.socket | None = None
        self._active: tuple[str, int] | None = None

    def listen(self) -> int | None:
        """Listen on a port of the endpoint's passive range, moved as its own port is; None: all are
        taken.
        """
        self.forget()
        host, span = self._local, self._span
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        ports = (
            [0]
            if span is None or not self._offset
            else range(span[0] + self._offset, span[1] + self._offset + 1)
        )
        for port in ports:
            listening = socket.socket(family, socket.SOCK_STREAM)
            listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                listening.bind((host, port if port < 65536 else 0))
                listening.listen(4)
            except OSError:
                listening.close()
                continue
            listening.setblocking(False)
            self._listening = listening
            return int(listening.getsockname()[1])
        return None

    def go_to(self, host: str, port: int) -> bool:
        """Connect to a port of the client; False: to another address than its own it does not go,
        nor to a low port.
        """
        if host != self._peer or port < 1024:
            return False
        self.forget()
        self._active = (host, port)
        return True

    @property
    def asked_for(self) -> bool:
        return self._listening is not None or self._active is not None

    def forget(self) -> None:
        if self._listening is not None:
            self._listening.close()
        self._listening = self._active = None

    async def connected(self) -> socket.socket:
        """The connection, blocking, with its time limit; :class:`CutOff` where it does not come."""
        loop = asyncio.get_running_loop()
        try:
            async with asyncio.timeout(COMING):
                if self._active is not None:
                    made = socket.socket(
                        socket.AF_INET6 if ":" in self._active[0] else socket.AF_INET
                    )
                    made.setblocking(False)
                    await loop.sock_connect(made, self._active)
                else:
                    made = await self._accepted(loop)
        except (OSError, TimeoutError):
            raise CutOff("it did not come") from None
        finally:
            self.forget()
        made.settimeout(STANDING)
        made.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        if _QUICKACK is not None:
            made.setsockopt(socket.IPPROTO_TCP, _QUICKACK, 1)
        return made

    async def _accepted(self, loop: asyncio.AbstractEventLoop) -> socket.socket:
        assert self._listening is not None
        while True:
            made, address = await loop.sock_accept(self._listening)
            if address[0] == self._peer:
                return made
            made.close()  # a stranger


def secured(data: socket.socket, context: ssl.SSLContext | None) -> socket.socket:
    """The connection with TLS around it, where it is wanted. Blocks."""
    if context is None:
        return data
    return context.wrap_socket(data, server_side=True, suppress_ragged_eofs=False)


def send(data: socket.socket, text: bytes) -> None:
    """Send a listing. Blocks."""
    data.sendall(text)


def send_file(data: socket.socket, fd: int, start: int, rate: int | None) -> None:
    """Send a file from `start` on, no more than `rate` bytes a second. Blocks."""
    if rate is None and not isinstance(data, ssl.SSLSocket):
        with os.fdopen(os.dup(fd), "rb") as file:
            data.sendfile(file, start)
        return
    pace = Pace(rate)
    while part := os.pread(fd, PIECE, start):
        start += len(part)
        pace.wait(len(part))
        data.sendall(part)


def received(data: socket.socket, rate: int | None) -> Iterator[bytes]:
    """What comes, until the other side has properly ended it.

    Blocks; :class:`CutOff` where it did not.
    """
    pace = Pace(rate)
    while True:
        try:
            part = data.recv(PIECE)
        except (ssl.SSLEOFError, ConnectionError, TimeoutError) as cut:
            raise CutOff(str(cut)) from None
        if not part:
            return
        yield part
        pace.wait(len(part))


def hear_out(data: socket.socket) -> None:
    """Read what a client still sends of an upload that was refused, and forget it.

    Blocks, but not for long.

    A connection that is closed with something unread is reset, and many clients then tell of the
    reset alone.
    """
    until, left = time.monotonic() + HEARING_OUT, REST
    try:
        while left > 0 and (time_left := until - time.monotonic()) > 0:
            data.settimeout(time_left)
            part = data.recv(PIECE)
            if not part:
                return
            left -= len(part)
    except OSError:
        return


def end(data: socket.socket) -> None:
    """End a connection properly, and do not wait for the other side to."""
    try:
        if isinstance(data, ssl.SSLSocket):
            data.settimeout(0.05)
            data.unwrap()
    except OSError:
        pass
    data.close()


class Pace:
    """Waits so that no more than so many bytes a second go by."""

    def __init__(self, rate: int | None) -> None:
        self._rate, self._began, self._gone = rate, time.monotonic(), 0

    def wait(self, size: int) -> None:
        if self._rate is None:
            return
        self._gone += size
        early = self._gone / max(1, self._rate) - (time.monotonic() - self._began)
        if early > 0:
            time.sleep(early)
