"""The disk gate: does the operating system let the user do it that the server takes on
(docs/rules.md, "The disk")?
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

from ..disk.one_object import ROOT, lets, line
from ..disk.planned_list import Machine, permissions, planned
from ..disk.read_folders import Disk
from ..model.disk import (
    MOUNT,
    READ,
    SEARCH,
    STICKY,
    UNREADABLE,
    WRITE,
    FilesOnDisk,
    OsUser,
    ThingOnDisk,
    letters,
    parse_thing,
)
from ..prepared.namespace import Location
from ..prepared.needs import Sites
from ..prepared.people import PreparedAccount
from ..prepared.prepared import ActingOn, Prepared
from ..prepared.question import Question, Refusal
from ..prepared.settings import resolve
from ..words.names import Place, child, parent
from ..words.rights import FILE_RIGHTS
from ..words.sizes import number_of

_WORDS = {READ: "read", WRITE: "write", SEARCH: "search", WRITE | SEARCH: "write and search"}
#: What is asked of a file.
_OF_FILES = {"download": READ, "overwrite": WRITE, "append": WRITE}
#: Rights at a folder that are asked of a thing in it that does not exist yet.
INSIDE = frozenset({"upload", "make-folder"})


def taken_on(prepared: Prepared, account: PreparedAccount, store: str) -> ActingOn | None:
    """Who the server is on the disk of a store for an account; None where the gate is not asked."""
    disk = prepared.disks.get(store)
    if disk is None:
        return None
    known = prepared.taken_on[store]
    if account.index not in known:
        name = resolve(prepared, account, "acts_as").value
        if name is not None:
            name = name.replace("{account}", account.name)
        known[account.index] = None if name is None else ActingOn(disk, name, disk.user(name))
    return known[account.index]


def quick_disk(
    prepared: Prepared, account: PreparedAccount, store: str, question: Question, path: str
) -> str | None:
    """``disk`` if the gate refuses what is done to one place of a store, which is no rename: the
    same without a sentence.
    """
    known = prepared.taken_on.get(store)
    if known is None:
        return None
    taken = known[account.index] if account.index in known else taken_on(prepared, account, store)
    if taken is None:
        return None
    disk, _, user = taken
    action = question.action
    if user is None or disk.unknown_at(path) is not None:
        return "disk"
    if action in ("enter", "list"):
        good = disk.can_come_to(user, path) and (
            action == "enter" or lets(user, disk.folder(path), READ)
        )
        return None if good else "disk"
    folder = path[: path.rindex("/")] or "/"
    comes = disk.reached_by(user).get(folder)
    if not (disk.can_come_to(user, folder) if comes is None else comes):
        return "disk"
    wanted = _OF_FILES.get(action)
    if wanted is not None:
        there = _files(disk, folder, question)
        return None if not there or any(lets(user, x.thing, wanted) for x in there) else "disk"
    thing = disk.folder(folder)
    if not lets(user, thing, WRITE | SEARCH):
        return "disk"
    if (
        action in ("delete-file", "delete-folder")
        and thing.mode & STICKY
        and user.uid not in (ROOT, thing.uid)
    ):
        if action == "delete-folder":
            return None if disk.folder(path).uid == user.uid else "disk"
        there = _files(disk, folder, question)
        return None if not there or any(x.thing.uid == user.uid for x in there) else "disk"
    return None


def _files(disk: Disk, folder: str, question: Question) -> list[FilesOnDisk]:
    """The files that may be meant: one as the question says, or all that were read in
    the folder.
    """
    if question.combination is not None:
        return [FilesOnDisk(folder, parse_thing(question.combination), 1)]
    return disk.files(folder)


class _Asking:
    """One account's question on one disk."""

    def __init__(self, taken: ActingOn, user: OsUser, question: Question, place: Place) -> None:
        self.disk, self.user, self.store = taken.disk, user, place.store
        self.question, self.path = question, place.path
        self.folder = place.path if question.action in ("enter", "list") else parent(place.path)
        self.who = f"{taken.name} (user {user.uid})"
        #: What was asked of which things, and not let; several things that are alike and called
        #: alike are one.
        self.lacking: dict[tuple[str, ThingOnDisk], int] = {}
        #: What only its owner takes away from a sticky folder, and whose it is.
        self.not_owned: dict[tuple[str, ThingOnDisk], None] = {}

    def called(self, path: str) -> str:
        return f"{self.store}:{path}"

    def may(
        self, thing: ThingOnDisk, wanted: int, called: str, more: str = ""
    ) -> Iterator[Refusal]:
        """A refusal if the user may not do all of `wanted` at once."""
        if not lets(self.user, thing, wanted):
            self.lack(called, thing, wanted)
            text = (
                f"{self.who} may not {_WORDS[wanted]} {called}{more}:"
                f" {self.in_words(thing, wanted)}"
            )
            yield Refusal("disk", "no-permission", text)

    def lack(self, called: str, thing: ThingOnDisk, wanted: int) -> None:
        """Note what would have to be allowed; all that is lacking at one thing together."""
        self.lacking[called, thing] = self.lacking.get((called, thing), 0) | wanted

    def in_words(self, thing: ThingOnDisk, wanted: int | None) -> str:
        """Whose a thing is, and what decides what may be done to it."""
        why = "" if wanted is None else f", {line(self.user, thing, wanted, self.disk.group)}"
        return f"it is {self.disk.in_words(thing)}{why}"

    def way(self, path: str) -> Iterator[Refusal]:
        """Every folder from the top to `path`, that one too, has to be searched."""
        for called, thing in self.disk.way(path):
            more = "" if called == self.called(path) else f", on the way to {self.called(path)}"
            yield from self.may(thing, SEARCH, called, more)

    def owns(self, thing: ThingOnDisk) -> bool:
        return self.user.uid in (ROOT, thing.uid)

    def taking_away(self, folder: str, things: list[tuple[str, ThingOnDisk]]) -> Iterator[Refusal]:
        """Something in a folder is taken away: that is written, and where it is sticky it or one of
        `things` owned.

        Each of `things` with what it is called.
        """
        called, thing = self.called(folder), self.disk.folder(folder)
        yield from self.may(thing, WRITE | SEARCH, called)
        if (
            thing.mode & STICKY
            and not self.owns(thing)
            and things
            and not any(self.owns(x) for _, x in things)
        ):
            self.not_owned |= dict.fromkeys(things)
            owners = ", ".join(
                dict.fromkeys(self.disk.in_words(x).partition(":")[0] for _, x in things[:5])
            )
            text = (
                f"{called} is sticky ({self.disk.in_words(thing)}): what is in it is taken away by"
                f" who owns that or the folder only; {self.who} does not, it is of {owners}"
            )
            yield Refusal("disk", "sticky", text)

    def meant(self, folder: str) -> list[FilesOnDisk]:
        return _files(self.disk, folder, self.question)

    def good_files(self) -> Callable[[ThingOnDisk], bool] | None:
        """What has to be so of the file that is acted on; None where no file is."""
        action, thing = self.question.action, self.disk.folder(self.folder)
        if action in _OF_FILES:
            return lambda file: lets(self.user, file, _OF_FILES[action])
        if action == "set-attributes" and self.question.on_file:
            return self.owns
        if action == "delete-file" or (action == "rename" and self.question.on_file):
            return lambda file: not thing.mode & STICKY or self.owns(thing) or self.owns(file)
        return None

    def file(self) -> Iterator[Refusal]:
        """The file that is acted on: refused where all that may be meant are; where some are, it
        passes.
        """
        good, there = self.good_files(), self.meant(self.folder)
        if good is None or not there or any(good(x.thing) for x in there):
            return
        wanted = _OF_FILES.get(self.question.action)
        if wanted is None:
            self.not_owned |= {(self.files_called(x), x.thing): None for x in there}
            text = f"{self.who} does not own the file"
        else:
            for x in there:
                self.lack(self.files_called(x), x.thing, wanted)
            text = f"{self.who} may not {_WORDS[wanted]} the file"
        each = "; ".join(self._files_in_words(x, wanted) for x in there[:3])
        more = f"; and {len(there) - 3} more kinds of files" if len(there) > 3 else ""
        yield Refusal(
            "disk", "no-permission", f"{text} in {self.called(self.folder)}: {each}{more}"
        )

    def files_called(self, files: FilesOnDisk) -> str:
        """Files in the folder that are alike, told from others there by owner, group and mode."""
        which = f"{files.number} of the files" if files.number > 1 else "the file"
        return f"{which} in {self.called(self.folder)} ({self.disk.in_words(files.thing)})"

    def _files_in_words(self, files: FilesOnDisk, wanted: int | None) -> str:
        return f"{number_of(files.number, 'file')}: {self.in_words(files.thing, wanted)}"


def disk_gate(
    prepared: Prepared,
    account: PreparedAccount,
    question: Question,
    sites: Sites,
    asking: _Asking | None = None,
) -> Iterator[Refusal]:
    """Every obstacle on disk.

    Where nothing is known of the disk or of whom the server takes on, there is none.
    """
    found = asking or _asking(prepared, account, question, sites)
    if isinstance(found, Refusal):
        yield found
    elif found is not None:
        unknown = next(_unknown(found, sites), None)
        if unknown is not None:
            yield unknown
            return
        yield from _at_place(found)
        if (
            sites.there is not None
            and sites.there.place is not None
            and sites.there.place.store == found.store
        ):
            yield from _at_destination(found, sites.there.place.path)


_NOT_READ = {UNREADABLE: "could not be read", MOUNT: "is another file system, which was not read"}


def _unknown(asking: _Asking, sites: Sites) -> Iterator[Refusal]:
    """A refusal for each place of which nothing is known: that a disk lets something is only said
    of what was read.
    """
    there = sites.there.place if sites.there is not None else None
    places = [
        asking.path,
        *([there.path] if there is not None and there.store == asking.store else []),
    ]
    for path in places:
        folder = asking.disk.unknown_at(path)
        if folder is not None:
            why = _NOT_READ[asking.disk.unknown[folder]]
            yield Refusal(
                "disk",
                "unknown",
                f"unknown: {asking.called(folder)} {why}; read the disk again as root",
            )


def disk_obstacles(
    prepared: Prepared,
    account: PreparedAccount,
    right: str,
    place: Place,
    location: str,
    combination: str | None = None,
) -> Iterator[Refusal]:
    """What the disk has against a right at a folder: on a file in it, where the right is one on
    files; on one that is so.
    """
    inside = right in INSIDE or right in FILE_RIGHTS
    at = Place(place.store, child(place.path, "x")) if inside else place
    path = child(location, "x") if inside else location
    thing = "file" if right in FILE_RIGHTS else "folder"
    question = Question(account.name, right, path, thing=thing, combination=combination)
    yield from disk_gate(
        prepared, account, question, Sites(Location(path, None, at, False, None), None, False)
    )


class DiskFix(NamedTuple):
    """What lets a user do something on the disk, of one thing or of files in a folder that are
    alike.

    `planned` is what the thing becomes; where `owner` is another one, the user becomes its owner.
    `losing` are users who lose something by it, with the permissions that they lose.
    """

    called: str
    thing: ThingOnDisk
    planned: ThingOnDisk
    user: OsUser
    owner: str
    losing: tuple[tuple[str, int], ...] = ()

    def __str__(self) -> str:
        losing = [f"{name} loses {letters(lost)}" for name, lost in self.losing]
        then = self.planned
        as_list = (
            then.acl
            or f"u::{letters(then.mode >> 6)},g::{letters(then.mode >> 3)},o::{letters(then.mode)}"
        )
        if then.uid != self.thing.uid:
            cost = "; ".join([f"{self.owner} no longer owns it", *losing])
            is_same = (then.mode, then.acl) == (self.thing.mode, self.thing.acl)
            first = "" if is_same else f"setfacl --set {as_list}, then "
            return (
                f"make {self.user.name} the owner of {self.called}: {first}chown {self.user.name}"
                f" ({cost})"
            )
        have = letters(permissions(self.user, then))
        cost = f" ({'; '.join(losing)})" if losing else ""
        return f"give {self.user.name} {have} on {self.called}: setfacl --set {as_list}{cost}"


def disk_mends(
    prepared: Prepared, account: PreparedAccount, question: Question, sites: Sites
) -> Iterator[DiskFix]:
    """What would have to be let on the disk, thing by thing, so that nobody gains and as few as can
    be lose.
    """
    asking = _asking(prepared, account, question, sites)
    if asking is None or isinstance(asking, Refusal):
        return
    machine = Machine(asking.disk.reading.users)
    for _ in disk_gate(prepared, account, question, sites, asking):
        pass
    user = asking.user
    for (called, thing), wanted in asking.lacking.items():
        then = planned(thing, {user.uid: permissions(user, thing) | wanted}, machine)
        yield _fix(asking, machine, called, thing, then)
    for called, thing in asking.not_owned:
        # Who is no longer judged as the owner, or as another, keeps what it had.
        kept = {uid: permissions(other, thing) for uid, other in machine.users.items()}
        kept[user.uid] = permissions(user, thing)
        yield _fix(
            asking, machine, called, thing, planned(thing._replace(uid=user.uid), kept, machine)
        )


def _fix(
    asking: _Asking, machine: Machine, called: str, thing: ThingOnDisk, then: ThingOnDisk
) -> DiskFix:
    losing = tuple(
        (other.name, lost)
        for other in machine.users.values()
        if (lost := permissions(other, thing) & ~permissions(other, then))
    )
    return DiskFix(called, thing, then, asking.user, asking.disk.called(thing.uid), losing)


def disk_notes(
    prepared: Prepared, account: PreparedAccount, question: Question, sites: Sites
) -> list[str]:
    """What the gate let pass though it would not be so for each file."""
    asking = _asking(prepared, account, question, sites)
    if asking is None or isinstance(asking, Refusal):
        return []
    good, there = asking.good_files(), asking.meant(asking.folder)
    if good is None:
        return []
    if not there:
        return ["no files were read there: of the file itself nothing is known"]
    bad = sum(x.number for x in there if not good(x.thing))
    whole = sum(x.number for x in there)
    return (
        [f"of the {number_of(whole, 'file')} there it would not be so for {bad:,}"]
        if 0 < bad < whole
        else []
    )


def _asking(
    prepared: Prepared, account: PreparedAccount, question: Question, sites: Sites
) -> _Asking | Refusal | None:
    place = sites.here.place
    taken = None if place is None else taken_on(prepared, account, place.store)
    if place is None or taken is None:
        return None
    if taken.user is None:
        text = (
            f"the machine that {place.store} is on has no user {taken.name}, whom the server is to"
            f" take on for {account.name}; make one there, or set acts_as otherwise"
        )
        return Refusal("disk", "no-such-user", text)
    return _Asking(taken, taken.user, question, place)


def _at_place(asking: _Asking) -> Iterator[Refusal]:
    action, path, folder, disk = asking.question.action, asking.path, asking.folder, asking.disk
    if action in ("enter", "list"):
        yield from asking.way(path)
        if action == "list":
            yield from asking.may(disk.folder(path), READ, asking.called(path))
        return
    if path == "/":
        if action in ("delete-folder", "rename"):
            yield Refusal(
                "disk",
                "store-root",
                f"{asking.called('/')} is the root of its store, and stays where it is",
            )
        elif action == "set-attributes" and not asking.owns(disk.folder("/")):
            yield _not_owned(asking, disk.folder("/"))
        return
    yield from asking.way(folder)
    if action in ("upload", "make-folder"):
        yield from asking.may(disk.folder(folder), WRITE | SEARCH, asking.called(folder))
    elif action == "delete-file" or (action == "rename" and asking.question.on_file):
        files = [(asking.files_called(x), x.thing) for x in asking.meant(folder)]
        yield from asking.taking_away(folder, files)
    elif action in ("delete-folder", "rename"):
        yield from asking.taking_away(folder, [(asking.called(path), disk.folder(path))])
    elif action == "set-attributes" and not asking.question.on_file:
        if not asking.owns(disk.folder(path)):
            yield _not_owned(asking, disk.folder(path))
    else:
        yield from asking.file()


def _at_destination(asking: _Asking, path: str) -> Iterator[Refusal]:
    """Where something is moved to; and of a folder that comes under another parent, that it may be
    written itself.
    """
    folder, disk, question = parent(path), asking.disk, asking.question
    if path == "/":
        return
    if folder != asking.folder:
        yield from asking.way(folder)
        yield from asking.may(disk.folder(folder), WRITE | SEARCH, asking.called(folder))
        if question.thing == "folder":
            yield from asking.may(
                disk.folder(asking.path), WRITE, asking.called(asking.path), ", which is moved"
            )
    if question.replaces and question.on_file:
        replaced = [
            (f"{asking.files_called(x)}, which is replaced", x.thing) for x in disk.files(folder)
        ]
        yield from asking.taking_away(folder, replaced)


def _not_owned(asking: _Asking, thing: ThingOnDisk) -> Refusal:
    asking.not_owned[asking.called(asking.path), thing] = None
    text = f"{asking.who} does not own {asking.called(asking.path)}: {asking.in_words(thing, None)}"
    return Refusal("disk", "no-permission", text)
