"""Descriptors taken over as folders with entries, and folders written as descriptors
(docs/rules.md, "The disk").

Either way what is not said alike is not guessed: both are asked for every account, and what differs
is told.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from typing import NamedTuple

from ..disk.described import DELETE_CHILD, OF_FILE, OF_FOLDER, WRITE, DescribedTree, for_folder
from ..model.described_folders import DescribedFolder
from ..model.descriptors import (
    ANONYMOUS,
    AUTHENTICATED,
    CONTAINER_INHERIT,
    CREATOR_OWNER,
    EVERYONE,
    INHERIT_ONLY,
    INHERITED,
    NO_PROPAGATE,
    OBJECT_INHERIT,
    OWNER_RIGHTS,
    Ace,
    Descriptor,
)
from ..model.items import DescriptorReading, Entry, Folder, Subject
from ..model.nfs4 import (
    ANONYMOUS_AT,
    AUTHENTICATED_AT,
    EVERYONE_AT,
    GROUP_AT,
    OWNER_AT,
    Nfs4Descriptor,
)
from ..prepared.prepared import Prepared
from ..words.names import parent, tree_key
from ..words.rights import BIT
from .adopting import Adopted, changes_to, for_others, joined, with_folders
from .described_drift import Tokens, described_drift
from .drift import Drift

_IN_SDDL = {
    EVERYONE: Subject("anyone"),
    AUTHENTICATED: Subject("signed-in"),
    ANONYMOUS: Subject("anonymous"),
    OWNER_RIGHTS: Subject("owner"),
}
_SUBJECTS = {
    **_IN_SDDL,
    CREATOR_OWNER: Subject("owner"),
    EVERYONE_AT: Subject("anyone"),
    AUTHENTICATED_AT: Subject("signed-in"),
    ANONYMOUS_AT: Subject("anonymous"),
    OWNER_AT: Subject("owner"),
}
#: Reading a tree, looking, and standing by: what whoever is let anything needs besides.
_BESIDES = 0x120080
_ALL = 0x1F01FF


class Described(NamedTuple):
    """A store's folders as descriptors, where the tree would say something else than the model
    then, and what else is to be known.
    """

    folders: tuple[DescribedFolder, ...]
    not_said: tuple[Drift, ...]
    notes: tuple[str, ...]


# --- descriptors as entries ---------------------------------------------------------------------


def adopt_described(prepared: Prepared, reading: DescriptorReading) -> Adopted:
    """The folders of a store that say what its descriptors say.

    What makes the model wider than the tree is told first.
    """
    store, tree = reading.store, DescribedTree(reading.folders)
    of = {line.sid: line.subject for line in reading.names}
    subjects = {**of, **_SUBJECTS}
    owners = {sid: subject.name for sid, subject in of.items() if subject.kind == "account"}
    before = {f.path: f for f in prepared.stores[store].store.folders}
    tokens = Tokens(prepared, reading)
    indices = range(len(prepared.people.accounts))
    acting = sum(1 << i for i in indices if tokens.me(prepared.people.prepared(i)) is not None)
    folders, nobody = [], set()
    for path in sorted(tree.listed.keys() | before.keys(), key=tree_key):
        kept = before.get(path, Folder(path))
        found = tree.folder(path)
        owner = owners.get(found.owner or "") or (
            None if kept.owner in owners.values() else kept.owner
        )
        theirs = for_others(prepared, acting, kept)
        aces, sealed = _own_lines(tree, path)
        if kept.sealed and not sealed and acting.bit_count() < len(indices):
            # Of whom nothing is known must not get what the seal kept off.
            aces, sealed = list(found.aces or ()), True
        aces = _as_meant(aces, found)
        nobody |= {a.sid for a in aces if a.sid not in subjects}
        lines = [e for a in aces if a.sid in subjects for e in _entries(a, subjects[a.sid])]
        if sealed:  # no seal keeps off who may delete what is in the folder above
            above = tree.folder(parent(path)).aces or ()
            deleting = {
                a.sid
                for a in above
                if a.allows and a.mask & DELETE_CHILD and not a.flags & INHERIT_ONLY
            }
            lines += [
                Entry("allow", subjects[sid], BIT["delete-folder"], "here")
                for sid in sorted(deleting & subjects.keys())
            ]
        if path == "/":
            deleters = sorted(_deleting(tree) & subjects.keys())
            lines += [
                Entry("allow", subjects[sid], BIT["delete-folder"], "here") for sid in deleters
            ]
        folders.append(
            replace(
                kept, owner=owner, sealed=sealed, entries=tuple(sorted({*joined(lines), *theirs}))
            )
        )
    after = Prepared(with_folders(prepared.model, store, tuple(folders)), prepared)
    found_drift = described_drift(after, reading)
    in_order = sorted(found_drift.rows, key=lambda row: not row.refused)
    return Adopted(
        tuple(folders),
        tuple(changes_to(prepared, store, tuple(folders))),
        tuple(in_order),
        tuple(sorted(nobody)),
        found_drift.left_out,
    )


def _deleting(tree: DescribedTree) -> set[str]:
    """Who may delete a folder somewhere in a tree by an entry about that folder.

    A tree asks no more than that; lines also ask the folder that holds it. The top of a store stays
    in its place whoever may delete, so it can allow it to all of them.
    """
    lists = (folder.aces or () for path, folder in tree.listed.items() if path != "/")
    return {
        a.sid for aces in lists for a in aces if a.allows and a.mask & OF_FOLDER["delete-folder"]
    }


def _as_meant(aces: list[Ace], at: Descriptor) -> list[Ace]:
    """Entries of an NFSv4 list with the group that GROUP@ stands for, and with what writing
    implies.

    Where no entry names the deletion of what is in a folder, whoever may add a file may delete one.
    """
    if not isinstance(at, Nfs4Descriptor):
        return aces
    found = [
        ace._replace(sid=at.group) if ace.sid == GROUP_AT and at.group else ace for ace in aces
    ]
    if any(ace.mask & DELETE_CHILD for ace in at.aces or ()):
        return found
    return [
        ace._replace(mask=ace.mask | DELETE_CHILD) if ace.allows and ace.mask & WRITE else ace
        for ace in found
    ]


def _own_lines(tree: DescribedTree, path: str) -> tuple[list[Ace], bool]:
    """The entries that a folder carries itself, and whether it is sealed: all of them where what it
    inherited is not what is above.
    """
    found = tree.folder(path)
    if found.aces is None and path not in tree.listed:
        return [], False
    if found.aces is None:
        return [Ace(True, OBJECT_INHERIT | CONTAINER_INHERIT, _ALL, EVERYONE)], path != "/"
    own = [a for a in found.aces if not a.flags & INHERITED]
    inherited = [a for a in found.aces if a.flags & INHERITED]
    if path == "/":
        return list(found.aces), False
    if not found.protected:
        above = tree.folder(parent(path))
        if above.aces is not None and set(inherited) == set(for_folder(above.aces, found.owner)):
            return own, False
    return list(found.aces), True


def _entries(ace: Ace, subject: Subject) -> Iterator[Entry]:
    """The lines that say what an entry says, as far as lines can."""
    effect = "allow" if ace.allows else "deny"
    on_folders = [r for r, bit in OF_FOLDER.items() if ace.mask & bit]
    on_files = [r for r, bit in OF_FILE.items() if ace.mask & bit]
    reaches = _folder_reaches(ace)
    for rights, where in ((on_folders, reaches), (on_files, _file_reaches(ace))):
        if rights:
            mask = sum(BIT[r] for r in rights)
            yield from (Entry(effect, subject, mask, reach) for reach in where)
    if ace.mask & DELETE_CHILD and ace.allows:
        # Whoever may delete what is in a folder: its files, and the folders in it.
        for reach in reaches:
            # Lines ask for it at the folder that is deleted and at the one that holds it, which is
            # this one.
            yield Entry(
                effect, subject, BIT["delete-file"] | BIT["rename"] | BIT["delete-folder"], reach
            )
            if reach == "here":
                yield Entry(effect, subject, BIT["delete-folder"], "children")


def _folder_reaches(ace: Ace) -> tuple[str, ...]:
    only_below = ace.flags & INHERIT_ONLY or ace.sid == CREATOR_OWNER
    if not ace.flags & CONTAINER_INHERIT:
        return () if only_below else ("here",)
    if ace.flags & NO_PROPAGATE:
        return ("children",) if only_below else ("here", "children")
    return ("below",) if only_below else ("tree",)


def _file_reaches(ace: Ace) -> tuple[str, ...]:
    if not ace.flags & OBJECT_INHERIT:
        return ()
    return ("here",) if ace.flags & NO_PROPAGATE else ("tree",)


# --- entries as descriptors ---------------------------------------------------------------------


def describe(prepared: Prepared, reading: DescriptorReading) -> Described:
    """The descriptors that say what the entries of a store's folders say, in canonical order, with
    what they inherit.
    """
    store = prepared.stores[reading.store].store
    sids = {line.subject: line.sid for line in reading.names}
    sids |= {subject: sid for sid, subject in _IN_SDDL.items()}
    known = {*sids.values(), CREATOR_OWNER}
    recorded = {f.path: f for f in store.folders}
    before = DescribedTree(reading.folders)
    unknown: set[str] = set()
    tree = DescribedTree(())
    for path in sorted(recorded.keys() | {"/"}, key=tree_key):
        folder = recorded.get(path, Folder(path))
        owner = sids.get(Subject("account", folder.owner)) if folder.owner else None
        owner = owner or before.folder(path).owner
        unknown |= {str(e.subject) for e in folder.entries if e.subject not in sids}
        sealed = folder.sealed or path == "/"
        # What the tree lets those who stand for nobody here, its administrators and the system,
        # stays.
        theirs = (a for a in before.folder(path).aces or () if a.sid not in known)
        kept = [
            a._replace(flags=a.flags & ~INHERITED)
            for a in theirs
            if sealed or not a.flags & INHERITED
        ]
        said = (a for e in folder.entries if e.subject in sids for a in _aces(e, sids[e.subject]))
        own = _canonical([*kept, *said])
        if path == "/" and store.baseline == "open":
            own.append(Ace(True, OBJECT_INHERIT | CONTAINER_INHERIT, _ALL, EVERYONE))
        inherited: tuple[Ace, ...] = ()
        if not sealed:
            above = tree.folder(parent(path)).aces
            inherited = () if above is None else for_folder(above, owner)
        tree.listed[path] = Descriptor(owner, sealed, (*own, *inherited))
    folders = tuple(DescribedFolder(path, str(found)) for path, found in tree.listed.items())
    found_drift = described_drift(prepared, replace(reading, folders=folders))
    notes = [
        f"no identifier is known for {name}: its lines are left out" for name in sorted(unknown)
    ]
    if any(e.effect == "forbid" for f in store.folders for e in f.entries):
        notes.append("forbid is written as deny: a tree lets an entry further down overrule it")
    return Described(
        folders,
        tuple(sorted(found_drift.rows, key=lambda row: not row.wider)),
        (*notes, *found_drift.left_out),
    )


def _canonical(aces: Iterable[Ace]) -> list[Ace]:
    """Denying entries first; those that are alike but for their rights are one."""
    found: dict[tuple[bool, int, str], int] = {}
    for ace in aces:
        key = (ace.allows, ace.flags, ace.sid)
        found[key] = found.get(key, 0) | ace.mask
    return [Ace(allows, flags, mask, sid) for (allows, flags, sid), mask in sorted(found.items())]


_ON_FOLDERS = {
    "tree": CONTAINER_INHERIT, "here": 0, "below": CONTAINER_INHERIT | INHERIT_ONLY,
    "children": CONTAINER_INHERIT | NO_PROPAGATE | INHERIT_ONLY,
}  # fmt: skip
_ON_FILES = {
    "tree": OBJECT_INHERIT | INHERIT_ONLY,
    "here": OBJECT_INHERIT | NO_PROPAGATE | INHERIT_ONLY,
}


def _aces(entry: Entry, sid: str) -> Iterator[Ace]:
    """The entries of a list that say what a line says, as far as they can: files below are only
    reached with those here.
    """
    allows = entry.effect == "allow"
    besides = _BESIDES if allows else 0
    on_folder = sum(bit for right, bit in OF_FOLDER.items() if entry.rights & BIT[right])
    if entry.rights & BIT["set-attributes"]:
        on_folder |= OF_FILE["set-attributes"]
    if on_folder:
        yield Ace(allows, _ON_FOLDERS[entry.reach], on_folder | besides, sid)
    either = BIT["rename"] | BIT["delete-file"]
    on_file = 0
    for right, bit in OF_FILE.items():
        # Renaming and deleting a file are one right: let where either is, and denied where both
        # are.
        if entry.rights & BIT[right] and (
            allows or not BIT[right] & either or entry.rights & either == either
        ):
            on_file |= bit
    if on_file and entry.reach in _ON_FILES:
        yield Ace(allows, _ON_FILES[entry.reach], on_file | besides, sid)
