"""Connections: a request as it comes, its deadlines, and what is refused before it is answered.

Waitress reads a request whole before a thread has to do with it, so that clients that send slowly,
or only half of a request, hold nobody up. Here its requests get deadlines, and its own refusals
become problems.
"""

from __future__ import annotations

import socket
import ssl
import threading
import time
from collections.abc import Callable, Mapping
from typing import Any

from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.task import ErrorTask
from waitress.utilities import Error, RequestEntityTooLarge

from drawknife.core.words.sizes import show_size
from drawknife.messages import Problem
from drawknife.records.database import Unavailable
from drawknife.records.tokens import Holder

from .bodies import LARGEST_MODEL, LARGEST_UNASKED, largest_body
from .problems import MEDIA_TYPE, TYPE

#: Seconds in which the head of a request has to be there, and its body at the least speed (bytes a
#: second).
HEAD_DEADLINE, LEAST_SPEED = 20.0, 20_000
#: Seconds in which a client has to take some of its answer.
TAKING_DEADLINE = 60
#: Seconds for which what a refused client goes on to send is thrown away.
DRAINING = 3
#: Bytes of all bodies that a service receives or answers at once.
BUDGET = 2 * LARGEST_MODEL


class _NotKnown(Error):  # type: ignore[misc]
    code, reason = 401, "Unauthorized"


class _NoRoom(Error):  # type: ignore[misc]
    code, reason = 503, "Service Unavailable"


#: Who sends a request with these headers; None if nobody known.
Known = Callable[[Mapping[str, str]], Holder | None]


class Parser(HTTPRequestParser):  # type: ignore[misc]
    """A request that is being received.

    A large body is refused at its head, before it is stored.
    """

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
                "this token or session is not valid; without one at most"
                f" {show_size(LARGEST_UNASKED)} can be sent"
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


class RefusalTask(ErrorTask):  # type: ignore[misc]
    """What waitress refuses by itself, told as everything else is."""

    def execute(self) -> None:
        error = self.request.error
        body = Problem(
            type=f"{TYPE}http-{error.code}",
            title=error.reason,
            status=error.code,
            detail=str(error.body)[:300],
        )
        raw = body.model_dump_json(exclude_none=True).encode()
        self.status = f"{error.code} {error.reason}"
        self.response_headers.extend([("Content-Type", MEDIA_TYPE), ("Cache-Control", "no-store")])
        self.response_headers.extend(_ASKS_FOR.get(error.code, []))
        self.set_close_on_finish()
        self.channel.refused = True
        self.content_length = len(raw)
        self.write(raw)


class Channel(HTTPChannel):  # type: ignore[misc]
    """A connection. `began` is when the request began that has not been received whole yet.

    One that was `refused` may still be sending: closed at once, it would not come to read why. So
    what it sends is thrown away for a while, since `draining`.
    """

    parser_class = Parser
    error_task_class = RefusalTask
    began: float | None = None
    refused = False
    draining: float | None = None
    close_when_flushed: bool = False

    @property
    def reserved(self) -> int:
        """Bytes for which room is kept: of the request that is being received, and of those that
        wait for their answer.
        """
        return sum(r.reserved for r in (*self.requests, self.request) if r is not None)

    def handle_close(self) -> None:
        kept = self.reserved
        super().handle_close()
        if kept > LARGEST_UNASKED:
            self.server.reserved()

    def readable(self) -> bool:
        return True if self.draining is not None else bool(super().readable())

    def writable(self) -> bool:
        """Is there anything to send for the loop?

        While another thread is at it, it is left to that: asked again and again whether it can
        send, too, the loop would do nothing but keep that thread from the interpreter.
        """
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
            allowed += (
                self.request.body_bytes_received or self.request.content_length or 0
            ) / LEAST_SPEED
        return now - self.began > allowed


class TlsChannel(Channel):
    """The same under TLS. A connection is shaken hands over as its first bytes are read."""

    def __init__(self, *given: Any, **more: Any) -> None:
        #: An SSL object is for one thread at a time, and answers are sent by the thread that made
        #: them.
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
