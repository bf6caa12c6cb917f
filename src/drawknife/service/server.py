"""Serving: the application in several processes on one socket."""

from __future__ import annotations

import contextlib
import ctypes
import logging
import os
import resource
import signal
import socket
import struct
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from types import FrameType
from typing import NamedTuple

import structlog
from flask import Flask

from drawknife.core.words.plain import escaped
from drawknife.records.database import Database
from drawknife.records.retention import DEFAULT, Retention

from .app import create_app
from .files import ReadableFolders
from .http_server import LEFT, HttpServer, make_server
from .proxies import Proxies
from .readiness import tell_manager
from .review_links import known_by_link
from .security import known_by
from .shared import Shared
from .telling import Telling, When
from .tidings import Mail, WayOfTelling
from .tls_certificate import Certificate

log = structlog.get_logger()

#: Seconds for what is under way when the service is told to stop.
GRACE = 8
#: Seconds in which requests are still answered that came on open connections as the socket was
#: closed.
LINGER = 0.3
#: Seconds in which a connection that has begun is there.
HANDSHAKE = 0.05
#: Seconds for the database's first answer, before it is served without.
DATABASE_WAITED = 8.0


class Options(NamedTuple):
    """How to serve."""

    database: str
    files: ReadableFolders = ReadableFolders()
    console: Path | None = None
    key_file: Path | None = None
    threads: int = 8
    processes: int = 1
    log_level: str = "warning"
    second_person: bool = False
    patterns: tuple[Path, ...] = ()
    certificate: Certificate | None = None
    proxies: Proxies = Proxies()
    public_url: str | None = None
    retention: Retention = DEFAULT
    ways: tuple[WayOfTelling, ...] = ()
    tell: When = When()
    #: Seconds for which it still serves after it was told to stop, while it says that it is not
    #: ready; and for what is under way then.
    drain: float = 0
    grace: float = GRACE


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
        self.options, self.listening, self.when_ready, self.extend = (
            options,
            listening,
            when_ready,
            extend,
        )
        self.shared = Shared(options.processes)
        #: The first process holds the end to write on, and never writes: when it is gone, the
        #: others read its end.
        self._alive = os.pipe()
        self._children: dict[int, int] = {}
        self._stopping = False
        self._first = os.getpid()

    def run(self) -> None:
        """Serve until the process is told to stop; what is under way then is finished."""
        _raise_descriptors()
        if self.options.processes == 1:
            _work(self.options, self.listening, self.shared, self.extend, self.when_ready)
            return
        # Held back, and taken one by one: one that came just before a wait for children would be
        # seen only after it.
        signal.pthread_sigmask(signal.SIG_BLOCK, HELD)
        for place in range(self.options.processes):
            self._start(place)
        waiting = True
        while self._children:
            came = signal.sigwait(HELD)
            if came in (signal.SIGTERM, signal.SIGINT):
                self._stop()
            if waiting and self.shared.all_ready() and not self._stopping:
                waiting = False
                self.when_ready()
            self._see_to_ended()

    def _see_to_ended(self) -> None:
        """Start again what ended by itself."""
        for pid in list(self._children):
            gone, status = os.waitpid(pid, os.WNOHANG)
            if not gone:
                continue
            place = self._children.pop(pid)
            if not self._stopping:
                log.error(
                    "a process of the service ended by itself and is started again", status=status
                )
                time.sleep(0.5)  # one that cannot start at all is not to keep the machine busy
                self._start(place)

    def _start(self, place: int) -> None:
        if threading.active_count() > 1:
            raise RuntimeError(
                "a thread runs beside the first process as it forks, and what it holds would be"
                " held for ever"
            )
        pid = os.fork()
        if pid:
            self._children[pid] = place
            return
        code = 1
        try:
            signal.signal(signal.SIGTERM, signal.SIG_DFL)
            signal.signal(
                signal.SIGINT, signal.SIG_IGN
            )  # Ctrl-C reaches all of them; the first process tells the rest
            signal.pthread_sigmask(signal.SIG_UNBLOCK, HELD)
            os.close(self._alive[1])
            threading.Thread(target=_end_with, args=(self._alive[0],), daemon=True).start()
            self.shared.mine = place
            _work(self.options, self.listening, self.shared, self.extend, self._ready)
            code = 0
        except BaseException:
            set_up_logging(self.options.log_level)
            log.exception("a process of the service cannot go on")
        finally:
            sys.stderr.flush()
            os._exit(code)

    def _ready(self) -> None:
        """A process can answer: the first one is told."""
        self.shared.is_ready()
        if os.getppid() == self._first:  # else it has ended, and its number may be another's
            os.kill(self._first, READY)

    def _stop(self) -> None:
        if self._stopping:
            return
        self._stopping = True
        self.shared.begin_to_stop()
        tell_manager("STOPPING=1")
        # Only those that take connections hold the socket: with the last of them it is closed.
        self.listening.close()
        for pid in self._children:
            os.kill(pid, signal.SIGTERM)


#: Sent to the first process by one that can answer.
READY = signal.SIGUSR1
#: What the first process waits for.
HELD = {signal.SIGTERM, signal.SIGINT, signal.SIGCHLD, READY}


def _raise_descriptors() -> None:
    """Each connection takes a descriptor: allow as many as the system lets this process have."""
    _, most = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (most, most))


def _end_with(pipe: int) -> None:
    """Stop when the first process is gone, however that came about."""
    os.read(pipe, 1)
    os.kill(os.getpid(), signal.SIGTERM)


def _work(
    options: Options,
    listening: socket.socket,
    shared: Shared,
    extend: Callable[[Flask], object],
    ready: Callable[[], None],
) -> None:
    """One process: the application, until SIGTERM. It is `ready` when it can answer."""
    set_up_logging(options.log_level)
    app = create_app(
        Database(options.database, size=options.threads + 4),
        options.console,
        options.key_file,
        options.files,
        shared,
        second_person=options.second_person,
        pattern_folders=options.patterns,
        public_url=options.public_url,
        retention=options.retention,
    )
    extend(app)
    app.extensions["drawknife"].mail = next(
        (way for way in options.ways if isinstance(way, Mail)), None
    )
    telling = Telling(app.extensions["drawknife"], options.ways, options.tell)
    if options.ways:
        telling.start()
    current = app.extensions["drawknife"]
    server = make_server(
        app,
        listening,
        options.threads,
        shared,
        options.certificate,
        proxies=options.proxies,
        known=lambda headers: known_by(headers, current) or known_by_link(headers, current),
    )

    stopping = threading.Event()

    def stop(number: int, frame: FrameType | None) -> None:
        if options.processes == 1:
            shared.begin_to_stop()
        app.extensions["drawknife"].begin_to_stop()
        # Not an exception: one that is raised while something is cleared away would be lost, and
        # the service go on.
        stopping.set()
        server.pull_trigger()

    signal.signal(signal.SIGTERM, stop)
    if options.processes == 1:
        signal.signal(signal.SIGINT, stop)
    app.extensions["drawknife"].wait_for_database(DATABASE_WAITED)
    ready()
    while not stopping.is_set():
        server.asyncore.loop(
            timeout=LEFT if server.leaves() else 1, map=server._map, use_poll=True, count=1
        )
    if shared.is_stopping():
        _drain(server, options.drain)
    _finish(server, options.grace, shared.is_stopping())
    if options.ways:
        telling.stop(options.grace)
    app.extensions["drawknife"].stop()


def _drain(server: HttpServer, seconds: float) -> None:
    """Serve on for so long, so that whoever looks whether it is ready goes elsewhere; each answer
    ends its connection.
    """
    server.draining = True
    end = time.monotonic() + seconds
    while (left := end - time.monotonic()) > 0:
        server.asyncore.loop(timeout=min(left, 0.1), map=server._map, use_poll=True, count=1)


#: A filter of packets (Linux, socket(7), SO_ATTACH_FILTER) that drops those with the flag SYN, byte
#: 13 of a TCP header (RFC 9293).
_NO_SYN = ((0x30, 0, 0, 13), (0x45, 0, 1, 0x02), (0x06, 0, 0, 0), (0x06, 0, 0, 0xFFFFFFFF))
_SO_ATTACH_FILTER = 26


def _let_nobody_begin(listening: socket.socket) -> None:
    """Drop requests for new connections: what came between the last one that is taken and the close
    would be broken off.

    The filter is the socket's, and so for all processes that hold it: it is set only where all of
    them stop. Whoever asks meanwhile asks again within a second, and is refused then, or taken by a
    service that took this one's place.
    """
    code = b"".join(struct.pack("HBBI", *step) for step in _NO_SYN)
    buffer = ctypes.create_string_buffer(code)
    program = struct.pack("HL", len(_NO_SYN), ctypes.addressof(buffer))
    with contextlib.suppress(OSError):  # another system, which has no such filter
        listening.setsockopt(socket.SOL_SOCKET, _SO_ATTACH_FILTER, program)


def _finish(server: HttpServer, grace: float, is_last: bool) -> None:
    """Take nothing new, and let what is under way be done and sent, for as long as there is grace.

    With `is_last` no other process takes what waits at the socket, as the whole service stops.
    """
    server.draining = True
    if is_last:
        _let_nobody_begin(server.socket)
        soon = time.monotonic() + HANDSHAKE
        while (left := soon - time.monotonic()) > 0:  # connections that had begun by then come in
            server.asyncore.loop(timeout=left, map=server._map, use_poll=True, count=1)
        server.take_waiting()
    server.accepting = False
    server.del_channel()
    server.socket.close()
    now = time.monotonic()
    linger, end = now + min(LINGER, grace), now + grace
    while (now := time.monotonic()) < end:
        under_way = any(
            c.requests or c.total_outbufs_len for c in list(server.active_channels.values())
        )
        if not under_way and now >= linger:
            break
        server.asyncore.loop(timeout=0.05, map=server._map, use_poll=True, count=1)
    server.task_dispatcher.shutdown(timeout=1)


#: How much is logged: the levels of :mod:`logging`, the most first. Requests are told at ``info``.
LOG_LEVELS = ("debug", "info", "warning", "error")


def set_up_logging(level: str) -> None:
    """Log lines as JSON on standard error, from a level on. Tokens never come into them."""
    logging.getLogger("waitress").setLevel(logging.ERROR)
    structlog.configure(
        processors=[
            structlog.contextvars.merge_contextvars,
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso", utc=True),
            structlog.processors.format_exc_info,
            structlog.processors.JSONRenderer(ensure_ascii=False),
            lambda logger, name, line: escaped(str(line)),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=structlog.PrintLoggerFactory(file=sys.stderr),
        cache_logger_on_first_use=True,
    )
