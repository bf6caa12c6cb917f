"""Findings about lines and folders of which somebody or something is gone, or which do nothing."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ..decide.folders import can_pass
from ..model.items import Folder, Grant, VirtualPath
from ..model.placeholders import PLACEHOLDER
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..words.names import Place, ancestors, base, parent
from ..words.rights import ENTER
from .division import bits_in


class Unused(NamedTuple):
    """A finding: its kind, what it is about, and a sentence with the remedy."""

    kind: str
    about: str
    text: str


def unused(prepared: Prepared) -> Iterator[Unused]:
    """Owners who cannot enter their folders, folders whose account is gone, and grants that let nobody do anything."""
    yield from _owners_kept_out(prepared)
    yield from _without_account(prepared)
    yield from _grants_of_no_use(prepared)


def _owners_kept_out(prepared: Prepared) -> Iterator[Unused]:
    for name, store in prepared.stores.items():
        for path, node in store.marked.items():
            if node.owner < 0:
                continue
            account = prepared.people.prepared(node.owner)
            if not _enters(prepared, account, Place(name, path)):
                yield Unused(
                    "owner-cannot-enter",
                    f"{name}:{path}",
                    f"{account.name} owns {name}:{path} and cannot enter it; "
                    f"allow it, give {account.name} a virtual path that leads there, or change the owner",
                )


def _enters(prepared: Prepared, account: PreparedAccount, place: Place) -> bool:
    """Does a virtual path lead the account to a folder, or above it, that it can pass through to and enter?"""
    for served in prepared.namespace(account).served.values():
        store, top = served.place
        inside = store == place.store and (top in ("/", place.path) or place.path.startswith(top + "/"))
        if inside and served.ceiling & ENTER and can_pass(prepared.stores[store], top, place.path, account):
            return True
    return False


def _without_account(prepared: Prepared) -> Iterator[Unused]:
    """Folders in the place of somebody's own, of which there is no account."""
    holding: dict[Place, VirtualPath] = {}
    for vpath in prepared.model.virtual_paths:
        store, _, path = vpath.leads_to.partition(":")
        if path.startswith("/") and base(path) == "{account}" and not PLACEHOLDER.search(parent(path)):
            holding.setdefault(Place(store, parent(path)), vpath)
    names = {a.name for a in prepared.model.accounts}
    led_to = [a.home for a in prepared.model.accounts if a.home is not None]
    led_to += [Place(*v.leads_to.split(":", 1)) for v in prepared.model.virtual_paths if ":" in v.leads_to]
    used = {Place(place.store, above) for place in led_to for above in ancestors(place.path)}
    for place, vpath in holding.items():
        for folder in _folders_in(prepared, place):
            if base(folder.path) not in names and Place(place.store, folder.path) not in used:
                yield Unused(
                    "folder-without-account",
                    f"{place.store}:{folder.path}",
                    f"{place.store}:{folder.path} is where {vpath.path} leads an account of that name, "
                    "and there is none; archive the folder, or remove it",
                )


def _folders_in(prepared: Prepared, place: Place) -> list[Folder]:
    """The recorded folders directly in one."""
    below = prepared.stores[place.store].recorded_below(place.path)
    return [f for f in below if f.path != "/" and parent(f.path) == place.path]


def _grants_of_no_use(prepared: Prepared) -> Iterator[Unused]:
    for vpath in prepared.model.virtual_paths:
        for grant in vpath.grants:
            if prepared.people.number(grant.subject) < 0:
                continue  # a name that is there no more is told as that
            if grant.rights & ENTER and not _is_of_use(prepared, vpath, grant):
                yield Unused(
                    "grant-of-no-use",
                    vpath.path,
                    f"the grant `{grant}` on {vpath.path} lets nobody do anything: nobody whom it names is led to "
                    f"{vpath.leads_to} and can enter it; allow that in the folder, or remove the grant",
                )


def _is_of_use(prepared: Prepared, vpath: VirtualPath, grant: Grant) -> bool:
    """Can one of those whom a grant names enter the folder that the virtual path leads to? Else nothing can be done there."""
    people = prepared.people
    if "members" not in people.derived:
        people.derived["members"] = people.members()
    members: int = people.derived["members"].get(people.number(grant.subject), 0)
    for bit in bits_in(members):
        account = people.prepared(bit)
        served = prepared.namespace(account).served.get(vpath.path)
        if served is None or vpath not in served.sources:
            continue
        store, top = served.place
        if can_pass(prepared.stores[store], top, top, account):
            return True
    return False
