"""Drift: where what the server lets and what the disk lets are not the same (docs/rules.md, "The
disk").
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import NamedTuple

from ..decide.disk_gate import disk_gate, disk_obstacles, quick_disk, taken_on
from ..disk.one_object import ROOT, line
from ..disk.read_folders import ASKED_FOR, Disk, file_created_in
from ..model.disk import READ, STICKY, WRITE, ThingOnDisk
from ..prepared.needs import locate
from ..prepared.people import PreparedAccount
from ..prepared.prepared import Prepared
from ..prepared.question import Question
from ..words.names import Place, child, parent, tree_key
from ..words.rights import FILE_RIGHTS, INDEX, RIGHTS
from ..words.sizes import number_of
from .access_map import AccessMap
from .cell import Cell
from .disk_sets import DiskSets
from .effective import right_obstacles

#: After so many folders of accounts no further account is compared.
MOST_FOLDERS = 100_000


#: What is done to a folder itself, besides the rights that are about a folder alone: with the
#: action that is asked.
ON_FOLDERS = {"rename-folder": "rename", "set-folder-attributes": "set-attributes"}


class Partly(NamedTuple):
    """A right that the server lets on the files of a folder, and that the disk refuses on some of
    them.
    """

    right: str
    refused: int
    files: int


class Drift(NamedTuple):
    """One folder for one account: what the server lets and the disk refuses, and what the disk lets
    and the server does not.

    `reason` is what the disk says of the first right that it refuses, `server` what the server says
    of the first that only the disk lets. So many folders `below` it are the same, or cannot be come
    to by it. Where files of the folder differ, `partly` has what is refused on some of them only.
    """

    account: str
    acts_as: str
    location: str
    place: Place
    refused: tuple[str, ...]
    wider: tuple[str, ...]
    reason: str | None
    server: str | None = None
    below: int = 0
    partly: tuple[Partly, ...] = ()


class DriftFound(NamedTuple):
    """The drift of one store, by account in the order of the model, and what was not compared, in
    words.
    """

    rows: tuple[Drift, ...]
    #: So many accounts, and so many folders of theirs, were compared.
    accounts: int
    folders: int
    left_out: tuple[str, ...]
    #: Who owns something there and no account acts as, with how many folders that are listed, and
    #: files.
    owners: tuple[tuple[str, int, int], ...] = ()


def drift(
    prepared: Prepared,
    store: str,
    only: list[str] | None = None,
    fold_rows: bool = True,
    most: int | None = None,
) -> DriftFound:
    """The drift of a store whose disk was read: of all accounts, or only of some; folded, or every
    folder by itself.

    Folders are those that are recorded or that the reading lists. Where several accounts act as one
    user, the disk cannot tell them apart, and what is wider for them is not told. Of files, the
    disk refuses where it does for all that it has there; where the server tells one's own from
    others', they are held apart here, too. After `most` folders of accounts, or MOST_FOLDERS, no
    further account is compared, and that is said.
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
    paths = listed | {f.path for f in prepared.stores[store].store.folders}
    paths = {path for path in paths if disk.unknown_at(path) is None}
    rows: list[Drift] = []
    folders = accounts = 0
    sets = DiskSets(prepared, store, range(len(prepared.people.accounts)))
    asked = {name: user for name, user in taken.items() if only is None or name in only}
    for name, user in asked.items():
        if folders > (MOST_FOLDERS if most is None else most):
            break
        accounts += 1
        who = _prepared(prepared, name)
        cells = [
            c
            for c in AccessMap(prepared, [who.index]).cells({store: sorted(paths)})
            if c.members and c.segment
        ]
        folders += len(cells)
        compared = (
            _compare(prepared, who, user, cell, shared[user] > 1, sets) for cell in _in_order(cells)
        )
        found_here = (x for x in compared if x is not None)
        rows += (
            _in_words(prepared, row) for row in (folded(found_here) if fold_rows else found_here)
        )
    left = disk.unknown_in_words()
    if accounts < len(asked):
        left.append(
            f"{len(asked) - accounts:,} more accounts were not compared: ask for one of them"
        )
    if without and only is None:
        left.append(
            f"of {len(without)} of {number_of(len(prepared.model.accounts), 'account')} it is not"
            " known whom a server takes on: set acts_as"
        )
    if several := sorted(user for user, count in shared.items() if count > 1):
        left.append(
            f"several accounts act as {', '.join(several)}: what the disk lets them besides is not"
            " told"
        )
    return DriftFound(
        tuple(rows), accounts, folders, tuple(left), _nobodys(disk, set(taken.values()))
    )


def _nobodys(disk: Disk, acted_as: set[str]) -> tuple[tuple[str, int, int], ...]:
    """The owners, but for user 0, that no account acts as."""
    known = {u.uid for u in disk.reading.users if u.name in acted_as} | {ROOT}
    folders: Counter[int] = Counter(f.thing.uid for f in disk.reading.folders)
    files: Counter[int] = Counter()
    for some in disk.reading.files:
        files[some.thing.uid] += some.number
    return tuple(
        (disk.called(uid), folders[uid], files[uid])
        for uid in sorted((folders | files).keys() - known)
    )


def _prepared(prepared: Prepared, name: str) -> PreparedAccount:
    found = prepared.account(name)
    assert found is not None
    return found


def _in_order(cells: list[Cell]) -> list[Cell]:
    return sorted(cells, key=lambda cell: tree_key(cell.location))


def _compare(
    prepared: Prepared,
    account: PreparedAccount,
    user: str,
    cell: Cell,
    shared: bool,
    sets: DiskSets,
) -> Drift | None:
    """One folder of one account; None where both say the same."""
    place = cell.place
    assert place is not None
    both = _Both(prepared, account, place, cell, sets)
    refused, wider = [], []
    for right in (*RIGHTS, *ON_FOLDERS):
        asked = both.of_the_folder(right) if right in ON_FOLDERS else both.asked(right)
        if any(server and not disk for server, disk in asked):
            refused.append(right)
        if not shared and any(disk and not server for server, disk in asked):
            wider.append(right)
    partly = tuple(_partly(account, cell, sets, refused))
    if not refused and not wider and not partly:
        return None
    return Drift(
        account.name, user, cell.location, place, tuple(refused), tuple(wider), None, partly=partly
    )


class _Both:
    """What the server and the disk answer an account about one folder."""

    def __init__(
        self, prepared: Prepared, account: PreparedAccount, place: Place, cell: Cell, sets: DiskSets
    ) -> None:
        self._prepared, self._account, self._place, self._cell = prepared, account, place, cell
        self._sets = sets
        self._there = sets.at(place.path)
        self._is_unknown = place.path in sets.disk.unknown
        has_files = bool(sets.disk.files(place.path))
        self._created = None if has_files else _on_created(prepared, account, place, sets)
        self._files: _Files | None = None

    def asked(self, right: str) -> list[tuple[bool, bool]]:
        """The answers to a right, each as (server, disk); several where they are about different
        files, none where not asked.
        """
        number = INDEX[right]
        if self._place.path == "/" and right == "delete-folder":
            return []
        if self._is_unknown and right not in ("enter", "list", "delete-folder"):
            return []
        on_others, on_own = (
            bool(sides[number] & 1) for sides in (self._cell.plain, self._cell.owning)
        )
        if right not in FILE_RIGHTS:
            return [(on_others, self._disk(number))]
        if self._created is not None:
            return [(on_others, self._created[right])] if right in self._created else []
        if on_others == on_own:
            return [(on_others, self._disk(number))]
        # The server tells its own files from others': of each, the disk is asked apart.
        if self._files is None:
            self._files = _Files(self._prepared, self._account, self._place, self._cell.location)
        sides = ((on_others, self._files.others), (on_own, self._files.own))
        return [(server, self._files.let(right, some)) for server, some in sides if some]

    def of_the_folder(self, right: str) -> list[tuple[bool, bool]]:
        """The answers to renaming the folder, or setting its attributes; none where the root of the
        store is to be renamed.
        """
        action, place = ON_FOLDERS[right], self._place
        if place.path == "/" and action == "rename":
            return []
        if action == "rename":
            disk = self._disk(
                INDEX["delete-folder"]
            )  # either takes it from the folder that holds it
        else:
            disk = bool(self._sets.setting_attributes(place.path) >> self._account.index & 1)
        return [(is_modelled(self._prepared, self._account, self._cell.location, action), disk)]

    def _disk(self, number: int) -> bool:
        return bool(self._there[number] >> self._account.index & 1)


def _on_created(
    prepared: Prepared, account: PreparedAccount, place: Place, sets: DiskSets
) -> dict[str, bool]:
    """What the disk lets an account do with a file that somebody else will create in a folder in
    which there is none.
    """
    folder, there, bit = sets.disk.folder(place.path), sets.at(place.path), account.index
    file = _created(prepared, place)
    come = there[INDEX["enter"]] >> bit & 1
    taking = there[INDEX["upload"]] & (
        sets.owning(folder) if folder.mode & STICKY else sets.everybody
    )
    may = {
        right: bool(come and sets.lets(file, wanted) >> bit & 1)
        for right, wanted in _OF_A_FILE.items()
    }
    return may | dict.fromkeys(("rename", "delete-file"), bool(taking >> bit & 1))


#: What is asked of each file by itself.
_OF_A_FILE = {"download": READ, "overwrite": WRITE, "append": WRITE}


def _partly(
    account: PreparedAccount, cell: Cell, sets: DiskSets, refused: list[str]
) -> Iterator[Partly]:
    """The rights that the server lets on files of a folder, and the disk on some of them only."""
    assert cell.place is not None
    files = sets.disk.files(cell.place.path)
    if len(files) < 2:
        return
    for right in FILE_RIGHTS:
        number = INDEX[right]
        if right in refused:
            continue
        asked = missing = 0
        for some in files:
            is_own = sets.owning(some.thing) >> account.index & 1
            if (cell.owning if is_own else cell.plain)[number] & 1:
                asked += some.number
                allowed = _allowed_on(some.thing, right, sets.disk.folder(cell.place.path), sets)
                missing += 0 if allowed >> account.index & 1 else some.number
        if missing:
            yield Partly(right, missing, asked)


def _allowed_on(file: ThingOnDisk, right: str, folder: ThingOnDisk, sets: DiskSets) -> int:
    """Whom the disk allows a right on one file, as far as that is about the file: in a sticky
    folder its owner takes it away.
    """
    if right in _OF_A_FILE:
        return sets.lets(file, _OF_A_FILE[right])
    if right == "set-attributes":
        return sets.owning(file)
    return sets.owning(folder) | sets.owning(file) if folder.mode & STICKY else sets.everybody


def _in_words(prepared: Prepared, row: Drift) -> Drift:
    """The row with what the disk says of the first right that it refuses, and the server of the
    first that only the disk lets.
    """
    account = _prepared(prepared, row.account)
    reason = server = None
    if row.refused and row.refused[0] in ON_FOLDERS:
        question = Question(account.name, ON_FOLDERS[row.refused[0]], row.location, thing="folder")
        sites = locate(prepared.namespace(account), question)
        reason = next((x.text for x in disk_gate(prepared, account, question, sites)), None)
    elif row.refused:
        # Where only its own files are refused, or only others', all of them together may be let.
        things = [
            None,
            *map(str, (x.thing for x in prepared.disks[row.place.store].files(row.place.path))),
        ]
        obstacles = (
            next(
                disk_obstacles(prepared, account, row.refused[0], row.place, row.location, x), None
            )
            for x in things
        )
        reason = next((x.text for x in obstacles if x is not None), None)
        if reason is None:
            reason = _why_not_created(prepared, account, row)
    if row.wider:
        server = why_not(prepared, account, row.location, row.wider[0])
    return row._replace(reason=reason, server=server)


def _why_not_created(prepared: Prepared, account: PreparedAccount, row: Drift) -> str | None:
    """What the disk has against a right on a file that somebody else will create in a folder in
    which there is none.
    """
    taken = taken_on(prepared, account, row.place.store)
    right = row.refused[0]
    if taken is None or taken.user is None:
        return None
    if right not in _OF_A_FILE:
        return (
            f"{row.place} is sticky: only the owner of a file or of the folder can rename or"
            " delete it"
        )
    file = _created(prepared, row.place)
    why = line(taken.user, file, _OF_A_FILE[right], taken.disk.group)
    done = {"download": "read", "overwrite": "overwrite", "append": "append to"}[right]
    return (
        f"{account.name} (user {taken.user.uid}) cannot {done} files that others create in"
        f" {row.place}: {why}"
    )


def _created(prepared: Prepared, place: Place) -> ThingOnDisk:
    """A file that somebody will create in a folder."""
    asked = prepared.stores[place.store].store.creation_mode or ASKED_FOR
    return file_created_in(prepared.disks[place.store].folder(place.path), int(asked.split()[0], 8))


def is_modelled(prepared: Prepared, account: PreparedAccount, location: str, action: str) -> bool:
    """Does the server allow what is done to the folder at a location itself: ``rename``, or
    ``set-attributes``?
    """
    return (
        next(right_obstacles(prepared, account, location, action, False, on_folder=True), None)
        is None
    )


def why_not(prepared: Prepared, account: PreparedAccount, location: str, right: str) -> str | None:
    """What the server has against a right: on others' files, or where it allows that on one's own;
    or on the folder itself.
    """
    on_folder = right in ON_FOLDERS
    action = ON_FOLDERS.get(right, right)
    for own in (False, True) if action in FILE_RIGHTS and not on_folder else (False,):
        obstacles = right_obstacles(
            prepared, account, location, action, own, with_sentences=True, on_folder=on_folder
        )
        found = next(obstacles, None)
        if found is not None:
            return found.text
    return None


class _Files:
    """The files of one folder, one's own and others', and what the disk lets an account do with
    them.
    """

    def __init__(
        self, prepared: Prepared, account: PreparedAccount, place: Place, location: str
    ) -> None:
        self._prepared, self._account, self._place, self._location = (
            prepared,
            account,
            place,
            location,
        )
        taken = taken_on(prepared, account, place.store)
        assert taken is not None
        self._taken = taken
        uid = None if taken.user is None else taken.user.uid
        files = [x.thing for x in taken.disk.files(place.path)]
        self.own, self.others = (
            [x for x in files if x.uid == uid],
            [x for x in files if x.uid != uid],
        )

    def let(self, right: str, files: list[ThingOnDisk]) -> bool:
        """Does the disk let it with any of some files?"""
        user, place = self._taken.user, self._place
        if right == "set-attributes":
            owns = user is not None and any(user.uid in (ROOT, thing.uid) for thing in files)
            return owns and user is not None and self._taken.disk.can_come_to(user, place.path)
        # To rename a file away asks of its folder what deleting it asks.
        action = "delete-file" if right == "rename" else right
        at = child(place.path, "x")
        questions = (
            Question(self._account.name, action, self._location, combination=str(thing))
            for thing in files
        )
        return any(
            quick_disk(self._prepared, self._account, place.store, q, at) is None for q in questions
        )


def folded(rows: Iterator[Drift]) -> list[Drift]:
    """A folder that is as the one above it is only counted there; so is one below what cannot be
    entered.
    """
    found: list[Drift] = []
    last: dict[str, int] = {}
    for row in rows:
        above = last.get(parent(row.location)) if row.location != "/" else None
        if above is not None and (
            (found[above].refused, found[above].wider, found[above].partly)
            == (row.refused, row.wider, row.partly)
            or ("enter" in found[above].refused and not row.wider)
        ):
            found[above] = found[above]._replace(below=found[above].below + 1)
            last[row.location] = above
        else:
            last[row.location] = len(found)
            found.append(row)
    return found
