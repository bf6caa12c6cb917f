"""NFSv4 access control lists as nfs4_getfacl writes them (RFC 8881, section 6.2.1), as entries of a
descriptor.

Permissions have the numbers that they have in a security descriptor, and lists are evaluated alike:
an entry after another, each bit by the first that names it. Identifiers are ``user:NAME`` and
``group:NAME``, or one that ends with ``@``.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from functools import lru_cache
from urllib.parse import quote, unquote

from ..words.names import BadValue
from .descriptors import (
    CONTAINER_INHERIT,
    INHERIT_ONLY,
    INHERITED,
    NO_PROPAGATE,
    OBJECT_INHERIT,
    Ace,
    Descriptor,
)
from .lines import Subject

#: How a line of a folder with such a list begins.
MARK = "NFS4"
OWNER_AT, GROUP_AT, EVERYONE_AT = "OWNER@", "GROUP@", "EVERYONE@"
AUTHENTICATED_AT, ANONYMOUS_AT = "AUTHENTICATED@", "ANONYMOUS@"
#: Those of whom a model cannot tell who they are: by the kind of connection to the machine.
_BY_CONNECTION = {"INTERACTIVE@", "NETWORK@", "DIALUP@", "BATCH@", "SERVICE@"}
_SPECIAL = {OWNER_AT, GROUP_AT, EVERYONE_AT, AUTHENTICATED_AT, ANONYMOUS_AT, *_BY_CONNECTION}
_FLAGS = {
    "f": OBJECT_INHERIT,
    "d": CONTAINER_INHERIT,
    "n": NO_PROPAGATE,
    "i": INHERIT_ONLY,
    "I": INHERITED,
}
_PERMISSIONS = {
    "r": 0x1,
    "w": 0x2,
    "a": 0x4,
    "x": 0x20,
    "d": 0x10000,
    "D": 0x40,
    "t": 0x80,
    "T": 0x100,
    "n": 0x8,
    "N": 0x10,
    "c": 0x20000,
    "C": 0x40000,
    "o": 0x80000,
    "y": 0x100000,
}
_ENTRY = re.compile(r"([ADUL]):([fdniIgSF]*):(.+):([a-zA-Z]*)")


class Nfs4Ace(Ace):
    """An entry of an NFSv4 list."""

    __slots__ = ()

    def __str__(self) -> str:
        flags = "".join(letter for letter, bit in _FLAGS.items() if self.flags & bit)
        kind, _, name = self.sid.partition(":")
        flags += "g" if kind == "group" or self.sid == GROUP_AT else ""
        permissions = "".join(letter for letter, bit in _PERMISSIONS.items() if self.mask & bit)
        return f"{'A' if self.allows else 'D'}:{flags}:{name or kind}:{permissions}"


class Nfs4Descriptor(Descriptor):
    """The owner, the group and the NFSv4 list of a folder."""

    __slots__ = ()

    def __str__(self) -> str:
        parts = [MARK, f"O:{_quoted(self.owner or '')}", f"G:{_quoted(self.group or '')}"]
        return " ".join([*parts, *(_quoted(str(ace)) for ace in self.aces or ())])


def parse_entries(lines: Iterable[str]) -> tuple[tuple[Nfs4Ace, ...], int]:
    """Entries, and how many were left out: those of audits and alarms.

    BadValue with one that is none.
    """
    found = []
    left_out = 0
    for line in lines:
        parts = _ENTRY.fullmatch(line)
        if parts is None:
            raise BadValue(
                f"{line!r} is not an entry of an NFSv4 list", "such as A:fd:ines@example.org:rxtncy"
            )
        kind, flags, who, permissions = parts.groups()
        if kind in "UL":
            left_out += 1
            continue
        unknown = set(permissions) - _PERMISSIONS.keys()
        if unknown:
            raise BadValue(
                f"{line!r} has an unknown permission {sorted(unknown)[0]!r}",
                "some of " + "".join(_PERMISSIONS),
            )
        bits = sum(_FLAGS.get(letter, 0) for letter in set(flags))
        mask = sum(_PERMISSIONS[letter] for letter in set(permissions))
        found.append(Nfs4Ace(kind == "A", bits, mask, _identifier(who, "g" in flags)))
    return tuple(found), left_out


@lru_cache(1 << 14)
def parse_nfs4(text: str) -> Nfs4Descriptor:
    """A descriptor as its ``str`` writes it: ``NFS4 O:OWNER G:GROUP ENTRY…``."""
    mark, *parts = text.split(" ")
    if mark != MARK or len(parts) < 2 or parts[0][:2] != "O:" or parts[1][:2] != "G:":
        raise BadValue(
            f"{text[:80]!r} is not an NFSv4 list",
            "NFS4 O:user:ines G:group:survey A::OWNER@:rwaDxtTnNcCoy",
        )
    aces, left_out = parse_entries(map(unquote, parts[2:]))
    owner, group = (unquote(part[2:]) or None for part in parts[:2])
    return Nfs4Descriptor(owner, False, aces, left_out, group)


def principal(subject: Subject, name: str) -> str:
    """The identifier of an account, a group or a unit by its name on the NFS server, such as
    ``ines@example.org``.
    """
    special = name.upper()
    if special in _SPECIAL:
        raise BadValue(f"{name!r} is not a user or group", "such as ines@example.org")
    return f"{'user' if subject.kind == 'account' else 'group'}:{name}"


def _identifier(who: str, is_group: bool) -> str:
    return who if who in _SPECIAL else f"{'group' if is_group else 'user'}:{who}"


def _quoted(text: str) -> str:
    """Text without spaces."""
    return quote(text, safe="@:.\\$+=,~!*'()[]{}<>#&;^`|\"?" + "/")
