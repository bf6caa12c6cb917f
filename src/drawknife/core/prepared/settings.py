"""Settings and how they come down to an account (docs/rules.md, "Settings")."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from ..model.endpoints import Address, read_network
from ..model.items import METHODS, UNLIMITED, Subject
from ..model.standing import Rank
from ..words.names import fold

if TYPE_CHECKING:
    from .prepared import Prepared, PreparedAccount

NUMBERS = ("quota_bytes", "quota_files", "upload_limit", "rate_up", "rate_down", "sessions", "idle_timeout")
SIZES = ("quota_bytes", "upload_limit", "rate_up", "rate_down")
DEFAULTS: dict[str, Any] = {
    **dict.fromkeys(NUMBERS, UNLIMITED),
    "require_tls": False,
    "methods": METHODS,
    "addresses": (),
    "hours": (),
    "landing": "/",
    "greeting": None,
    "uploads_owner": None,
}


@dataclass(frozen=True, slots=True)
class Came:
    """The value of one setting for one account, and where it came from.

    `subjects` set it at the deciding rank (empty: nobody did, it is the default); `overruled` are the
    farther ones that set it too; `undecided` says that equally near ones disagreed where none is
    stricter, and the first by name was taken. `addresses` is a tuple of lists: all must admit.
    """

    name: str
    value: Any
    subjects: tuple[Subject, ...]
    overruled: tuple[Subject, ...]
    undecided: bool = False


def resolve(prepared: Prepared, account: PreparedAccount, name: str) -> Came:
    """The setting `name` as it reaches `account`."""
    people = prepared.people
    found: list[tuple[Rank, str, Subject, Any]] = []
    for sid in account.who & prepared.settings.keys():
        for key, value in prepared.settings[sid].values:
            if key == name:
                subject = people.subjects[sid]
                found.append((account.ranks[sid], fold(str(subject)), subject, value))
    if not found:
        return Came(name, DEFAULTS[name], (), ())
    found.sort(key=lambda f: f[:2])
    nearest = [f for f in found if f[0] == found[0][0]]
    values = [f[3] for f in nearest]
    return Came(
        name,
        _strictest(name, values),
        tuple(f[2] for f in nearest),
        tuple(f[2] for f in found[len(nearest) :]),
        name in ("landing", "greeting", "uploads_owner") and len(set(values)) > 1,
    )


def _strictest(name: str, values: list[Any]) -> Any:
    if name in NUMBERS:
        numbers = [v for v in values if v != UNLIMITED]
        return min(numbers) if numbers else UNLIMITED
    if name == "require_tls":
        return any(values)
    if name == "methods":
        return tuple(m for m in METHODS if all(m in v for v in values))
    if name in ("addresses", "hours"):
        return tuple(values)
    return values[0]


def resolve_all(prepared: Prepared, account: PreparedAccount) -> list[Came]:
    """Every setting as it reaches `account`."""
    return [resolve(prepared, account, name) for name in DEFAULTS]


def deciding_line(lines: tuple[str, ...], client: Address) -> tuple[bool, str | None]:
    """Does a list of ``allow CIDR`` and ``deny CIDR`` lines admit the address, and by which line?

    The line with the longest prefix that holds it decides, on equal prefixes a deny; if none holds it, it is admitted
    unless the list has an allow line.
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
