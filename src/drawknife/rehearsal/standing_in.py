"""The stand-in: the endpoints of a model, opened on loopback for real clients."""

from __future__ import annotations

import asyncio
import socket
from pathlib import Path
from typing import Any, NamedTuple

from drawknife.core.model.endpoints import tls_policy
from drawknife.core.model.items import Endpoint

from .ftp import serve_ftp
from .model_source import ModelSource
from .sftp import serve_sftp
from .stage import Stage


class Opened(NamedTuple):
    """An endpoint that is open, and where."""

    endpoint: Endpoint
    host: str
    port: int


class StandIn(Stage):
    """A stage whose endpoints can be opened."""

    def __init__(self, source: ModelSource, folder: Path, **options: Any) -> None:
        """As :class:`Stage`."""
        super().__init__(source, folder, **options)
        self.opened: list[Opened] = []
        #: Endpoints that could not be opened, and why.
        self.left_out: list[str] = []
        self._servers: list[asyncio.AbstractServer] = []

    # --- endpoints ------------------------------------------------------------------------------

    async def open(self) -> None:
        """Open every endpoint that starts."""
        prepared = self.refresh()
        taken: set[int] = set()
        for endpoint in prepared.model.endpoints:
            if not endpoint.enabled:
                continue
            if (clash := prepared.stopped_by.get(endpoint.name)) is not None:
                self.left_out.append(f"{endpoint.name} does not start beside {clash.winner}: {clash.text}")
                continue
            # Endpoints that share a port by host names get one each.
            wanted = 0 if self.offset == 0 or endpoint.port + self.offset in taken else endpoint.port + self.offset
            listening = self._listen(wanted if wanted < 65536 else 0, endpoint)
            if listening is None:
                continue
            port = listening.getsockname()[1]
            taken.add(port)
            serve = serve_sftp if endpoint.protocol == "sftp" else serve_ftp
            self._servers.append(await serve(self, endpoint, listening))
            self.opened.append(Opened(endpoint, self.host, port))

    def _listen(self, port: int, endpoint: Endpoint) -> socket.socket | None:
        """A socket that listens on a port, or on any that is free where that one is taken."""
        family = socket.AF_INET6 if ":" in self.host else socket.AF_INET
        for wanted in (port, 0):
            # Named as TCP, or asyncio leaves small answers waiting for the acknowledgement of those before.
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
        for server in self._servers:
            server.close()
        while self.connections:
            for abort in list(self.connections):
                abort()
            await asyncio.sleep(0.01)
        self.transfers.shutdown(wait=False, cancel_futures=True)

    def lines(self) -> list[str]:
        """What to paste to come in at each endpoint."""
        found = []
        for e, host, port in self.opened:
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
