"""What every answer begins with: the model that is asked about, and looking up what a question
names.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from copy import copy
from datetime import datetime
from typing import Self

from drawknife import messages as msg
from drawknife.core.decide.disk_gate import taken_on
from drawknife.core.decide.sign_in import expired
from drawknife.core.everybody.shown import part_shown
from drawknife.core.follows.disk_changes import of_disks
from drawknife.core.follows.sign_in_changes import Credentials
from drawknife.core.model.areas import Area
from drawknife.core.model.items import Endpoint
from drawknife.core.model.lines import Line, has_ended
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.question import Question
from drawknife.core.words.checks import check_location
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.names import BadValue, Place, fold, parse_place
from drawknife.core.words.sizes import number_of

#: The note of an answer that covers the accounts of an area only.
ONLY_OF_THE_AREA = "Accounts outside your area are not checked and not shown."


class Asked:
    """Answers about one model.

    `revision` is told with each answer; `now` is the time they count from.

    `prepared` is the model as of `now`; `full` has also the lines that have ended, as they are
    written down.

    `known` adds to a question what is known of sign-ins: credentials, sessions that are open, and
    locks. `credentials` are what each account has to sign in with; None: not known. `seen` tells
    what was seen last of an endpoint's certificate; None: its file is looked at. `locked` tells who
    is locked out now, in the form in which names are compared; None: not known. `accepted` are
    findings that somebody accepts, by their kind and what they are about. `beside` gives findings
    about what lies beside the model, such as directories.
    """

    def __init__(
        self,
        prepared: Prepared,
        revision: int,
        now: datetime,
        known: Callable[[Question, datetime], Question] | None = None,
        *,
        credentials: Credentials = None,
        seen: Callable[[Endpoint], msg.CertificateAnswer | None] | None = None,
        locked: Callable[[], frozenset[str]] | None = None,
        accepted: Callable[[], Mapping[tuple[str, str], msg.AcceptedMessage]] | None = None,
        beside: Callable[[], list[msg.FindingMessage]] | None = None,
    ) -> None:
        #: Of stores whose disk was read and is left out.
        self.left_out: tuple[str, ...] = ()
        #: The same answers about the whole model, where only the part is told that an area shows.
        self.whole: Self | None = None
        self.full = prepared.full
        self.prepared = prepared.on(now.date())
        self.revision = revision
        self.now = now
        self.known = known
        self.credentials = credentials
        self.seen = seen
        self.locked = locked
        self.accepted = accepted
        self.beside = beside

    def without_disks(self) -> Self:
        """The same answers, as if no disk had been read."""
        found = copy(self)
        found.left_out = tuple(self.full.disks)
        found.full, found.prepared = self.full.without_disks(), self.prepared.without_disks()
        return found

    def bounded(self, area: Area) -> Self:
        """The same answers about the part of the model that an area shows: what is outside is not
        there.
        """
        found = copy(self)
        found.whole = self
        found.full = part_shown(self.full, area, self.now.date())
        found.prepared = found.full.on(self.now.date())
        return found

    def area_notes(self) -> list[str]:
        """What has to be said with an answer about everybody, where that is only everybody of an
        area.
        """
        return [] if self.whole is None else [ONLY_OF_THE_AREA]

    def line(self, line: Line) -> msg.LineMessage:
        """A line as it is told, with its end and its note."""
        ended = has_ended(line, self.now.date())
        return msg.LineMessage(line=line.says(), until=line.until, ended=ended, note=line.note)

    # --- looking things up -----------------------------------------------------------------------

    def account(self, name: str, key: str = "account") -> PreparedAccount:
        found = self.prepared.account(name)
        if found is None:
            raise NotFound("account", name, (a.name for a in self.prepared.model.accounts), key)
        return found

    def endpoint(self, name: str | None) -> Endpoint | None:
        if name is None:
            return None
        found = self.prepared.endpoints.get(fold(name))
        if found is None:
            raise NotFound(
                "endpoint", name, (e.name for e in self.prepared.model.endpoints), "endpoint"
            )
        return found

    def target(self, text: str) -> str | Place:
        """A virtual location, or a store folder written ``STORE:/path``."""
        if text.startswith("/"):
            return check_location(text, "at")
        try:
            place = parse_place(text)
        except BadValue as bad:
            raise BadInput(
                "at", str(bad), "a location such as /inbox, or a folder such as survey:/inbox"
            ) from None
        for name in self.prepared.stores:
            if fold(name) == fold(place.store):
                return Place(name, place.path)
        raise NotFound("store", place.store, self.prepared.stores, "at")

    def notes(self, account: PreparedAccount, endpoint: Endpoint | None) -> list[str]:
        """What has to be said with an answer that asks neither door nor sign-in."""
        said = (
            [] if endpoint else ["signing in was not asked: this is what it can do once it is in"]
        )
        if not account.account.enabled:
            said.append("the account is switched off: it cannot sign in")
        elif expired(account.account, self.now):
            said.append(f"the account expired with {account.account.expires}: it cannot sign in")
        return [*said, *self.disk_notes(account)]

    def disk_notes(self, *accounts: PreparedAccount, stores: set[str] | None = None) -> list[str]:
        """What has to be said of disks with an answer about many folders; about some accounts, if
        they act as
        somebody there; in some stores.
        """
        if self.left_out:
            return [f"{of_disks(self.left_out)} was left out"]
        disks = [
            name
            for name in self.prepared.disks
            if (stores is None or name in stores)
            and (
                not accounts or any(taken_on(self.prepared, account, name) for account in accounts)
            )
        ]
        said = (
            [f"what {of_disks(disks)} lets through counts, too (--without-disk leaves it out)"]
            if disks
            else []
        )
        for name in disks:
            said += self.prepared.disks[name].unknown_in_words()
            store = self.prepared.stores[name]
            more = [
                f.path
                for f in self.prepared.disks[name].reading.folders
                if store.folder(f.path) is None
            ]
            if more:
                said.append(
                    f"{number_of(len(more), 'folder')} of that disk that nobody recorded in {name},"
                    f" such as {more[0]}, {'is' if len(more) == 1 else 'are'} not as the one above:"
                    f" not listed here, see `drawknife disk compare {name}`"
                )
        return said
