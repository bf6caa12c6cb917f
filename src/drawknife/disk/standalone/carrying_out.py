"""A plan carried out on a disk, and put back."""

from __future__ import annotations

import os
import stat
import sys
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import Any, NamedTuple

from .file_names import location_of, shown
from .lists_and_modes import (
    READ,
    SEARCH,
    WRITE,
    NotKept,
    Thing,
    User,
    allows,
    as_getfacl,
    kept_things,
    made_below,
    thing_from_text,
)
from .opened_things import closing, open_below, opened, opened_if_there, put, thing_at

#: So many things are noted at once before they are changed.
BATCH = 1000

#: Takes what a batch of things was, as text of getfacl, and has it safe on disk when it returns.
Keep = Callable[[bytes], None]
Progress = Callable[[int], None]


# --- the plan -----------------------------------------------------------------------------------


class Plan:
    """What was read, and what becomes of it. `data` is what plan_text.py makes of a plan."""

    def __init__(self, data: dict[str, Any]) -> None:
        self.under: str = data["under"]
        self.listed = {path: thing_from_text(text) for path, text in data["listed"].items()}
        self.files = {path: set(map(thing_from_text, some)) for path, some in data["files"].items()}
        self.folders = {path: thing_from_text(text) for path, text in data["folders"].items()}
        self.perhaps = set(data["perhaps"])
        self.becoming = {
            path: {thing_from_text(now): thing_from_text(then) for now, then in some.items()}
            for path, some in data["becoming"].items()
        }
        self.below = {
            path: {how_far: thing_from_text(then) for how_far, then in some.items()}
            for path, some in data["below"].items()
        }
        self._with_steps = {"/", *data["with_steps"]}
        self.users = [
            User(uid, gid, tuple(groups)) for uid, gid, groups in data["users"] if uid != 0
        ]

    def as_read(self, path: str) -> Thing:
        """What a folder was when the disk was read."""
        found, at = self.listed.get(path), path
        while found is None:
            at = at.rpartition("/")[0] or "/"
            if at in self.listed:
                found = made_below(self.listed[at])
        return found

    def folder(self, path: str, now: Thing) -> Thing:
        """What a folder becomes that is as it was read."""
        at, level = path, 0
        while at not in self._with_steps:
            at, level = at.rpartition("/")[0] or "/", level + 1
        if not level:
            return self.folders.get(path, now)
        below = self.below.get(at, {})
        return below.get("below") or below.get("children" if level == 1 else "deeper") or now

    def file(self, folder: str, now: Thing) -> Thing:
        """What a file in a folder becomes."""
        return self.becoming.get(folder, {}).get(now, now)

    def gaining_search(self, now: Thing, then: Thing) -> list[User]:
        """Users who can pass a folder as it will be, and cannot as it is; of those not known one
        for each group, and a stranger.
        """
        gids = {then.gid, *(gid for gid, _ in then.acl.groups)} if then.acl else {then.gid}
        named = {uid for uid, _ in then.acl.users} if then.acl else set()
        known = {user.uid for user in self.users}
        others = [User(-1, gid) for gid in sorted(gids)] + [
            User(uid, -1) for uid in sorted(named - known - {0})
        ]
        every = [*self.users, *others, User(-1, -1)]
        return [
            user for user in every if allows(user, then, SEARCH) and not allows(user, now, SEARCH)
        ]


# --- the disk -----------------------------------------------------------------------------------


class Found(NamedTuple):
    """A thing below the root: its path, where it is in the store (empty for a file), what it is,
    and what it becomes.
    """

    path: bytes
    location: str
    now: Thing
    then: Thing


class Left(NamedTuple):
    """A thing that is left alone, and why.

    `now` None: it is not there, or its permissions are not known.
    """

    path: bytes
    why: str
    now: Thing | None


class Done:
    """How many things were changed, and which were left alone."""

    def __init__(self) -> None:
        self.changed = 0
        self.left: list[Left] = []

    def in_words(self) -> list[str]:
        """A line for each thing that was left alone."""
        return [f"{shown(b'/' + left.path)}: {left.why}" for left in self.left]


def _shown(path: bytes) -> str:
    return shown(b"/" + path)


NOT_AS_READ = "changed since it was read; everything below it is left, too"


def carry_out(
    root: str, data: dict[str, Any], keep: Keep, progress: Progress | None = None
) -> Done:
    """Make the disk at `root` what a plan says.

    OSError where something cannot be done; what was done until then is kept.
    """
    plan, done = Plan(data), Done()
    with opened(os.fsencode(os.path.realpath(root)), None) as top:
        found, folders = _look(top, plan, done, progress)
        # Folders come after everything in them.
        found.reverse()
        for at in range(0, len(found), BATCH):
            batch = found[at : at + BATCH]
            keep(b"".join(as_getfacl(each.path, each.now) for each in batch))
            for each in batch:
                _change(top, plan, each, folders, done)
    return done


def _look(
    top: int, plan: Plan, done: Done, progress: Progress | None
) -> tuple[list[Found], dict[bytes, Thing]]:
    """What is to change, each folder before what is in it; and what each folder is that was come
    to.
    """
    start = plan.under.strip("/").encode()
    found: list[Found] = []
    folders: dict[bytes, Thing] = {}
    met = set()
    todo = [(start, plan.under)]
    device = os.fstat(top).st_dev
    seen = 0
    while todo:
        path, location = todo.pop()
        try:
            fd = open_below(top, path, os.O_RDONLY | os.O_DIRECTORY)
        except FileNotFoundError:
            done.left.append(Left(path, "gone since it was read", None))
            continue
        with closing(fd):
            now = thing_at(fd, True)
            met.add(location)
            if now != plan.as_read(location):
                done.left.append(Left(path, NOT_AS_READ, now))
                continue
            folders[path] = now
            found.append(Found(path, location, now, plan.folder(location, now)))
            for name in sorted(map(os.fsencode, os.listdir(fd))):
                seen += 1
                if progress is not None and seen % BATCH == 0:
                    progress(seen)
                below = os.path.join(path, name)
                with opened_if_there(name, fd) as thing:
                    if thing is not None:
                        inner = _look_at(
                            thing, below, location, name, device, plan=plan, found=found, done=done
                        )
                        todo += [(below, inner)] if inner is not None else []
    for location in plan.folders.keys() - met - plan.perhaps:
        if _is_below(location, plan.under) and not any(
            _is_below(location, "/" + os.fsdecode(left.path)) for left in done.left
        ):
            done.left.append(Left(os.fsencode(location.strip("/")), "gone since it was read", None))
    return [each for each in found if each.then != each.now], folders


def _is_below(location: str, top: str) -> bool:
    return location == top or location.startswith(top.rstrip("/") + "/")


def _look_at(
    fd: int,
    path: bytes,
    folder: str,
    name: bytes,
    device: int,
    *,
    plan: Plan,
    found: list[Found],
    done: Done,
) -> str | None:
    """Look at one thing in a folder; where it is in the store if it is a folder to go into."""
    status = os.fstat(fd)
    if stat.S_ISLNK(status.st_mode):
        return None
    now = thing_at(fd, stat.S_ISDIR(status.st_mode))
    if stat.S_ISREG(status.st_mode):
        then = plan.file(folder, now)
        if now not in plan.files.get(folder, ()):
            done.left.append(Left(path, "changed since it was read", now))
        elif then != now and status.st_nlink > 1:
            why = f"has {status.st_nlink} names, and others may lie elsewhere"
            done.left.append(Left(path, why, now))
        else:
            found.append(Found(path, "", now, then))
        return None
    if not stat.S_ISDIR(status.st_mode):
        done.left.append(Left(path, "neither a file nor a folder", now))
    elif status.st_dev != device:
        done.left.append(Left(path, "another file system, which was not read", now))
    else:
        location = location_of(folder, name)
        if location is not None:
            return location
        done.left.append(Left(path, "not read, as a model cannot hold its name", now))
    return None


def _change(top: int, plan: Plan, each: Found, folders: dict[bytes, Thing], done: Done) -> None:
    """Change one thing, if it is still as it was seen, and nobody gets to something by it that is
    left alone.
    """
    if each.location and (left := _opened_up(plan, each, folders, done)) is not None:
        why = (
            f"opening it would give more users access to {shown(b'/' + left.path)}, which is not"
            " changed"
        )
        done.left.append(Left(each.path, why, each.now))
        return
    try:
        fd = open_below(top, each.path, os.O_PATH)
    except (FileNotFoundError, NotADirectoryError):
        done.left.append(Left(each.path, "gone since it was read", None))
        return
    with closing(fd):
        if thing_at(fd, bool(each.location)) != each.now:
            done.left.append(Left(each.path, "changed meanwhile", each.now))
            return
        put(fd, each.path, each.now, each.then)
        done.changed += 1
        if each.location:
            folders[each.path] = each.then


def _opened_up(plan: Plan, each: Found, folders: dict[bytes, Thing], done: Done) -> Left | None:
    """What is left alone below a folder, and could be used by somebody who can pass the folder only
    once it is changed.
    """
    some = [left for left in done.left if left.now is not None and _lies_in(left.path, each.path)]
    users = plan.gaining_search(each.now, each.then) if some else []
    for left in some:
        for user in users:
            if _can_come_to(user, left.path, each.path, folders) and _can_use(user, left.now):
                return left
    return None


def _lies_in(path: bytes, folder: bytes) -> bool:
    return not folder or path.startswith(folder + b"/")


def _can_come_to(user: User, path: bytes, folder: bytes, folders: dict[bytes, Thing]) -> bool:
    """Can a user pass every folder between one and something below it?

    One that is not known is taken to be passed.
    """
    at = os.path.dirname(path)
    while at != folder:
        thing = folders.get(at)
        if thing is not None and not allows(user, thing, SEARCH):
            return False
        at = os.path.dirname(at)
    return True


def _can_use(user: User, thing: Thing | None) -> bool:
    return thing is None or any(allows(user, thing, bit) for bit in (READ, WRITE, SEARCH))


def put_back(root: str, text: bytes) -> Done:
    """Put back what was kept, the folders first.

    :class:`NotKept` before anything is changed; OSError as above.
    """
    was = kept_things(text)
    done = Done()
    with opened(os.fsencode(os.path.realpath(root)), None) as top:
        for path, thing in reversed(was):
            try:
                fd = open_below(top, path, os.O_PATH)
            except (FileNotFoundError, NotADirectoryError):
                done.left.append(Left(path, "does not exist any more", None))
                continue
            with closing(fd):
                status = os.fstat(fd)
                if stat.S_ISLNK(status.st_mode):
                    done.left.append(Left(path, "is a link now", None))
                    continue
                now = thing_at(fd, stat.S_ISDIR(status.st_mode))
                wanted = thing._replace(uid=now.uid, gid=now.gid)
                if wanted != now:
                    put(fd, path, now, wanted)
                    done.changed += 1
    return done


# --- a file of what was -------------------------------------------------------------------------


@contextmanager
def kept_in(name: str) -> Iterator[Keep]:
    """A new file, for nobody else, in which is kept what things were.

    One that nothing was kept in is removed.
    """
    fd = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
    size = 0

    def keep(text: bytes) -> None:
        nonlocal size
        if not size:
            _sync_folder(os.path.dirname(os.path.abspath(name)))
        at = memoryview(text)
        while at:
            at = at[os.write(fd, at) :]
        os.fdatasync(fd)
        size += len(text)

    try:
        yield keep
    finally:
        os.close(fd)
        if not size:
            os.unlink(name)


def _sync_folder(path: str) -> None:
    with opened(os.fsencode(path), None) as fd:
        os.fsync(fd)


def main(data: dict[str, Any], arguments: Iterable[str]) -> int:
    """Run as a script: with ``undo`` it puts back what it kept.

    Exit status 1 where something went wrong, 3 where things were left.
    """
    root, kept = data["root"], f"{data['store']}-before.acl"
    undoing = list(arguments) == ["undo"]
    try:
        if undoing:
            with open(kept, "rb") as file:
                done = put_back(root, file.read())
        else:
            with kept_in(kept) as keep:
                done = carry_out(root, data, keep)
    except FileExistsError:
        print(
            f"{kept} already exists, and may be needed to undo an earlier run. Move it away, or"
            " undo first.",
            file=sys.stderr,
        )
        return 1
    except (OSError, NotKept) as error:
        print(
            f"{error}; run with `undo` to put back what was changed" if not undoing else str(error),
            file=sys.stderr,
        )
        return 1
    print(
        f"{done.changed} things"
        f" {'put back' if undoing else f'changed; what they were is in {kept}'}"
    )
    for line in done.in_words():
        print(f"not changed: {line}")
    return 3 if done.left else 0
