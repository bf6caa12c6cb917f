"""The stand-in: the endpoints of a model, opened on loopback, and who signs in at them."""

from __future__ import annotations

import asyncio
import secrets
import socket
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime
from itertools import count
from pathlib import Path
from typing import NamedTuple

from drawknife.core.decide.gates import verdict
from drawknife.core.model.endpoints import tls_policy
from drawknife.core.model.items import Endpoint
from drawknife.core.prepared.lockout import Attempt, Counting, counting
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.question import Question, Verdict
from drawknife.core.words.names import fold

from .acting import Session
from .keys import host_key_in, tls_context
from .log import Line, Log
from .room import Room
from .source import Source, equal
from .tree import Tree

#: Data connections that go on at once.
TRANSFERS = 64
#: Attempts to sign in that are remembered.
ATTEMPTS = 10_000


class Opened(NamedTuple):
    """An endpoint that is open, and where."""

    endpoint: Endpoint
    host: str
    port: int


class StandIn:
    """Endpoints, sessions, files and usage of one rehearsal. Everything but data connections is done in one thread."""

    def __init__(
        self,
        source: Source,
        folder: Path,
        *,
        host: str = "127.0.0.1",
        offset: int = 20000,
        as_from: dict[str, str] | None = None,
        password: str | None = None,
    ) -> None:
        """`folder` keeps keys and files. Ports are moved by `offset` (0: any that is free). `as_from` says for an
        account, or for all (``""``), from which address the core is told that it comes."""
        folder.mkdir(parents=True, exist_ok=True)
        self.source, self.folder, self.host, self.offset = source, folder, host, offset
        self.as_from = as_from or {}
        #: Good for every account, in the place of what it has to sign in with.
        self.password = password or secrets.token_urlsafe(9)
        self.log = Log()
        self.tree = Tree(folder / "files")
        self.tls = tls_context(folder)
        self.host_key = host_key_in(folder)
        self.transfers = ThreadPoolExecutor(TRANSFERS, "transfer")
        first = source.newer(None)
        assert first is not None
        self._known: Prepared = first
        self.room = Room(first)
        self.tree.make_folders_of(first.model)
        self.opened: list[Opened] = []
        self.left_out: list[str] = []
        self._servers: list[asyncio.AbstractServer] = []
        self._connections: list[Callable[[], None]] = []
        self._numbers = count(1)
        self._sessions: dict[str, int] = {}
        self._attempts: list[Attempt] = []

    # --- the model ------------------------------------------------------------------------------

    def refresh(self) -> Prepared:
        """The model as of now: a new revision counts from the next action on."""
        newer = self.source.newer(self._known)
        if newer is not None:
            self._known = newer
            self.room.renew(newer)
            self.tree.make_folders_of(newer.model)
        return self._known

    # --- endpoints ------------------------------------------------------------------------------

    async def open(self) -> None:
        """Open every endpoint that starts."""
        from .ftp import serve_ftp
        from .sftp import serve_sftp

        prepared = self._known
        taken: set[int] = set()
        for endpoint in prepared.model.endpoints:
            if not endpoint.enabled or endpoint.name in prepared.stopped_by:
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
        family = socket.AF_INET6 if ":" in self.host else socket.AF_INET
        listening = socket.socket(family, socket.SOCK_STREAM)
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            listening.bind((self.host, port))
        except OSError as error:
            listening.close()
            self.left_out.append(
                f"{endpoint.name}: port {port} cannot be opened: {error.strerror}; try another --offset"
            )
            return None
        listening.listen(200)
        return listening

    async def close(self) -> None:
        for server in self._servers:
            server.close()
        while self._connections:
            for abort in list(self._connections):
                abort()
            await asyncio.sleep(0.01)
        self.transfers.shutdown(wait=False, cancel_futures=True)

    @contextmanager
    def connected(self, abort: Callable[[], None]) -> Iterator[None]:
        """A connection that goes on until the block ends; `abort` ends it."""
        self._connections.append(abort)
        try:
            yield
        finally:
            self._connections.remove(abort)

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

    # --- signing in -----------------------------------------------------------------------------

    def client_of(self, account: str, address: str) -> str:
        """The address that the core is told of."""
        return self.as_from.get(fold(account), self.as_from.get("", address))

    def sign_in(
        self, endpoint: Endpoint, account: str, address: str, tls: bool, method: str, *, proven: bool
    ) -> Session | None:
        """Sign an account in by a method, where what it offered is `proven` to be right; None: it is refused."""
        prepared = self.refresh()
        client = self.client_of(account, address)
        now = datetime.now(UTC)
        known = prepared.account(account)
        asked = Question(
            known.name if known is not None else account, "sign-in", endpoint=endpoint.name, client=client, tls=tls,
            method=method if known is None or known.account.kind != "anonymous" else None,
        )  # fmt: skip
        if known is None:
            self._attempt(now, account, client, ok=False)
            found = Verdict("sign-in", lambda: ("no-account", f"there is no account {account!r}"))
            self._refused(asked, found)
            return None
        methods = frozenset(known.account.methods)
        sessions = self._sessions.get(known.name, 0)
        question = Question(
            known.name, "sign-in", endpoint=endpoint.name, client=client, tls=tls, method=asked.method, at=now,
            credentials=methods, sessions=sessions, locks=self._locks(prepared, known.name, client, now),
        )  # fmt: skip
        found = verdict(self.room.prepared(), question, now)
        anonymous = known.account.kind == "anonymous"
        if not anonymous and not proven:
            # Only what is wrong to sign in with counts towards a lock.
            self._attempt(now, account, client, ok=False)
            if found.allowed:
                found = Verdict(
                    "sign-in", lambda: ("wrong-credential", f"the {method} that was given for {known.name} is wrong")
                )
        if not found.allowed:
            self._refused(asked, found)
            return None
        self._attempt(now, account, client, ok=True)
        facts = Question(
            known.name,
            "sign-in",
            endpoint=endpoint.name,
            client=client,
            tls=tls,
            method=asked.method,
            credentials=methods,
        )
        session = Session(self, next(self._numbers), known.name, facts)
        self._sessions[known.name] = sessions + 1
        session.tell("sign-in", None, found)
        today = prepared.on(now.date())
        seen = today.account(known.name)
        for served in today.namespace(seen).served.values() if seen is not None else ():
            self.tree.make_all(served.place)
        return session

    def _refused(self, asked: Question, found: Verdict) -> None:
        self.log.write(
            Line(
                datetime.now(UTC), 0, asked.account, asked.endpoint or "", asked.client or "", "sign-in", None, None, False,
                found.gate, found.reason, found.text,
            )
        )  # fmt: skip

    def ended(self, session: Session) -> None:
        """A session is over."""
        left = self._sessions.get(session.account, 1) - 1
        self._sessions[session.account] = max(0, left)

    def password_is(self, account: str, password: str) -> bool:
        return equal(password, self.password) or self.source.password_is(account, password)

    def _attempt(self, at: datetime, account: str, client: str, ok: bool) -> None:
        self._attempts.append(Attempt(at, account, client, ok))
        del self._attempts[:-ATTEMPTS]

    def _locks(self, prepared: Prepared, account: str, client: str, at: datetime) -> tuple[Counting, ...]:
        found = []
        for policy in prepared.model.lockouts:
            name = account if policy.of == "account" else client
            own = [
                a
                for a in self._attempts
                if (fold(a.account) == fold(account) if policy.of == "account" else a.address == client)
            ]
            standing = counting(policy, name, own, at)
            if standing.until is not None:
                found.append(standing)
        return tuple(found)
