"""Who may sign in at each endpoint, in two models (docs/rules.md, "What follows")."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping
from datetime import datetime
from itertools import chain
from typing import NamedTuple

from ..decide.sign_in import door, endpoint_allows, expired, sign_in
from ..model.items import Endpoint
from ..model.standing import Rank
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Question, Refusal
from ..prepared.settings import resolve
from ..words.names import fold
from ..words.rights import BIT, RIGHTS
from .pairing import Pairing, members_of

#: For each account, by its name before, the methods that it has a credential for (of one that
#: comes, by its name afterwards); None: not known.
Credentials = Mapping[str, frozenset[str]] | None


class SignInChange(NamedTuple):
    """Some accounts may now sign in at an endpoint (`may`), or may no more.

    `why` says what refuses the first of them, or within which hours those who may can sign in.
    """

    accounts: tuple[str, ...]
    endpoint: str
    may: bool
    why: str


def held_after(held: frozenset[str], was: str, source: str) -> frozenset[str]:
    """What an account has a credential for where it is handed over to a directory, or comes from
    none any more.
    """
    if (was == "local") is (source == "local"):
        return held
    return held - {"directory"} if source == "local" else held | {"directory"}


class SigningIn:
    """Who may sign in at each endpoint, before and afterwards, as far as it can have changed."""

    def __init__(
        self, pairing: Pairing, at: datetime, credentials: Credentials, affected: set[int]
    ) -> None:
        """`affected` are the accounts whose own lines, standing, or settings may differ."""
        self.pairing, self.at, self.credentials = pairing, at, credentials
        self.asked = affected
        self._everybody = range(len(pairing.common))
        #: For a position afterwards, the one before.
        self._was = {now: was for was, now in pairing.common}
        self._known: dict[tuple[Hashable, ...], int] = {}
        self._deciding = {
            prepared is pairing.before: _deciding_subjects(prepared)
            for prepared in (pairing.before, pairing.after)
        }

    def same_door(self, was: str | None, now: str | None) -> bool:
        """Is an endpoint the same in both, and does it start in both or in neither?"""
        if was is None or now is None:
            return False
        a, b = self.pairing.before, self.pairing.after
        one, other = a.endpoints[fold(was)], b.endpoints[fold(now)]
        same = one is other or one == other
        return same and (a.stopped_by.get(was) is None) is (b.stopped_by.get(now) is None)

    def candidates(self, was: str | None, now: str | None) -> Iterable[int]:
        """Positions of the accounts for which anything may differ at an endpoint."""
        return sorted(self.asked) if self.same_door(was, now) else self._everybody

    def may(self, prepared: Prepared, index: int, endpoint: str | None) -> bool:
        """Can an account sign in at an endpoint, at some hour?

        A fact that is not given is not asked.
        """
        return (
            endpoint is not None
            and self.rights(prepared, index, prepared.endpoints[fold(endpoint)]) > 0
        )

    def rights(self, prepared: Prepared, index: int, endpoint: Endpoint | None) -> int:
        """The rights that an account is let have at an endpoint: none where it may not sign in,
        else some.

        Asked once of all accounts that are alike in whatever the two gates look at.
        """
        if endpoint is None:
            return 0
        one, before = prepared.model.accounts[index], prepared is self.pairing.before
        own = (
            one.enabled,
            expired(one, self.at),
            one.kind,
            one.methods,
            self._held(prepared, index),
        )
        key = (before, endpoint.name, own, self._counts_as(prepared, index))
        found = self._known.get(key)
        if found is None:
            refused = self._refusal(prepared, index, endpoint) is not None
            account = prepared.people.prepared(index)
            allowed = (
                BIT[r]
                for r in RIGHTS
                if not refused and endpoint_allows(prepared, account, endpoint, BIT[r])
            )
            found = self._known[key] = sum(allowed)
        return found

    def _counts_as(self, prepared: Prepared, index: int) -> frozenset[tuple[int, Rank]]:
        """What an account counts as, of all that makes a difference to signing in, and how near it
        is.

        Nothing for those, nearly all, that count as none of it but by their kind: their standing
        need not be made.
        """
        subjects, members = self._deciding[prepared is self.pairing.before]
        if not members >> index & 1:
            return frozenset()
        account = prepared.people.prepared(index)
        return frozenset((sid, account.ranks[sid]) for sid in account.who & subjects)

    def refusal(self, prepared: Prepared, index: int, endpoint: str | None) -> str:
        """What keeps an account from signing in at an endpoint, in words; empty if nothing does."""
        if endpoint is None:
            return "there is no such endpoint"
        return self._refusal(prepared, index, prepared.endpoints[fold(endpoint)]) or ""

    def _refusal(self, prepared: Prepared, index: int, endpoint: Endpoint) -> str | None:
        account = prepared.people.prepared(index)
        first = _first_refusal(prepared, account, endpoint, self._held(prepared, index), self.at)
        return None if first is None else first.text

    def _held(self, prepared: Prepared, index: int) -> frozenset[str] | None:
        """What an account has a credential for: as was looked up before; one that is new has its
        directory only.
        """
        if self.credentials is None:
            return None
        account = prepared.model.accounts[index]
        if prepared is self.pairing.before:
            return self.credentials.get(account.name, frozenset())
        if index not in self._was:
            # One that comes back may have what it had; one that only bears the name of another that
            # was there has not.
            back = account.name not in self.pairing.before.people.index
            own = self.credentials.get(account.name, frozenset()) if back else frozenset()
            return own | frozenset({"directory"} if account.source != "local" else ())
        was = self.pairing.before.model.accounts[self._was[index]]
        return held_after(self.credentials.get(was.name, frozenset()), was.source, account.source)

    def changes(self) -> list[SignInChange]:
        found: dict[tuple[str, bool, str], list[str]] = {}
        why: dict[tuple[str, bool, str], str] = {}
        before, after = self.pairing.before, self.pairing.after

        def note(name: str, endpoint: str, may: bool, reason: str, kind: str) -> None:
            key = (endpoint, may, kind)
            found.setdefault(key, []).append(name)
            why.setdefault(key, reason)

        def gains(index: int, endpoint: str) -> None:
            account = after.people.prepared(index)
            hours = _in_hours(after, account)
            note(account.name, endpoint, True, hours, hours)

        for was, now in self.pairing.endpoints:
            called = now or was or ""
            for i in self.candidates(was, now):
                old, new = self.pairing.common[i]
                could, can = self.may(before, old, was), self.may(after, new, now)
                if can and not could:
                    gains(new, called)
                elif could and not can:
                    name, refusal = after.model.accounts[new].name, self.refusal(after, new, now)
                    note(name, called, False, refusal, refusal.replace(name, ""))
            for i in self.pairing.come:
                if now is not None and self.may(after, i, now):
                    gains(i, called)
            for i in self.pairing.gone:
                if was is not None and self.may(before, i, was):
                    note(
                        before.model.accounts[i].name,
                        called,
                        False,
                        "the account was removed",
                        "gone",
                    )
        return [
            SignInChange(tuple(names), key[0], key[1], why[key]) for key, names in found.items()
        ]


def opened_by_credentials(
    prepared: Prepared,
    account: PreparedAccount,
    held: tuple[frozenset[str], frozenset[str]],
    at: datetime,
) -> list[SignInChange]:
    """Tell at which endpoints an account can sign in, or can no longer, as it holds credentials of
    other methods.

    `held` are the methods that it had a credential for, and has now.
    """
    found = []
    for endpoint in prepared.model.endpoints:
        refusals = [_first_refusal(prepared, account, endpoint, methods, at) for methods in held]
        if (refusals[0] is None) is not (refusals[1] is None):
            why = _in_hours(prepared, account) if refusals[1] is None else refusals[1].text
            found.append(SignInChange((account.name,), endpoint.name, refusals[1] is None, why))
    return found


def _first_refusal(
    prepared: Prepared,
    account: PreparedAccount,
    endpoint: Endpoint,
    held: frozenset[str] | None,
    at: datetime,
) -> Refusal | None:
    """The first that keeps an account out, asked without hours: what a change does must not depend
    on the hour.
    """
    # The two gates that a sign-in meets, asked by themselves: what an account sees need not be made
    # ready for it.
    question = Question(account.name, "sign-in", endpoint=endpoint.name, credentials=held)
    refusals = chain(
        door(prepared, endpoint, question), sign_in(prepared, account, endpoint, question, at)
    )
    return next((refusal for refusal in refusals if refusal.reason != "outside-hours"), None)


def _in_hours(prepared: Prepared, account: PreparedAccount) -> str:
    """Within which hours an account can sign in, in words; empty where none are set."""
    lists = resolve(prepared, account, "hours").value
    return (
        f"within its hours: {' and '.join(', '.join(lines) for lines in lists)} (UTC)"
        if lists
        else ""
    )


#: The settings that the two gates look at, but for hours.
_LOOKED_AT = frozenset({"sessions", "addresses", "require_tls", "methods"})


def _deciding_subjects(prepared: Prepared) -> tuple[frozenset[int], int]:
    """The subjects, by number, that make a difference to signing in anywhere: named by an endpoint,
    or with a setting;
    and the accounts that count as one of them by more than their kind, as bits.
    """
    found = [
        s
        for e in prepared.model.endpoints
        for s in (*(x.subject for x in e.entries), *e.never, *(e.only or ()))
    ]
    found += [
        x.subject for x in prepared.settings.values() if not _LOOKED_AT.isdisjoint(dict(x.values))
    ]
    return frozenset(map(prepared.people.number, found)), members_of(
        prepared, [s for s in found if s.name]
    )
