"""Drift: where what the server lets and what the disk lets are not the same (docs/rules.md, "The disk")."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

from ..decide.disk_gate import disk_gate, quick_disk, taken_on
from ..prepared.namespace import Location
from ..prepared.needs import Sites
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Question
from ..words.names import Place, child, parent, tree_key
from ..words.rights import FILE_RIGHTS, RIGHTS
from ..words.sizes import number_of
from .access_map import AccessMap, Cell

#: After so many folders of accounts no further account is compared.
MOST_FOLDERS = 100_000
#: What acts on a folder itself, by how the question is asked.
_INSIDE = {"upload", "make-folder"}


class Drift(NamedTuple):
    """One folder for one account: what the server lets and the disk refuses, and what the disk lets and the server does not.

    `reason` is what the disk says of the first right that it refuses. So many folders `below` it are the same, or cannot
    be come to by it.
    """

    account: str
    acts_as: str
    location: str
    place: Place
    refused: tuple[str, ...]
    wider: tuple[str, ...]
    reason: str | None
    below: int = 0


class Found(NamedTuple):
    """The drift of one store, by account in the order of the model, and what was not compared, in words."""

    rows: tuple[Drift, ...]
    #: So many accounts, and so many folders of theirs, were compared.
    accounts: int
    folders: int
    left_out: tuple[str, ...]


def drift(prepared: Prepared, store: str, only: list[str] | None = None) -> Found:
    """The drift of a store whose disk was read: of all accounts, or only of some.

    Folders are those that are recorded or that the reading lists. Where several accounts act as one user, the disk
    cannot tell them apart, and what is wider for them is not told. Of files the rights are those on others' files or
    one's own; the disk refuses them where it does for all files that it has there.
    """
    taken: dict[str, str] = {}
    without: list[str] = []
    for account in prepared.model.accounts:
        found = taken_on(prepared, _prepared(prepared, account.name), store)
        if found is None:
            without.append(account.name)
        else:
            taken[account.name] = found.name
    shared = Counter(taken.values())
    disk = prepared.disks[store]
    listed = {f.path for f in disk.reading.folders} | {f.path for f in disk.reading.files}
    paths = sorted(listed | {f.path for f in prepared.stores[store].store.folders})
    rows: list[Drift] = []
    folders = accounts = 0
    asked = {name: user for name, user in taken.items() if only is None or name in only}
    for name, user in asked.items():
        if folders > MOST_FOLDERS:
            break
        accounts += 1
        who = _prepared(prepared, name)
        cells = [c for c in AccessMap(prepared, [who.index]).cells({store: paths}) if c.members and c.segment]
        folders += len(cells)
        told = (_compare(prepared, who, user, cell, shared[user] > 1) for cell in _in_order(cells))
        rows += _folded(x for x in told if x is not None)
    left = []
    if accounts < len(asked):
        left.append(f"{len(asked) - accounts:,} more accounts were not compared: ask for one of them")
    if without and only is None:
        left.append(
            f"of {len(without)} of {number_of(len(prepared.model.accounts), 'account')} it is not known whom a server takes on: set acts_as"
        )
    if several := sorted(user for user, count in shared.items() if count > 1):
        left.append(f"several accounts act as {', '.join(several)}: what the disk lets them besides is not told")
    return Found(tuple(rows), accounts, folders, tuple(left))


def _prepared(prepared: Prepared, name: str) -> PreparedAccount:
    found = prepared.account(name)
    assert found is not None
    return found


def _in_order(cells: list[Cell]) -> list[Cell]:
    return sorted(cells, key=lambda cell: tree_key(cell.location))


def _compare(prepared: Prepared, account: PreparedAccount, user: str, cell: Cell, shared: bool) -> Drift | None:
    """One folder of one account; None where both say the same."""
    place = cell.place
    assert place is not None
    refused, wider, reason = [], [], None
    plain, owning = cell.plain, cell.owning
    at_top = place.path == "/"
    for number, right in enumerate(RIGHTS):
        if at_top and right in ("delete-folder", "rename"):
            continue
        if right in FILE_RIGHTS and not prepared.disks[place.store].files(place.path):
            continue
        lets = bool((plain[number] | owning[number]) & 1)
        if not lets and shared:
            continue
        refuses = _refuses(prepared, account, place, cell.location, right)
        if lets and refuses:
            refused.append(right)
            reason = reason or next(_on_disk(prepared, account, place, cell.location, right))
        elif not lets and not refuses:
            wider.append(right)
    if not refused and not wider:
        return None
    return Drift(account.name, user, cell.location, place, tuple(refused), tuple(wider), reason)


def _refuses(prepared: Prepared, account: PreparedAccount, place: Place, location: str, right: str) -> bool:
    """Does the disk refuse a right at a folder? Where that is quick to know, without a sentence."""
    if right in ("rename", "set-attributes"):
        return next(_on_disk(prepared, account, place, location, right), None) is not None
    inside = right in _INSIDE or right in FILE_RIGHTS
    at = child(place.path, "x") if inside else place.path
    return quick_disk(prepared, account, place.store, Question(account.name, right, location), at) is not None


def _on_disk(prepared: Prepared, account: PreparedAccount, place: Place, location: str, right: str) -> Iterator[str]:
    """What the disk has against a right at a folder."""
    inside = right in _INSIDE or right in FILE_RIGHTS
    at = Place(place.store, child(place.path, "x")) if inside else place
    path = child(location, "x") if inside else location
    thing = "file" if right in FILE_RIGHTS else "folder"
    question = Question(account.name, right, path, thing=thing)
    sites = Sites(Location(path, None, at, False, None), None, False)
    yield from (x.text for x in disk_gate(prepared, account, question, sites))


def _folded(rows: Iterator[Drift]) -> list[Drift]:
    """A folder that is as the one above it is only counted there; so is one below what cannot be entered."""
    found: list[Drift] = []
    last: dict[str, int] = {}
    for row in rows:
        above = last.get(parent(row.location)) if row.location != "/" else None
        if above is not None and (found[above][4:6] == row[4:6] or ("enter" in found[above].refused and not row.wider)):
            found[above] = found[above]._replace(below=found[above].below + 1)
            last[row.location] = above
        else:
            last[row.location] = len(found)
            found.append(row)
    return found
