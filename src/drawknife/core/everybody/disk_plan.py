"""A plan: the access control lists by which a disk lets what the model lets, as far as POSIX ACLs
can (docs/rules.md, "The disk").

Folders that the reading lists, that have files, or that the model records are planned one by one,
and those above them; all others lie under one of these, and are planned by how far. What lets the
same already is left as it is. Owners and groups stay. What the lists cannot say is not guessed: the
plan is asked as the disk would be, and every difference is told.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from ..disk.one_object import lets
from ..disk.plan_steps import PlanStep
from ..disk.planned_list import WantedAccess, permissions, plain_acl, planned
from ..disk.read_folders import ASKED_FOR, UNKNOWN, Disk, file_created_in, made_below
from ..model.disk import READ, SEARCH, STICKY, WRITE, FilesOnDisk, FolderOnDisk, ThingOnDisk
from ..prepared.prepared import Prepared
from ..words.names import UNRECORDED, child, parent
from ..words.sizes import several
from .allowed_users import AllowedUsers
from .drift import drift
from .planned_disk import Opened, Plan

#: What a plan cannot say is told whole, however much was compared.
ALL_OF_IT = 10**9


class DiskPlan:
    """The plan of one store whose disk was read: what each folder and file is to become."""

    def __init__(self, prepared: Prepared, store: str) -> None:
        self.prepared, self.store = prepared, store
        self.disk: Disk = prepared.disks[store]
        self.allowed = AllowedUsers(prepared, store)
        self.machine = self.allowed.machine
        self._folders: dict[tuple[str, int, ThingOnDisk], ThingOnDisk] = {}
        self._files: dict[tuple[str, ThingOnDisk], ThingOnDisk] = {}
        found = prepared.stores[store].store.creation_mode or ASKED_FOR
        self._asks = tuple(int(x, 8) for x in found.split())

    # --- what a thing is to become ---------------------------------------------------------------

    def folder(self, path: str, now: ThingOnDisk) -> ThingOnDisk:
        """What a folder of the store is to become."""
        if self.disk.unknown_at(child(path, UNRECORDED)) is not None:
            return (
                now  # below it there is something of which nothing is known, and it is not opened
            )
        at, level = self.allowed.nearest(path)
        key = (at, level, now)
        if key not in self._folders:
            self._folders[key] = self._folder(
                at, self.allowed.wanted(at, level), self.allowed.wanted(at, min(level + 1, 2)), now
            )
        return self._folders[key]

    def _folder(
        self, at: str, wanted: WantedAccess, below: WantedAccess, now: ThingOnDisk
    ) -> ThingOnDisk:
        """What a folder is to become that is known as `at`, or lies below that."""
        mode = now.mode
        if wanted.sticky is not None and any(
            p & WRITE for uid, p in wanted.folder.items() if uid != now.uid
        ):
            mode = mode & ~STICKY if wanted.sticky - {now.uid} else mode | STICKY
        new = now._replace(mode=mode)
        users = self.machine.users
        whole = {**wanted.folder, **self._without_way(wanted, now)}
        if not self._same(whole, now):
            new = planned(new, whole, self.machine)
        making = self._in_default_list(wanted, below)
        makers = {uid for uid, p in wanted.folder.items() if p & WRITE}
        more_make = any(
            not permissions(users[uid], now) & WRITE or not self.disk.can_come_to(users[uid], at)
            for uid in makers
        )
        group = now.gid if mode & 0o2000 else UNKNOWN
        made = self._made(now, group)
        making_there = {uid for uid, user in users.items() if permissions(user, new) & WRITE}
        of_unknown = self._least_of_groups(making_there, making) if group == UNKNOWN else None
        too_much = (
            more_make
            and made is not None
            and of_unknown is not None
            and _group_of(made) & ~of_unknown
        )
        if not too_much and self._is_default_enough(made, making, makers, more_make):
            return new
        # Of what is not known to be let now, nothing is let to users who are no account.
        base = made or ThingOnDisk(UNKNOWN, group, mode & 0o2000 | 0o700)
        found = planned(base, making, self.machine, default=True, of_unknown=of_unknown)
        return new._replace(default=found.acl or plain_acl(found.mode))

    def _without_way(self, wanted: WantedAccess, now: ThingOnDisk) -> dict[int, int]:
        """What users have at a folder to which nothing leads them: what they had, but for those who
        come so far only now.
        """
        found = {uid: 0 for uid in wanted.shut if uid != now.uid}
        for uid in wanted.passing:
            found[uid] = found.get(uid, permissions(self.machine.users[uid], now)) | SEARCH
        return found

    def _is_default_enough(
        self, made: ThingOnDisk | None, making: dict[int, int], makers: set[int], more_make: bool
    ) -> bool:
        """Does a folder need no other default list than it has, or none at all?

        Whoever can create things there only now gets one: what the umask would give was never given
        there before.
        """
        using = {uid for uid, p in making.items() if p}
        if made is not None:
            return (not using and not more_make) or self._same(making, made)
        return not more_make and (not using or not makers or (len(makers) == 1 and using == makers))

    def _in_default_list(self, wanted: WantedAccess, below: WantedAccess) -> dict[int, int]:
        """What the default list of a folder may say of each user, as it is for new files and new
        folders alike.

        To search is nothing that a file is asked for. To read and to write it says where both may
        be, or where the mode that is asked for new files has no room for it.
        """
        room = ~(self._asks[0] >> 3)
        files = {uid: p & below.files.get(uid, 0) for uid, p in wanted.files.items()}
        making = {uid: p & (SEARCH | files.get(uid, 0) | room) for uid, p in below.folder.items()}
        return {**dict.fromkeys(wanted.shut, 0), **making}

    def _least_of_groups(self, makers: set[int], making: dict[int, int]) -> int:
        """What all may have who are in the primary group of somebody who creates something."""
        found = 7
        for gid in {self.machine.users[uid].gid for uid in makers}:
            for uid in self.machine.members[gid]:
                found &= making.get(uid, 0)
        return found

    @staticmethod
    def _made(now: ThingOnDisk, group: int) -> ThingOnDisk | None:
        """A folder that somebody will make in one that has a default list, before the mode that the
        server asks for.
        """
        return None if now.default is None else made_below(now)._replace(uid=UNKNOWN, gid=group)

    def file(self, folder: str, now: ThingOnDisk) -> ThingOnDisk:
        """What a file in a folder is to become."""
        key = (folder, now)
        if key not in self._files:
            at, level = self.allowed.nearest(folder)
            found = self.allowed.wanted(at, level)
            wanted = {**dict.fromkeys(found.shut - {now.uid}, 0), **found.files}
            if now.uid in found.owning:
                wanted[now.uid] = found.owning[now.uid]
            if self.is_private(folder, now):
                wanted = {
                    uid: p & permissions(self.machine.users[uid], now) for uid, p in wanted.items()
                }
            # To run a file is nothing that a server lets: who can, can.
            wanted = {
                uid: p | permissions(self.machine.users[uid], now) & SEARCH
                for uid, p in wanted.items()
            }
            self._files[key] = (
                now if self._same(wanted, now) else planned(now, wanted, self.machine)
            )
        return self._files[key]

    def is_private(self, folder: str, thing: ThingOnDisk) -> bool:
        """Is a file closed to a user who may use it by the model, owns it not, and to whom another
        one beside it is open?

        What a model says, it says of all files in a folder. Whoever closed one of them meant that
        one.
        """
        others = [x.thing for x in self.disk.files(folder) if x.thing != thing]
        for uid, p in (
            self.allowed.wanted(*self.allowed.nearest(folder)).files.items() if others else ()
        ):
            user = self.machine.users[uid]
            closed = p & ~permissions(user, thing) & (READ | WRITE)
            if uid != thing.uid and any(
                uid != x.uid and permissions(user, x) & closed for x in others
            ):
                return True
        return False

    def _opened(self) -> Iterator[tuple[bool, Opened]]:
        """The files that would be opened to somebody by what the model says, and whether they stay
        closed, as they are private.
        """
        for files in self.disk.reading.files:
            at, level = self.allowed.nearest(files.path)
            wanted = self.allowed.wanted(at, level).files
            gains: dict[int, list[str]] = {READ: [], WRITE: []}
            for uid, p in sorted(wanted.items()):
                user = self.machine.users[uid]
                for bit in gains:
                    if (
                        uid != files.thing.uid
                        and p & bit
                        and not permissions(user, files.thing) & bit
                    ):
                        gains[bit].append(user.name)
            if any(gains.values()):
                is_private = self.is_private(files.path, files.thing)
                yield (
                    is_private,
                    Opened(files.path, files.thing, files.number, *map(tuple, gains.values())),
                )

    def _same(self, wanted: dict[int, int], thing: ThingOnDisk) -> bool:
        """Does a thing let everybody do what is wanted already, at once where that is asked?"""
        users = self.machine.users
        return all(
            permissions(users[uid], thing) == p
            and (p & 3 != 3 or lets(users[uid], thing, WRITE | SEARCH))
            for uid, p in wanted.items()
        )

    # --- the whole -------------------------------------------------------------------------------

    def plan(self) -> Plan:
        """All that changes, and what cannot be said."""
        steps = self.steps()
        found = drift(self.after(), self.store, most=ALL_OF_IT)
        opened = list(self._opened())
        return Plan(
            steps,
            found.rows,
            tuple(self._of_made()),
            tuple(self._lost(steps)),
            self._owners(),
            found.left_out,
            tuple(x for private, x in opened if not private),
            tuple(x for private, x in opened if private),
        )

    def steps(self) -> tuple[PlanStep, ...]:
        """What changes, thing by thing, in tree order: a folder, the files in it, and what lies
        below that nobody knows by name.
        """
        files: dict[str, list[PlanStep]] = {}
        for f in self.disk.reading.files:
            then = self.file(f.path, f.thing)
            if then != f.thing:
                files.setdefault(f.path, []).append(
                    PlanStep(f.path, "files", f.thing, then, f.number)
                )
        steps = []
        self._as_above = self._like_those_above()
        self._levels = self._levels_below()
        for path in self.allowed.known:
            if path in self._as_above:
                continue
            now = self.disk.folder(path)
            then = self.folder(path, now)
            if then != now:
                steps.append(
                    PlanStep(path, "folder", now, then, perhaps=path not in self.allowed.there)
                )
            steps += files.get(path, [])
            steps += self._steps_below(path)
        return tuple(steps)

    def _like_those_above(self) -> set[str]:
        """Folders that are only recorded, and become what other folders beside them do, and what
        lies below them likewise.
        """
        found = set()
        for path in self.allowed.known:
            if path not in self.allowed.there:
                made, near, far = self._below(parent(path))
                itself = self.disk.folder(path), self.folder(path, made)
                if itself == (made, near) and self._below(path) == (made, far, far):
                    found.add(path)
        return found

    def _levels_below(self) -> dict[str, set[int]]:
        """Of known folders, in a complete reading: is there a folder in them that nobody knows by
        name (1), or deeper (2)?
        """
        found: dict[str, set[int]] = {}
        for path in self.disk.reading.empty:
            while not self.allowed.is_known(path):
                at, level = self.allowed.nearest(path)
                found.setdefault(at, set()).add(level)
                path = parent(path)
        return found

    def _steps_below(self, path: str) -> list[PlanStep]:
        made, near, far = self._below(path)
        if self.disk.reading.complete:
            levels = self._levels.get(path, set())
            near, far = near if 1 in levels else made, far if 2 in levels else made
        if near == made == far:
            return []
        but = tuple(x for x in self.allowed.children(path) if x not in self._as_above)
        if near == far:
            return [PlanStep(path, "below", made, near, 0, but, path not in self.allowed.there)]
        each = (("children", near), ("deeper", far))
        perhaps = path not in self.allowed.there
        return [
            PlanStep(path, what, made, then, 0, but, perhaps) for what, then in each if then != made
        ]

    def _below(self, path: str) -> tuple[ThingOnDisk, ThingOnDisk, ThingOnDisk]:
        """Other folders below a known one, each as that makes it: what they are, and are to become,
        in it and deeper.
        """
        made, at = made_below(self.disk.folder(path)), child(path, UNRECORDED)
        return made, self.folder(at, made), self.folder(child(at, UNRECORDED), made)

    def after(self) -> Prepared:
        """The model with the disk as the plan makes it; ``…`` in a folder stands for others in it,
        and ``…/…`` for those below.
        """
        merged: dict[tuple[str, ThingOnDisk], int] = {}
        for f in self.disk.reading.files:
            key = (f.path, self.file(f.path, f.thing))
            merged[key] = merged.get(key, 0) + f.number
        folders = [FolderOnDisk(p, self.folder(p, self.disk.folder(p))) for p in self.allowed.known]
        for path in self.allowed.known:
            _, near, far = self._below(path)
            at = child(path, UNRECORDED)
            folders += [FolderOnDisk(at, near), FolderOnDisk(child(at, UNRECORDED), far)]
        then = replace(
            self.disk.reading,
            folders=tuple(folders),
            files=tuple(FilesOnDisk(path, thing, n) for (path, thing), n in merged.items()),
        )
        model = self.prepared.model
        others = tuple(x for x in model.disk_readings if x.store != self.store)
        return Prepared(replace(model, disk_readings=(*others, then)), self.prepared)

    def _owners(self) -> tuple[str, ...]:
        reading = self.disk.reading
        uids = {f.thing.uid for f in reading.folders} | {f.thing.uid for f in reading.files}
        return tuple(
            sorted(self.machine.users[uid].name for uid in uids & self.allowed.bits.keys())
        )

    def _lost(self, steps: tuple[PlanStep, ...]) -> Iterator[tuple[str, int]]:
        known = [u for uid, u in self.machine.users.items() if uid not in self.allowed.bits]
        for step in steps:
            lost = sum(
                bool(permissions(u, step.now) & ~permissions(u, step.planned)) for u in known
            )
            if lost and step.what == "folder":
                yield step.path, lost

    def _of_made(self) -> Iterator[tuple[str, str]]:
        """Where a new file is let more, as one list is for new files and for new folders."""
        users, asks = self.machine.users, self._asks[0]
        for path in self.allowed.known:
            then = self.folder(path, self.disk.folder(path))
            if then.default is None:
                continue
            wanted = self.allowed.wanted(path, 0)
            made = file_created_in(then, asks)
            words = []
            for bit, word in ((READ, "read"), (WRITE, "written")):
                more = [
                    users[uid].name
                    for uid, p in sorted(wanted.files.items())
                    if not p & bit and permissions(users[uid], made) & bit
                ]
                if more:
                    words.append(f"{word} by {several(more, 3)}")
            if words:
                yield path, " and ".join(words)


def _group_of(thing: ThingOnDisk) -> int:
    """What the owning group of a thing may do."""
    acl = thing.acl
    return thing.mode >> 3 & 7 if acl is None else acl.group & (7 if acl.mask is None else acl.mask)
