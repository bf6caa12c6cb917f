"""FTP (RFC 959, 2228, 2389, 2428, 3659, 4217) on asyncio."""

from __future__ import annotations

import asyncio
import socket

from drawknife.core.model.items import Endpoint

from .ftp_commands import FtpCommands
from .ftp_control import LONGEST
from .stage import Stage


async def serve_ftp(
    stand: Stage, endpoint: Endpoint, listening: socket.socket
) -> asyncio.AbstractServer:
    """Serve FTP on a socket; with TLS from the first byte where the endpoint's protocol is ftps."""

    async def met(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with stand.connected(writer.transport.abort):
            await FtpCommands(stand, endpoint, reader, writer).run()

    context = stand.tls if endpoint.protocol == "ftps" else None
    return await asyncio.start_server(met, sock=listening, limit=LONGEST, ssl=context)
