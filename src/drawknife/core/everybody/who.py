"""Who has a right at a virtual location or at a store folder, and through what."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ..decide.disk_gate import disk_obstacles
from ..decide.folder_decision import conclude, judge
from ..decide.folders import decide
from ..decide.sign_in import endpoint_gate
from ..model.items import Endpoint, Entry, Subject
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Refusal
from ..words.names import Place
from ..words.rights import BIT, FILE_RIGHTS, INDEX
from .access_map import AccessMap, access_of_all
from .cell import Cell
from .division import bits_in
from .effective import held_back_by_holder, right_obstacles


class HasRight(NamedTuple):
    """An account that has the right: where it comes to it, and which entry lets it.

    `decided_by` is None where nothing decides and the store is open, or the location is synthetic.
    `chain` leads from the account to the entry's subject.
    """

    account: str
    state: str
    location: str
    virtual_path: str | None
    place: Place | None
    decided_at: Place | None
    decided_by: Entry | None
    chain: tuple[Subject, ...]


class Almost(NamedTuple):
    """An account that would have the right but for what one gate refuses."""

    account: str
    location: str | None
    obstacles: tuple[Refusal, ...]


def who_has(
    prepared: Prepared,
    right: str,
    target: str | Place,
    endpoint: Endpoint | None = None,
    start: int = 0,
    *,
    stop: int | None = None,
    disk: bool = False,
) -> tuple[int, list[HasRight]]:
    """How many have `right` at `target`, in any state but ``no``, and those from `start` to `stop`.

    Sorted by account and location. `target` is a virtual location (text) or a store folder. `disk`:
    the disks are asked.
    """
    r = INDEX[right]
    map_ = access_of_all(prepared, endpoint, disk)
    found = []
    for cell in _cells(map_.restricted(BIT[right]), target):
        for bit in bits_in(cell.plain[r] | cell.owning[r]):
            found.append((bit, cell.location, cell.state(r, bit), cell))
    found.sort(key=lambda f: f[:2])
    some = found[start:stop]
    return len(found), [
        _holder(prepared, prepared.people.prepared(i), right, state, cell)
        for i, _, state, cell in some
    ]


def _cells(map_: AccessMap, target: str | Place) -> Iterator[Cell]:
    return (
        map_.cells({target.store: [target.path]})
        if isinstance(target, Place)
        else map_.at([target])
    )


def _holder(
    prepared: Prepared, account: PreparedAccount, right: str, state: str, cell: Cell
) -> HasRight:
    if cell.segment is None or cell.place is None:
        return HasRight(account.name, state, cell.location, None, None, None, None, ())
    own = (state == "own") if right in FILE_RIGHTS else None
    why = judge(prepared.stores[cell.place.store], cell.place.path, right, account, own)
    chain: tuple[Subject, ...] = ()
    if why.decided_by is not None:
        standing = account.standing
        subject = why.decided_by.subject
        chain = (
            standing.chain(subject)
            if subject in standing.ranks
            else (Subject("account", account.name), subject)
        )
    return HasRight(
        account.name,
        state,
        cell.location,
        cell.segment.path,
        cell.place,
        why.decided_at,
        why.decided_by,
        chain,
    )


def almost(
    prepared: Prepared,
    right: str,
    target: str | Place,
    gate: str,
    endpoint: Endpoint | None = None,
    disk: bool = False,
) -> list[Almost]:
    """The accounts that lack `right` at `target`, in every state, and would have it but for what
    `gate` refuses.

    For the rights on files both are asked, for what is its own and for what is not: one that only
    this gate refuses is enough. For a store folder that no virtual path leads an account to, the
    virtual path gate refuses.
    """
    found = []
    map_ = access_of_all(prepared, endpoint)
    places: dict[int, list[str]] = {}
    if isinstance(target, Place):
        for cell in _cells(map_, target):
            for bit in bits_in(cell.members):
                places.setdefault(map_.accounts[bit], []).append(cell.location)
    for index in range(len(prepared.people.accounts)):
        account = prepared.people.prepared(index)
        locations = [target] if isinstance(target, str) else places.get(index, [])
        ways: list[tuple[str | None, tuple[Refusal, ...]]] = [
            (
                at,
                tuple(
                    right_obstacles(
                        prepared,
                        account,
                        at,
                        right,
                        own,
                        endpoint=endpoint,
                        with_sentences=True,
                        disk=disk,
                    )
                ),
            )
            for at in locations
            for own in _owning(right)
        ]
        if isinstance(target, Place) and not locations:
            ways = [
                (
                    None,
                    _without_path(
                        prepared, account, right, target, own, endpoint=endpoint, disk=disk
                    ),
                )
                for own in _owning(right)
            ]
        if ways and all(obstacles for _, obstacles in ways):
            for location, obstacles in ways:
                if {o.gate for o in obstacles} == {gate}:
                    found.append(Almost(account.name, location, obstacles))
                    break
    return found


def _owning(right: str) -> tuple[bool, ...]:
    """As whose a thing is asked about: one's own or not, where that can matter."""
    return (True, False) if right in FILE_RIGHTS else (True,)


def _without_path(
    prepared: Prepared,
    account: PreparedAccount,
    right: str,
    place: Place,
    own: bool,
    *,
    endpoint: Endpoint | None,
    disk: bool = False,
) -> tuple[Refusal, ...]:
    """What keeps an account from a right at a folder that no virtual path leads it to."""
    out: list[Refusal] = []
    if endpoint is not None:
        out += endpoint_gate(prepared, account, endpoint, tuple(dict.fromkeys(("enter", right))))
    out.append(
        Refusal("virtual path", "out-of-view", f"no virtual path leads {account.name} to {place}")
    )
    whose = own if right in FILE_RIGHTS else None
    store = prepared.stores[place.store]
    if not decide(store, place.path, BIT[right], account, whose):
        out.append(
            Refusal("folder", "refused", conclude(store, place.path, right, account, whose).text)
        )
    held = held_back_by_holder(prepared, account, place) if right == "delete-folder" else None
    out += [held] if held is not None else []
    if disk and prepared.disks:
        out += disk_obstacles(prepared, account, right, place, place.path)
    return tuple(out)
