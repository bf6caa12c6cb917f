"""SFTP (draft-ietf-secsh-filexfer-02, version 3) and scp through it, with asyncssh as the
transport.
"""

from __future__ import annotations

import asyncio
import logging
import socket
from contextlib import ExitStack

import asyncssh
import structlog
from asyncssh import sftp as wire

from drawknife.core.model.items import Endpoint

from .acting import Session
from .sftp_files import Files
from .stage import OWN, Stage

log = structlog.get_logger()

#: A connection may try so often to sign in.
TRIES = 6
#: Extensions that need more than the operations below: links, copies and holes within the server.
_NOT_SPOKEN = (
    b"hardlink@openssh.com",
    b"copy-data",
    b"ranges@asyncssh.com",
    b"statvfs@openssh.com",
    b"fstatvfs@openssh.com",
)


def _speak_no_more() -> None:
    """Take the extensions that are not spoken out of what asyncssh offers and answers: it has no
    setting for that.
    """
    handler = wire.SFTPServerHandler
    handler._extensions = [x for x in handler._extensions if x[0] not in _NOT_SPOKEN]
    for name in _NOT_SPOKEN:
        handler._packet_handlers.pop(name, None)


async def serve_sftp(
    stand: Stage, endpoint: Endpoint, listening: socket.socket
) -> asyncio.AbstractServer:
    """Serve SFTP on a socket."""
    _speak_no_more()
    logging.getLogger("asyncssh").setLevel(logging.CRITICAL)
    server = await asyncssh.listen(
        sock=listening,
        server_factory=lambda: _Connection(stand, endpoint),
        server_host_keys=[str(stand.host_key)],
        sftp_factory=Files,
        sftp_version=3,
        allow_scp=True,
        kbdint_auth=False,
        gss_auth=False,
        host_based_auth=False,
        agent_forwarding=False,
        x11_forwarding=False,
        login_timeout=60,
    )
    return server  # type: ignore[return-value]


class _Connection(asyncssh.SSHServer):
    """One SSH connection: who signs in, by a password or a key."""

    def __init__(self, stand: Stage, endpoint: Endpoint) -> None:
        self.stand, self.endpoint = stand, endpoint
        self.session: Session | None = None
        self._tries = 0
        self._refused_keys: set[str] = set()
        self._going_on = ExitStack()

    def connection_made(self, conn: asyncssh.SSHServerConnection) -> None:
        self._conn = conn
        self._going_on.enter_context(self.stand.connected(conn.abort))
        self._peer = str(conn.get_extra_info("peername")[0])
        conn.set_extra_info(drawknife=self)

    def connection_lost(self, exc: Exception | None) -> None:
        self._going_on.close()
        if self.session is not None:
            self.stand.ended(self.session)

    def begin_auth(self, username: str) -> bool:
        account = self.stand.refresh().account(username)
        if account is not None and account.account.kind == "anonymous":
            self.session = self.stand.sign_in(
                self.endpoint, username, self._peer, True, "password", proven=OWN
            )
            return self.session is None
        return True

    def password_auth_supported(self) -> bool:
        return True

    def public_key_auth_supported(self) -> bool:
        return True

    async def validate_password(self, username: str, password: str) -> bool:
        proven = await asyncio.get_running_loop().run_in_executor(
            None, self.stand.proven_by, username, password
        )
        return self._signed_in(username, "password", proven)

    async def validate_public_key(self, username: str, key: asyncssh.SSHKey) -> bool:
        """Asked before the client proves that it has the private part: nothing is
        written down yet.
        """
        print_ = key.get_fingerprint("sha256")
        known = await asyncio.get_running_loop().run_in_executor(
            None, self.stand.source.key_is, username, print_
        )
        if not known and print_ not in self._refused_keys:
            self._refused_keys.add(print_)
            self.stand.refused_key(self.endpoint, self._peer, username, print_)
        return known

    def auth_completed(self) -> None:
        """Whoever is in by a key has proven to have it now."""
        if self.session is None:
            username = self._conn.get_extra_info("username")
            if not self._signed_in(username, "key", OWN):
                self._conn.disconnect(
                    asyncssh.DISC_NO_MORE_AUTH_METHODS_AVAILABLE, "Sign-in refused."
                )

    def _signed_in(self, username: str, method: str, proven: str | None) -> bool:
        self._tries += 1
        if self._tries > TRIES:
            self._conn.disconnect(asyncssh.DISC_NO_MORE_AUTH_METHODS_AVAILABLE, "Too many tries.")
            return False
        self.session = self.stand.sign_in(
            self.endpoint, username, self._peer, True, method, proven=proven
        )
        return self.session is not None
