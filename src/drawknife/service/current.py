"""The model in force, as this service has it.

A thread listens for new revisions and looks once more twice a second; nothing is answered from
memory unless the database has said within the last second that it is still so.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Hashable
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from time import monotonic
from typing import Any, NamedTuple, TypeVar

import psycopg
import structlog

from drawknife import messages as msg
from drawknife.answers import Answering
from drawknife.answers.when import turns, when_message
from drawknife.core.model.endpoints import read_address
from drawknife.core.model.items import Model
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.prepared.question import Question
from drawknife.formats.questions import read_question
from drawknife.records import credentials, history, sign_ins, tokens
from drawknife.records.accepted import accepted_on
from drawknife.records.database import (
    CHANNEL,
    OUTDATED_BY,
    Database,
    Outdated,
    Unavailable,
    schema_steps,
)
from drawknife.records.directories import Secrets
from drawknife.records.retention import DEFAULT, Retention
from drawknife.records.snapshots import EMPTY, Snapshot, read_snapshot

from .busy import Few
from .certificates import Certificates
from .files import ReadableFolders
from .shared import Shared
from .sync_findings import sync_findings
from .tidings import Mail

log = structlog.get_logger()
T = TypeVar("T")

#: Seconds for which what the database said last is taken as still so.
FRESH = 0.9
LOOK_EVERY = 0.4
#: So many models that are not in force, of the past or of drafts, are kept, prepared.
KEPT_APART = 3

_STATE = (
    "SELECT (SELECT coalesce(max(number), 0) FROM revisions), (SELECT last_value FROM"
    f" token_changes), {OUTDATED_BY}, current_setting('transaction_read_only') = 'on'"
)


class _State(NamedTuple):
    """What the database says of itself."""

    revision: int
    #: The newest change of a token.
    tokens: int
    #: The step of the schema after which this service answers nothing.
    outdated_by: str | None
    read_only: bool


class Current:
    """Keeps the newest snapshot, prepared, and who holds which token."""

    def __init__(
        self,
        database: Database,
        secrets: Secrets,
        files: ReadableFolders,
        shared: Shared,
        second_person: bool = False,
    ) -> None:
        self.database = database
        self.secrets = secrets
        self.files = files
        self.shared = shared
        self.second_person = second_person
        #: Where patterns are besides the shipped ones.
        self.pattern_folders: tuple[Path, ...] = ()
        #: Where people reach the console, if that was said.
        self.public_url: str | None = None
        #: Sends letters, if a mail server was named.
        self.mail: Mail | None = None
        #: How long data is kept that answers about today do not need.
        self.retention: Retention = DEFAULT
        self.certificates = Certificates(lambda: self.snapshot().model.endpoints, files.read)
        #: Asking directories takes as long as they like to: two at once, a minute each.
        self.directories = Few("directories", 2, 60)
        #: Trying a password there is quick, or is given up.
        self.binding = Few("sign-ins through directories", 4, 15)
        self._credentials: tuple[int, dict[str, frozenset[str]]] = (-1, {})
        self._ended = 0
        self._snapshot: Snapshot = EMPTY
        self._prepared: Prepared = prepare(EMPTY.model)
        self._preparing = threading.Lock()
        self._apart: dict[Hashable, Any] = {}
        self._preparing_apart = threading.Lock()
        self._bring_forward = threading.Lock()
        self._said = _State(0, 0, None, False)
        self._schema = list(schema_steps())
        self._said_at = 0.0
        self._lost = False
        self._holders: dict[bytes, tokens.Holder] = {}
        self._holders_at = (-1, 0.0)
        self._stop = threading.Event()
        self._heard = threading.Event()
        self._to_stop = threading.Event()

    def start(self) -> None:
        """Begin to listen."""
        threading.Thread(target=self._listen, name="revisions", daemon=True).start()

    def begin_to_stop(self) -> None:
        """Nothing new is to be taken any more; what is under way is finished."""
        self._to_stop.set()

    def stopping(self) -> bool:
        return self._to_stop.is_set()

    def stop(self) -> None:
        self._stop.set()

    def _listen(self) -> None:
        while not self._stop.is_set():
            try:
                with psycopg.connect(
                    self.database.address, autocommit=True, connect_timeout=8
                ) as connection:
                    connection.execute(f"LISTEN {CHANNEL}")
                    while not self._stop.is_set():
                        row = connection.execute(_STATE, (self._schema,)).fetchone()
                        assert row is not None
                        self._hear(_State(*row))
                        for _ in connection.notifies(timeout=LOOK_EVERY, stop_after=1):
                            pass
            except psycopg.Error as error:
                if not self._lost:
                    log.warning("the database went away", error=str(error).strip().split("\n")[0])
                self._lost = True
                self._stop.wait(0.3)

    def _hear(self, said: _State) -> None:
        if self._lost:
            log.info("the database is back")
        if said.outdated_by is not None and self._said.outdated_by is None:
            log.error("outdated: this service answers nothing any more", schema=said.outdated_by)
        if said.read_only is not self._said.read_only:
            log.warning(
                "the database is read-only"
                if said.read_only
                else "the database takes changes again"
            )
        self._said, self._said_at, self._lost = said, monotonic(), False
        self._heard.set()

    def wait_for_database(self, seconds: float) -> None:
        """Until the database has answered for the first time, to the thread that listens and
        through the pool, or so long.
        """
        if self._heard.wait(seconds):
            with contextlib.suppress(Unavailable):
                self.database.read("SELECT 1")

    def _newest(self) -> tuple[int, int]:
        """What the database said last, asked anew if that is too long ago; Unavailable if it is
        gone.
        """
        if self._lost:
            raise Unavailable("the database cannot be reached")
        if monotonic() - self._said_at > FRESH:
            self._hear(_State(*self.database.read(_STATE, (self._schema,))[0]))
        if self._said.outdated_by is not None:
            raise Outdated(
                f"a newer version has brought the database to {self._said.outdated_by}; ask a"
                " service of that version"
            )
        return max(self._said.revision, self.shared.newest()), self._said.tokens

    def is_read_only(self) -> bool:
        """Does the database take no changes, as it said last?"""
        return self._said.read_only

    def snapshot(self) -> Snapshot:
        """The newest snapshot."""
        revision, _ = self._newest()
        if revision != self._snapshot.revision:
            with self._bring_forward:
                if revision != self._snapshot.revision:
                    self._snapshot = read_snapshot(self.database, self._snapshot)
        return self._snapshot

    def took(self, snapshot: Snapshot) -> None:
        """Take over a snapshot that this service has just written."""
        with self._bring_forward:
            if snapshot.revision > self._snapshot.revision:
                self._snapshot = snapshot
            self._said = self._said._replace(revision=max(self._said.revision, snapshot.revision))
        self.shared.wrote(snapshot.revision)

    def prepared(self) -> tuple[Snapshot, Prepared]:
        """The newest snapshot and its prepared form, made when it is first asked for."""
        snapshot = self.snapshot()
        if self._prepared.model is not snapshot.model:
            with self._preparing:
                if self._prepared.model is not snapshot.model:
                    self._prepared = prepare(snapshot.model, self._prepared)
                return snapshot, self._prepared
        return snapshot, self._prepared

    def prepared_for(self, model: Model) -> Prepared:
        """A model prepared, from the newest one where that helps; kept if it is the
        newest itself.
        """
        with self._preparing:
            if self._prepared.model is model:
                return self._prepared
            made = prepare(model, self._prepared)
            if self._snapshot.model is model:
                self._prepared = made
            return made

    def answering(self) -> Answering:
        """Answers about the newest model, as of now."""
        snapshot, prepared = self.prepared()
        return Answering(
            prepared,
            snapshot.revision,
            datetime.now(UTC),
            self._known,
            credentials=self.credentials(snapshot),
            seen=self.certificates.seen,
            locked=lambda: self._locked(snapshot),
            accepted=self._accepted,
            beside=lambda: sync_findings(self.database),
        )

    def _accepted(self) -> dict[tuple[str, str], msg.AcceptedMessage]:
        """The findings that are accepted today, by kind and what they are about."""
        found = accepted_on(self.database, datetime.now(UTC).date())
        return {
            key: msg.AcceptedMessage(until=x.until, note=x.note, who=x.who, at=x.at)
            for key, x in found.items()
        }

    def past(self, as_of: str) -> tuple[Snapshot, datetime]:
        """The model as of a revision or a time that has been, and the time from which questions
        about it count.

        Raises as :func:`drawknife.records.history.as_of`.
        """
        newest = self.snapshot()
        then = history.as_of(self.database, as_of)
        if then.revision == newest.revision:
            return newest, then.at
        return (
            Snapshot(then.revision, history.model_at(self.database, newest, then.revision)),
            then.at,
        )

    def answering_as_of(self, as_of: str) -> Answering:
        """Answers about a model that was in force.

        What was known of sign-ins, credentials and certificates then is not.
        """
        then = history.as_of(self.database, as_of)
        prepared = self.kept_apart(
            then.revision,
            lambda: prepare(self.past(str(then.revision))[0].model, self.prepared()[1]),
        )
        return Answering(prepared, then.revision, then.at, seen=lambda _: None)

    def kept_apart(self, key: Hashable, make: Callable[[], T]) -> T:
        """What is made of a model that is not in force; the last few are kept, by their keys."""
        with self._preparing_apart:
            found: T = self._apart.pop(key) if key in self._apart else make()
            self._apart[key] = found  # the one asked about last comes last
            while len(self._apart) > KEPT_APART:
                del self._apart[next(iter(self._apart))]
        return found

    def when(self, asked: dict[str, Any]) -> msg.WhenAnswer:
        """Since when an account can do a thing.

        Raises as a decision, and :class:`history.NotKept`.
        """
        snapshot, prepared = self.prepared()
        answering = Answering(prepared, snapshot.revision, datetime.now(UTC))
        question, _ = read_question(asked)
        gone = history.removed_after(self.database, snapshot, question.account)
        if gone is not None:
            answering = self.answering_as_of(str(gone))
        answering.decide(asked)  # is all that it names there?
        question = replace(question, account=answering.account(question.account).name)
        steps, folders, groups = history.steps_for(self.database, snapshot, question)
        kept = history.history_start(self.database)
        first = "SELECT coalesce(min(at), clock_timestamp()) FROM revisions"
        begins = kept.at if kept is not None else self.database.read(first)[0][0]
        return when_message(
            turns(
                snapshot.model,
                question,
                steps,
                folders,
                groups,
                begins=begins,
                now=datetime.now(UTC),
            ),
            question,
            snapshot.revision,
            len(steps),
            kept.revision if kept is not None else None,
        )

    def credentials(self, snapshot: Snapshot) -> dict[str, frozenset[str]]:
        """For each account what it has a credential for: a password, a key, its directory.

        Kept for the revision, as every change of a credential is one.
        """
        revision, found = self._credentials
        if revision != snapshot.revision:
            kept = credentials.methods_with_credentials(self.database)
            nothing, directory = frozenset[str](), frozenset({"directory"})
            found = {
                a.name: kept.get(a.name, nothing) | (nothing if a.source == "local" else directory)
                for a in snapshot.model.accounts
            }
            self._credentials = (snapshot.revision, found)
        return found

    def _locked(self, snapshot: Snapshot) -> frozenset[str]:
        """The accounts that are locked out now."""
        found = sign_ins.all_counting(self.database, snapshot.model, datetime.now(UTC))
        return frozenset(c.name for c in found if c.of == "account" and c.until is not None)

    def _known(self, question: Question, at: datetime) -> Question:
        """A question with what is known of who signs in: credentials, sessions that are open, and
        what is locked.
        """
        account = self._prepared.account(question.account)
        held = (
            self.credentials(self._snapshot).get(account.name, frozenset())
            if account is not None
            else None
        )
        return self.with_facts(question, at, self._snapshot.model, question.account, held)

    def with_facts(
        self,
        question: Question,
        at: datetime,
        model: Model,
        called: str,
        held: frozenset[str] | None,
    ) -> Question:
        """A question of a model with the locks, sessions and credentials (`held`) of the account
        that is `called` so today.
        """
        client = str(read_address(question.client)) if question.client is not None else None
        locks = sign_ins.locks_on(self.database, model, called, client, at)
        sessions = question.sessions
        if sessions is None and question.action == "sign-in":
            sessions = sign_ins.sessions_open(self.database, called, at)
        return replace(question, locks=locks, sessions=sessions, credentials=held)

    def holder(self, token: str) -> tokens.Holder | None:
        """Whose token it is.

        What is known is forgotten when any token or administrator changes, and each minute.
        """
        _, change = self._newest()
        ended = self.shared.ended()
        if ended != self._ended:
            self._holders, self._ended = {}, ended
        if self._holders_at[0] != change or monotonic() - self._holders_at[1] > 60:
            self._holders, self._holders_at = {}, (change, monotonic())
        digest = tokens.digest(token)
        found = self._holders.get(digest)
        if found is None:
            found = tokens.holder(self.database, token)
            if found is not None:
                with contextlib.suppress(RuntimeError):
                    self._holders[digest] = found
        if found is not None and found.expires is not None and found.expires <= datetime.now(UTC):
            return None
        return found

    def forget_tokens(self) -> None:
        """Forget at once who holds what, in all processes of this service, after a token was ended
        here.
        """
        self._holders, self._holders_at = {}, (-1, 0.0)
        self.shared.ended_tokens()
