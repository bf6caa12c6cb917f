"""The first two gates: the door of an endpoint, and signing in there."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from ..model.endpoints import allows, read_address, tls_policy
from ..model.items import UNLIMITED, Account, Endpoint
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Question, Refusal
from ..prepared.settings import deciding_line, resolve
from ..words.hours import within
from ..words.rights import BIT
from .way_in import reach


def door(prepared: Prepared, endpoint: Endpoint, question: Question) -> Iterator[Refusal]:
    """Is the endpoint enabled, started, and reachable from the client's address?"""
    name = endpoint.name
    if not endpoint.enabled:
        yield Refusal("door", "endpoint-off", f"endpoint {name} is switched off; enable it")
    clash = prepared.stopped_by.get(name)
    if clash is not None:
        yield Refusal(
            "door",
            "endpoint-not-started",
            f"endpoint {name} does not start, because {clash.winner} comes first: {clash.text}; "
            "give one of them other ports",
        )
    if question.client is None:
        return
    found = reach(prepared.model, endpoint, read_address(question.client))
    if not found.control:
        yield Refusal(
            "door",
            "endpoint-out-of-reach",
            f"{question.client} cannot come to {name}: {'; '.join(found.missing)}",
        )
    elif not found.data and question.action in NEED_DATA:
        yield Refusal(
            "door",
            "data-out-of-reach",
            f"{question.client} can sign in at {name}, but no data comes through:"
            f" {'; '.join(found.missing)}",
        )


#: What goes over a data connection.
NEED_DATA = frozenset({"list", "download", "upload", "overwrite", "append"})


def _list_refusal(
    prepared: Prepared, account: PreparedAccount, endpoint: Endpoint
) -> Refusal | None:
    """Who is never admitted, and who is not among the only ones; the former goes first."""
    number, who = prepared.people.number, account.who
    never = [s for s in endpoint.never if number(s) in who]
    if never:
        return Refusal(
            "sign-in",
            "never-admitted",
            f"{account.name} is never admitted at {endpoint.name}: its list `never` names"
            f" {_and(never)}",
        )
    if endpoint.only is not None and not any(number(s) in who for s in endpoint.only):
        admitted = (
            f"only {_and(endpoint.only)}" if endpoint.only else "nobody: its list `only` is empty"
        )
        return Refusal(
            "sign-in",
            "not-among-only",
            f"{endpoint.name} admits {admitted}; {account.name} is not on that list",
        )
    return None


def sign_in(
    prepared: Prepared,
    account: PreparedAccount,
    endpoint: Endpoint,
    question: Question,
    at: datetime,
) -> Iterator[Refusal]:
    """May this account sign in here, now, from there, in this way?

    A fact not given is not held against it.
    """
    who = account.name
    if not account.account.enabled:
        yield Refusal("sign-in", "account-off", f"{who} is switched off; enable the account")
    if expired(account.account, at):
        yield Refusal(
            "sign-in",
            "account-expired",
            f"{who} expired: {account.account.expires} (UTC) was its last day; give it a later one",
        )
    if not any(endpoint_allows(prepared, account, endpoint, bit) for bit in BIT.values()):
        yield Refusal(
            "sign-in",
            "endpoint-admits-nothing",
            f"the entries of endpoint {endpoint.name} allow {who} no right at all; "
            f"add one such as `allow account:{who} read`",
        )
    by_list = _list_refusal(prepared, account, endpoint)
    if by_list is not None:
        yield by_list
    yield from _by_hours_and_sessions(prepared, account, question, at)
    yield from _by_address(prepared, account, question)
    yield from _by_tls(prepared, account, endpoint, question)
    if account.account.kind != "anonymous":
        yield from _by_method(prepared, account, endpoint, question)


def _by_hours_and_sessions(
    prepared: Prepared, account: PreparedAccount, question: Question, at: datetime
) -> Iterator[Refusal]:
    who = account.name
    hours = resolve(prepared, account, "hours")
    if not all(within(lines, at) for lines in hours.value):
        yield Refusal(
            "sign-in",
            "outside-hours",
            f"{who} may sign in {_and(', '.join(lines) for lines in hours.value)} (UTC), as set for"
            f" {_and(hours.subjects)}; it is {at:%a %H:%M}",
        )
    for lock in question.locks:
        yield Refusal(
            "sign-in",
            "locked-out",
            f"the {lock.of} {lock.name} is locked until {lock.until:%Y-%m-%d %H:%M:%S} UTC after "
            f"{len(lock.failures)} failed sign-ins; wait, or lift it",
        )
    if question.sessions is not None:
        most = resolve(prepared, account, "sessions")
        if most.value != UNLIMITED and question.sessions >= most.value:
            yield Refusal(
                "sign-in",
                "sessions-used-up",
                f"{who} has {question.sessions} sessions open, and {_and(most.subjects)} may have"
                f" {most.value}; end one of them",
            )


def _by_address(
    prepared: Prepared, account: PreparedAccount, question: Question
) -> Iterator[Refusal]:
    who = account.name
    if question.client is not None:
        lists = resolve(prepared, account, "addresses")
        client = read_address(question.client)
        for lines in lists.value:
            admitted, line = deciding_line(lines, client)
            if not admitted:
                said = f"`{line}` refuses it" if line else "no line allows it"
                yield Refusal(
                    "sign-in",
                    "address-not-admitted",
                    f"{who} is not admitted from {question.client}: of the addresses set for"
                    f" {_and(lists.subjects)}, {said}",
                )


def _by_tls(
    prepared: Prepared, account: PreparedAccount, endpoint: Endpoint, question: Question
) -> Iterator[Refusal]:
    who, policy = account.name, tls_policy(endpoint)
    if question.tls is False and policy is not None:
        wanted = resolve(prepared, account, "require_tls")
        if policy == "required":
            yield Refusal(
                "sign-in",
                "tls-required",
                f"endpoint {endpoint.name} requires TLS; connect with TLS",
            )
        elif wanted.value:
            yield Refusal(
                "sign-in",
                "tls-required",
                f"{who} must use TLS, as set for {_and(wanted.subjects)}; connect with TLS",
            )
    if question.tls and policy == "off":
        yield Refusal(
            "sign-in",
            "tls-off",
            f"endpoint {endpoint.name} has TLS switched off; connect without, or switch it on",
        )


def methods_left(
    prepared: Prepared,
    account: PreparedAccount,
    endpoint: Endpoint,
    credentials: frozenset[str] | None,
) -> list[str]:
    """The methods by which an account can sign in at an endpoint: permitted, of use there, and with
    a credential.

    `credentials` are the methods that it has one for; None: taken to be those of the account.
    """
    permitted = resolve(prepared, account, "methods").value
    return [
        m
        for m in account.account.methods
        if m in permitted
        and (m != "key" or endpoint.protocol == "sftp")
        and (credentials is None or m in credentials)
    ]


def _by_method(
    prepared: Prepared, account: PreparedAccount, endpoint: Endpoint, question: Question
) -> Iterator[Refusal]:
    who = account.name
    left = methods_left(prepared, account, endpoint, question.credentials)
    if not left:
        yield Refusal(
            "sign-in",
            "no-method",
            f"{who} has no way to sign in at {endpoint.name}:"
            f" {_why_not(prepared, account, endpoint, question)}",
        )
    elif question.method is not None and question.method not in left:
        yield Refusal(
            "sign-in",
            "method-not-accepted",
            f"{who} cannot sign in by {question.method} at {endpoint.name}, only by {_and(left)}",
        )


_MISSING = {
    "password": "no password is set",
    "key": "no key is attached",
    "directory": "it comes from no directory",
}


def _why_not(
    prepared: Prepared, account: PreparedAccount, endpoint: Endpoint, question: Question
) -> str:
    """For each method that an account is to have, why it is of no use."""
    permitted = resolve(prepared, account, "methods")
    if not account.account.methods:
        return "it is to have no method of signing in; change its methods"
    said = []
    for m in account.account.methods:
        if m not in permitted.value:
            said.append(f"{m} is not permitted, as set for {_and(permitted.subjects)}")
        elif m == "key" and endpoint.protocol != "sftp":
            said.append("a key is of use at an sftp endpoint only")
        else:
            said.append(_MISSING[m])
    return "; ".join(said)


#: What a client is told when its sign-in is refused, whatever the reason: the reason is the
#: administrator's.
TOLD_TO_CLIENTS = "Sign-in refused."


def endpoint_gate(
    prepared: Prepared, account: PreparedAccount, endpoint: Endpoint, needed: tuple[str, ...]
) -> Iterator[Refusal]:
    """Do the endpoint's entries allow every right that is needed?"""
    for right in needed:
        if not endpoint_allows(prepared, account, endpoint, BIT[right]):
            yield Refusal(
                "endpoint",
                "endpoint-does-not-allow",
                f"the entries of endpoint {endpoint.name} do not allow {account.name} to"
                f" {verb(right)}",
            )


def endpoint_allows(
    prepared: Prepared, account: PreparedAccount, endpoint: Endpoint, bit: int
) -> bool:
    """Do the endpoint's entries allow this right to the account?"""
    number, who = prepared.people.number, account.who
    return allows(endpoint.entries, bit, lambda entry: number(entry.subject) in who)


def expired(account: Account, at: datetime) -> bool:
    """Has the account's last day (UTC) ended?"""
    return account.expires is not None and at.date() > account.expires


VERBS = {
    "enter": "enter",
    "list": "list",
    "download": "download",
    "upload": "upload",
    "overwrite": "overwrite files",
    "append": "append to files",
    "rename": "rename",
    "delete-file": "delete files",
    "make-folder": "make folders",
    "delete-folder": "delete folders",
    "set-attributes": "set attributes",
}


def verb(right: str) -> str:
    """A right as something that one does."""
    return VERBS[right]


def _and(words: object) -> str:
    return " and ".join(str(w) for w in words)  # type: ignore[attr-defined]
