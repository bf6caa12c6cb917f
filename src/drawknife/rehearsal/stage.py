"""What a rehearsal is played on: the model as it is now, the files, the room, the log; and who signs in."""

from __future__ import annotations

import secrets
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime
from itertools import count
from pathlib import Path

from drawknife.core.decide.gates import verdict
from drawknife.core.model.items import Endpoint
from drawknife.core.prepared.lockout import Attempt, Counting, counting
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.question import Question, Verdict
from drawknife.core.words.names import fold

from .acting import Session
from .keys import host_key_in, tls_context
from .log import ActionLine, Log
from .model_source import ModelSource, equal
from .room import RoomLeft
from .tree import Tree
from .writing import Scene

#: Data connections that go on at once.
TRANSFERS = 64
#: Attempts to sign in that are remembered.
ATTEMPTS = 10_000


class Stage:
    """Model, sessions, files and usage of one rehearsal. Everything but data connections is done in one thread."""

    def __init__(
        self,
        source: ModelSource,
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
        self.log.listen(source.tell)
        self.tree = Tree(folder / "files")
        self.tls = tls_context(folder)
        self.host_key = host_key_in(folder)
        self.transfers = ThreadPoolExecutor(TRANSFERS, "transfer")
        first = source.newer(None)
        assert first is not None
        self._known: Prepared = first
        self.room = RoomLeft(first)
        self.tree.make_folders_of(first.model)
        self.scene = Scene(self.room, self.tree, self.log)
        self.connections: list[Callable[[], None]] = []
        self._numbers = count(1)
        self._name = secrets.token_hex(4)
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

    @contextmanager
    def connected(self, abort: Callable[[], None]) -> Iterator[None]:
        """A connection that goes on until the block ends; `abort` ends it."""
        self.connections.append(abort)
        try:
            yield
        finally:
            self.connections.remove(abort)

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
            self.source.report("failed", known.name, client, endpoint.name, None)
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
        session = Session(self.scene, next(self._numbers), known.name, facts)
        self._sessions[known.name] = sessions + 1
        session.tell("sign-in", None, found)
        self.source.report("began", known.name, client, endpoint.name, self._called(session))
        today = prepared.on(now.date())
        seen = today.account(known.name)
        for served in today.namespace(seen).served.values() if seen is not None else ():
            self.tree.make_all(served.place)
        return session

    def _refused(self, asked: Question, found: Verdict) -> None:
        self.log.write(
            ActionLine(
                datetime.now(UTC), 0, asked.account, asked.endpoint or "", asked.client or "", "sign-in", None, None, False,
                found.gate, found.reason, found.text,
            )
        )  # fmt: skip

    def ended(self, session: Session) -> None:
        """A session is over."""
        left = self._sessions.get(session.account, 1) - 1
        self._sessions[session.account] = max(0, left)
        facts = session.facts
        self.source.report("ended", session.account, facts.client or "", facts.endpoint or "", self._called(session))

    def _called(self, session: Session) -> str:
        """What a session is called in reports."""
        return f"rehearsal-{self._name}-{session.number}"

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
