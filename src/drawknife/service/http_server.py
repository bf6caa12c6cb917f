"""The application behind waitress, with deadlines and problems.

Waitress reads a request whole before a thread has to do with it, so that clients that send slowly, or only half of
a request, hold nobody up; here its requests get deadlines, and its own refusals become problems.
"""

from __future__ import annotations

import math
import resource
import socket
import ssl
import threading
import time
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import structlog
from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import TcpWSGIServer
from waitress.task import ErrorTask, ThreadedTaskDispatcher
from waitress.utilities import Error, RequestEntityTooLarge

from drawknife.core.words.sizes import show_size
from drawknife.messages import Problem
from drawknife.records.database import Unavailable
from drawknife.records.tokens import Holder

from .bodies import LARGEST_MODEL, LARGEST_UNASKED, largest_body
from .problems import MEDIA_TYPE, TYPE
from .shared import Shared

log = structlog.get_logger()

#: Seconds in which the head of a request has to be there, and its body at the least speed (bytes a second).
HEAD_DEADLINE, LEAST_SPEED = 20.0, 20_000
#: Seconds in which a client has to take some of its answer.
TAKING_DEADLINE = 60
#: Seconds for which a connection is left to a process that has fewer.
LEFT = 0.02
#: Seconds for which what a refused client goes on to send is thrown away.
DRAINING = 3
#: Bytes of all bodies that a service receives or answers at once.
BUDGET = 2 * LARGEST_MODEL
#: Connections of a process, and descriptors that are kept for all else: the database, files, the next client.
MOST, KEPT_BACK = 4000, 200
#: Seconds between two log lines about connections that were closed to make room.
LOGGED_EVERY = 60
#: Bytes of a request's head.
LARGEST_HEAD = 64 * 1024


class _NotKnown(Error):  # type: ignore[misc]
    code, reason = 401, "Unauthorized"


class _NoRoom(Error):  # type: ignore[misc]
    code, reason = 503, "Service Unavailable"


#: Who sends a request with these headers; None if nobody known.
Known = Callable[[Mapping[str, str]], Holder | None]


class _Parser(HTTPRequestParser):  # type: ignore[misc]
    """A request that is being received. A large body is refused at its head, before it is stored."""

    error: Any
    completed: bool
    #: Bytes of the body, at most, for which room is kept.
    reserved = 0

    def parse_header(self, header_plus: bytes) -> None:
        super().parse_header(header_plus)
        if self.adj.draining():
            self.headers["CONNECTION"] = "close"  # as if its client had asked for it
        if self.error is not None:
            return
        if self.chunked or self.content_length > LARGEST_UNASKED:
            self.error = self._refusal()
            self.completed = self.error is not None
        else:
            self.reserved = self.content_length

    def _refusal(self) -> Error | None:
        """Why a body that is larger than anybody may send is not received; None if it is."""
        shown = "AUTHORIZATION" in self.headers or "COOKIE" in self.headers
        try:
            holder = self.adj.known(self.headers) if shown else None
        except Unavailable:
            return _NoRoom("the database is unavailable; try again later")
        if shown and holder is None:
            return _NotKnown(
                f"this token or session is not valid; without one at most {show_size(LARGEST_UNASKED)} can be sent"
            )
        largest = largest_body(self.path, holder)
        if self.content_length > largest or (self.chunked and holder is None):
            return RequestEntityTooLarge(f"at most {show_size(largest)} can be sent here")
        wanted = largest if self.chunked else self.content_length
        if self.adj.reserved() + wanted > BUDGET:
            return _NoRoom("other requests fill the space for uploads; try again in a minute")
        self.reserved = wanted
        self.adj.reserved()  # the other processes are to know it at once
        return None


#: What an answer with a status says besides (RFC 9110, sections 10.2.3 and 11.6.1).
_ASKS_FOR = {401: [("WWW-Authenticate", "Bearer")], 503: [("Retry-After", "60")]}


class _ErrorTask(ErrorTask):  # type: ignore[misc]
    """What waitress refuses by itself, told as everything else is."""

    def execute(self) -> None:
        error = self.request.error
        body = Problem(
            type=f"{TYPE}http-{error.code}", title=error.reason, status=error.code, detail=str(error.body)[:300]
        )
        raw = body.model_dump_json(exclude_none=True).encode()
        self.status = f"{error.code} {error.reason}"
        self.response_headers.extend([("Content-Type", MEDIA_TYPE), ("Cache-Control", "no-store")])
        self.response_headers.extend(_ASKS_FOR.get(error.code, []))
        self.set_close_on_finish()
        self.channel.refused = True
        self.content_length = len(raw)
        self.write(raw)


class _Channel(HTTPChannel):  # type: ignore[misc]
    """A connection. `began` is when the request began that has not been received whole yet.

    One that was `refused` may still be sending: closed at once, it would not come to read why. So what it sends is
    thrown away for a while, since `draining`.
    """

    parser_class = _Parser
    error_task_class = _ErrorTask
    began: float | None = None
    refused = False
    draining: float | None = None
    close_when_flushed: bool = False

    @property
    def reserved(self) -> int:
        """Bytes for which room is kept: of the request that is being received, and of those that wait for their answer."""
        return sum(r.reserved for r in (*self.requests, self.request) if r is not None)

    def handle_close(self) -> None:
        kept = self.reserved
        super().handle_close()
        if kept > LARGEST_UNASKED:
            self.server.reserved()

    def readable(self) -> bool:
        return True if self.draining is not None else bool(super().readable())

    def writable(self) -> bool:
        """Is there anything to send for the loop? While another thread is at it, it is left to that: asked again and again
        whether it can send, too, the loop would do nothing but keep that thread from the interpreter."""
        if not super().writable():
            return False
        if self.requests and not self.will_close:
            if not self.outbuf_lock.acquire(False):
                return False  # what that thread cannot send, it tells the loop of
            self.outbuf_lock.release()
        return True

    def handle_read(self) -> None:
        if self.draining is None:
            super().handle_read()
            return
        try:
            if not self.recv(65536):
                self.handle_close()
        except BlockingIOError:
            pass
        except OSError:
            self.handle_close()

    def handle_write(self) -> None:
        if self.refused and self.close_when_flushed and self.draining is None:
            self._flush_exception(self._flush_some)
            if not self.total_outbufs_len and not self.will_close:
                self.close_when_flushed = False
                self.draining = time.time()
                self.socket.shutdown(socket.SHUT_WR)
            return
        super().handle_write()

    def received(self, data: bytes) -> bool:
        if self.request is None:
            self.began = time.time()
        found = bool(super().received(data))
        if self.request is None:
            self.began = None
        return found

    def overdue(self, now: float) -> bool:
        """Has its request, or its client's taking of an answer, gone on for too long?"""
        if self.draining is not None:
            return now - self.draining > DRAINING
        if self.total_outbufs_len and now - self.last_activity > TAKING_DEADLINE:
            return True
        if self.began is None or self.request is None:
            # Nothing has been sent yet on a connection that is new.
            return (
                not self.requests
                and self.last_activity == self.creation_time
                and now - self.creation_time > HEAD_DEADLINE
            )
        allowed = HEAD_DEADLINE
        if self.request.headers_finished:
            allowed += (self.request.body_bytes_received or self.request.content_length or 0) / LEAST_SPEED
        return now - self.began > allowed


class _TlsChannel(_Channel):
    """The same under TLS. A connection is shaken hands over as its first bytes are read."""

    def __init__(self, *given: Any, **more: Any) -> None:
        #: An SSL object is for one thread at a time, and answers are sent by the thread that made them.
        self._one_at_a_time = threading.Lock()
        self._to_shake = False
        super().__init__(*given, **more)

    def recv(self, buffer_size: int) -> bytes:
        """What was sent; BlockingIOError where that is not a whole record yet."""
        with self._one_at_a_time:
            try:
                self._to_shake = False
                found: bytes = self.socket.recv(buffer_size)
                while pending := self.socket.pending():  # what poll would not tell of
                    found += self.socket.recv(pending)
                return found
            except ssl.SSLWantReadError:
                raise BlockingIOError from None
            except ssl.SSLWantWriteError:
                self._to_shake = True
                raise BlockingIOError from None
            except OSError:
                return b""

    def send(self, data: bytes, do_close: bool = True) -> int:
        with self._one_at_a_time:
            try:
                return int(self.socket.send(data))
            except (ssl.SSLWantReadError, ssl.SSLWantWriteError):
                return 0
            except OSError:
                pass
        if do_close:
            self.handle_close()
        return 0

    def writable(self) -> bool:
        return self._to_shake or bool(super().writable())

    def handle_read(self) -> None:
        if self.draining is not None:
            super().handle_read()
            return
        try:
            data = self.recv(self.adj.recv_bytes)
        except BlockingIOError:
            return
        if data:
            self.last_activity = time.time()
            self.received(data)
        else:
            self.handle_close()

    def handle_write(self) -> None:
        if self._to_shake:
            self.handle_read()
        super().handle_write()


class Certificate:
    """What the service shows under TLS. Files that have changed are read again for new connections."""

    def __init__(self, cert: Path, key: Path) -> None:
        """OSError or ssl.SSLError where the files are not there, or are no certificate and its key."""
        self._files = (cert, key)
        self._seen = self._looked()
        self.context = self._read()
        #: What was the matter last, until they can be used.
        self._wrong = ""

    def _looked(self) -> tuple[int, ...]:
        # Of what is written in two steps at once, the time alone does not tell the first from the second.
        seen = [file.stat() for file in self._files]
        return tuple(n for s in seen for n in (s.st_mtime_ns, s.st_size, s.st_ino))

    def _read(self) -> ssl.SSLContext:
        # In a context of its own: one that has taken the new certificate, and not its key, could show neither.
        found = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        found.load_cert_chain(*self._files)
        return found

    def look_again(self) -> None:
        """Take what the files hold now. While they cannot be used, what was there is shown, and they are tried again."""
        try:
            now = self._looked()
            if now == self._seen and not self._wrong:
                return
            found = self._read()
            if self._looked() != now:
                return  # they are just being changed
            self.context, self._seen, self._wrong = found, now, ""
            log.warning("the certificate was turned over", cert=str(self._files[0]))
        except OSError as error:
            if str(error) != self._wrong:
                log.error("the new certificate cannot be used; the one before is shown on", error=str(error))
            self._wrong = str(error)


class HttpServer(TcpWSGIServer):  # type: ignore[misc]
    channel_class = _Channel
    shared: Shared | None = None
    certificate: Certificate | None = None

    #: Set when the service is to stop: each answer ends its connection, so that the next request goes elsewhere.
    draining = False
    #: Since when a connection is left to another process.
    _left: float | None = None
    #: Connections at most, and of one address other than that of the proxy.
    most, most_of_one = MOST, MOST // 2
    proxy: str | None = None
    #: Connections that were closed to make room since that was logged last, and when that was.
    _closed, _logged = 0, -math.inf

    def accept(self) -> Any:
        found = super().accept()
        if found is None or self.certificate is None:
            return found
        connection, address = found
        wrapped = self.certificate.context.wrap_socket(connection, server_side=True, do_handshake_on_connect=False)
        return wrapped, address

    def readable(self) -> bool:
        if self.shared is not None:
            self.shared.has_connections(len(self.active_channels))
        return bool(super().readable()) and not self.leaves()

    def leaves(self) -> bool:
        """Is a connection left to another process just now?"""
        left = 0.0 if self._left is None else time.monotonic() - self._left
        if left > 2 * LEFT:  # it was taken, or there is none
            self._left = None
        return self._left is not None and left < LEFT

    def handle_accept(self) -> None:
        """Take a connection; but whoever has more than another process leaves it a moment to take it first."""
        fewest = self.shared.fewest_elsewhere() if self.shared is not None else None
        if self._left is None and fewest is not None and len(self.active_channels) > fewest:
            self._left = time.monotonic()
            return
        self._left = None
        super().handle_accept()
        self._make_room()
        if self.shared is not None:
            self.shared.has_connections(len(self.active_channels))

    def take_waiting(self) -> None:
        """Take all connections that wait to be taken; they would be broken off as the socket is closed."""
        self.shared, before = None, -1
        while len(self.active_channels) > before:
            before = len(self.active_channels)
            self.handle_accept()

    def _make_room(self) -> None:
        """Close a connection where there are too many, so that the newest can be served: of the same address, if that
        has too many, else of the address that has most. The one that was silent for longest goes, or the newest itself."""
        channels = list(self.active_channels.values())
        if len(channels) <= min(self.most, self.most_of_one):
            return
        by_address: dict[str, list[_Channel]] = {}
        for channel in channels:
            by_address.setdefault(str(channel.addr[0]), []).append(channel)
        same = by_address[str(channels[-1].addr[0])]
        crowd: list[_Channel] = []
        if len(same) > self.most_of_one and str(channels[-1].addr[0]) != self.proxy:
            crowd = same
        elif len(channels) > self.most:
            crowd = max(by_address.values(), key=len)
        if not crowd:
            return
        waiting = [c for c in crowd if c is not channels[-1] and not c.requests]
        # Where all are being answered, there is no room for another.
        longest = min(waiting, key=lambda c: c.last_activity) if waiting else channels[-1]
        longest.handle_close()
        self._closed += 1

    def reserved(self) -> int:
        """Bytes for which the processes of the service keep room; those of this one are brought up to date."""
        own: int = sum(c.reserved for c in list(self.active_channels.values()))
        if self.shared is None:
            return own
        self.shared.reserves(own)
        return self.shared.reserved()

    def maintenance(self, now: float) -> None:
        super().maintenance(now)
        self.reserved()
        if self._closed and now - self._logged >= LOGGED_EVERY:
            log.warning("connections were closed to make room", count=self._closed, open=len(self.active_channels))
            self._closed, self._logged = 0, now
        if self.certificate is not None:
            self.certificate.look_again()
        for channel in list(self.active_channels.values()):
            if channel.overdue(now):
                channel.will_close = True


def make_server(
    application: Any,
    listening: socket.socket,
    threads: int,
    shared: Shared | None = None,
    certificate: Certificate | None = None,
    proxy: str | None = None,
    known: Known = lambda headers: None,
) -> HttpServer:
    """A server of an application on a socket that listens; its `run` serves until it is interrupted.

    What the `proxy` at that address says of its clients, in X-Forwarded-For and X-Forwarded-Proto, is taken for true.
    Large bodies are received from those who are `known` only.
    """
    trusted: dict[str, Any] = {
        "trusted_proxy": proxy,
        "trusted_proxy_headers": {"x-forwarded-for", "x-forwarded-proto"},
    }
    adjustments = Adjustments(
        sockets=[listening], connection_limit=2**31, backlog=1024, channel_timeout=60, cleanup_interval=2, ident="",
        max_request_header_size=LARGEST_HEAD, max_request_body_size=LARGEST_MODEL, log_socket_errors=False,
        clear_untrusted_proxy_headers=True, url_scheme="http" if certificate is None else "https",
        **(trusted if proxy is not None else {}),
    )  # fmt: skip
    dispatcher = ThreadedTaskDispatcher()
    dispatcher.set_thread_count(threads)
    address = (listening.family, listening.type, listening.proto, listening.getsockname())
    made = HttpServer(
        application, {}, True, listening, dispatcher=dispatcher, adj=adjustments, bind_socket=False, sockinfo=address
    )
    made.shared, made.proxy = shared, proxy
    descriptors = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
    made.most = max(KEPT_BACK, min(MOST, descriptors - KEPT_BACK))
    made.most_of_one = made.most // 2
    adjustments.known = known
    adjustments.reserved = made.reserved
    adjustments.draining = lambda: made.draining
    if certificate is not None:
        made.certificate, made.channel_class = certificate, _TlsChannel
    return made
