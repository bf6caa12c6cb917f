"""Why a line that was added changes nothing (docs/rules.md, "What follows", last paragraph).

Each reason is found by asking, for the accounts that the line names and at the places it speaks
for, what decides there; the first account of each reason is named.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import date, datetime
from itertools import islice
from typing import NamedTuple

from ..decide.folder_decision import Decider, decider
from ..decide.sign_in import endpoint_allows
from ..everybody.division import bits_in
from ..everybody.effective import right_obstacles
from ..model.difference import differing
from ..model.items import Entry, Grant, Model, Subject
from ..model.lines import has_ended
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared, prepare
from ..prepared.question import Refusal
from ..words.names import Place, fold, join, parent, rest_below
from ..words.rights import BIT, FILE_RIGHTS, RIGHTS, format_rights
from ..words.sizes import number_of, several
from .added_lines import Added, comes_with_its_item, without_line
from .consequences import Consequences
from .days import consequences
from .pairing import members_of

#: No more lines, accounts, and places are looked at than these; what is left out is said.
LINES, ACCOUNTS, PLACES = 20, 50, 6
#: Where something follows from the change, so many lines are taken away again, one by one; and none
#: in models of more accounts times folders, where each time is a wait. Accounts alone take as long
#: as with so many folders.
SINGLY, SINGLY_WITHIN, AS_FOLDERS = 5, 50_000_000, 5_000


class NoEffect(NamedTuple):
    """A line without effect, and each reason, with an example."""

    line: Added
    reasons: tuple[str, ...]


def lines_without_effect(
    before: Prepared,
    after: Prepared,
    follows: Consequences,
    at: datetime,
    was: Model,
    *,
    added: list[Added],
    more: Iterator[Added],
) -> tuple[list[NoEffect], str | None]:
    """Those of the lines that a change adds (:func:`added_lines`) that are different for nobody;
    and what was not
    looked at, in words. `was` is the model before with the names that its things have afterwards.

    `added` are the first LINES of them; the others, `more`, are only counted, and that only where
    it is told. Where something follows from the change, each line is taken away again to see what
    it does itself.
    """
    if not added:
        return [], None
    if not follows.for_nobody:
        if (
            len(added) == 1
            and len(list(differing(was, after.model))) == 1
            and not comes_with_its_item(was, added[0])
        ):
            return [], None  # it is all of the change, and something follows from it
        folders = sum(len(s.folders) for s in after.model.stores)
        if len(after.model.accounts) * max(folders, AS_FOLDERS) > SINGLY_WITHIN:
            return [], "which of the lines that are added has no effect by itself was not looked at"
    some = added[: LINES if follows.for_nobody else SINGLY]
    left = None
    count = len(added) + sum(1 for _ in more)
    if count > len(some):
        left = (
            f"of {number_of(count, 'line')} that are added, the first {len(some)} were looked at"
            " one by one"
        )
    some = [x for x in some if x.kind != "endpoint" or not _only_waits(was, after, x, at)]
    if not follows.for_nobody:
        some = [
            x
            for x in some
            if consequences(prepare(without_line(after.model, x), after), after, at).for_nobody
        ]
    day = at.date()
    return [why_no_effect(before.on(day), after.on(day), x, day) for x in some], left


def _only_waits(was: Model, after: Prepared, added: Added, at: datetime) -> bool:
    """Does a line of an endpoint do nothing only because nothing is there yet: no account, none
    with a credential, or
    the endpoint that comes with it does not run?

    Without such a line nobody could come in once there is: to warn of it would be bad advice.
    """
    if has_ended(added.line, at.date()):
        return False
    endpoint = after.endpoints[fold(added.name)]
    if comes_with_its_item(was, added) and (
        not endpoint.enabled or endpoint.name in after.stopped_by
    ):
        return True
    if not added.line.subject.name and not named_by(after.on(at.date()), added.line.subject):
        return True
    return not consequences(prepare(without_line(after.model, added), after), after, at).for_nobody


def why_no_effect(before: Prepared, after: Prepared, added: Added, day: date) -> NoEffect:
    """The reasons why a line, with which nothing is different for anybody, has no effect, as of a
    day.
    """
    if has_ended(added.line, day):
        return NoEffect(
            added, (f"it has ended: {added.line.until} was the last day that it counted",)
        )
    reasons = {
        "folder": _of_entry,
        "virtual path": _of_grant,
        "endpoint": _of_endpoint_entry,
        "group": _of_member,
    }[added.kind](before, after, added)
    by_reason: dict[str, list[str]] = {}
    for text, who in reasons:
        by_reason.setdefault(text, []).extend([who] if who else [])
    return NoEffect(
        added, tuple(text.replace(WHO, several(names)) for text, names in by_reason.items())
    )


#: What stands for the accounts that a reason holds for.
WHO = "{who}"


def named_by(prepared: Prepared, subject: Subject) -> list[PreparedAccount]:
    """The accounts that a line names; for ``owner``, all."""
    people = prepared.people
    if subject.kind == "owner":
        return [people.prepared(i) for i in range(len(people.accounts))]
    return [people.prepared(i) for i in bits_in(members_of(prepared, [subject]))]


def _nobody(subject: Subject) -> str:
    return f"no account counts as {subject}"


#: A reason, with WHO for the account that it holds for, and that account; empty: it holds for none
#: in particular.
Reasons = Iterator[tuple[str, str]]


def _limited(accounts: list[PreparedAccount]) -> Reasons:
    if len(accounts) > ACCOUNTS:
        yield (
            (
                f"only the first {ACCOUNTS} of the {len(accounts)} accounts that it names were"
                " asked about"
            ),
            "",
        )


# --- entries of folders -------------------------------------------------------------------------


def _of_entry(before: Prepared, after: Prepared, added: Added) -> Reasons:
    entry: Entry = added.line
    accounts = named_by(after, entry.subject)
    if not accounts:
        yield _nobody(entry.subject), ""
        return
    store, _, path = added.name.partition(":")
    seen = False
    for account in accounts[:ACCOUNTS]:
        for location, place in spoken_for(after, account, Place(store, path), entry.reach):
            seen = True
            for right in RIGHTS:
                if entry.rights & BIT[right]:
                    yield from _of_right(
                        before, after, account, location, place, right=right, added=added
                    )
    if not seen:
        yield f"no virtual path leads {_whom(accounts)} to {added.name}", ""
    yield from _limited(accounts)


def _whom(accounts: list[PreparedAccount]) -> str:
    return accounts[0].name if len(accounts) == 1 else "anybody whom it names"


def spoken_for(
    prepared: Prepared, account: PreparedAccount, top: Place, reach: str
) -> Iterator[tuple[str, Place]]:
    """Some of the locations of an account that the line speaks for, recorded or not, and their
    folders.
    """
    paths = {
        "tree": ("", "/…", "/…/…"),
        "here": ("",),
        "below": ("/…", "/…/…"),
        "children": ("/…",),
    }[reach]
    store = prepared.stores[top.store]
    start, stop = store.branch(top.path)
    recorded = [f.path for f in islice(store.store.folders[start:stop], PLACES)]
    places = [
        Place(top.store, (top.path if top.path != "/" else "") + rest or "/") for rest in paths
    ]
    for path in recorded:
        if path != top.path and (
            reach in ("tree", "below") or (reach == "children" and parent(path) == top.path)
        ):
            places.append(Place(top.store, path))
    space = prepared.namespace(account)
    for path, served in space.served.items():
        for place in dict.fromkeys(places):
            rest = (
                rest_below(place.path, served.place.path)
                if place.store == served.place.store
                else None
            )
            if rest is not None:
                location = join(path, rest)
                if space.resolve(location).served is served:
                    yield location, place


def _of_right(
    before: Prepared,
    prepared: Prepared,
    account: PreparedAccount,
    location: str,
    place: Place,
    *,
    right: str,
    added: Added,
) -> Reasons:
    """Why the line has no part in whether one account has one right at one location."""
    who = account.name
    for own in (False, True) if right in FILE_RIGHTS else (False,):
        obstacles = list(right_obstacles(prepared, account, location, right, own))
        yield from _of_obstacles(prepared, account, location, place, obstacles)
        if any(o.gate != "folder" or o.reason == "cannot-pass" for o in obstacles):
            continue
        decision, seal = decider(
            prepared.stores[place.store],
            place.path,
            BIT[right],
            account.who_owning if own else account.who,
        )
        if decision is None:
            yield _nothing_decides(added.line, place, seal, who)
        elif decision.entry == added.line:
            yield _the_same(before, place, BIT[right], account, own), who
        else:
            yield _another_decides(added, place, decision, who)


def _of_obstacles(
    prepared: Prepared,
    account: PreparedAccount,
    location: str,
    place: Place,
    obstacles: Iterable[Refusal],
) -> Reasons:
    """Why the line is not even asked: what refuses the right before it, or beside it."""
    who = account.name
    for obstacle in obstacles:
        if obstacle.reason == "ceiling-lacks-right":
            served = prepared.namespace(account).resolve(location).served
            path = served.path if served else location
            yield f"the grants on {path} hold it back from {WHO}", who
        elif obstacle.reason == "fixed-point":
            yield f"{location} is, or is above, a virtual path of {WHO}", who
        elif obstacle.reason == "cannot-pass":
            yield f"{WHO} cannot pass through to {place}", who


def _nothing_decides(
    entry: Entry, place: Place, seal: tuple[int, str] | None, who: str
) -> tuple[str, str]:
    """Why the line decides nothing where no other entry does."""
    if entry.effect != "allow":
        return f"it is so without it: no entry allows it to {WHO}", who
    if seal is not None:
        return f"{place.store}:{seal[1]} is sealed, and the line does not come down into it", ""
    return f"it is so without it: what nothing decides is allowed in {place.store}", ""


def _another_decides(added: Added, place: Place, decision: Decider, who: str) -> tuple[str, str]:
    """Why another entry decides, and the line does not: alike, or against it."""
    line = f"`{decision.entry}` on {place.store}:{decision.at}"
    if (decision.entry.effect == "allow") is (added.line.effect == "allow"):
        return f"it is so without it: {line} decides the same for {WHO}", who
    if decision.entry.effect == "forbid":
        return f"{line} forbids it, and overrules the line", ""
    if f"{place.store}:{decision.at}" == added.name:
        return f"{line}, a deny on its level, overrules the line", ""
    return f"a nearer level decides for {WHO}: {line}", who


def _the_same(before: Prepared, place: Place, bit: int, account: PreparedAccount, own: bool) -> str:
    """What decides as the line does where the line is not there, in the model before."""
    store, was = before.stores.get(place.store), before.account(account.name)
    decision = None
    if store is not None and was is not None:
        decision, _ = decider(store, place.path, bit, was.who_owning if own else was.who)
    if decision is None:
        if store is None or not store.open:
            return f"it is so without it: no entry allows it to {WHO}"
        return f"it is so without it: what nothing decides is allowed in {place.store}"
    return (
        f"it is so without it: `{decision.entry}` on {place.store}:{decision.at} decides the same"
        f" for {WHO}"
    )


# --- grants, entries of endpoints, members ------------------------------------------------------


def _of_grant(before: Prepared, after: Prepared, added: Added) -> Reasons:
    grant: Grant = added.line
    accounts = named_by(after, grant.subject)
    if not accounts:
        yield _nobody(grant.subject), ""
    for account in accounts[:ACCOUNTS]:
        space = after.namespace(account)
        unserved, served = space.unserved.get(added.name), space.served.get(added.name)
        if unserved is not None:
            yield f"{added.name} is not served to {WHO}: {unserved.text}", account.name
        elif served is not None and not any(grant in v.grants for v in served.sources):
            yield f"a nearer grant leads {WHO} to {served.place}", account.name
        elif served is not None:
            was = before.account(account.name)
            had = before.namespace(was).served.get(added.name) if was is not None else None
            if had is not None and had.ceiling == served.ceiling:
                rights = format_rights(grant.rights)
                yield (
                    f"it is so without it: other grants let {WHO} {rights} on {added.name}",
                    account.name,
                )
            else:
                yield (
                    f"the entries of {served.place} and below do not let {WHO} do what it grants",
                    account.name,
                )
    yield from _limited(accounts)


def _of_endpoint_entry(before: Prepared, after: Prepared, added: Added) -> Reasons:
    entry: Entry = added.line
    accounts = named_by(after, entry.subject)
    if not accounts:
        yield _nobody(entry.subject), ""
    endpoint = next(e for e in after.model.endpoints if e.name == added.name)
    for account in accounts[:ACCOUNTS]:
        denied = [
            e
            for e in endpoint.entries
            if e != entry
            and e.effect != "allow"
            and e.rights & entry.rights
            and after.people.number(e.subject) in account.who
        ]
        allowed = [
            r
            for r in RIGHTS
            if entry.rights & BIT[r] and endpoint_allows(after, account, endpoint, BIT[r])
        ]
        if entry.effect == "allow" and denied:
            yield f"`{denied[0]}`, a deny on its level, overrules the line for {WHO}", account.name
        elif entry.effect == "allow" and allowed:
            yield f"it is so without it for {WHO}, or it cannot sign in there", account.name
        else:
            yield f"it is so without it: {added.name} did not let {WHO} do that", account.name
    yield from _limited(accounts)


def _of_member(before: Prepared, after: Prepared, added: Added) -> Reasons:
    accounts = named_by(after, added.line.subject)
    if not accounts:
        yield _nobody(added.line.subject), ""
        return
    group = Subject("group", added.name)
    inside = members_of(before, [group])
    there = [
        a
        for a in accounts
        if (was := before.people.index.get(a.name)) is not None and inside >> was & 1
    ]
    if len(there) == len(accounts):
        yield f"{_whom(accounts)} counted as {group} already", ""
    else:
        yield f"what comes down from {group} gives nothing new to {_whom(accounts)}", ""
    yield from _limited(accounts)
