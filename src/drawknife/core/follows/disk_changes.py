"""On which disks something else may be let through after a change: their readings, or whom a server takes on there, are others."""

from __future__ import annotations

from collections.abc import Iterable

from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.settings import resolve
from ..words.names import Place
from ..words.sizes import several
from .pairing import Pairing


def disks_changed(pairing: Pairing) -> tuple[str, ...]:
    """The stores, as they are called afterwards, in which the disk gate may decide otherwise."""
    before, after = pairing.before, pairing.after
    if not before.disks and not after.disks:
        return ()
    was = {pairing.renames.place(Place(name, "/")).store: disk.reading for name, disk in before.disks.items()}
    now = {name: disk.reading for name, disk in after.disks.items()}
    if _acts_otherwise(pairing):
        return tuple(sorted(was.keys() | now.keys()))
    return tuple(name for name in sorted(was.keys() | now.keys()) if not _same(was.get(name), now.get(name)))


def _same(one: object, other: object) -> bool:
    if one is None or other is None:
        return one is other
    # That a store is called otherwise, or was read again, is no difference.
    return _known(one) == _known(other)


def _known(reading: object) -> tuple[object, ...]:
    return tuple(getattr(reading, name) for name in ("confined", "above", "folders", "files", "users"))


def _acts_otherwise(pairing: Pairing) -> bool:
    """Does a server take on another user for some account?"""
    before, after = pairing.before, pairing.after
    if not any(name == "acts_as" for p in (before, after) for s in p.model.settings for name, _ in s.values):
        return False
    return any(
        _acts_as(before, before.people.prepared(one)) != _acts_as(after, after.people.prepared(other))
        for one, other in pairing.common
    )


def _acts_as(prepared: Prepared, account: PreparedAccount) -> str | None:
    name = resolve(prepared, account, "acts_as").value
    return None if name is None else str(name).replace("{account}", account.name)


def not_compared(stores: tuple[str, ...]) -> str:
    """The sentence that tells of it."""
    return f"what {of_disks(stores)} lets through may be otherwise, and was not compared: see `drawknife disk compare`"


def of_disks(stores: Iterable[str]) -> str:
    """The disks of some stores, in words."""
    names = sorted(stores)
    return f"the disk{'s' if len(names) > 1 else ''} of {several(names)}"
