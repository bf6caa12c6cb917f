"""Findings about lines and folders of which somebody or something is gone, or which do nothing."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import replace
from typing import NamedTuple

from ..decide.folders import can_pass
from ..model.items import Grant, Store, VirtualPath
from ..model.placeholders import PLACEHOLDER
from ..prepared.people import People
from ..prepared.prepared import Prepared
from ..words.names import ancestors, base, parent, tree_key
from ..words.rights import BIT, ENTER, INDEX
from .access_map import access_of_all
from .division import bits_in

_ENTER = INDEX["enter"]


class Unused(NamedTuple):
    """A finding: its kind, what it is about, and a sentence with the remedy."""

    kind: str
    about: str
    text: str


def unused(prepared: Prepared) -> Iterator[Unused]:
    """Owners who cannot enter their folders, folders whose account is gone, and grants that let
    nobody do anything.
    """
    known = [_known_of(prepared, store) for store in prepared.model.stores]
    for store in known:
        yield from _owners_kept_out(store)
    for store in known:
        yield from _without_account(store)
    yield from _grants_of_no_use(prepared)


def _owners_kept_out(known: _Known) -> Iterator[Unused]:
    for path in sorted(known.kept_out, key=tree_key):
        owner, place = known.kept_out[path], f"{known.store.name}:{path}"
        yield Unused(
            "owner-cannot-enter",
            place,
            f"{owner} owns {place} and cannot enter it; "
            f"allow it, give {owner} a virtual path that leads there, or change the owner",
        )


def _without_account(known: _Known) -> Iterator[Unused]:
    for path in sorted(known.without_account, key=tree_key):
        place = f"{known.store.name}:{path}"
        yield Unused(
            "folder-without-account",
            place,
            f"{place} is where {known.without_account[path]} leads an account of that name, "
            "and there is none; archive the folder, or remove it",
        )


# --- what is found in a store -------------------------------------------------------------------


class _Known(NamedTuple):
    """What was found in a store, by what of the model.

    `kept_out` are the folders whose owner, which is the value, enters them at no location;
    `without_account` those in the place of somebody's own of whom there is no account, with the
    virtual path that would lead there.
    """

    store: Store
    virtual_paths: tuple[VirtualPath, ...]
    kept_out: dict[str, str]
    without_account: dict[str, str]


def _known_of(prepared: Prepared, store: Store) -> _Known:
    """What there is to be found in a store; kept with the people, and looked for anew only where
    folders are others.
    """
    key, virtual_paths = f"unused in {store.name}", prepared.model.virtual_paths
    people = prepared.people
    known, others = people.derived.get(key), set[str]()
    if known is None and "members" in people.derived_before:
        known, others = people.derived_before.get(key), _in_changed_groups(people)
    nothing = _Known(replace(store, folders=()), virtual_paths, {}, {})
    if (
        not isinstance(known, _Known)
        or replace(known.store, folders=()) != nothing.store
        or known.virtual_paths != virtual_paths
    ):
        known = nothing
    changed, come = _changed(known.store, store)
    if changed or key not in people.derived:

        def to_ask(path: str, owner: str) -> bool:
            return owner in others or not changed.isdisjoint(ancestors(path))

        owned = (
            (f.path, f.owner)
            for f in store.folders
            if f.owner is not None and f.owner in people.index
        )
        asked = {path: owner for path, owner in owned if to_ask(path, owner)}
        kept_out = {
            path: owner for path, owner in known.kept_out.items() if not to_ask(path, owner)
        }
        without = {
            path: leading for path, leading in known.without_account.items() if path not in changed
        }
        kept_out |= _who_is_kept_out(prepared, store.name, asked)
        without |= _whose_account_is_gone(prepared, store.name, come)
        known = _Known(store, virtual_paths, kept_out, without)
        people.derived[key] = known
    return known


def _in_changed_groups(people: People) -> set[str]:
    """The accounts that are, or were, in a group that has other members: everybody else counts as
    what they did.
    """
    before = people.derived_before["members"]
    if "members" not in people.derived:
        people.derived["members"] = people.members()
    now = people.derived["members"]
    found = 0
    for group in people.changed_groups:
        number = people.number(group)
        found |= before.get(number, 0) | now.get(number, 0)
    return {people.accounts[bit].name for bit in bits_in(found)}


def _changed(before: Store, after: Store) -> tuple[set[str], list[str]]:
    """The paths of folders that are not the very same in both, and of those the ones that there are
    afterwards.
    """
    if len(before.folders) == len(after.folders):
        gone, come = [], []
        for a, b in zip(before.folders, after.folders, strict=True):
            if a is not b:
                gone.append(a.path)
                come.append(b.path)
    else:
        was, now = ({id(f) for f in store.folders} for store in (before, after))
        gone = [f.path for f in before.folders if id(f) not in now]
        come = [f.path for f in after.folders if id(f) not in was]
    return {*gone, *come}, come


def _who_is_kept_out(prepared: Prepared, store: str, owners: Mapping[str, str]) -> dict[str, str]:
    """Those of some owned folders that their owners enter at no location."""
    if not owners:
        return {}
    let_in = set()
    for cell in access_of_all(prepared).restricted(BIT["enter"]).cells({store: list(owners)}):
        entering = cell.members & (cell.plain[_ENTER] | cell.owning[_ENTER])
        if entering >> prepared.people.index[owners[cell.path]] & 1:
            let_in.add(cell.path)
    return {path: owner for path, owner in owners.items() if path not in let_in}


def _whose_account_is_gone(prepared: Prepared, store: str, paths: Iterable[str]) -> dict[str, str]:
    """Those of some folders that are where ``{account}`` leads, while there is no account of the
    name, and nothing leads there.
    """
    leading: dict[str, str] = {}
    for vpath in prepared.model.virtual_paths:
        of_store, _, path = vpath.leads_to.partition(":")
        own = (
            path.startswith("/")
            and base(path) == "{account}"
            and not PLACEHOLDER.search(parent(path))
        )
        if own and of_store == store:
            leading.setdefault(parent(path), vpath.path)
    found = {}
    for path in paths if leading else ():
        above = parent(path)
        if path != "/" and above in leading and base(path) not in prepared.people.index:
            found[path] = leading[above]
    if found:
        led_to = [
            a.home.path
            for a in prepared.model.accounts
            if a.home is not None and a.home.store == store
        ]
        led_to += [
            path
            for of, _, path in (v.leads_to.partition(":") for v in prepared.model.virtual_paths)
            if of == store
        ]
        for path in led_to:
            for above in ancestors(path) if path.startswith("/") else ():
                found.pop(above, None)
    return found


def _grants_of_no_use(prepared: Prepared) -> Iterator[Unused]:
    for vpath in prepared.model.virtual_paths:
        for grant in vpath.grants:
            if prepared.people.number(grant.subject) < 0:
                continue  # a name that is there no more is told as that
            if grant.rights & ENTER and not _is_of_use(prepared, vpath, grant):
                yield Unused(
                    "grant-of-no-use",
                    vpath.path,
                    f"the grant `{grant}` on {vpath.path} lets nobody do anything: nobody whom it"
                    f" names is led to {vpath.leads_to} and can enter it; allow that in the folder,"
                    " or remove the grant",
                )


def _is_of_use(prepared: Prepared, vpath: VirtualPath, grant: Grant) -> bool:
    """Can one of those whom a grant names enter the folder that the virtual path leads to?

    Else nothing can be done there.
    """
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
