"""What a rehearsal is played on: the model as it is now, the files, the room, the log; and who
signs in.
"""

from __future__ import annotations

import asyncio
import re
import secrets
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime
from itertools import count
from pathlib import Path

from drawknife.core.decide.gates import verdict
from drawknife.core.decide.sign_in import methods_left
from drawknife.core.model.endpoints import read_address
from drawknife.core.model.items import Endpoint
from drawknife.core.prepared.lockout import Attempt, Counting, counting
from drawknife.core.prepared.people import PreparedAccount
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
#: What a password is: the account's own, or the one that is good for every account.
OWN, ONE_FOR_ALL = "own", "one for all"
#: Attempts to sign in that are remembered.
ATTEMPTS = 10_000


class Stage:
    """Model, sessions, files and usage of one rehearsal.

    Everything but data connections is done in one thread.
    """

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
        """`folder` keeps keys and files.

        Ports are moved by `offset` (0: any that is free). `as_from` says for an account, or for all
        (``""``), from which address the core is told that it comes.
        """
        folder.mkdir(parents=True, exist_ok=True)
        self.source, self.folder, self.host, self.offset = source, folder, host, offset
        self.as_from = as_from or {}
        #: Good for every account, in the place of what it has to sign in with.
        self.password = password or secrets.token_urlsafe(9)
        self.log = Log()
        self.log.listen(source.tell)
        self.tree = Tree(folder / "files")
        self.tls = tls_context(folder, host)
        self.data_tls = tls_context(folder, host, tickets=0)
        self.host_key = host_key_in(folder)
        self.transfers = ThreadPoolExecutor(TRANSFERS, "transfer")
        first = source.newer(None)
        assert first is not None
        self._known: Prepared = first
        self.room = RoomLeft(first)
        self.tree.make_folders_of(first.model)
        self.scene = Scene(self.room, self.tree, self.log)
        self._loop: asyncio.AbstractEventLoop | None = None
        self.connections: list[Callable[[], None]] = []
        self._numbers = count(1)
        self._name = secrets.token_hex(4)
        self._sessions: dict[str, int] = {}
        self._attempts: list[Attempt] = []

    # --- the model -------------------------------------------------------------------------------

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

    # --- signing in ------------------------------------------------------------------------------

    def client_of(self, account: str, address: str, endpoint: Endpoint) -> str:
        """The address that the core is asked about: for a loopback address, the one of the
        endpoint's own family.
        """
        given = self.as_from.get(fold(account), self.as_from.get(""))
        if given is not None:
            return given
        own, there = read_address(endpoint.address), read_address(address)
        if there.is_loopback and own.version != there.version:
            return "127.0.0.1" if own.version == 4 else "::1"
        return address

    def stands_for(
        self, prepared: Prepared, account: PreparedAccount, endpoint: Endpoint
    ) -> str | None:
        """The method that the one password stands in for: one that the account holds and may use
        there; None: none.
        """
        left = methods_left(prepared, account, endpoint, frozenset(account.account.methods))
        return next((method for method in ("password", "directory", "key") if method in left), None)

    def kept_out(self, endpoint: Endpoint) -> dict[str, list[str]]:
        """The accounts that cannot come in at an endpoint with the one password now, by
        the reason.
        """
        now = datetime.now(UTC)
        prepared = self.refresh().on(now.date())
        found: dict[str, list[str]] = {}
        for index in range(len(prepared.people.accounts)):
            account = prepared.people.prepared(index)
            anonymous = account.account.kind == "anonymous"
            question = Question(
                account.name,
                "sign-in",
                endpoint=endpoint.name,
                at=now,
                tls=endpoint.tls != "off",
                client=self.client_of(account.name, self.host, endpoint),
                method=None if anonymous else self.stands_for(prepared, account, endpoint),
            )
            answer = verdict(prepared, question, now)
            if not answer.allowed:
                without = re.sub(
                    rf"(?<![\w.-]){re.escape(account.name)}(?![\w.-])", "…", answer.text
                )
                found.setdefault(without, []).append(account.name)
        return found

    def refused_tls(self, endpoint: Endpoint, address: str, account: str | None, text: str) -> None:
        """Write down that a client asked for protection that it does not get."""
        asked = Question(account or "nobody", "sign-in", endpoint=endpoint.name, client=address)
        self._refused(asked, Verdict("sign-in", lambda: ("no-tls", text)))

    def refused_key(self, endpoint: Endpoint, address: str, account: str, fingerprint: str) -> None:
        """Write down that a client offered a key that is not the account's."""
        client = self.client_of(account, address, endpoint)
        asked = Question(
            account, "sign-in", endpoint=endpoint.name, client=client, tls=True, method="key"
        )
        text = f"the key {fingerprint} is not attached to {account}"
        self._refused(asked, Verdict("sign-in", lambda: ("wrong-credential", text)))

    def sign_in(
        self,
        endpoint: Endpoint,
        account: str,
        address: str,
        tls: bool,
        method: str,
        *,
        proven: str | None,
    ) -> Session | None:
        """Sign an account in by a method; None: it is refused.

        `proven` is OWN where what it offered is its own, ONE_FOR_ALL where it is the one password,
        None where it is wrong.
        """
        prepared = self.refresh()
        client = self.client_of(account, address, endpoint)
        now = datetime.now(UTC)
        known = prepared.account(account)
        if known is not None and proven == ONE_FOR_ALL:
            method = self.stands_for(prepared.on(now.date()), known, endpoint) or method
        asked = Question(
            known.name if known is not None else account,
            "sign-in",
            endpoint=endpoint.name,
            client=client,
            tls=tls,
            method=method if known is None or known.account.kind != "anonymous" else None,
        )
        if known is None:
            self._attempt(now, account, client, ok=False)
            found = Verdict("sign-in", lambda: ("no-account", f"there is no account {account!r}"))
            self._refused(asked, found)
            return None
        methods = frozenset(known.account.methods)
        sessions = self._sessions.get(known.name, 0)
        question = Question(
            known.name,
            "sign-in",
            endpoint=endpoint.name,
            client=client,
            tls=tls,
            method=asked.method,
            at=now,
            credentials=methods,
            sessions=sessions,
            locks=self._locks(prepared, known.name, client, now),
        )
        found = verdict(self.room.prepared(), question, now)
        anonymous = known.account.kind == "anonymous"
        if not anonymous and proven is None:
            # Only what is wrong to sign in with counts towards a lock.
            self._attempt(now, account, client, ok=False)
            self.source.report("failed", known.name, client, endpoint.name, None)
            if found.allowed:
                found = Verdict(
                    "sign-in",
                    lambda: (
                        "wrong-credential",
                        f"the {method} that was given for {known.name} is wrong",
                    ),
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
                datetime.now(UTC),
                0,
                asked.account,
                asked.endpoint or "",
                asked.client or "",
                "sign-in",
                None,
                None,
                False,
                found.gate,
                found.reason,
                found.text,
                facts=tuple(
                    [("--tls" if asked.tls else "--no-tls", "")] * (asked.tls is not None)
                    + [("--method", asked.method or "")] * (asked.method is not None)
                ),
            )
        )

    def ended(self, session: Session) -> None:
        """A session is over."""
        left = self._sessions.get(session.account, 1) - 1
        self._sessions[session.account] = max(0, left)
        facts = session.facts
        self.source.report(
            "ended",
            session.account,
            facts.client or "",
            facts.endpoint or "",
            self._called(session),
        )

    def _called(self, session: Session) -> str:
        """What a session is called in reports."""
        return f"rehearsal-{self._name}-{session.number}"

    def proven_by(self, account: str, password: str) -> str | None:
        """OWN or ONE_FOR_ALL, where a password is right; None: it is wrong.

        Asks the service, and so blocks.
        """
        self._forget_lifted(account)
        if equal(password, self.password):
            return ONE_FOR_ALL
        return OWN if self.source.password_is(account, password) else None

    def _forget_lifted(self, account: str) -> None:
        """Nothing counts against an account or an address any more whose lock the service does not
        know.
        """
        now = datetime.now(UTC)
        for lock in self._locks(self._known, account, "", now, every=True):
            if self.source.is_locked(lock.of, lock.name) is False:
                self._attempts = [a for a in self._attempts if not _counts(lock.of, lock.name, a)]

    def _attempt(self, at: datetime, account: str, client: str, ok: bool) -> None:
        self._attempts.append(Attempt(at, account, client, ok))
        del self._attempts[:-ATTEMPTS]

    def _locks(
        self, prepared: Prepared, account: str, client: str, at: datetime, every: bool = False
    ) -> tuple[Counting, ...]:
        """What locks an account, or the address of a client; with `every`, any address."""
        found = []
        for policy in prepared.model.lockouts:
            names = (
                {account}
                if policy.of == "account"
                else {a.address for a in self._attempts}
                if every
                else {client}
            )
            for name in sorted(names):
                own = [a for a in self._attempts if _counts(policy.of, name, a)]
                standing = counting(policy, name, own, at)
                if standing.until is not None:
                    found.append(standing)
        return tuple(found)


def _counts(of: str, name: str, attempt: Attempt) -> bool:
    """Is an attempt one of an account, or from an address?"""
    return fold(attempt.account) == fold(name) if of == "account" else attempt.address == name
