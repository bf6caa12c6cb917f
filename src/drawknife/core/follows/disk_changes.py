"""What follows where disks have their say: what somebody gains and loses by what server and disk
let together.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from ..decide.disk_gate import taken_on
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.settings import resolve
from ..words.names import Place, tree_key
from ..words.sizes import several
from .access_changes import Side, access_changes
from .access_differences import AccessChange
from .branches_compared import changes_in_branches
from .pairing import Pairing

#: Of so many accounts times folders all is compared.
MOST_COMPARED = 1_000_000


class OnDisk(NamedTuple):
    """`access` is what is gained and lost with what the disks of `stores` let through, None where
    that is what the server's
    rights say alone; in `not_compared` something else may be let through, and was not looked at.
    """

    stores: tuple[str, ...] = ()
    access: tuple[AccessChange, ...] | None = None
    not_compared: tuple[str, ...] = ()


def on_disks(pairing: Pairing, server: Sequence[AccessChange]) -> OnDisk:
    """What follows on the disks that were read; `server` is what follows by the server's rights."""
    before, after = pairing.before, pairing.after
    changed = _disks_changed(pairing)
    stores = tuple(sorted({*before.disks, *after.disks, *changed})) if server else changed
    if not stores:
        return OnDisk()
    sides = _Sides(pairing, stores)
    folders = {name: sorted(_folders(pairing, name), key=tree_key) for name in stores}
    acting = len(sides.here) + len(sides.elsewhere) + len(sides.gone) + len(sides.come)
    too_many = acting * sum(map(len, folders.values())) > MOST_COMPARED
    # What is let through an endpoint is narrower, and is not held against disks.
    through = any(change.endpoint is not None and sides.knows(change) for change in server)
    if acting and (pairing.renames.moves or too_many or through):
        return OnDisk((), None, stores)
    differing: list[str] = []
    access: list[AccessChange] = []
    for name in stores:
        plain, on_disk = (
            sides.compared(sides.here, {name: folders[name]}, disk) for disk in (False, True)
        )
        if set(plain) != set(on_disk):
            differing.append(name)
            access += on_disk
    plain, on_disk = (
        [*sides.compared(sides.elsewhere, None, disk), *sides.alone(disk)] for disk in (False, True)
    )
    if set(plain) != set(on_disk):
        differing = [*stores]
        access += on_disk
    return OnDisk(tuple(differing), tuple(access)) if differing else OnDisk()


class _Sides:
    """Who acts as somebody on some disks: led to the same folders in both models, elsewhere, or in
    one model only.
    """

    def __init__(self, pairing: Pairing, stores: tuple[str, ...]) -> None:
        self.pairing = pairing
        before, after = pairing.before, pairing.after
        acting = [
            i
            for i, (was, now) in enumerate(pairing.common)
            if _acts(before, was, stores) or _acts(after, now, stores)
        ]
        elsewhere = {
            i
            for i in acting
            if _led(before, pairing.common[i][0]) != _led(after, pairing.common[i][1])
        }
        self.here, self.elsewhere = [i for i in acting if i not in elsewhere], sorted(elsewhere)
        self.gone = [i for i in pairing.gone if _acts(before, i, stores)]
        self.come = [i for i in pairing.come if _acts(after, i, stores)]
        self._names = {after.model.accounts[pairing.common[i][1]].name for i in acting}

    def knows(self, change: AccessChange) -> bool:
        """Is a change about somebody who acts as somebody there, and is in both models?"""
        return not self._names.isdisjoint(change.accounts)

    def compared(
        self, positions: list[int], branches: dict[str, list[str]] | None, disk: bool
    ) -> list[AccessChange]:
        """What accounts of both models gain and lose, with what disks let through or without."""
        if not positions:
            return []
        pairing = self.pairing
        pairs = [pairing.common[i] for i in positions]
        was, now = (
            Side(p, [pair[i] for pair in pairs], disk=disk)
            for i, p in enumerate((pairing.before, pairing.after))
        )
        names = [pairing.after.model.accounts[index].name for _, index in pairs]
        if branches is not None:
            return changes_in_branches(was, now, names, branches)
        return access_changes(was, now, names, pairing.renames)

    def alone(self, disk: bool) -> list[AccessChange]:
        """What goes with accounts that go, and comes with those that come."""
        found = []
        for prepared, accounts, come in (
            (self.pairing.before, self.gone, False),
            (self.pairing.after, self.come, True),
        ):
            if accounts:
                side = Side(prepared, accounts, disk=disk)
                names = [prepared.model.accounts[i].name for i in accounts]
                found += access_changes(None if come else side, side if come else None, names)
        return found


def _acts(prepared: Prepared, index: int, stores: Iterable[str]) -> bool:
    account = prepared.people.prepared(index)
    return any(
        name in prepared.disks and taken_on(prepared, account, name) is not None for name in stores
    )


def _led(prepared: Prepared, index: int) -> object:
    space = prepared.namespace(prepared.people.prepared(index))
    return {path: (s.place, s.ceiling) for path, s in space.served.items()}, space.unserved.keys()


def _folders(pairing: Pairing, store: str) -> set[str]:
    """All folders of a store that either model, or what was read of its disk, knows by name."""
    found = {"/"}
    for prepared in (pairing.before, pairing.after):
        if store in prepared.stores:
            found |= {f.path for f in prepared.stores[store].store.folders}
        if store in prepared.disks:
            reading = prepared.disks[store].reading
            found |= {f.path for f in reading.folders} | {f.path for f in reading.files}
    return found


def _disks_changed(pairing: Pairing) -> tuple[str, ...]:
    """The stores, as they are called afterwards, in which the disk gate may decide otherwise."""
    before, after = pairing.before, pairing.after
    if not before.disks and not after.disks:
        return ()
    was = {
        pairing.renames.place(Place(name, "/")).store: disk.reading
        for name, disk in before.disks.items()
    }
    now = {name: disk.reading for name, disk in after.disks.items()}
    if _acts_otherwise(pairing):
        return tuple(sorted(was.keys() | now.keys()))
    return tuple(
        name for name in sorted(was.keys() | now.keys()) if not _same(was.get(name), now.get(name))
    )


def _same(one: object, other: object) -> bool:
    if one is None or other is None:
        return one is other
    # That a store is called otherwise, or was read again, is no difference.
    return _known(one) == _known(other)


def _known(reading: object) -> tuple[object, ...]:
    return tuple(
        getattr(reading, name) for name in ("confined", "above", "folders", "files", "users")
    )


def _acts_otherwise(pairing: Pairing) -> bool:
    """Does a server take on another user for some account?"""
    before, after = pairing.before, pairing.after
    if not any(
        name == "acts_as" for p in (before, after) for s in p.model.settings for name, _ in s.values
    ):
        return False
    return any(
        _acts_as(before, before.people.prepared(one))
        != _acts_as(after, after.people.prepared(other))
        for one, other in pairing.common
    )


def _acts_as(prepared: Prepared, account: PreparedAccount) -> str | None:
    name = resolve(prepared, account, "acts_as").value
    return None if name is None else str(name).replace("{account}", account.name)


def not_compared(stores: tuple[str, ...]) -> str:
    """The sentence that tells of it."""
    return (
        f"what {of_disks(stores)} lets through may be otherwise, and was not compared: see"
        " `drawknife disk compare`"
    )


def of_disks(stores: Iterable[str]) -> str:
    """The disks of some stores, in words."""
    names = sorted(stores)
    return f"the disk{'s' if len(names) > 1 else ''} of {several(names)}"
