"""The stand-in: the endpoints of a model, opened on loopback for real clients."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from drawknife.core.model.endpoints import tls_policy
from drawknife.core.model.items import Endpoint
from drawknife.core.prepared.prepared import Prepared

from .ftp import serve_ftp
from .model_source import ModelSource
from .sftp import serve_sftp
from .stage import Stage


class Opened(NamedTuple):
    """An endpoint that is open, and where."""

    endpoint: Endpoint
    host: str
    port: int


def _is_same_door(one: Endpoint, other: Endpoint | None) -> bool:
    """Do clients find two endpoints by the same?"""
    if other is None:
        return False
    return (one.protocol, one.address, one.port, one.passive_ports, one.tls, one.host_names) == (
        other.protocol,
        other.address,
        other.port,
        other.passive_ports,
        other.tls,
        other.host_names,
    )


class StandIn(Stage):
    """A stage whose endpoints can be opened."""

    def __init__(self, source: ModelSource, folder: Path, **options: Any) -> None:
        """As :class:`Stage`."""
        super().__init__(source, folder, **options)
        self.opened: list[Opened] = []
        #: Endpoints that could not be opened, and why.
        self.left_out: list[str] = []
        self._servers: dict[str, asyncio.AbstractServer] = {}
        self._following = asyncio.Lock()
        self._told: Callable[[str], None] = lambda _: None

    # --- endpoints -------------------------------------------------------------------------------

    async def open(self, tell: Callable[[str], None] | None = None) -> None:
        """Open every endpoint that starts; from then on follow the model, and `tell` of what opens
        and closes.
        """
        self.refresh()
        await self._open_and_close()
        self._told = tell or self._told
        self._loop = asyncio.get_running_loop()

    def refresh(self) -> Prepared:
        """As :meth:`Stage.refresh`; where endpoints are others, they open and close after what is
        done now.
        """
        before, found = self._known, super().refresh()
        if self._loop is not None and found.model.endpoints != before.model.endpoints:
            self._loop.create_task(self._open_and_close())
        return found

    async def _open_and_close(self) -> None:
        """Open each endpoint that starts, and close those that do no more; what goes on at the
        others goes on.
        """
        async with self._following:
            prepared = self._known
            starting = {
                e.name: e
                for e in prepared.model.endpoints
                if e.enabled and e.name not in prepared.stopped_by
            }
            for opened in list(self.opened):
                if not _is_same_door(opened.endpoint, starting.get(opened.endpoint.name)):
                    self._servers.pop(opened.endpoint.name).close()
                    self.opened.remove(opened)
                    self._told(f"{opened.endpoint.name} is closed")
            self.left_out = [
                f"{name} does not start beside {clash.winner}: {clash.text}"
                for name, clash in prepared.stopped_by.items()
            ]
            for endpoint in starting.values():
                if endpoint.name not in self._servers:
                    await self._open(endpoint)

    async def _open(self, endpoint: Endpoint) -> None:
        # Endpoints that share a port by host names get one each.
        taken = {opened.port for opened in self.opened}
        wanted = (
            0
            if self.offset == 0 or endpoint.port + self.offset in taken
            else endpoint.port + self.offset
        )
        listening = self._listen(wanted if wanted < 65536 else 0, endpoint)
        if listening is None:
            return
        port = listening.getsockname()[1]
        serve = serve_sftp if endpoint.protocol == "sftp" else serve_ftp
        self._servers[endpoint.name] = await serve(self, endpoint, listening)
        self.opened.append(Opened(endpoint, self.host, port))
        self._told(f"{endpoint.name} is open, at port {port}")

    def _listen(self, port: int, endpoint: Endpoint) -> socket.socket | None:
        """A socket that listens on a port, or on any that is free where that one is taken."""
        family = socket.AF_INET6 if ":" in self.host else socket.AF_INET
        for wanted in (port, 0):
            # Named as TCP, or asyncio leaves small answers waiting for the acknowledgement of those
            # before.
            listening = socket.socket(family, socket.SOCK_STREAM, socket.IPPROTO_TCP)
            listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                listening.bind((self.host, wanted))
            except OSError as error:
                listening.close()
                why = error.strerror
                continue
            listening.listen(200)
            return listening
        self.left_out.append(f"{endpoint.name}: port {port} cannot be opened: {why}")
        return None

    async def close(self) -> None:
        self._loop = None
        for server in self._servers.values():
            server.close()
        while self.connections:
            for abort in list(self.connections):
                abort()
            await asyncio.sleep(0.01)
        self.transfers.shutdown(wait=False, cancel_futures=True)

    def lines(self) -> list[str]:
        """What to paste to come in at each endpoint."""
        found = []
        for e, address, port in self.opened:
            host = f"[{address}]" if ":" in address else address
            if e.protocol == "sftp":
                found.append(f"{e.name:<16} sftp -P {port} ACCOUNT@{host}")
            elif e.protocol == "ftps":
                found.append(f"{e.name:<16} curl -k ftps://{host}:{port}/ -u ACCOUNT")
            else:
                tls = (
                    "-k --ssl-reqd "
                    if tls_policy(e) == "required"
                    else "-k --ssl "
                    if tls_policy(e) == "optional"
                    else ""
                )
                found.append(f"{e.name:<16} curl {tls}ftp://{host}:{port}/ -u ACCOUNT")
        return found
