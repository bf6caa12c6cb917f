"""The directory of a made-up firm, as real ones are: grown over years, renamed, moved, and with
names used again.

A :class:`Firm` is what a plain reading of its directory gives: people, groups and units by what
they are known by. It is written as LDIF, which a server or a file can hold, and
:meth:`Firm.a_year_later` is the same firm afterwards.
"""

import base64
from dataclasses import dataclass, field, replace
from random import Random
from uuid import UUID

SUFFIX = "dc=tidewrack,dc=example"
FIRST = (
    "Ann",
    "Bo",
    "Cæcilie",
    "Dag",
    "Edda",
    "Finn",
    "Gro",
    "Håkon",
    "Ida",
    "Jón",
    "Kåre",
    "Liv",
    "Mina",
    "Núria",
    "Odd",
)
LAST = (
    "Aas",
    "Berg",
    "Dahl",
    "Eide",
    "Fjord",
    "Grøn",
    "Holm",
    "Iversen",
    "Þórsson",
    "Krog",
    "O'Neill",
    "van der Meer",
)
#: Names of units that have to be written with escapes in a distinguished name.
ODD_UNITS = ("Hull, Keel + Mast", 'The "Old" Dock', "Årsrapport; 2026", "R&D=Rigging")


@dataclass(frozen=True)
class Worker:
    known_by: str
    uid: str
    display: str
    unit: str  # what the unit is known by
    is_multi_valued: bool = False  # of its name the first part has two attributes


@dataclass
class Firm:
    people: dict[str, Worker] = field(default_factory=dict)
    #: By what they are known by: (name, what it is below, if anything).
    units: dict[str, tuple[str, str | None]] = field(default_factory=dict)
    #: By what they are known by: (name, members: people and groups by what these are known by).
    groups: dict[str, tuple[str, tuple[str, ...]]] = field(default_factory=dict)

    # --- as a directory has it -------------------------------------------------------------------

    def dn(self, known_by: str) -> str:
        if known_by in self.people:
            one = self.people[known_by]
            first = (
                f"cn={escaped(one.display)}+uid={one.uid}"
                if one.is_multi_valued
                else f"uid={one.uid}"
            )
            return f"{first},{self.dn(one.unit)}"
        if known_by in self.groups:
            return f"cn={escaped(self.groups[known_by][0])},ou=groups,{SUFFIX}"
        name, above = self.units[known_by]
        return f"ou={escaped(name)},{self.dn(above) if above else f'ou=people,{SUFFIX}'}"

    def unit_path(self, known_by: str) -> str:
        """What a unit is called here: what no name may hold is ``-``."""
        name, above = self.units[known_by]
        plain = "".join("-" if c in "/\\:{},*" or c.isspace() else c for c in name)
        return f"{self.unit_path(above)}/{plain}" if above else plain

    def ldif(self) -> bytes:
        lines = [f"dn: {SUFFIX}", "objectClass: domain", "dc: tidewrack", ""]
        for name in ("people", "groups", "partners"):
            lines += [
                f"dn: ou={name},{SUFFIX}",
                "objectClass: organizationalUnit",
                f"ou: {name}",
                "",
            ]
        for known_by in sorted(self.units, key=lambda k: self.unit_path(k).count("/")):
            ou = self.units[known_by][0]
            lines += [
                line("dn", self.dn(known_by)),
                "objectClass: organizationalUnit",
                line("ou", ou),
                identity(known_by),
                "",
            ]
        for known_by, one in self.people.items():
            lines += [
                line("dn", self.dn(known_by)),
                "objectClass: inetOrgPerson",
                f"uid: {one.uid}",
                line("cn", one.display),
                "sn: x",
                identity(known_by),
                "",
            ]
        lines += self._beside()
        for known_by, (name, members) in self.groups.items():
            lines += [
                line("dn", self.dn(known_by)),
                "objectClass: groupOfNames",
                line("cn", name),
                identity(known_by),
            ]
            lines += [line("member", other_way_round(self.dn(one))) for one in members]
            lines += [f"member: uid=long-gone,ou=people,{SUFFIX}", ""]
        return "\n".join(lines).encode()

    def _beside(self) -> list[str]:
        """What is no person of its own: aliases of one within and of one outside, a referral, and
        two without a usable name.
        """
        within = next(iter(self.people))
        partner = f"uid=partner,ou=partners,{SUFFIX}"
        lines = [
            f"dn: {partner}",
            "objectClass: inetOrgPerson",
            "uid: partner",
            "cn: partner",
            "sn: x",
            "",
        ]
        for number, target in enumerate((self.dn(within), partner)):
            lines += [
                f"dn: ou=also-{number},ou=people,{SUFFIX}",
                "objectClass: alias",
                "objectClass: extensibleObject",
                f"ou: also-{number}",
                line("aliasedObjectName", target),
                "",
            ]
        lines += [
            f"dn: ou=overseas,ou=people,{SUFFIX}",
            "objectClass: referral",
            "objectClass: extensibleObject",
            "ou: overseas",
            f"ref: ldaps://overseas.tidewrack.example/{SUFFIX}",
            "",
        ]
        for uid in ("two words", "tab in it"):
            lines += [
                f"dn: uid={uid},ou=people,{SUFFIX}",
                "objectClass: inetOrgPerson",
                f"uid: {uid}",
                "cn: x",
                "sn: x",
                "",
            ]
        return lines

    # --- time passes -----------------------------------------------------------------------------

    def a_year_later(self, rng: Random) -> "Firm":
        """Some leave and some come, with the names of those; people, groups and units are renamed,
        and units move.
        """
        people, units, groups = dict(self.people), dict(self.units), dict(self.groups)
        some = rng.sample(sorted(people), 40 + len(people) // 20)
        first, second, *some = some
        one, other = people[first], people[second]
        people[first], people[second] = replace(one, uid=other.uid), replace(other, uid=one.uid)
        for number, known_by in enumerate(some[:20]):
            people[known_by] = replace(
                people[known_by], uid=f"{people[known_by].uid}-married-{number}"
            )
        free = [people.pop(known_by).uid for known_by in some[20:]]
        for uid in [*free[:5], *(f"new-{number}" for number in range(30))]:
            known_by = str(UUID(int=rng.getrandbits(128)))
            people[known_by] = Worker(known_by, uid, uid, rng.choice(sorted(units)))
        tops = sorted(known_by for known_by, (_, above) in units.items() if above is None)
        units[tops[0]] = ("Renamed", None)
        below = sorted(known_by for known_by, (_, above) in units.items() if above == tops[1])
        units[below[0]] = (units[below[0]][0], tops[0])
        for known_by in sorted(groups)[:3]:
            groups[known_by] = (f"{groups[known_by][0]}-anew", groups[known_by][1])
        there = people.keys() | groups.keys()
        groups = {
            k: (name, tuple(x for x in members if x in there))
            for k, (name, members) in groups.items()
        }
        return Firm(people, units, groups)


def firm(rng: Random, people: int) -> Firm:
    made = Firm()

    def known_by() -> str:
        return str(UUID(int=rng.getrandbits(128)))

    for number in range(8):
        top = known_by()
        made.units[top] = (
            ODD_UNITS[number] if number < len(ODD_UNITS) else f"branch-{number}",
            None,
        )
        for below in range(4):
            made.units[known_by()] = (f"team {number} {below}", top)
    of_units = sorted(made.units)
    for number in range(people):
        first, last = rng.choice(FIRST), rng.choice(LAST)
        id_ = known_by()
        uid = f"{first[0].lower()}{number}" if first.isascii() else f"{first.lower()}{number}"
        made.people[id_] = Worker(
            id_, uid, f"{first} {last}", rng.choice(of_units), rng.random() < 0.05
        )
    ids = [known_by() for _ in range(60)]
    for number, id_ in enumerate(ids):
        members = rng.sample(sorted(made.people), min(people, 40))
        # The next one is a member of each, so that all are in one loop.
        made.groups[id_] = (
            f"crew {number}" if number % 2 else f"crew-{number}",
            (*members, ids[(number + 1) % 60]),
        )
    return made


def escaped(value: str) -> str:
    """A value in a distinguished name (RFC 4514, section 2.4)."""
    return "".join(f"\\{c}" if c in ',+"\\<>;=' else c for c in value)


def other_way_round(dn: str) -> str:
    """The same name as somebody else would write it: parts of several attributes in another order,
    and in capitals.
    """
    first, _, rest = dn.partition(",uid=") if "+uid=" in dn else (dn, "", "")
    if not rest and "+uid=" in first:
        value, _, more = first.partition("+uid=")
        uid, _, above = more.partition(",")
        return f"UID={uid}+{value},{above}"
    return dn


def line(name: str, value: str) -> str:
    return f"{name}:: {base64.b64encode(value.encode()).decode()}"


def identity(known_by: str) -> str:
    return f"entryUUID: {known_by}"
