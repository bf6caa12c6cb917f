"""May a user do something to one thing? As Linux decides it (POSIX.1e draft 17, section 23.5.1)."""

from __future__ import annotations

from typing import NamedTuple

from ..model.disk import OsUser, Thing

ROOT = 0


class Decided(NamedTuple):
    """Whether it is let, and the line that decided, with ids in the place of names."""

    lets: bool
    line: str


def lets(user: OsUser, thing: Thing, wanted: int) -> bool:
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
    found = False
    if in_group:
        found = True
        if acl.group & wanted == wanted:
            return mask & wanted == wanted
    for gid, permissions in acl.groups:
        if gid == user.gid or gid in user.groups:
            found = True
            if permissions & wanted == wanted:
                return mask & wanted == wanted
    return not found and acl.other & wanted == wanted


def decide(user: OsUser, thing: Thing, wanted: int) -> Decided:
    """The same, with the line that decided."""
    found = lets(user, thing, wanted)
    return Decided(found, _line(user, thing, wanted))


def _letters(permissions: int) -> str:
    return "".join(letter if permissions & bit else "-" for letter, bit in (("r", 4), ("w", 2), ("x", 1)))


def _line(user: OsUser, thing: Thing, wanted: int) -> str:
    mode, acl = thing.mode, thing.acl
    if user.uid == ROOT:
        return "user 0 is not asked"
    if user.uid == thing.uid:
        return f"as its owner: {_letters(mode >> 6)}"
    in_group = thing.gid == user.gid or thing.gid in user.groups
    if acl is None or not mode & 0o070:
        unread = "; its access control list is not looked at, as its mask is empty" if acl is not None else ""
        return (
            f"as of group {thing.gid}: {_letters(mode >> 3)}" if in_group else f"as others: {_letters(mode)}"
        ) + unread
    mask = acl.mask if acl.mask is not None else 7
    within = "" if mask == 7 else f", within the mask {_letters(mask)}"
    for uid, permissions in acl.users:
        if uid == user.uid:
            return f"by the line of user {uid}: {_letters(permissions)}{within}"
    there = [(thing.gid, acl.group)] if in_group else []
    there += [(gid, p) for gid, p in acl.groups if gid == user.gid or gid in user.groups]
    if not there:
        return f"as others: {_letters(acl.other)}"
    one = next(((gid, p) for gid, p in there if p & wanted == wanted), None)
    if one is not None:
        return f"by the line of group {one[0]}: {_letters(one[1])}{within}"
    each = " and ".join(f"of group {gid}: {_letters(p)}" for gid, p in there)
    return f"by the line{'s' if len(there) > 1 else ''} {each}{within}; who is in a group is not judged as others"
