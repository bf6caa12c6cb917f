"""Gates and verdicts: a question meets the gates in their order (docs/rules.md, "Gates").

Each gate yields every obstacle that it finds; the verdict is the first of the first gate that has
one, an explanation is all of them.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import NamedTuple

from ..limits import quotas
from ..model.items import Endpoint
from ..prepared.namespace import Location, Namespace
from ..prepared.needs import Demand, Sites, demands, locate, needed_rights
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Question, Refusal, Verdict
from ..words.actions import GATES
from ..words.names import fold, rest_below
from ..words.rights import BIT, ENTER
from .disk_gate import disk_gate
from .folder_decision import conclude
from .folders import blocked, can_pass, decide
from .quick_verdict import ASK_THE_GATES, kept_sentence, quick_gate
from .sign_in import door, endpoint_gate, expired, sign_in, verb


class UnknownName(LookupError):
    """A question names something that the model does not have."""

    def __init__(self, key: str, kind: str, name: str) -> None:
        super().__init__(f"there is no {kind} {name!r}")
        self.key, self.kind, self.name = key, kind, name


def virtual_path_gate(
    prepared: Prepared,
    account: PreparedAccount,
    namespace: Namespace,
    question: Question,
    sites: Sites,
) -> Iterator[Refusal]:
    """Do the locations resolve, do the ceilings hold the rights, is nothing fixed acted on?"""
    rights_here, rights_there = needed_rights(question, sites)
    here, there = sites.here, sites.there
    yield from _in_view(account, here, question.action)
    yield from _under_ceiling(account, here, rights_here)
    if here.served is not None and namespace.fixed(question.path):
        yield from _at_fixed_point(question, question.path in namespace.served)
    if there is None:
        return
    yield from _in_view(account, there, "be the destination")
    yield from _under_ceiling(account, there, rights_there)
    if there.served is None:
        return
    if namespace.fixed(there.location):
        yield _fixed(
            there.location, "nothing can be moved there", there.location in namespace.served
        )
    if here.place is not None and there.place is not None:
        yield from _move(prepared, question, here, there)


def _at_fixed_point(question: Question, is_path: bool) -> Iterator[Refusal]:
    """A virtual path, or a location above one, is a folder that stays where it is."""
    if question.on_file:
        yield _fixed(question.path, "there is no file there", is_path)
    elif question.action == "rename":
        yield _fixed(question.path, "it cannot be renamed", is_path)
    elif question.action == "delete-folder":
        yield _fixed(question.path, "it cannot be deleted", is_path)
    elif question.action == "make-folder" and is_path:
        yield _fixed(question.path, "no folder can be made there", is_path)


def _move(
    prepared: Prepared, question: Question, here: Location, there: Location
) -> Iterator[Refusal]:
    """A thing moves within a store, not into itself, and takes the place of a file at most."""
    assert here.place is not None and there.place is not None
    if here.place.store != there.place.store:
        yield Refusal(
            "virtual path",
            "between-stores",
            f"{here.location} is in store {here.place.store} and {there.location} in"
            f" {there.place.store}; nothing can be moved between stores: copy and delete instead",
        )
        return
    # What holds the thing that is moved is a folder, recorded or not.
    is_folder = prepared.stores[there.place.store].exists(there.place.path) or bool(
        rest_below(here.place.path, there.place.path)
    )
    if question.thing == "file":
        if is_folder:
            text = (
                f"{there.location} is a folder, and a file cannot take its place; take another"
                " name, or one in it"
            )
            yield Refusal("virtual path", "destination-exists", text)
    elif rest_below(there.place.path, here.place.path) is not None:
        text = f"the folder {here.location} cannot be moved into itself, to {there.location}"
        yield Refusal("virtual path", "into-itself", text)
    elif question.replaces or is_folder:
        text = f"there is a folder or file {there.location} already; take another name"
        yield Refusal("virtual path", "destination-exists", text)


def _fixed(location: str, what: str, is_path: bool) -> Refusal:
    why = "a virtual path of the account" if is_path else "above a virtual path of the account"
    return Refusal("virtual path", "fixed-point", f"{location} is {why}: {what}")


def _in_view(account: PreparedAccount, location: Location, action: str) -> Iterator[Refusal]:
    if location.served is not None:
        return
    at, who = location.location, account.name
    if location.synthetic:
        if action not in ("enter", "list"):
            yield Refusal(
                "virtual path",
                "synthetic",
                f"{at} only leads to virtual paths of {who}: it can be entered and listed, and"
                " nothing else",
            )
    elif location.unserved is not None:
        yield Refusal(
            "virtual path",
            f"path-{location.unserved.reason}",
            f"{at} is not served to {who}: {location.unserved.text}",
        )
    else:
        yield Refusal(
            "virtual path",
            "out-of-view",
            f"{who} has no virtual path that holds {at}; give it a grant on one that does",
        )


def _under_ceiling(
    account: PreparedAccount, location: Location, rights: tuple[str, ...]
) -> Iterator[Refusal]:
    served = location.served
    if served is None:
        return
    if not served.ceiling & ENTER:
        yield Refusal(
            "virtual path",
            "ceiling-without-enter",
            f"the grants on {served.path} do not let {account.name} enter: it is of no use to it"
            " without",
        )
    for right in rights:
        if right != "enter" and not served.ceiling & BIT[right]:
            yield Refusal(
                "virtual path",
                "ceiling-lacks-right",
                f"the grants on {served.path} do not let {account.name} {verb(right)}, whatever the"
                " folder allows",
            )


#: More folders on the way than these are counted, not told.
MOST_ON_THE_WAY = 20


def folder_gate(
    prepared: Prepared, account: PreparedAccount, wanted: list[Demand]
) -> Iterator[Refusal]:
    """Can the account pass through, and do the entries allow each right?"""
    for right, place, own, top, through in wanted:
        store = prepared.stores[place.store]
        own_last = own if through == place.path and right in ("enter", "list") else None
        if through is not None and not can_pass(store, top, through, account, own_last):
            there = blocked(store, top, through, account, own_last)
            for path, _, alike in there[:MOST_ON_THE_WAY]:
                if right != "enter" or path != place.path:
                    on_the_way = "" if path == place.path else f", on the way to {place}"
                    further = f", nor the {alike} below it" if alike else ""
                    why = conclude(store, path, "enter", account, None).text
                    text = (
                        f"{account.name} may not enter {place.store}:{path}{further}{on_the_way}:"
                        f" {why}"
                    )
                    yield Refusal("folder", "cannot-pass", text)
            if len(there) > MOST_ON_THE_WAY:
                text = (
                    f"{account.name} may not enter {len(there) - MOST_ON_THE_WAY} more folders on"
                    f" the way to {place}"
                )
                yield Refusal("folder", "cannot-pass", text)
        if not decide(store, place.path, BIT[right], account, own):
            found = conclude(store, place.path, right, account, own)
            yield Refusal(
                "folder",
                found.reason,
                f"{account.name} may not {verb(right)} in {place}: {found.text}",
            )


class Case(NamedTuple):
    """A question with all that it names looked up."""

    question: Question
    account: PreparedAccount
    endpoint: Endpoint | None
    namespace: Namespace
    sites: Sites
    at: datetime


def open_case(prepared: Prepared, question: Question, now: datetime) -> Case:
    """Look up what the question names; :class:`UnknownName` if something does not exist."""
    account = prepared.account(question.account)
    if account is None:
        raise UnknownName("account", "account", question.account)
    endpoint = None
    if question.endpoint is not None:
        endpoint = prepared.endpoints.get(fold(question.endpoint))
        if endpoint is None:
            raise UnknownName("endpoint", "endpoint", question.endpoint)
    if question.owner is not None and fold(question.owner) not in prepared.people.by_fold:
        raise UnknownName("owner", "account", question.owner)
    namespace = prepared.namespace(account)
    return Case(
        question, account, endpoint, namespace, locate(namespace, question), question.at or now
    )


def gate_obstacles(prepared: Prepared, case: Case, gate: str) -> Iterator[Refusal]:
    """Every obstacle of one gate. A gate that is not asked has none."""
    question, account, endpoint = case.question, case.account, case.endpoint
    if gate in ("door", "sign-in", "endpoint"):
        if endpoint is None:
            return
        if gate == "door":
            yield from door(prepared, endpoint, question)
        elif gate == "sign-in":
            yield from sign_in(prepared, account, endpoint, question, case.at)
        elif question.action != "sign-in":
            here, there = needed_rights(question, case.sites)
            needed = dict.fromkeys(("enter", *here, *there))
            yield from endpoint_gate(prepared, account, endpoint, tuple(needed))
    elif question.action == "sign-in":
        return
    elif gate == "virtual path":
        yield from virtual_path_gate(prepared, account, case.namespace, question, case.sites)
    elif gate == "folder":
        yield from folder_gate(prepared, account, demands(prepared, account, question, case.sites))
    elif gate == "disk":
        if prepared.disks:
            yield from disk_gate(prepared, account, question, case.sites)
    else:
        yield from quotas.limits_gate(prepared, account, question, case.sites, case.at)


def verdict(prepared: Prepared, question: Question, now: datetime) -> Verdict:
    """The verdict on one question, by the lines that count then.

    `now` counts where the question gives no time itself.

    Raises :class:`UnknownName` if the question names an account or an endpoint that does not exist.
    """
    prepared = prepared.on((question.at or now).date())
    gate = quick_gate(prepared, question)
    if gate is ASK_THE_GATES:
        case = open_case(prepared, question, now)
        return verdict_of(case, next(_refusals(prepared, case, ALL_GATES), None))

    def tell() -> tuple[str, str]:
        case = open_case(prepared, question, now)
        if gate is None:
            return "allowed", allowed_text(case)
        refusal = next(_refusals(prepared, case, (gate,)))
        return refusal.reason, refusal.text

    return Verdict(
        gate, (lambda: kept_sentence(prepared, question, tell)) if gate == "folder" else tell
    )


def _refusals(prepared: Prepared, case: Case, gates: tuple[str, ...]) -> Iterator[Refusal]:
    for gate in gates:
        yield from gate_obstacles(prepared, case, gate)


def verdict_of(case: Case, refusal: Refusal | None) -> Verdict:
    """The verdict, where the first refusal is known, or that there is none."""
    if refusal is None:
        return Verdict(None, lambda: ("allowed", allowed_text(case)))
    return Verdict(refusal.gate, lambda: (refusal.reason, refusal.text))


ALL_GATES = GATES


def allowed_text(case: Case) -> str:
    """The sentence for what is allowed."""
    question, who = case.question, case.account.name
    if question.action == "sign-in":
        return f"{who} may sign in at {question.endpoint}"
    what = {"enter": "enter", "list": "list", "download": "download", "upload": "upload"}.get(
        question.action, question.action
    )
    to = f" to {question.to}" if question.to else ""
    text = f"{who} may {what} {question.path}{to}"
    if case.endpoint is None:
        if not case.account.account.enabled:
            text += "; but the account is switched off"
        elif expired(case.account.account, case.at):
            text += f"; but the account expired with {case.account.account.expires}"
    return text
