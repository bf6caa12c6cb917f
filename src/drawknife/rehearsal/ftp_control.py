"""The control connection of FTP: lines, replies, and data that moves meanwhile."""

from __future__ import annotations

import asyncio
import re
import socket
import ssl
from collections import deque
from collections.abc import Awaitable, Callable, Iterator
from contextlib import suppress
from typing import Any

import structlog

from drawknife.core.model.items import UNLIMITED, Endpoint

from .acting import Session
from .ftp_data import CutOff, DataConnections, end, hear_out, secured, send
from .refusals import BadName, Denied, InTheWay, LimitReached, NotDone, NotThere
from .stage import Stage

log = structlog.get_logger()

#: No command is longer; a client may try so often to sign in; and may take so long before it has.
LONGEST, TRIES, UNSIGNED = 8192, 5, 60
#: So many commands may wait for data to have moved; and so many seconds of a listing are made at a
#: time.
WAITING, AT_A_TIME = 100, 0.01
#: What can be said before signing in.
BEFORE = frozenset(
    [
        "USER",
        "PASS",
        "ACCT",
        "QUIT",
        "REIN",
        "AUTH",
        "PBSZ",
        "PROT",
        "CCC",
        "FEAT",
        "OPTS",
        "HELP",
        "SYST",
        "NOOP",
        "STAT",
    ]
)
#: What may stand between REST, or RNFR, and what it is for.
BETWEEN = frozenset(["ALLO", "PASV", "EPSV", "PORT", "EPRT", "TYPE", "MODE", "STRU", "NOOP"])
#: The facts of MLST and MLSD (RFC 3659).
FACTS = ("type", "size", "modify", "perm", "unique")
REPLIES = {
    Denied: (550, "Not permitted."),
    NotThere: (550, "There is no such file or folder."),
    InTheWay: (550, "Something is in the way."),
    LimitReached: (552, "There is no room for it."),
    BadName: (553, "No name can be so."),
}


def _text(raw: bytes) -> str:
    return raw.rstrip(b"\r\n").decode("utf-8", "surrogateescape")


class Control:
    """One control connection."""

    def __init__(
        self,
        stand: Stage,
        endpoint: Endpoint,
        reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter,
    ) -> None:
        self.stand, self.endpoint, self._reader, self._writer = stand, endpoint, reader, writer
        self.peer = str(writer.get_extra_info("peername")[0])
        self.local = str(writer.get_extra_info("sockname")[0])
        self.session: Session | None = None
        self._tls = endpoint.protocol == "ftps"
        self._private = self._tls  # data connections with TLS
        self._data = DataConnections(self.peer, self.local, endpoint.passive_ports, stand.offset)
        self._name: str | None = None
        self._start = 0
        self._from: str | None = None
        self._announced: int | None = None
        self._tries = 0
        self._wanted = list(FACTS)
        self._transfer: socket.socket | None = None
        self._over = False
        #: Lines that came while data moved: they are done when it has.
        self._lines: deque[bytes] = deque()

    # --- lines -----------------------------------------------------------------------------------

    async def say(self, code: int, text: str, *more: str) -> None:
        """A reply; with `more` lines in the middle, of several."""
        if more:
            lines = [f"{code}-{text}", *(f" {x}" for x in more), f"{code} End"]
        else:
            lines = [f"{code} {text}"]
        self._writer.write(("\r\n".join(lines) + "\r\n").encode("utf-8", "surrogateescape"))
        await self._writer.drain()

    async def run(self) -> None:
        """Serve the client until it goes, or is sent away."""
        try:
            await self.say(220, f"{self.endpoint.name}: a rehearsal, not a server.")
            while not self._over and (line := await self._next()) is not None:
                await self._do(line)
        except (ConnectionError, ssl.SSLError, TimeoutError, OSError):
            pass  # it is gone
        finally:
            self._data.forget()
            self._sign_out()
            self._writer.close()

    async def _next(self) -> str | None:
        """The next command; None: there is none any more."""
        if self._lines:
            return _text(self._lines.popleft())
        patience = UNSIGNED if self.session is None else self._patience()
        try:
            async with asyncio.timeout(patience):
                raw = await self._reader.readuntil(b"\n")
        except TimeoutError:
            await self.say(421, "Nothing was asked for too long.")
            return None
        except asyncio.LimitOverrunError:
            await self.say(500, "The line is too long.")
            return None
        except asyncio.IncompleteReadError:
            return None  # half a line is none
        return _text(raw)

    def _patience(self) -> float | None:
        assert self.session is not None
        try:
            seconds = self.session.setting("idle_timeout")
        except Denied:
            return 0.01
        return None if seconds == UNLIMITED else float(seconds)

    async def _do(self, line: str) -> None:
        # Telnet's way to say "now" may stand before ABOR.
        line = re.sub("^[\udc80-\udcff]+", "", line)
        verb, _, argument = line.partition(" ")
        verb = verb.upper()
        command: Callable[[str], Awaitable[None]] | None = (
            getattr(self, f"do_{verb}", None) if verb.isalpha() else None
        )
        if "\0" in line:
            await self.say(501, "No command holds that.")
        elif command is None:
            await self.say(502, "That is not spoken here.")
        elif self.session is None and verb not in BEFORE:
            await self.say(530, "Sign in first.")
        else:
            try:
                await command(argument)
            except NotDone as refused:
                if isinstance(refused, BadName) and self.session is not None:
                    self.session.refused_name(verb, argument)
                await self.say(*REPLIES[type(refused)])
            except (ConnectionError, TimeoutError, ssl.SSLError):
                raise  # the client is gone
            except Exception:
                log.exception("a command failed", command=verb)
                await self.say(451, "It did not work.")
            if verb not in BETWEEN:
                self._start, self._from = (
                    (self._start if verb == "REST" else 0),
                    (self._from if verb == "RNFR" else None),
                )

    def _in(self) -> Session:
        assert self.session is not None
        self.stand.refresh()
        return self.session

    def _at(self, argument: str) -> str:
        if "\udc80" <= max(argument, default="") <= "\udcff":
            raise BadName(argument)
        return self._in().absolute(argument)

    def _sign_out(self) -> None:
        if self.session is not None:
            self.stand.ended(self.session)
            self.session = None

    # --- moving data ---

    async def _send(self, lines: Iterator[str]) -> None:
        """Send a listing over a data connection; says how it went.

        Each line is made as it is sent, some at a time, so that a long listing holds up nobody
        else.
        """
        loop = asyncio.get_running_loop()

        async def some() -> bytes:
            made, until = [], loop.time() + AT_A_TIME
            for line in lines:
                made.append(line)
                if loop.time() > until:
                    break
            return "".join(made).encode("utf-8", "surrogateescape")

        def sending(data: socket.socket) -> None:
            while part := asyncio.run_coroutine_threadsafe(some(), loop).result():
                send(data, part)

        await self._move(sending, "Here it comes.")

    async def _move(
        self,
        moving: Callable[[socket.socket], None],
        what: str,
        done: Callable[[], None] | None = None,
        broken: Callable[[], None] | None = None,
    ) -> None:
        """Open the data connection and do something with it in a thread, while the client may say
        that it is enough.
        """
        problem: tuple[int, str] | None = None
        try:
            data = await self._data_connection(what)
        except CutOff as none:
            if broken is not None:
                broken()
            await self.say(425, str(none))
            return
        context = self.stand.data_tls if self._private else None
        # A second handle on the same connection, to cut it by: TLS takes the first one over in the
        # middle of its work.
        handle = self._transfer = data.dup()

        def work() -> None:
            secure = data
            try:
                secure = secured(data, context)
                moving(secure)
            except LimitReached:
                hear_out(secure)
                raise
            finally:
                handle.close()
                end(secure)

        doing = asyncio.get_running_loop().run_in_executor(self.stand.transfers, work)
        aborted = await self._until_done(doing)
        try:
            await doing
        except LimitReached:
            problem = REPLIES[LimitReached]
        except (CutOff, OSError, ssl.SSLError, ValueError):
            problem = (426, "It was broken off.")
        self._transfer = None
        if problem is not None:
            if broken is not None:
                broken()
        elif done is not None:
            done()
        await self.say(*(problem or (226, "Done.")))
        if aborted:
            await self.say(226, "It was broken off.")

    async def _data_connection(self, what: str) -> socket.socket:
        """Announce a transfer, and wait for the connection; :class:`CutOff` with what to say."""
        if not self._data.asked_for:
            raise CutOff("How is it to come? Send EPSV or PASV first.")
        await self.say(150, what)
        try:
            return await self._data.connected()
        except CutOff:
            raise CutOff("The data connection did not come.") from None

    async def _until_done(self, doing: asyncio.Future[None]) -> bool:
        """Wait for a transfer, and listen meanwhile; True: the client has sent ABOR.

        ABOR and STAT are answered at once (RFC 959, 4.1.3), all else in its turn.
        """
        while not doing.done():
            if len(self._lines) >= WAITING:
                await asyncio.wait({doing})
                return False
            line = asyncio.ensure_future(self._reader.readuntil(b"\n"))
            both: set[asyncio.Future[Any]] = {doing, line}
            await asyncio.wait(both, return_when=asyncio.FIRST_COMPLETED)
            if not line.done():
                line.cancel()
                with suppress(asyncio.CancelledError):
                    await line
                return False
            try:
                raw = line.result()
            except (asyncio.IncompleteReadError, asyncio.LimitOverrunError, ConnectionError):
                self._over = True
                self._cut()
                return False
            said = raw.rstrip(b"\r\n").upper()
            if said.endswith(b"ABOR"):
                self._cut()
                await asyncio.wait({doing})
                return True
            if said.endswith(b"STAT"):
                await self.say(211, "The transfer goes on.")
            else:
                self._lines.append(raw)
        return False

    def _cut(self) -> None:
        if self._transfer is not None:
            with suppress(OSError):
                self._transfer.shutdown(socket.SHUT_RDWR)
