"""Serving: the application in several processes on one socket, each behind waitress.

Waitress reads a request whole before a thread has to do with it, so that clients that send slowly, or only half of
a request, hold nobody up; here its requests get deadlines, and its own refusals become problems.
"""

from __future__ import annotations

import logging
import os
import signal
import socket
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from types import FrameType
from typing import Any, NamedTuple

import structlog
from flask import Flask
from waitress.adjustments import Adjustments
from waitress.channel import HTTPChannel
from waitress.parser import HTTPRequestParser
from waitress.server import TcpWSGIServer
from waitress.task import ErrorTask, ThreadedTaskDispatcher
from waitress.utilities import RequestEntityTooLarge

from drawknife.core.words.sizes import show_size
from drawknife.messages import Problem
from drawknife.records.database import Database

from .app import LARGE, LARGEST_BODY, LARGEST_MODEL, create_app
from .files import ReadableFolders
from .problems import MEDIA_TYPE, TYPE
from .shared import Shared

log = structlog.get_logger()

#: Seconds in which the head of a request has to be there, and its body at the least speed (bytes a second).
HEAD_DEADLINE, LEAST_SPEED = 20.0, 20_000
#: Seconds in which a client has to take some of its answer.
TAKING_DEADLINE = 60
#: Seconds for which what a refused client goes on to send is thrown away.
DRAINING = 3
#: Bytes that somebody who shows no token may send.
LARGEST_UNASKED = 64 * 1024
#: Seconds for what is under way when the service is told to stop.
GRACE = 8
LARGEST_HEAD = 64 * 1024


class Options(NamedTuple):
    """How to serve."""

    database: str
    host: str
    port: int
    console: Path | None
    key_file: Path | None
    files: ReadableFolders
    threads: int
    processes: int
    verbose: bool
    second_person: bool = False
    patterns: tuple[Path, ...] = ()


# --- waitress, with deadlines and problems --------------------------------------------------------


class _Parser(HTTPRequestParser):  # type: ignore[misc]
    """A request being read. What is too large is refused at its head."""

    error: Any

    def parse_header(self, header_plus: bytes) -> None:
        super().parse_header(header_plus)
        shown = "AUTHORIZATION" in self.headers or "COOKIE" in self.headers
        largest = (LARGEST_MODEL if self.path in LARGE else LARGEST_BODY) if shown else LARGEST_UNASKED
        if self.error is None and (self.content_length > largest or (self.chunked and not shown)):
            self.error = RequestEntityTooLarge(f"at most {show_size(largest)} can be sent here")
            self.completed = True


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

    def readable(self) -> bool:
        return True if self.draining is not None else bool(super().readable())

    def handle_read(self) -> None:
        if self.draining is None:
            super().handle_read()
            return
        try:
            if not self.recv(65536):
                self.handle_close()
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


class _Server(TcpWSGIServer):  # type: ignore[misc]
    channel_class = _Channel
    shared: Shared | None = None

    _left = 0

    def readable(self) -> bool:
        if self.shared is not None:
            self.shared.has_connections(len(self.active_channels))
        return bool(super().readable())

    def handle_accept(self) -> None:
        """Take a connection; but whoever has more than another process leaves it a moment to take it first."""
        fewest = self.shared.fewest_elsewhere() if self.shared is not None else None
        if fewest is not None and len(self.active_channels) > fewest and self._left < 3:
            self._left += 1
            time.sleep(0.0005)
            return
        self._left = 0
        super().handle_accept()

    def maintenance(self, now: float) -> None:
        super().maintenance(now)
        for channel in list(self.active_channels.values()):
            if channel.overdue(now):
                channel.will_close = True


def make_server(application: Any, listening: socket.socket, threads: int, shared: Shared | None = None) -> _Server:
    """A server of an application on a socket that listens; its `run` serves until it is interrupted."""
    adjustments = Adjustments(
        sockets=[listening], connection_limit=4000, backlog=1024, channel_timeout=60, cleanup_interval=2, ident="",
        max_request_header_size=LARGEST_HEAD, max_request_body_size=LARGEST_MODEL, log_socket_errors=False,
        clear_untrusted_proxy_headers=True,
    )  # fmt: skip
    dispatcher = ThreadedTaskDispatcher()
    dispatcher.set_thread_count(threads)
    address = (listening.family, listening.type, listening.proto, listening.getsockname())
    made = _Server(
        application, {}, True, listening, dispatcher=dispatcher, adj=adjustments, bind_socket=False, sockinfo=address
    )
    made.shared = shared
    return made


# --- processes ------------------------------------------------------------------------------------


def listen(host: str, port: int) -> socket.socket:
    """A socket that listens; OSError if nothing can listen there."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    made = socket.socket(family)
    made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    made.bind((host, port))
    made.listen(1024)
    return made


class Server:
    """Several processes on one socket. One that ends by itself is started again."""

    def __init__(
        self,
        options: Options,
        listening: socket.socket,
        when_ready: Callable[[], None],
        extend: Callable[[Flask], object] = lambda app: None,
    ) -> None:
        """`extend` adds to the application of each process, before it serves."""
        self.options, self.listening, self.when_ready, self.extend = options, listening, when_ready, extend
        self.shared = Shared(options.processes)
        #: The first process holds the end to write on, and never writes: when it is gone, the others read its end.
        self._alive = os.pipe()
        self._children: dict[int, int] = {}
        self._stopping = False

    def run(self) -> None:
        """Serve until the process is told to stop; what is under way then is finished."""
        if self.options.processes == 1:
            self.when_ready()
            _work(self.options, self.listening, self.shared, self.extend)
            return
        # Held back, and taken one by one: one that came just before a wait for children would be seen only after it.
        signal.pthread_sigmask(signal.SIG_BLOCK, HELD)
        for place in range(self.options.processes):
            self._start(place)
        self.when_ready()
        while self._children:
            if signal.sigwait(HELD) != signal.SIGCHLD:
                self._stop()
            self._see_to_ended()

    def _see_to_ended(self) -> None:
        """Start again what ended by itself."""
        for pid in list(self._children):
            gone, status = os.waitpid(pid, os.WNOHANG)
            if not gone:
                continue
            place = self._children.pop(pid)
            if not self._stopping:
                log.error("a process of the service ended by itself and is started again", status=status)
                time.sleep(0.5)  # one that cannot start at all is not to keep the machine busy
                self._start(place)

    def _start(self, place: int) -> None:
        pid = os.fork()
        if pid:
            self._children[pid] = place
            return
        code = 1
        try:
            signal.signal(signal.SIGTERM, signal.SIG_DFL)
            signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl-C reaches all of them; the first process tells the rest
            signal.pthread_sigmask(signal.SIG_UNBLOCK, HELD)
            os.close(self._alive[1])
            threading.Thread(target=_end_with, args=(self._alive[0],), daemon=True).start()
            self.shared.mine = place
            _work(self.options, self.listening, self.shared, self.extend)
            code = 0
        except BaseException:
            set_up_logging(self.options.verbose)
            log.exception("a process of the service cannot go on")
        finally:
            sys.stderr.flush()
            os._exit(code)

    def _stop(self) -> None:
        self._stopping = True
        for pid in self._children:
            os.kill(pid, signal.SIGTERM)


#: What the first process waits for.
HELD = {signal.SIGTERM, signal.SIGINT, signal.SIGCHLD}


def _end_with(pipe: int) -> None:
    """Stop when the first process is gone, however that came about."""
    os.read(pipe, 1)
    os.kill(os.getpid(), signal.SIGTERM)


def _work(options: Options, listening: socket.socket, shared: Shared, extend: Callable[[Flask], object]) -> None:
    """One process: the application, until SIGTERM."""
    set_up_logging(options.verbose)
    app = create_app(
        Database(options.database, size=options.threads + 4), options.console, options.key_file, options.files, shared,
        second_person=options.second_person, pattern_folders=options.patterns,
    )  # fmt: skip
    extend(app)
    server = make_server(app, listening, options.threads, shared)

    stopping = threading.Event()

    def stop(number: int, frame: FrameType | None) -> None:
        # Not an exception: one that is raised while something is cleared away would be lost, and the service go on.
        stopping.set()
        server.pull_trigger()

    signal.signal(signal.SIGTERM, stop)
    if options.processes == 1:
        signal.signal(signal.SIGINT, stop)
    while not stopping.is_set():
        server.asyncore.loop(timeout=1, map=server._map, use_poll=True, count=1)
    _finish(server)
    app.extensions["drawknife"].stop()


def _finish(server: _Server) -> None:
    """Take nothing new, and let what is under way be done and sent, for as long as there is grace."""
    server.accepting = False
    server.del_channel()
    end = time.time() + GRACE
    while time.time() < end and any(c.requests or c.total_outbufs_len for c in list(server.active_channels.values())):
        server.asyncore.loop(timeout=0.1, map=server._map, use_poll=True, count=1)
    server.task_dispatcher.shutdown(timeout=1)


def set_up_logging(verbose: bool) -> None:
    """Log lines as JSON on standard error; requests only if `verbose`. Tokens never come into them."""
    logging.getLogger("waitress").setLevel(logging.ERROR)
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(ensure_ascii=False),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(logging.INFO if verbose else logging.WARNING),
        logger_factory=structlog.PrintLoggerFactory(file=sys.stderr),
        cache_logger_on_first_use=True,
    )
