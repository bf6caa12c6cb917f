"""Taking over what is on a disk: folders, owners, seals and entries that let accounts do what the
disk lets (docs/rules.md, "The disk").

Each folder that is not as the one above it would make it gets a seal and lines of its own: what a
disk says of a folder comes from nowhere else. The lines name groups and units where all their
accounts may have the same, and single accounts for the rest. What lines cannot say is not guessed:
the model is held against the disk afterwards, and what differs is told.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from typing import Any, NamedTuple

from ..decide.disk_gate import taken_on
from ..disk.read_folders import ASKED_FOR, file_created_in, made_below
from ..model.disk import READ, STICKY, WRITE
from ..model.items import Entry, Folder, Model, Subject
from ..model.kinds import FOLDER
from ..prepared.prepared import Prepared
from ..words.names import Place, parent, tree_key
from ..words.rights import BIT, FILE_RIGHTS, INDEX, RIGHTS
from .access_map import access_of_all
from .disk_sets import DiskSets
from .division import bits_in
from .drift import Drift, drift

_OWNER = Subject("owner")
_DELETE_FOLDER = INDEX["delete-folder"]
#: Per level (the folder itself, those in it, those deeper): what each account may do there, by its
#: index.
Masks = tuple[dict[int, int], dict[int, int], dict[int, int]]


class Adopted(NamedTuple):
    """What a disk says, as a model: the store's folders, the changes that make them, and where they
    say something else, with why not.

    `nobody` are users of the machine that can come to the store and that no account acts as.
    """

    folders: tuple[Folder, ...]
    changes: tuple[dict[str, Any], ...]
    not_said: tuple[Drift, ...]
    nobody: tuple[str, ...]
    left_out: tuple[str, ...]


def adopt(prepared: Prepared, store: str) -> Adopted:
    """The folders of a store as its disk has them.

    Whom a server takes on has to be known of somebody: ValueError.
    """
    adopting = _Adopting(prepared, store)
    if not adopting.acting:
        raise ValueError(f"of no account it is known whom a server takes on in {store}")
    folders = adopting.folders()
    model = with_folders(prepared.model, store, folders)
    after = Prepared(model, prepared)
    found = drift(after, store, most=10**9)
    return Adopted(
        folders,
        tuple(changes_to(prepared, store, folders)),
        found.rows,
        adopting.nobody(),
        found.left_out,
    )


def with_folders(model: Model, store: str, folders: tuple[Folder, ...]) -> Model:
    """A model with other folders in one store, which lets nothing that no line lets."""
    stores = tuple(
        replace(s, folders=folders, baseline="closed") if s.name == store else s
        for s in model.stores
    )
    return replace(model, stores=stores)


def changes_to(
    prepared: Prepared, store: str, folders: tuple[Folder, ...]
) -> Iterator[dict[str, Any]]:
    """The changes after which a store has these folders; what it has besides stays,
    without lines.
    """
    now = prepared.stores[store]
    if now.store.baseline != "closed":
        yield {"op": "change", "kind": "store", "name": store, "set": {"baseline": "closed"}}
    wanted = {f.path: f for f in folders}
    for folder in now.store.folders:
        new = wanted.pop(folder.path, None)
        if new is not None and new != folder:
            given = FOLDER.alone(new)
            values = {"sealed": new.sealed, "owner": new.owner, "entries": given.get("entries", [])}
            yield {
                "op": "change",
                "kind": "folder",
                "name": str(Place(store, folder.path)),
                "set": values,
            }
    for path in sorted(wanted, key=tree_key):
        item = FOLDER.alone(wanted[path])
        item.pop("path", None)
        yield {"op": "add", "kind": "folder", "name": str(Place(store, path)), "item": item}


def joined(entries: Iterable[Entry]) -> list[Entry]:
    """The same with one line for each effect, subject and reach, and without what a line that
    reaches further says already.
    """
    found: dict[tuple[str, Subject, str], int] = {}
    for e in entries:
        key = (e.effect, e.subject, e.reach)
        found[key] = found.get(key, 0) | e.rights
    for (effect, subject, reach), rights in found.items():
        for wider in {"here": ("tree",), "below": ("tree",), "children": ("tree", "below")}.get(
            reach, ()
        ):
            rights &= ~found.get((effect, subject, wider), 0)
        found[effect, subject, reach] = rights
    return [
        Entry(effect, subject, rights, reach)
        for (effect, subject, reach), rights in found.items()
        if rights
    ]


def lines_for(prepared: Prepared, wanted: dict[int, int]) -> list[tuple[Subject, int]]:
    """Subjects with rights, so that each account (by its index) gets what is wanted and nobody gets
    more.
    """
    left = {i: mask for i, mask in wanted.items() if mask}
    if not left:
        return []
    members = access_of_all(prepared).division.bits
    candidates = []
    for subject in prepared.people.subjects:
        if subject.kind in ("group", "unit", "anyone", "signed-in"):
            bits = members.get(prepared.people.number(subject), 0)
            common = (1 << len(RIGHTS)) - 1 if bits else 0
            for i in bits_in(bits):
                common &= wanted.get(i, 0)
                if not common:
                    break
            if common:
                serves = sum(left.get(i) == common for i in bits_in(bits))
                candidates.append((-serves, str(subject), subject, bits, common))
    found = []
    for _, _, subject, bits, common in sorted(candidates, key=lambda c: c[:2]):
        served = [i for i in bits_in(bits) if left.get(i, 0) & common]
        if len(served) >= 2:
            found.append((subject, common))
            for i in served:
                left[i] &= ~common
    accounts = prepared.people.accounts
    return [
        *found,
        *((Subject("account", accounts[i].name), mask) for i, mask in sorted(left.items()) if mask),
    ]


def for_others(prepared: Prepared, acting: int, folder: Folder) -> list[Entry]:
    """What a folder's lines say to accounts of which nothing is known there: they are not to be
    locked out, or let more.

    A line that speaks to some of whom something is known as well is written anew for the others.
    """
    members = access_of_all(prepared).division.bits
    found = []
    for entry in folder.entries:
        bits = members.get(prepared.people.number(entry.subject), 0)
        if entry.subject == _OWNER:
            continue
        if not bits & acting:
            found.append(entry)
        else:
            for subject, rights in lines_for(
                prepared, dict.fromkeys(bits_in(bits & ~acting), entry.rights)
            ):
                found.append(entry._replace(subject=subject, rights=rights))
    return found


def _as_held(holder: int, this: int, below: int) -> int:
    """Who may delete this folder where the one that holds it allows that, and else who may delete
    those below it.
    """
    return holder & this | ~holder & below


class _Adopting:
    """The work of :func:`adopt`."""

    def __init__(self, prepared: Prepared, store: str) -> None:
        self.prepared, self.store = prepared, store
        self.disk = prepared.disks[store]
        self.sets = DiskSets(prepared, store, range(len(prepared.people.accounts)))
        self.acting = self.sets.everybody & ~self.sets.not_asked
        self._accounts = list(bits_in(self.acting))
        #: For each folder, and one and two levels below it, who its lines say may delete folders.
        self._deleting: dict[str, tuple[int, int, int]] = {}
        self._listed_in: dict[str, list[str]] = {}
        for folder in self.disk.reading.folders:
            if folder.path != "/":
                self._listed_in.setdefault(parent(folder.path), []).append(folder.path)
        self._owners: dict[int, str] = {}
        for index in self._accounts:
            taken = taken_on(prepared, prepared.people.prepared(index), store)
            assert taken is not None
            if taken.user is not None:
                # Of what several accounts act as, none is the owner.
                name = prepared.people.accounts[index].name
                self._owners[taken.user.uid] = "" if taken.user.uid in self._owners else name

    def folders(self) -> tuple[Folder, ...]:
        """The folders of the store, in tree order."""
        reading = self.disk.reading
        before = {f.path: f for f in self.prepared.stores[self.store].store.folders}
        listed = {f.path for f in reading.folders} | {f.path for f in reading.files}
        found: dict[str, Folder] = {}
        given: dict[str, Masks] = {}
        for path in sorted(listed | before.keys() | {"/"}, key=tree_key):
            kept = before.get(path, Folder(path))
            if self.disk.unknown_at(path) is not None:
                found |= {path: kept} if path in before else {}
                continue  # nothing is known of it
            owner = self._owners.get(self.disk.folder(path).uid) or self._owner_left(kept)
            theirs = for_others(self.prepared, self.acting, kept)
            masks, owning = self._masks(path)
            if len(owning) == 1 and not kept.sealed and masks == self._from_above(path, given):
                if path in before or path in listed:
                    found[path] = replace(kept, owner=owner, entries=tuple(sorted(theirs)))
                continue
            given[path] = masks
            entries = tuple(sorted({*joined(self._entries(masks)), *owning, *theirs}))
            found[path] = replace(kept, owner=owner, sealed=path != "/", entries=entries)
        return tuple(found.values())

    def _owner_left(self, kept: Folder) -> str | None:
        """Who the model says owns a folder, where nothing is known of that account on the disk."""
        index = self.prepared.people.index.get(kept.owner or "")
        return None if index is None or self.acting >> index & 1 else kept.owner

    def nobody(self) -> tuple[str, ...]:
        """Users of the machine that no account acts as and that can come to the store's root."""
        return tuple(
            u.name
            for u in self.disk.reading.users
            if u.uid not in self._owners and self.disk.can_come_to(u, "/")
        )

    def _from_above(self, path: str, given: dict[str, Masks]) -> Masks | None:
        """What a folder without a line gets from the nearest above that has some."""
        if path == "/":
            return None
        at, distance = parent(path), 1
        while at not in given:
            at, distance = parent(at), distance + 1
        _, near, far = given[at]
        return near if distance == 1 else far, far, far

    # --- what a folder's lines are to say --------------------------------------------------------

    def _masks(self, path: str) -> tuple[Masks, list[Entry]]:
        """What each account may do at a folder and below; and lines for what it may do to its own
        files only.
        """
        levels = [list(self.sets.at(path, level)) for level in range(3)]
        owning = [Entry("allow", _OWNER, BIT["set-attributes"])]
        self._deleting[path] = self._who_deletes(path)
        for level, deleting in enumerate(self._deleting[path]):
            levels[level][_DELETE_FOLDER] = deleting
        only_own, refused = 0, {}
        for right in FILE_RIGHTS:
            r = INDEX[right]
            others, own = self.on_files(path, right)
            levels[0][r] = others
            if own & ~others & self.acting and right != "set-attributes":
                only_own |= 1 << r
                refused[r] = self._holding(path) & ~own & ~others & self.acting
            for level in (1, 2):
                levels[level][r] &= self._on_made(path, level, right)
        if only_own:
            owning.append(Entry("allow", _OWNER, only_own, "here"))
            for r, bits in refused.items():
                owning += [Entry("deny", self._account(i), 1 << r, "here") for i in bits_in(bits)]
        masks = tuple(
            {i: sum(1 << r for r in range(len(RIGHTS)) if at[r] >> i & 1) for i in self._accounts}
            for at in levels
        )
        return (masks[0], masks[1], masks[2]), owning

    def _who_deletes(self, path: str) -> tuple[int, int, int]:
        """Who a folder's lines are to say may delete folders: here, one level below, and deeper.

        A disk asks only whether the folder above can be written, lines are asked at both. So where
        the folder above allows it, the line says what the disk says of this folder, and else what
        it says of the folders in this one.
        """
        disk = [self.sets.at(path, level)[_DELETE_FOLDER] for level in range(4)]
        in_it = disk[1]
        for child_path in self._listed_in.get(path, ()):
            in_it |= self.sets.at(child_path)[_DELETE_FOLDER]
        here = in_it if path == "/" else _as_held(self._deleting_above(path), disk[0], in_it)
        near = _as_held(here, disk[1], disk[2])
        return here, near, _as_held(near, disk[2], disk[3])

    def _deleting_above(self, path: str) -> int:
        """Who may delete folders in the folder that holds one, as its lines say."""
        at, distance = parent(path), 0
        while at not in self._deleting:
            at, distance = parent(at), distance + 1
        return self._deleting[at][min(distance, 2)]

    def on_files(self, path: str, right: str) -> tuple[int, int]:
        """Who may do something to others' files in a folder, and who to its own ones."""
        sets, files = self.sets, [x.thing for x in self.disk.files(path)]
        folder, come = self.disk.folder(path), self.sets.at(path)[INDEX["enter"]]
        if right == "set-attributes":
            return sets.root & come, come
        if right in ("rename", "delete-file"):
            changing = sets.at(path)[INDEX["upload"]]
            return (changing & sets.owning(folder) if folder.mode & STICKY else changing), changing
        wanted = READ if right == "download" else WRITE
        others, of_others, own, of_own = 0, 0, 0, 0
        for thing in files:
            mine = sets.owning(thing) & ~sets.root
            passing = sets.lets(thing, wanted)
            others, of_others = others | passing & ~mine, of_others | ~mine
            own, of_own = own | passing & mine, of_own | mine
        others |= (own if files else self._on_made(path, 0, right)) & ~of_others
        own |= others & ~of_own
        return others & come | sets.not_asked, own & come | sets.not_asked

    def _on_made(self, path: str, level: int, right: str) -> int:
        """Who may do something to files of others that will be made in a folder, or so many levels
        below it.
        """
        sets, folder = self.sets, self.disk.folder(path)
        for _ in range(level):
            folder = made_below(folder)
        if right == "set-attributes":
            return sets.root
        if right in ("rename", "delete-file"):
            return sets.everybody
        asked = self.prepared.stores[self.store].store.creation_mode or ASKED_FOR
        file = file_created_in(folder, int(asked.split()[0], 8))
        return sets.lets(file, READ if right == "download" else WRITE)

    def _holding(self, path: str) -> int:
        """Who owns files in a folder."""
        found = 0
        for files in self.disk.files(path):
            found |= self.sets.owning(files.thing) & ~self.sets.root
        return found

    def _entries(self, masks: Masks) -> Iterator[Entry]:
        here, near, far = masks
        parts: tuple[tuple[str, Callable[[int, int, int], int]], ...] = (
            ("tree", lambda h, n, f: h & n & f),
            ("below", lambda h, n, f: n & f & ~h),
            ("here", lambda h, n, f: h & ~(n & f)),
            ("children", lambda h, n, f: n & ~f),
        )
        for reach, part in parts:
            wanted = {i: part(here[i], near[i], far[i]) for i in self._accounts}
            for subject, rights in self._said(wanted):
                yield Entry("allow", subject, rights, reach)
        # What is let further down than in the folder's own folders, a line for all below says too
        # much of.
        deeper = {i: far[i] & ~near[i] for i in self._accounts}
        for subject, rights in self._said(deeper):
            yield Entry("allow", subject, rights, "below")
            yield Entry("deny", subject, rights, "children")

    def _said(self, wanted: dict[int, int]) -> list[tuple[Subject, int]]:
        return lines_for(self.prepared, wanted)

    def _account(self, index: int) -> Subject:
        return Subject("account", self.prepared.people.accounts[index].name)
