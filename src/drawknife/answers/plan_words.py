"""A plan of a disk in words: what becomes otherwise, and why lists cannot say the rest."""

from __future__ import annotations

from drawknife.core.disk.read_folders import Disk
from drawknife.core.everybody.drift import Drift
from drawknife.core.everybody.planned_disk import Plan
from drawknife.core.model.disk import STICKY, Acl, ThingOnDisk, letters
from drawknife.core.words.sizes import number_of, several

_ONE_WRITE = "putting, renaming and deleting in a folder are one permission, write"
_OF_FILES = "overwriting and appending are one permission of a file, write"
_WIDER = {
    "upload": _ONE_WRITE,
    "make-folder": _ONE_WRITE,
    "rename": _ONE_WRITE,
    "delete-file": _ONE_WRITE,
    "delete-folder": _ONE_WRITE,
    "overwrite": _OF_FILES,
    "append": _OF_FILES,
    "enter": "who is led to what lies below has to pass through",
    "set-attributes": "who owns something may change its attributes",
    "set-folder-attributes": "who owns something may change its attributes",
    "rename-folder": _ONE_WRITE,
}
_STICKY = (
    "the folder is to be sticky, so that others' things stay: only who owns the thing or the folder"
    " takes it away"
)
_REFUSED = {
    "set-attributes": "only who owns something may change its attributes",
    "rename": _STICKY,
    "delete-file": _STICKY,
    "delete-folder": _STICKY,
    "rename-folder": _STICKY,
    "set-folder-attributes": "only who owns something may change its attributes",
}


def reasons(row: Drift) -> list[str]:
    """Why lists cannot say what is not said."""
    found = [_REFUSED.get(right) or row.reason or "" for right in row.refused]
    if row.reason is not None and "on the way to" in row.reason:
        found = [row.reason]
    found += [_WIDER.get(right, "it acts as a user that is let more") for right in row.wider]
    return [x for x in dict.fromkeys(found) if x]


def plan_notes(plan: Plan) -> list[str]:
    """What else is to be known of a plan."""
    notes = []
    if plan.owners:
        owning = several(plan.owners, 3)
        notes.append(
            f"what somebody owns, its attributes and its list, stays theirs to change: {owning} own"
            " something there"
        )
    if plan.lost:
        some = several((f"{path} ({number})" for path, number in plan.lost), 3)
        notes.append(f"users that no account acts as lose there what they had as others: {some}")
    if any(step.perhaps for step in plan.steps):
        count = len({step.path for step in plan.steps if step.perhaps})
        notes.append(
            f"{number_of(count, 'folder')} of the model may not be there: the reading does not tell"
        )
    return [*notes, *plan.left_out]


def differences(now: ThingOnDisk, planned: ThingOnDisk, disk: Disk) -> list[str]:
    """What of a thing becomes otherwise, line by line: ``+`` comes, ``-`` goes."""
    found = []
    if (now.mode ^ planned.mode) & STICKY:
        found.append(
            "+ sticky: what is in it is taken away by who owns that or the folder"
            if planned.mode & STICKY
            else "- sticky"
        )
    for prefix, was, then in (
        ("", _lines(now, disk), _lines(planned, disk)),
        ("for what is made: ", _of(now.default, disk), _of(planned.default, disk)),
    ):
        found += [f"- {prefix}{line}" for line in was if line not in then]
        found += [f"+ {prefix}{line}" for line in then if line not in was]
    return found


def _lines(thing: ThingOnDisk, disk: Disk) -> list[str]:
    if thing.acl is not None:
        return _of(thing.acl, disk)
    mode = thing.mode
    return [f"owner {letters(mode >> 6)}", f"group {letters(mode >> 3)}", f"others {letters(mode)}"]


def _of(acl: Acl | None, disk: Disk) -> list[str]:
    if acl is None:
        return []
    lines = [
        f"owner {letters(acl.owner)}",
        *(f"user {disk.called(uid)} {letters(p)}" for uid, p in acl.users),
    ]
    lines += [
        f"group {letters(acl.group)}",
        *(f"{disk.group(gid)} {letters(p)}" for gid, p in acl.groups),
    ]
    return [
        *lines,
        *([] if acl.mask is None else [f"mask {letters(acl.mask)}"]),
        f"others {letters(acl.other)}",
    ]
