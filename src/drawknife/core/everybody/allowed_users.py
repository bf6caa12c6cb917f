"""What the model allows each user of a disk, folder by folder: what a plan makes lists of.

Folders that the reading lists, that have files, or that the model records are known one by one, and
those above them. All others lie below one of these and are known by how many levels.
"""

from __future__ import annotations

from collections.abc import Iterator

from ..decide.disk_gate import taken_on
from ..disk.planned_list import Machine, WantedAccess
from ..disk.read_folders import Disk
from ..model.disk import READ, SEARCH, WRITE
from ..prepared.prepared import Prepared
from ..words.names import ancestors, parent, tree_key
from ..words.rights import INDEX
from .access_map import AccessMap
from .cell import Cell
from .closed_form import COUNT

_CHANGING = tuple(INDEX[r] for r in ("upload", "make-folder", "rename", "delete-file"))
_TAKING = tuple(INDEX[r] for r in ("rename", "delete-file"))
_WRITING = tuple(INDEX[r] for r in ("overwrite", "append"))
_ENTER, _LIST, _DOWNLOAD, _DELETE_FOLDER = (
    INDEX[r] for r in ("enter", "list", "download", "delete-folder")
)


class AllowedUsers:
    """What the model allows the users of one store's disk at each known folder and below it.

    `there` are the folders that are on the disk for certain, `known` all that are known one by one,
    in tree order. `bits` has the accounts of each user, as a set of account indices.
    """

    def __init__(self, prepared: Prepared, store: str) -> None:
        self._prepared, self._store = prepared, store
        self._disk: Disk = prepared.disks[store]
        self.machine = Machine(self._disk.reading.users)
        self.bits = self._accounts_of_users()
        self.there = self._certain_folders()
        recorded = self._recorded_folders()
        if self._disk.reading.complete:
            empty = {up for path in self._disk.reading.empty for up in ancestors(path)}
            recorded &= self.there | empty
            self.there |= {up for path in recorded for up in ancestors(path)}
        above_recorded = {up for path in recorded for up in ancestors(path)}
        self.known = sorted(self.there | above_recorded, key=tree_key)
        self._order = {path: at for at, path in enumerate(self.known)}
        self._sets = self._gathered()
        self._passing = self._through()
        self._wanted: dict[tuple[str, int], WantedAccess] = {}

    def _accounts_of_users(self) -> dict[int, int]:
        bits: dict[int, int] = {}
        people = self._prepared.people
        for index in range(len(people.accounts)):
            taken = taken_on(self._prepared, people.prepared(index), self._store)
            if taken is None or taken.user is None or taken.user.uid not in self.machine.users:
                continue
            bits[taken.user.uid] = bits.get(taken.user.uid, 0) | 1 << index
        return bits

    def _certain_folders(self) -> set[str]:
        reading = self._disk.reading
        paths = {f.path for f in reading.folders} | {f.path for f in reading.files}
        paths |= self._disk.unknown.keys()
        return {up for path in paths for up in ancestors(path)}

    def _recorded_folders(self) -> set[str]:
        """Folders that the model records, but not absent or unknown ones."""
        absent = set(self._disk.reading.absent)
        return {
            f.path
            for f in self._prepared.stores[self._store].store.folders
            if absent.isdisjoint(ancestors(f.path)) and self._disk.unknown_at(f.path) is None
        }

    def is_known(self, path: str) -> bool:
        return path in self._order

    def nearest(self, path: str) -> tuple[str, int]:
        """The known folder that a folder is, or lies below, and how many levels, two for all that
        is deeper.
        """
        level = 0
        while not self.is_known(path):
            path, level = parent(path), level + 1
        return path, min(level, 2)

    def _gathered(self) -> dict[str, list[tuple[list[int], list[int]]]]:
        """For each known folder, and one, two and three levels below it: who has each right, on
        others' things and on own ones.
        """
        found: dict[str, list[tuple[list[int], list[int]]]] = {}
        self._members: dict[str, int] = {}
        cells: Iterator[Cell] = AccessMap(self._prepared).cells({self._store: self.known})
        for cell in cells:
            if cell.segment is None:
                continue
            self._members[cell.path] = self._members.get(cell.path, 0) | cell.members
            at = found.setdefault(cell.path, [([0] * COUNT, [0] * COUNT) for _ in range(4)])
            below = (cell.below(1), cell.below(2), cell.below(3))
            for level, (plain, owning) in enumerate(((cell.plain, cell.owning), *below)):
                for r in range(COUNT):
                    at[level][0][r] |= plain[r]
                    at[level][1][r] |= owning[r]
        return found

    def _through(self) -> dict[str, int]:
        """Who has something at a folder or below it, and so has to pass through."""
        found: dict[str, int] = {}
        for path in reversed(self.known):
            some = found.get(path, 0)
            for plain, owning in self._sets.get(path, ())[:1]:
                for sets in (plain, owning):
                    for bits in sets:
                        some |= bits
            found[path] = some
            if path != "/":
                found[parent(path)] = found.get(parent(path), 0) | some
        return found

    def wanted(self, path: str, level: int) -> WantedAccess:
        """What users are to be let do at a known folder, or so many levels (one, or two for all
        deeper) below it.
        """
        key = (path, level)
        if key not in self._wanted:
            self._wanted[key] = self._work_out(path, level)
        return self._wanted[key]

    def _work_out(self, path: str, level: int) -> WantedAccess:
        nothing = [([0] * COUNT, [0] * COUNT)] * 4
        sets = self._sets.get(path, nothing)
        plain, owning = sets[level]
        enters = plain[_ENTER] | (self._passing.get(path, 0) if level == 0 else 0)
        changes = self._any(plain, owning, _CHANGING)
        for below in self.children(path) if level == 0 else ():
            changes |= self._sets.get(below, nothing)[0][0][_DELETE_FOLDER]
        changes |= sets[level + 1][0][_DELETE_FOLDER]
        taking = self._any(plain, plain, _TAKING)
        folder, files, own, takers, passing, shut = {}, {}, {}, set(), [], set()
        # Who passes the folder above, by what lies on some other way from there.
        beside = (
            self._passing.get(parent(path) if level == 0 and path != "/" else path, 0)
            if level < 2
            else 0
        )
        for uid, bits in self.bits.items():
            if not self._members.get(path, 0) & bits:
                passing += [uid] if enters & bits else []
                if (enters | beside) & bits and not self._disk.can_come_to(
                    self.machine.users[uid], path
                ):
                    shut.add(uid)
                continue
            p = READ if plain[_LIST] & bits else 0
            p |= WRITE | SEARCH if changes & bits else 0
            folder[uid] = p | (SEARCH if (enters | plain[_LIST]) & bits else 0)
            files[uid] = self._on_files(plain, bits)
            own[uid] = self._on_files(owning, bits) | files[uid]
            if taking & bits:
                takers.add(uid)
        sticky = frozenset(takers) if changes else None
        return WantedAccess(folder, files, own, sticky, tuple(passing), frozenset(shut))

    @staticmethod
    def _any(plain: list[int], owning: list[int], rights: tuple[int, ...]) -> int:
        found = 0
        for r in rights:
            found |= plain[r] | owning[r]
        return found

    @staticmethod
    def _on_files(sets: list[int], bits: int) -> int:
        p = READ if sets[_DOWNLOAD] & bits else 0
        return p | (WRITE if any(sets[r] & bits for r in _WRITING) else 0)

    def children(self, path: str) -> Iterator[str]:
        """The known folders directly in one: those above a known folder are known, too."""
        return (below for below in self._known_below(path) if parent(below) == path)

    def _known_below(self, path: str) -> Iterator[str]:
        at = self._order[path] + 1
        key = tree_key(path) + "\x00"
        while at < len(self.known) and (path == "/" or tree_key(self.known[at]).startswith(key)):
            yield self.known[at]
            at += 1
