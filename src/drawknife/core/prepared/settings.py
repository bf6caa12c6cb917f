"""Settings and how they come down to an account (docs/rules.md, "Settings")."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from ..model.endpoints import Address, read_network
from ..model.items import Subject
from ..model.kinds import SETTINGS
from ..model.standing import Rank
from ..words.names import fold

if TYPE_CHECKING:
    from .people import PreparedAccount
    from .prepared import Prepared


@dataclass(frozen=True, slots=True)
class SettingValue:
    """The value of one setting for one account, and where it came from.

    `subjects` set it at the deciding rank (empty: nobody did, it is the default); `overruled` are
    the farther ones that set it too; `undecided` says that equally near ones disagreed where none
    is stricter, and the first by name was taken. `addresses` is a tuple of lists: all must admit.
    """

    name: str
    value: Any
    subjects: tuple[Subject, ...]
    overruled: tuple[Subject, ...]
    undecided: bool = False


def resolve(prepared: Prepared, account: PreparedAccount, name: str) -> SettingValue:
    """The setting `name` as it reaches `account`."""
    setting, people = SETTINGS[name], prepared.people
    found: list[tuple[Rank, str, Subject, Any]] = []
    for sid in account.who & prepared.settings.keys():
        for key, value in prepared.settings[sid].values:
            if key == name:
                subject = people.subjects[sid]
                found.append((account.ranks[sid], fold(str(subject)), subject, value))
    if not found:
        return SettingValue(name, setting.unset, (), ())
    found.sort(key=lambda f: f[:2])
    nearest = [f for f in found if f[0] == found[0][0]]
    values = [f[3] for f in nearest]
    return SettingValue(
        name,
        values[0] if setting.stricter is None else setting.stricter(values),
        tuple(f[2] for f in nearest),
        tuple(f[2] for f in found[len(nearest) :]),
        setting.stricter is None and len(set(values)) > 1,
    )


def resolve_all(prepared: Prepared, account: PreparedAccount) -> list[SettingValue]:
    """Every setting as it reaches `account`."""
    return [resolve(prepared, account, name) for name in SETTINGS]


def deciding_line(lines: tuple[str, ...], client: Address) -> tuple[bool, str | None]:
    """Does a list of ``allow CIDR`` and ``deny CIDR`` lines admit the address, and by which line?

    The line with the longest prefix that holds it decides, on equal prefixes a deny; if none holds
    it, it is admitted unless the list has an allow line.
    """
    best, admitted, by = -1, all(not line.startswith("allow") for line in lines), None
    for line in lines:
        effect, _, cidr = line.partition(" ")
        network = read_network(cidr)
        if network.version == client.version and client in network:
            if network.prefixlen > best:
                best, admitted, by = network.prefixlen, effect == "allow", line
            elif network.prefixlen == best and effect == "deny":
                admitted, by = False, line
    return admitted, by


def admits(lines: tuple[str, ...], client: Address) -> bool:
    """Does the list admit the address?"""
    return deciding_line(lines, client)[0]
