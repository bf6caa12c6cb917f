"""May a user do something to one thing? As Linux decides it (POSIX.1e draft 17, section 23.5.1)."""

from __future__ import annotations

from collections.abc import Callable

from ..model.disk import OsUser, ThingOnDisk, letters

ROOT = 0
#: What a number of a user or a group is called.
Called = Callable[[int], str]


def lets(user: OsUser, thing: ThingOnDisk, wanted: int) -> bool:
    """May `user` do all of `wanted` (a sum of READ, WRITE and SEARCH) to it at once?"""
    if user.uid == ROOT:
        return True
    mode = thing.mode
    if user.uid == thing.uid:
        return mode >> 6 & wanted == wanted
    in_group = thing.gid == user.gid or thing.gid in user.groups
    acl = thing.acl
    if acl is None or not mode & 0o070:  # a list whose mask is empty is not looked at
        return (mode >> 3 if in_group else mode) & wanted == wanted
    mask = acl.mask if acl.mask is not None else 7
    for uid, permissions in acl.users:
        if uid == user.uid:
            return permissions & mask & wanted == wanted
    if in_group and acl.group & wanted == wanted:
        return mask & wanted == wanted
    found = in_group
    for gid, permissions in acl.groups:
        if gid == user.gid or gid in user.groups:
            found = True
            if permissions & wanted == wanted:
                return mask & wanted == wanted
    return not found and acl.other & wanted == wanted


def line(user: OsUser, thing: ThingOnDisk, wanted: int, group: Called) -> str:
    """What decides that, in words: as the owner, by which line of the list, within which mask, or
    as others.
    """
    mode, acl = thing.mode, thing.acl
    if user.uid == ROOT:
        return "user 0 is not asked"
    if user.uid == thing.uid:
        return f"its owner has {letters(mode >> 6)}"
    in_group = thing.gid == user.gid or thing.gid in user.groups
    if acl is None or not mode & 0o070:
        unread = (
            "; its access control list is not looked at, as its mask is empty"
            if acl is not None
            else ""
        )
        return (
            f"{group(thing.gid)} has {letters(mode >> 3)}"
            if in_group
            else f"others have {letters(mode)}"
        ) + unread
    mask = acl.mask if acl.mask is not None else 7
    within = "" if mask == 7 else f" within the mask {letters(mask)}"
    own = next((permissions for uid, permissions in acl.users if uid == user.uid), None)
    if own is not None:
        return f"the user's own line has {letters(own)}{within}"
    there = [(thing.gid, acl.group)] if in_group else []
    there += [(gid, p) for gid, p in acl.groups if gid == user.gid or gid in user.groups]
    if not there:
        return f"others have {letters(acl.other)}"
    one = next(((gid, p) for gid, p in there if p & wanted == wanted), None)
    if one is not None:
        return f"{group(one[0])} has {letters(one[1])}{within}"
    return " and ".join(f"{group(gid)} has {letters(p)}" for gid, p in there) + within
