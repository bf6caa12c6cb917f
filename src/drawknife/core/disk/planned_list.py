"""An access control list that lets each user do exactly what is wanted of one thing, with as few
lines as groups make it.

Of users of whom nothing is wanted, those who have something as the thing's owner, by a line of
their own or by one of a group, keep it; what they had as others may go.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from ..model.disk import READ, SEARCH, WRITE, Acl, OsUser, ThingOnDisk
from .one_object import ROOT, lets


class Machine:
    """The users of a machine by number, and who is in which group.

    Two names of one number are one user here.
    """

    def __init__(self, users: tuple[OsUser, ...]) -> None:
        self.users: dict[int, OsUser] = {}
        self.members: dict[int, set[int]] = {}
        for user in users:
            if user.uid == ROOT:
                continue
            before = self.users.get(user.uid)
            groups = {user.gid, *user.groups} | ({before.gid, *before.groups} if before else set())
            self.users[user.uid] = OsUser(
                user.name, user.uid, user.gid, tuple(sorted(groups - {user.gid}))
            )
            for gid in groups:
                self.members.setdefault(gid, set()).add(user.uid)


class WantedAccess(NamedTuple):
    """What the model lets users do at one folder, by number: with the folder; with others' files;
    with their own.

    Users that nothing leads there are none of these: they keep what they have; those in `passing`
    pass through besides. Those in `shut` come so far only with the plan: they pass, if they are in
    `passing`, and can do nothing else there.
    """

    folder: dict[int, int]
    files: dict[int, int]
    owning: dict[int, int]
    #: Is what others put there nobody's to take away, but for the folder's owner; None where nobody
    #: may take anything.
    sticky: frozenset[int] | None
    passing: tuple[int, ...]
    shut: frozenset[int]


def permissions(user: OsUser, thing: ThingOnDisk) -> int:
    """All that a user may do to one thing, asked one by one."""
    return sum(bit for bit in (READ, WRITE, SEARCH) if lets(user, thing, bit))


def planned(
    thing: ThingOnDisk,
    wanted: Mapping[int, int],
    machine: Machine,
    default: bool = False,
    of_unknown: int | None = None,
) -> ThingOnDisk:
    """The same thing with a list by which each user (by number) has what is wanted, and whoever is
    not named keeps what it has.

    With `default`, it is the list of what will be made in a folder: by whom is not known, and its
    maker has all. Where its group is not known either, that group has `of_unknown`.
    """
    has = {
        uid: permissions(user, thing) for uid, user in machine.users.items() if uid not in wanted
    }
    kept = {uid: p for uid, p in has.items() if not _as_others(machine.users[uid], thing)}
    limit = {**has, **wanted}  # a line of a group gives nobody more than that
    owner = 7 if default else wanted.get(thing.uid, thing.mode >> 6 & 7)
    asked = {uid: p for uid, p in wanted.items() if uid != thing.uid}
    acl = thing.acl
    others = (acl.other if acl else thing.mode) & 7
    for p in asked.values():
        others &= p
    mask = 7 if acl is None or acl.mask is None else acl.mask
    gives = {gid: p & mask for gid, p in acl.groups} if acl else {}
    gives[thing.gid] = (acl.group if acl else thing.mode >> 3 & 7) & mask
    lines: dict[int, int] = {}
    # Of a group nobody of which is known, what it has is left.
    lines[thing.gid] = (
        _least(thing.gid, limit, machine, thing.uid, gives[thing.gid])
        if of_unknown is None
        else of_unknown
    )
    for gid in gives:
        if gid != thing.gid and not machine.members.get(gid):
            lines[gid] = gives[gid]
    left = {
        uid: p
        for uid, p in {**kept, **asked}.items()
        if uid != thing.uid and not _covered(uid, p, lines, machine)
    }
    for gid, p in _groups_that_serve(left, limit, gives, machine, thing.uid):
        if gid not in lines and sum(left.get(uid) == p for uid in machine.members[gid]) >= (
            1 if gid in gives else 2
        ):
            lines[gid] = p
            left = {uid: x for uid, x in left.items() if not _covered(uid, x, lines, machine)}
    named = {uid: p for uid, p in left.items() if p != others or _in_any(uid, lines, machine)}
    for uid, p in acl.users if acl else ():
        if uid not in machine.users and uid not in (thing.uid, ROOT):
            named[uid] = p & mask
    return _dressed(thing, owner, named, lines, others)


def _dressed(
    thing: ThingOnDisk, owner: int, named: dict[int, int], lines: dict[int, int], others: int
) -> ThingOnDisk:
    group = lines.pop(thing.gid)
    bits = thing.mode & 0o7000 | owner << 6 | others
    if not named and not lines:
        return thing._replace(mode=bits | group << 3, acl=None)
    mask = group
    for p in (*named.values(), *lines.values()):
        mask |= p
    mask = mask or READ  # a list whose mask is empty is not looked at
    acl = Acl(
        owner, tuple(sorted(named.items())), group, tuple(sorted(lines.items())), mask, others
    )
    return thing._replace(mode=bits | mask << 3, acl=acl)


def _as_others(user: OsUser, thing: ThingOnDisk) -> bool:
    """Has a user what it has only as everybody else has it?"""
    acl = thing.acl
    if user.uid == thing.uid or (
        acl is not None and thing.mode & 0o070 and user.uid in dict(acl.users)
    ):
        return False
    groups = {thing.gid} | (
        {gid for gid, _ in acl.groups} if acl is not None and thing.mode & 0o070 else set()
    )
    return groups.isdisjoint((user.gid, *user.groups))


def _least(gid: int, limit: Mapping[int, int], machine: Machine, owner: int, nobody: int) -> int:
    """What all that are known of a group may have; `nobody` where none is."""
    found, any_ = 7, False
    for uid in machine.members.get(gid, ()):
        if uid != owner:
            found &= limit[uid]
            any_ = True
    return found if any_ else nobody


def _groups_that_serve(
    left: Mapping[int, int],
    limit: Mapping[int, int],
    gives: Mapping[int, int],
    machine: Machine,
    owner: int,
) -> list[tuple[int, int]]:
    """Groups of which every member may have the same, those first that serve most of
    whom is left.
    """
    found = []
    for gid, members in machine.members.items():
        least = _least(gid, limit, machine, owner, 0)
        serves = sum(left.get(uid) == least for uid in members)
        if least and serves:
            found.append((-serves, gid not in gives, gid, least))
    return [(gid, least) for *_, gid, least in sorted(found)]


def _covered(uid: int, wanted: int, lines: Mapping[int, int], machine: Machine) -> bool:
    """Does a single line of a group let a user do all that is wanted? None lets it do more."""
    user = machine.users.get(uid)
    return user is not None and any(lines.get(gid) == wanted for gid in (user.gid, *user.groups))


def _in_any(uid: int, lines: Mapping[int, int], machine: Machine) -> bool:
    user = machine.users.get(uid)
    return user is not None and not lines.keys().isdisjoint((user.gid, *user.groups))


def plain_acl(mode: int) -> Acl:
    """The list that says what a mode says."""
    return Acl(mode >> 6 & 7, (), mode >> 3 & 7, (), None, mode & 7)
