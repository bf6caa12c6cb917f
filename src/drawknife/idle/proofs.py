"""Quick proof that a part of a model has an effect: one account that could do something else
without it.

What is not proven here may still have an effect: :mod:`taking_away` then holds two models against
each other.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from itertools import islice
from typing import Any

from drawknife.core.decide.folders import decide
from drawknife.core.everybody.division import bits_in
from drawknife.core.everybody.effective import right_obstacles, right_state
from drawknife.core.follows.added_lines import Added
from drawknife.core.follows.no_effect import spoken_for
from drawknife.core.follows.pairing import members_of
from drawknife.core.model.items import Entry, Subject
from drawknife.core.prepared.people import PreparedAccount
from drawknife.core.prepared.prepared import Prepared
from drawknife.core.prepared.settings import resolve_all
from drawknife.core.prepared.stores import PreparedStore
from drawknife.core.words.names import Place, ancestors, parse_place
from drawknife.core.words.rights import BIT, FILE_RIGHTS, RIGHTS

#: So many of the accounts that a line names are asked, and at so many places.
ASKED, PLACES = 12, 3


def asked(prepared: Prepared, subject: Subject) -> list[PreparedAccount]:
    """A few of the accounts that a line names, from the first to the last."""
    people = prepared.people
    known = prepared.derived.setdefault("asked", {})
    assert isinstance(known, dict)
    if subject not in known:
        everybody = range(len(people.accounts))
        named = (
            everybody if subject.kind == "owner" else list(bits_in(members_of(prepared, [subject])))
        )
        known[subject] = [people.prepared(i) for i in named[:: -(-len(named) // ASKED) or 1]]
    found: list[PreparedAccount] = known[subject]
    return found


def entry_has_effect(prepared: Prepared, added: Added) -> bool:
    """Is a right let or refused by an entry that would be otherwise, where nothing else is in the
    way?
    """
    entry: Entry = added.line
    at = parse_place(added.name)
    ways: dict[Place, PreparedStore] = {}
    for account in asked(prepared, entry.subject):
        for location, place in spoken_for(prepared, account, at, entry.reach):
            if (without := ways.get(place)) is None:
                without = ways[place] = _way_without(prepared, place, at.path, entry)
            for right in RIGHTS:
                if entry.rights & BIT[right] and _differs(
                    prepared, without, account, location, place, right
                ):
                    return True
    return False


def is_felt(prepared: Prepared, without: Prepared, subject: Subject) -> bool:
    """Has one of those whom a subject stands for other settings, or other rights at a virtual path,
    in the model
    `without` something?
    """
    for account in asked(prepared, subject):
        other = without.people.prepared(account.index)
        if any(
            x.value != y.value
            for x, y in zip(
                resolve_all(prepared, account), resolve_all(without, other), strict=True
            )
        ):
            return True
        for path in prepared.namespace(account).served:
            if any(
                right_state(prepared, account, path, r) != right_state(without, other, path, r)
                for r in RIGHTS
            ):
                return True
        for place, entry in _speaking(prepared, account.who - other.who):
            for location, _ in islice(spoken_for(prepared, account, place, entry.reach), PLACES):
                rights = (r for r in RIGHTS if entry.rights & BIT[r])
                if any(
                    right_state(prepared, account, location, r)
                    != right_state(without, other, location, r)
                    for r in rights
                ):
                    return True
    return False


def _speaking(prepared: Prepared, subjects: Iterable[int]) -> list[tuple[Place, Entry]]:
    """A few of the entries that name some subjects, by their numbers."""
    if "entries of" not in prepared.derived:
        known: dict[int, list[tuple[Place, Entry]]] = {}
        prepared.derived["entries of"] = known
        for store in prepared.model.stores:
            for folder in store.folders:
                for entry in folder.entries:
                    some = known.setdefault(prepared.people.number(entry.subject), [])
                    if len(some) < ASKED:
                        some.append((Place(store.name, folder.path), entry))
    entries: Any = prepared.derived["entries of"]
    return [found for subject in subjects for found in entries.get(subject, ())]


def _differs(
    prepared: Prepared,
    without: PreparedStore,
    account: PreparedAccount,
    location: str,
    place: Place,
    right: str,
) -> bool:
    for own in (True, False) if right in FILE_RIGHTS else (None,):
        is_so = decide(prepared.stores[place.store], place.path, BIT[right], account, own)
        if is_so is not decide(without, place.path, BIT[right], account, own):
            obstacles = right_obstacles(prepared, account, location, right, bool(own))
            if all(o.gate == "folder" and o.reason == "refused" for o in obstacles):
                return True
    return False


def _way_without(prepared: Prepared, place: Place, at: str, entry: Entry) -> PreparedStore:
    """The folders from the store's root to a place, one without an entry."""
    store = prepared.stores[place.store].store
    folders = []
    for path in reversed(ancestors(place.path)):
        folder = prepared.stores[place.store].folder(path)
        if folder is not None:
            kept = tuple(e for e in folder.entries if path != at or e != entry)
            folders.append(replace(folder, entries=kept))
    return PreparedStore(replace(store, folders=tuple(folders)), prepared.people)
