"""Security descriptors as they are written: SDDL (MS-DTYP, section 2.5.1), of which owner and
discretionary list count here.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

from ..words.names import BadValue

OBJECT_INHERIT, CONTAINER_INHERIT, NO_PROPAGATE, INHERIT_ONLY, INHERITED = 1, 2, 4, 8, 16
#: Flags of an entry, in the order in which they are written.
FLAGS = {
    "OI": OBJECT_INHERIT,
    "CI": CONTAINER_INHERIT,
    "NP": NO_PROPAGATE,
    "IO": INHERIT_ONLY,
    "ID": INHERITED,
}
EVERYONE, AUTHENTICATED, ANONYMOUS = "S-1-1-0", "S-1-5-11", "S-1-5-7"
CREATOR_OWNER, OWNER_RIGHTS = "S-1-3-0", "S-1-3-4"
WELL_KNOWN = {
    "WD": EVERYONE,
    "AU": AUTHENTICATED,
    "AN": ANONYMOUS,
    "CO": CREATOR_OWNER,
    "OW": OWNER_RIGHTS,
    "CG": "S-1-3-1",
    "BA": "S-1-5-32-544",
    "BU": "S-1-5-32-545",
    "BG": "S-1-5-32-546",
    "PU": "S-1-5-32-547",
    "BO": "S-1-5-32-551",
    "SY": "S-1-5-18",
    "LS": "S-1-5-19",
    "NS": "S-1-5-20",
    "IU": "S-1-5-4",
    "NU": "S-1-5-2",
    "SU": "S-1-5-6",
    "PS": "S-1-5-10",
    "RC": "S-1-5-12",
}
#: Identifiers of a domain that is not named: they stay as they are written.
OF_A_DOMAIN = frozenset(
    [
        "LA",
        "LG",
        "DA",
        "DU",
        "DG",
        "DC",
        "DD",
        "CA",
        "SA",
        "EA",
        "PA",
        "RS",
        "ED",
        "AO",
        "SO",
        "RU",
        "CN",
        "AP",
        "KA",
        "EK",
        "MU",
        "RD",
        "NO",
        "IS",
        "CY",
        "RE",
        "AC",
        "ER",
        "RA",
        "ES",
        "MS",
        "HA",
        "AA",
        "RM",
    ]
)
_LETTERS = {sid: letters for letters, sid in WELL_KNOWN.items()}
#: Rights by their letters; those of files are sums of several.
RIGHTS_OF = {
    "CC": 0x1,
    "DC": 0x2,
    "LC": 0x4,
    "SW": 0x8,
    "RP": 0x10,
    "WP": 0x20,
    "DT": 0x40,
    "LO": 0x80,
    "CR": 0x100,
    "SD": 0x10000,
    "RC": 0x20000,
    "WD": 0x40000,
    "WO": 0x80000,
    "SY": 0x100000,
    "FA": 0x1F01FF,
    "FR": 0x120089,
    "FW": 0x120116,
    "FX": 0x1200A0,
    "GA": 0x1F01FF,
    "GR": 0x120089,
    "GW": 0x120116,
    "GX": 0x1200A0,
}
_GENERIC = {0x10000000: 0x1F01FF, 0x80000000: 0x120089, 0x40000000: 0x120116, 0x20000000: 0x1200A0}


class Ace(NamedTuple):
    """An entry of a list: it allows or denies the rights of `mask` to a security identifier."""

    allows: bool
    flags: int
    mask: int
    sid: str

    def __str__(self) -> str:
        flags = "".join(letters for letters, bit in FLAGS.items() if self.flags & bit)
        mask = "FA" if self.mask == RIGHTS_OF["FA"] else f"0x{self.mask:x}"
        return (
            f"({'A' if self.allows else 'D'};{flags};{mask};;;{_LETTERS.get(self.sid, self.sid)})"
        )


class Descriptor(NamedTuple):
    """Who owns a thing, and who may do what to it.

    `aces` None: there is no list, and everybody may do everything.

    `left_out` counts entries of kinds that are not judged: of objects, with conditions. `group` is
    known of NFSv4 lists only.
    """

    owner: str | None
    protected: bool = False
    aces: tuple[Ace, ...] | None = ()
    left_out: int = 0
    group: str | None = None

    def __str__(self) -> str:
        owner = "" if self.owner is None else f"O:{_LETTERS.get(self.owner, self.owner)}"
        if self.aces is None:
            return f"{owner}D:NO_ACCESS_CONTROL"
        return f"{owner}D:{'P' if self.protected else ''}AI{''.join(map(str, self.aces))}"


_SID = re.compile(r"S-1-\d{1,15}(-\d{1,10}){1,15}")


def parse_sid(text: str) -> str:
    """A security identifier, in the form S-1-…"""
    found = WELL_KNOWN.get(text.upper(), text.upper())
    if _SID.fullmatch(found) is None and found not in OF_A_DOMAIN:
        raise BadValue(
            f"{text!r} is no security identifier",
            "such as S-1-5-21-1004336348-1177238915-682003330-1105",
        )
    return found


def _mask(text: str) -> int:
    try:
        if text[:1].isdigit():
            found = int(text, 0)
        else:
            found = 0
            for i in range(0, len(text), 2):
                found |= RIGHTS_OF[text[i : i + 2]]
    except (KeyError, ValueError):
        raise BadValue(f"{text!r} are no rights of SDDL", "such as FA, 0x1301bf, or FRFX") from None
    if not 0 <= found < 2**32:
        raise BadValue(f"{text!r} has more than 32 bits", "rights such as 0x1301bf")
    for generic, meant in _GENERIC.items():
        if found & generic:
            found = found & ~generic | meant
    return found


def _ace(text: str) -> Ace | None:
    """An entry; None if it is of a kind that is not judged."""
    parts = text.split(";")
    if len(parts) < 6:
        raise BadValue(f"({text}) is no entry of SDDL", "(A;OICI;FA;;;SID)")
    kind, flags, rights, guid, inherited_guid, sid = (p.strip() for p in parts[:6])
    if kind not in ("A", "D") or guid or inherited_guid or len(parts) > 6:
        return None
    bits = 0
    for i in range(0, len(flags), 2):
        if flags[i : i + 2] not in FLAGS:
            raise BadValue(
                f"({text}) has flags that are none: {flags!r}", "some of " + ", ".join(FLAGS)
            )
        bits |= FLAGS[flags[i : i + 2]]
    return Ace(kind == "A", bits, _mask(rights), parse_sid(sid))


def _parts(text: str) -> Iterator[tuple[str, str, list[str]]]:
    """The parts of a descriptor: its letter, what stands before its entries, and these without
    their parentheses.
    """
    depth, begun = 0, 0
    kind, head, entries = "", "", list[str]()
    for at, c in enumerate(text):
        if depth == 0 and c in "OGDS" and text[at + 1 : at + 2] == ":":
            if kind or at:
                yield kind, head, entries
            kind, head, entries = c, "", []
        elif c == "(":
            depth += 1
            begun = at + 1 if depth == 1 else begun
        elif c == ")":
            depth -= 1
            if depth == 0:
                entries.append(text[begun:at])
        elif depth == 0 and not (c == ":" and text[at - 1] == kind and not head):
            head += c
        if depth < 0:
            break
    yield kind if depth == 0 else "", head, entries


@lru_cache(1 << 14)
def parse_descriptor(text: str) -> Descriptor:
    """A descriptor in SDDL; its group and its audit list are passed over."""
    owner, protected, left_out = None, False, 0
    aces: tuple[Ace, ...] | None = None
    kinds = ""
    for kind, head, entries in _parts(text):
        head = head.strip()
        if kind and kind in kinds:
            raise BadValue(f"{text[:80]!r} has two parts {kind}:", "each part once")
        kinds += kind
        if not kind or (kind in "OG" and entries):
            raise BadValue(
                f"{text[:80]!r} is no security descriptor",
                "SDDL, such as O:BAG:SYD:PAI(A;OICI;FA;;;BA)",
            )
        if kind == "O":
            owner = parse_sid(head)
        elif kind == "D" and head != "NO_ACCESS_CONTROL":
            if re.fullmatch(r"(P|AR|AI)*", head) is None:
                raise BadValue(f"{head!r} are no flags of a list", "some of P, AR and AI")
            read = [_ace(x) for x in entries]
            protected = "P" in head
            aces = tuple(x for x in read if x is not None)
            left_out = len(read) - len(aces)
    return Descriptor(owner, protected, aces, left_out)
