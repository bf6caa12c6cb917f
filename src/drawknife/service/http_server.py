"""The application behind waitress: its connections, shared among processes, and room for them."""

from __future__ import annotations

import math
import resource
import socket
import time
from typing import Any

import structlog
from waitress.adjustments import Adjustments
from waitress.server import TcpWSGIServer
from waitress.task import ThreadedTaskDispatcher

from .bodies import LARGEST_MODEL
from .connections import Channel, Known, TlsChannel
from .proxies import Proxies
from .shared import Shared
from .tls_certificate import Certificate

log = structlog.get_logger()

#: Seconds for which a connection is left to a process that has fewer.
LEFT = 0.02
#: Connections of a process, and descriptors that are kept for all else: the database, files, the
#: next client.
MOST, KEPT_BACK = 4000, 200
#: Seconds between two log lines about connections that were closed to make room.
LOGGED_EVERY = 60
#: Bytes of a request's head.
LARGEST_HEAD = 64 * 1024


class HttpServer(TcpWSGIServer):  # type: ignore[misc]
    channel_class = Channel
    shared: Shared | None = None
    certificate: Certificate | None = None

    #: Set when the service is to stop: each answer ends its connection, so that the next request
    #: goes elsewhere.
    draining = False
    #: Since when a connection is left to another process.
    _left: float | None = None
    #: Connections at most, and of one address that is no proxy's.
    most, most_of_one = MOST, MOST // 2
    proxies = Proxies()
    #: Connections that were closed to make room since that was logged last, and when that was.
    _closed, _logged = 0, -math.inf

    def accept(self) -> Any:
        found = super().accept()
        if found is None or self.certificate is None:
            return found
        connection, address = found
        wrapped = self.certificate.context.wrap_socket(
            connection, server_side=True, do_handshake_on_connect=False
        )
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
        """Take a connection; but whoever has more than another process leaves it a moment to take
        it first.
        """
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
        """Take all connections that wait to be taken; they would be broken off as the socket is
        closed.
        """
        self.shared, before = None, -1
        while len(self.active_channels) > before:
            before = len(self.active_channels)
            self.handle_accept()

    def _make_room(self) -> None:
        """Close a connection where there are too many, so that the newest can be served: of the
        same address, if that
        has too many, else of the address that has most. The one that was silent for longest goes,
        or the newest itself.
        """
        channels = list(self.active_channels.values())
        if len(channels) <= min(self.most, self.most_of_one):
            return
        by_address: dict[str, list[Channel]] = {}
        for channel in channels:
            by_address.setdefault(str(channel.addr[0]), []).append(channel)
        same = by_address[str(channels[-1].addr[0])]
        crowd: list[Channel] = []
        if len(same) > self.most_of_one and not self.proxies.holds(str(channels[-1].addr[0])):
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
        """Bytes for which the processes of the service keep room; those of this one are brought up
        to date.
        """
        own: int = sum(c.reserved for c in list(self.active_channels.values()))
        if self.shared is None:
            return own
        self.shared.reserves(own)
        return self.shared.reserved()

    def maintenance(self, now: float) -> None:
        super().maintenance(now)
        self.reserved()
        if self._closed and now - self._logged >= LOGGED_EVERY:
            log.warning(
                "connections were closed to make room",
                count=self._closed,
                open=len(self.active_channels),
            )
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
    *,
    proxies: Proxies = Proxies(),
    known: Known = lambda headers: None,
) -> HttpServer:
    """A server of an application on a socket that listens; its `run` serves until it is
    interrupted.

    What the `proxies` say of their clients is taken for true.
    Large bodies are received from those who are `known` only.
    """
    adjustments = Adjustments(
        sockets=[listening],
        connection_limit=2**31,
        backlog=1024,
        channel_timeout=60,
        cleanup_interval=2,
        ident="",
        max_request_header_size=LARGEST_HEAD,
        max_request_body_size=LARGEST_MODEL,
        log_socket_errors=False,
        clear_untrusted_proxy_headers=False,
        url_scheme="http" if certificate is None else "https",
    )
    dispatcher = ThreadedTaskDispatcher()
    dispatcher.set_thread_count(threads)
    address = (listening.family, listening.type, listening.proto, listening.getsockname())
    made = HttpServer(
        proxies.before(application),
        {},
        True,
        listening,
        dispatcher=dispatcher,
        adj=adjustments,
        bind_socket=False,
        sockinfo=address,
    )
    made.shared, made.proxies = shared, proxies
    descriptors = resource.getrlimit(resource.RLIMIT_NOFILE)[0]
    made.most = max(KEPT_BACK, min(MOST, descriptors - KEPT_BACK))
    made.most_of_one = made.most // 2
    adjustments.known = known
    adjustments.reserved = made.reserved
    adjustments.draining = lambda: made.draining
    if certificate is not None:
        made.certificate, made.channel_class = certificate, TlsChannel
    return made
