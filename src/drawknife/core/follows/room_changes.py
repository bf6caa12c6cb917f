"""Where the room that an account's limits leave is another in one of two models (docs/rules.md,
"What follows").
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import NamedTuple

from ..limits.quotas import headroom, uploads_owner, usage_by_limit
from ..model.items import Quota
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import Place, join, rest_below
from .pairing import Pairing


class Room(NamedTuple):
    """How much more fits: bytes and files; None: as much as one likes."""

    bytes: int | None
    files: int | None


class RoomChange(NamedTuple):
    """Some accounts have other room at a location; None: the location is not theirs."""

    accounts: tuple[str, ...]
    location: str
    before: Room | None
    after: Room | None


def room_changes(pairing: Pairing, at: datetime, affected: set[int]) -> list[RoomChange]:
    """Where limits leave other room, as of a moment; `affected` are those whose own lines or
    settings differ.

    Looked at are the virtual paths of each account, and the folders below them that a quota is on:
    in between nothing can differ.
    """
    before, after = pairing.before, pairing.after
    if _nothing_limits(before, after) or _same(before, after):
        return []
    found: dict[tuple[str, Room | None, Room | None], list[str]] = {}
    quota_folders = [
        pairing.renames.place(q.folder) for q in before.model.quotas if q.folder is not None
    ] + [q.folder for q in after.model.quotas if q.folder is not None]
    for i in _candidates(pairing, affected):
        was, now = pairing.common[i]
        one, other = before.people.prepared(was), after.people.prepared(now)
        locations = dict.fromkeys(
            (
                *_locations(before, one, quota_folders, pairing),
                *_locations(after, other, quota_folders, None),
            )
        )
        for location in locations:
            change = (location, _room(before, one, location, at), _room(after, other, location, at))
            if change[1] is not None and change[2] is not None and change[1] != change[2]:
                found.setdefault(change, []).append(other.name)
    return [RoomChange(tuple(accounts), *change) for change, accounts in found.items()]


def _nothing_limits(before: Prepared, after: Prepared) -> bool:
    return not (before.has_limits or after.has_limits)


def _same(before: Prepared, after: Prepared) -> bool:
    """Is nothing different that room comes from? Folders are no part of it."""
    a, b = before.model, after.model
    return (
        before.people is after.people
        and a.quotas == b.quotas
        and (a.usage is b.usage or a.usage == b.usage)
        and (a.settings is b.settings or a.settings == b.settings)
        and a.virtual_paths == b.virtual_paths
        and [(s.name, s.capacity) for s in a.stores] == [(s.name, s.capacity) for s in b.stores]
    )


def _candidates(pairing: Pairing, affected: set[int]) -> Iterable[int]:
    """Positions of the accounts whose room may differ: all, unless only what is shared by some is
    other than before.
    """
    a, b = pairing.before.model, pairing.after.model
    everybody = range(len(pairing.common))
    if a.usage is not b.usage and a.usage != b.usage:
        return everybody
    if [(s.name, s.capacity) for s in a.stores] != [(s.name, s.capacity) for s in b.stores]:
        return everybody
    old, new = _shared(pairing.before), _shared(pairing.after)
    if [q for q in a.quotas if q.folder] != [q for q in b.quotas if q.folder]:
        return everybody
    was: set[object] = {s for q, used in old.items() if new.get(q) != used for s in q.shared_by}
    now: set[object] = {s for q, used in new.items() if old.get(q) != used for s in q.shared_by}
    found = affected | pairing.positions(was, now)
    return sorted(found | _sending_for(pairing, found))


def _sending_for(pairing: Pairing, owners: set[int]) -> set[int]:
    """Positions of the accounts whose uploads belong to one of some others, whose room then counts,
    in either model.
    """
    sets: list[set[object]] = [
        {s.subject for s in m.settings if any(name == "uploads_owner" for name, _ in s.values)}
        for m in (pairing.before.model, pairing.after.model)
    ]
    if not any(sets):
        return set()
    owning = [{pairing.common[i][side] for i in owners} for side in (0, 1)]
    found = set()
    for i in pairing.positions(*sets):
        for side, prepared in enumerate((pairing.before, pairing.after)):
            account = prepared.people.prepared(pairing.common[i][side])
            if uploads_owner(prepared, account).index in owning[side]:
                found.add(i)
    return found


def _shared(prepared: Prepared) -> dict[Quota, tuple[int, int]]:
    """What counts against each quota that is shared."""
    usage = usage_by_limit(prepared)
    return {
        q: usage.sum("quota", q.name, lambda q=q: usage.quota(q))  # type: ignore[misc]
        for q in prepared.model.quotas
        if q.folder is None
    }


def _locations(
    prepared: Prepared,
    account: PreparedAccount,
    quota_folders: list[Place],
    pairing: Pairing | None,
) -> Iterator[str]:
    """Where the room of an account may begin to be another: its virtual paths, and folders with a
    quota below them.
    """
    space = prepared.namespace(account)
    for path, served in space.served.items():
        yield path
        top = pairing.renames.place(served.place) if pairing is not None else served.place
        for folder in quota_folders:
            rest = rest_below(folder.path, top.path) if folder.store == top.store else None
            if rest:
                location = join(path, rest)
                if space.resolve(location).served is served:
                    yield location


def _room(prepared: Prepared, account: PreparedAccount, location: str, at: datetime) -> Room | None:
    place = prepared.namespace(account).resolve(location).place
    if place is None:
        return None
    found = headroom(prepared, uploads_owner(prepared, account), place, at)
    return Room(found.bytes, found.files)
