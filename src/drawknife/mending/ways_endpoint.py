"""Ways past the gates `door`, `sign-in` and `endpoint`: the endpoint's state and lists, the
account's, and what is set.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from drawknife.core.decide.gates import Case
from drawknife.core.decide.sign_in import endpoint_allows
from drawknife.core.model.items import METHODS, Endpoint
from drawknife.core.model.lines import has_ended
from drawknife.core.prepared.needs import needed_rights
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.settings import resolve
from drawknife.core.words.names import fold
from drawknife.core.words.rights import BIT

from .steps import Change, Way, at_endpoint, edited, lasting, set_to, subjects_of, without_rights
from .ways_folder import members_again

ALWAYS = "mon-sun 00:00-24:00"


def ways_in(prepared: Prepared, case: Case, reason: str, later: date) -> Iterator[Way]:
    """Ways past one refusal of the door, or of signing in."""
    endpoint, account = case.endpoint, case.account
    if endpoint is None:
        return
    yield from _at_the_endpoint(prepared, case, endpoint, reason, later)
    yield from _for_the_account(prepared, case, reason, later)
    if reason in ("not-among-only", "address-not-admitted", "outside-hours"):
        yield from members_again(prepared.full, account, case.at.date(), later)


def _at_the_endpoint(
    prepared: Prepared, case: Case, endpoint: Endpoint, reason: str, later: date
) -> Iterator[Way]:
    """Changes of the endpoint, or of the network before it."""
    name, account = endpoint.name, case.account
    match reason:
        case "endpoint-off":
            yield (set_to("endpoint", name, enabled=True),)
        case "endpoint-not-started":
            yield (set_to("endpoint", name, port=_free_port(prepared, endpoint)),)
        case "endpoint-out-of-reach" | "data-out-of-reach":
            yield from _openings(case, endpoint)
        case "endpoint-admits-nothing":
            yield from at_entries(prepared, case, later)
        case "never-admitted":
            drop = [str(s) for s in endpoint.never if prepared.people.number(s) in account.who]
            yield (at_endpoint(name, drop=drop, field="never"),)
        case "not-among-only":
            for subject in subjects_of(account):
                yield (at_endpoint(name, [str(subject)], field="only"),)
            yield (set_to("endpoint", name, only=None),)


def _for_the_account(prepared: Prepared, case: Case, reason: str, later: date) -> Iterator[Way]:
    """Changes of the account, and of what is set for it."""
    account, who = case.account, f"account:{case.account.name}"
    match reason:
        case "account-off":
            yield (set_to("account", account.name, enabled=True),)
        case "account-expired":
            yield (set_to("account", account.name, expires=str(later)),)
            yield (set_to("account", account.name, expires=None),)
        case "outside-hours":
            yield (set_to("setting", who, hours=[ALWAYS]),)
            for subject in resolve(prepared, account, "hours").subjects:
                yield (set_to("setting", str(subject), hours=None),)
        case "sessions-used-up":
            yield (set_to("setting", who, sessions=(case.question.sessions or 0) + 1),)
        case "address-not-admitted":
            yield from _addresses(prepared, case, who)
        case "tls-required" | "tls-off":
            yield from _without_tls(case, who, reason)
        case "no-method" | "method-not-accepted":
            yield from _methods(prepared, case, who)


def _without_tls(case: Case, who: str, reason: str) -> Iterator[Way]:
    assert case.endpoint is not None
    if reason == "tls-required":
        yield (set_to("setting", who, require_tls=False),)
    yield (set_to("endpoint", case.endpoint.name, tls="optional"),)


def _free_port(prepared: Prepared, endpoint: Endpoint) -> int:
    """The next port above that no endpoint has, control or data."""
    taken = {e.port for e in prepared.model.endpoints}
    ranges = [e.passive_ports for e in prepared.model.endpoints if e.passive_ports is not None]
    port = endpoint.port + 1
    while port in taken or any(first <= port <= last for first, last in ranges):
        port += 1
    return port


def _openings(case: Case, endpoint: Endpoint) -> Iterator[Way]:
    """The way opened for this client only, and for its data, too."""
    client = case.question.client or ""
    network = f"{client}/{128 if ':' in client else 32}"
    control = f"{endpoint.address} {endpoint.port} from {network}"
    lines = [control]
    if endpoint.passive_ports is not None:
        lines.append(
            f"{endpoint.address} {endpoint.passive_ports[0]}-{endpoint.passive_ports[1]} from"
            f" {network}"
        )
    for some in ([control], lines, lines[1:]):
        if some:
            change: Change = {"op": "change", "kind": "network", "add": {"openings": some}}
            yield (change,)


def _addresses(prepared: Prepared, case: Case, who: str) -> Iterator[Way]:
    client = case.question.client or ""
    line = f"allow {client}/{128 if ':' in client else 32}"
    came = resolve(prepared, case.account, "addresses")
    for subject in came.subjects:
        yield (edited("setting", str(subject), "addresses", [line]),)
    yield (edited("setting", who, "addresses", [*dict.fromkeys((*came.value[0], line))]),)


def _methods(prepared: Prepared, case: Case, who: str) -> Iterator[Way]:
    """A method more for the account, and permitted where it is not; not what only a credential can
    bring.
    """
    wanted = [case.question.method] if case.question.method else list(METHODS)
    for method in wanted:
        if method not in case.account.account.methods:
            yield (edited("account", case.account.name, "methods", [method]),)
        permitted = resolve(prepared, case.account, "methods")
        if method not in permitted.value:
            yield (set_to("setting", who, methods=[*permitted.value, method]),)
            for subject in permitted.subjects:
                yield (edited("setting", str(subject), "methods", [method]),)


def at_entries(prepared: Prepared, case: Case, later: date) -> Iterator[Way]:
    """Ways past what the endpoint's entries do not allow."""
    endpoint, account = case.endpoint, case.account
    if endpoint is None:
        return
    if case.question.action == "sign-in":
        needed = ["enter", "list", "download"]
    else:
        here, there = needed_rights(case.question, case.sites)
        needed = list(dict.fromkeys(("enter", *here, *there)))
    lacking = [r for r in needed if not endpoint_allows(prepared, account, endpoint, BIT[r])]
    if not lacking:
        return
    for subject in subjects_of(account):
        yield (at_endpoint(endpoint.name, [f"allow {subject} {','.join(lacking)}"]),)
    for entry in endpoint.entries:
        if (
            entry.effect != "allow"
            and prepared.people.number(entry.subject) in account.who
            and entry.rights & BIT[lacking[0]]
        ):
            yield (at_endpoint(endpoint.name, drop=[entry.says()]),)
            narrower = without_rights(entry, lacking[0])
            if narrower is not None:
                yield (at_endpoint(endpoint.name, [narrower], [entry.says()]),)
    for e in prepared.full.model.endpoints:
        for entry in e.entries if fold(e.name) == fold(endpoint.name) else ():
            if (
                has_ended(entry, case.at.date())
                and entry.effect == "allow"
                and entry.subject in account.standing.ranks
            ):
                yield (at_endpoint(e.name, [lasting(entry, later)]),)
    yield from members_again(prepared.full, account, case.at.date(), later)
