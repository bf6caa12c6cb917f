"""Where the stand-in has its model from: a file, or a service, of which each new revision counts at
the next action.
"""

from __future__ import annotations

import hmac
import shlex
from collections import deque
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import Protocol

from drawknife.client import Client, ClientError
from drawknife.core.prepared.prepared import Prepared, prepare
from drawknife.core.words.names import fold
from drawknife.formats.model_file import read_model

from .log import ActionLine

#: Lines of the log that wait to be told, and that are told at once.
WAITING, AT_ONCE = 10_000, 500
#: Seconds for which it is waited that the service knows what was reported.
PATIENCE = 5


class ModelSource(Protocol):
    """A model, and who can sign in with what."""

    def newer(self, known: Prepared | None) -> Prepared | None:
        """The model, if there is another one than is known."""

    def password_is(self, account: str, password: str) -> bool:
        """Is it the password of the account?"""

    def key_is(self, account: str, fingerprint: str) -> bool:
        """Has the account a key of that fingerprint (SHA256:…)?"""

    def is_locked(self, of: str, name: str) -> bool | None:
        """Is an ``account`` or an ``address`` locked, as far as whoever can lift it knows?

        None: nobody can.
        """

    def report(
        self, what: str, account: str, address: str, endpoint: str, session: str | None
    ) -> None:
        """Say that a sign-in has ``failed``, or a session ``began`` or ``ended``, as a transfer
        server would.
        """

    def tell(self, line: ActionLine) -> None:
        """Say what was done, and what came of it."""

    def close(self) -> None:
        """Wait until all is said."""


class OneModel:
    """A model that stays as it is; nobody has a password or key of their own."""

    def __init__(self, prepared: Prepared) -> None:
        self._prepared = prepared

    def newer(self, known: Prepared | None) -> Prepared | None:
        return self._prepared if known is None else None

    def password_is(self, account: str, password: str) -> bool:
        return False

    def key_is(self, account: str, fingerprint: str) -> bool:
        return False

    def is_locked(self, of: str, name: str) -> bool | None:
        return None

    def report(
        self, what: str, account: str, address: str, endpoint: str, session: str | None
    ) -> None:
        pass

    def tell(self, line: ActionLine) -> None:
        pass

    def close(self) -> None:
        pass


class OfService:
    """The model of a service, or of a draft in it.

    Where it does not answer, the last one goes on to count.
    """

    def __init__(self, client: Client, draft: str | None = None) -> None:
        self._client = client
        self._asked = client.in_draft(draft) if draft else client
        self._draft = draft
        self._revision: object = None
        #: Reports go out in their order, and nobody waits for them.
        self._reports = ThreadPoolExecutor(1, "reports")
        #: What is yet to be told; where the service does not keep up, the newest.
        self._lines: deque[ActionLine] = deque(maxlen=WAITING)

    def newer(self, known: Prepared | None) -> Prepared | None:
        try:
            revision: object = self._client.health().revision
            if self._draft:
                revision = (revision, len(self._client.draft(self._draft).steps))
            if known is not None and revision == self._revision:
                return None
            model = read_model(self._asked.dump().encode())
        except ClientError:
            if known is None:
                raise
            return None
        self._revision = revision
        return prepare(model, known)

    def password_is(self, account: str, password: str) -> bool:
        try:
            return self._client.password_is_right(account, password)
        except ClientError:
            return False

    def key_is(self, account: str, fingerprint: str) -> bool:
        try:
            return any(k.fingerprint == fingerprint for k in self._client.credentials(account).keys)
        except ClientError:
            return False

    def is_locked(self, of: str, name: str) -> bool | None:
        try:
            self._reports.submit(lambda: None).result(
                PATIENCE
            )  # what was reported before is known there
            found = self._client.lockouts().counting
        except (ClientError, TimeoutError):
            return None
        return any(
            x.of == of and fold(x.name) == fold(name) and x.locked_until is not None for x in found
        )

    def report(
        self, what: str, account: str, address: str, endpoint: str, session: str | None
    ) -> None:
        event = {
            "what": what,
            "account": account,
            "address": address,
            "endpoint": endpoint,
            "session": session,
        }

        def send() -> None:
            with suppress(ClientError):
                self._client.report_sign_ins([event])

        self._reports.submit(send)

    def tell(self, line: ActionLine) -> None:
        self._lines.append(line)
        self._reports.submit(self._tell_all)

    def _tell_all(self) -> None:
        """Tell all that has come meanwhile, many lines at once."""
        while self._lines:
            some = [self._lines.popleft().as_data() for _ in range(min(len(self._lines), AT_ONCE))]
            for data in some if self._draft else ():
                data["why"] += f" --draft {shlex.quote(str(self._draft))}"
            try:
                self._client.report_rehearsal(some, self._draft)
            except ClientError:  # the others wait for the next line
                return

    def close(self) -> None:
        self._reports.shutdown(wait=True)


def equal(one: str, other: str) -> bool:
    """Are two secrets the same? Takes as long whether they are or not."""
    return hmac.compare_digest(one.encode(), other.encode())
