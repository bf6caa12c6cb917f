"""Ways past the gate `folder`: nearer allows, denies and forbids taken away or narrowed, seals,
memberships, later days.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date

from drawknife.core.decide.folder_decision import decider
from drawknife.core.decide.folders import blocked, can_pass, decide
from drawknife.core.model.items import Entry, Subject
from drawknife.core.model.lines import has_ended
from drawknife.core.prepared.needs import Demand
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.words.names import Place, ancestors
from drawknife.core.words.rights import BIT

from .steps import Change, Way, at_folder, in_group, lasting, set_to, subjects_of, without_rights


def missing(
    prepared: Prepared, account: PreparedAccount, wanted: list[Demand]
) -> Iterator[tuple[str, Place, bool | None]]:
    """The rights that are not decided as they should be, in the order in which the gate tells them;
    (right, folder, own).
    """
    for right, place, own, top, through in wanted:
        store = prepared.stores[place.store]
        own_last = own if through == place.path and right in ("enter", "list") else None
        if through is not None and not can_pass(store, top, through, account, own_last):
            for path, _, _ in blocked(store, top, through, account, own_last):
                yield "enter", Place(place.store, path), own_last if path == through else None
        if not decide(store, place.path, BIT[right], account, own):
            yield right, place, own


def ways(
    prepared: Prepared, account: PreparedAccount, wanted: list[Demand], day: date, later: date
) -> Iterator[Way]:
    """Ways past the first thing that is missing, and with it past what else is missing at the same
    folder.

    `later` is the day that lines which have ended are given.
    """
    every = list(dict.fromkeys(missing(prepared, account, wanted)))
    for right, place, own in every[:1]:
        together = ",".join(dict.fromkeys(r for r, at, _ in every if at == place))
        yield from _for(prepared, account, right, together, place, own=own, day=day, later=later)


def _for(
    prepared: Prepared,
    account: PreparedAccount,
    right: str,
    together: str,
    place: Place,
    *,
    own: bool | None,
    day: date,
    later: date,
) -> Iterator[Way]:
    store = prepared.stores[place.store]
    node, depth = store.nearest(place.path)
    owning = (
        (depth == 0 and node is not None and node.owner == account.index) if own is None else own
    )
    decision, seal = decider(
        store, place.path, BIT[right], account.who_owning if owning else account.who
    )
    chain = ancestors(place.path)
    recorded = next((at for at in chain if store.folder(at) is not None), None)
    for subject in subjects_of(account):
        line = f"allow {subject} {together}"
        yield (at_folder(place, [f"{line} here"]),)
        if recorded is not None:
            yield (at_folder(Place(place.store, recorded), [line]),)
    if decision is not None and decision.entry.effect != "allow":
        yield from _less(Place(place.store, decision.at), decision.entry, together)
    if seal is not None:
        yield (set_to("folder", f"{place.store}:{seal[1]}", sealed=False),)
    yield from _by_joining(prepared, account, place, right)
    yield from _again(prepared, account, place, right, day, later)


def _less(at: Place, entry: Entry, rights: str) -> Iterator[Way]:
    """An entry taken away, or only for what is missing."""
    yield (at_folder(at, drop=[entry.says()]),)
    narrower = without_rights(entry, *rights.split(","))
    if narrower is not None:
        yield (at_folder(at, [narrower], [entry.says()]),)


def _by_joining(
    prepared: Prepared, account: PreparedAccount, place: Place, right: str
) -> Iterator[Way]:
    """A group that is allowed it on the way from the folder up, and that the account is not in."""
    store, standing = prepared.stores[place.store], account.standing.ranks
    folders = [f for f in map(store.folder, ancestors(place.path)) if f is not None]
    groups = dict.fromkeys(
        e.subject
        for f in folders
        for e in f.entries
        if e.effect == "allow"
        and e.rights & BIT[right]
        and e.subject.kind == "group"
        and e.subject not in standing
    )
    for group in groups:
        yield (joins(account, group),)


def joins(account: PreparedAccount, group: Subject) -> Change:
    """The account becomes a member."""
    return in_group(group.name, [f"account:{account.name}"])


def _again(
    prepared: Prepared, account: PreparedAccount, place: Place, right: str, day: date, later: date
) -> Iterator[Way]:
    """A later day for what has ended: an allow on the way up, or a membership."""
    full = prepared.full
    store = full.stores.get(place.store)
    standing = account.standing.ranks
    for at in ancestors(place.path) if store is not None else ():
        folder = store.folder(at) if store is not None else None
        for e in folder.entries if folder else ():
            if (
                has_ended(e, day)
                and e.effect == "allow"
                and e.rights & BIT[right]
                and e.subject in standing
            ):
                yield (at_folder(Place(place.store, at), [lasting(e, later)]),)
    yield from members_again(full, account, day, later)


def members_again(
    full: Prepared, account: PreparedAccount, day: date, later: date
) -> Iterator[Way]:
    """Memberships of the account, or of its groups and units, that have ended."""
    standing = account.standing.ranks
    for group in full.model.groups:
        for m in group.members:
            if has_ended(m, day) and m.subject in standing:
                yield (in_group(group.name, [lasting(m, later, "member")]),)
