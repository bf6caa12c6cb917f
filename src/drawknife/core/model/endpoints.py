"""Endpoints: what their entries allow, and which of them stand in each other's way."""

from __future__ import annotations

from collections.abc import Callable
from ipaddress import IPv4Address, IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from typing import NamedTuple

from ..words.names import fold
from .items import Endpoint, Entry

Address = IPv4Address | IPv6Address


def read_address(text: str) -> Address:
    """An IP address; an IPv4 address written as an IPv6 one is read as IPv4.

    ValueError if it is none.
    """
    address = ip_address(text)
    mapped = address.ipv4_mapped if isinstance(address, IPv6Address) else None
    return mapped or address


#: Where IPv4 addresses are written as IPv6 ones (RFC 4291, section 2.5.5.2).
_MAPPED = IPv6Network("::ffff:0:0/96")


def read_network(text: str) -> IPv4Network | IPv6Network:
    """A network; one of IPv4 addresses written as IPv6 ones is read as IPv4.

    ValueError if it is none.
    """
    network = ip_network(text)
    if isinstance(network, IPv6Network) and network.subnet_of(_MAPPED):
        return IPv4Network((int(network.network_address) & 0xFFFFFFFF, network.prefixlen - 96))
    return network


def allows(entries: tuple[Entry, ...], bit: int, matches: Callable[[Entry], bool]) -> bool:
    """Do an endpoint's entries allow the right? All on one level; a deny or forbid wins."""
    allowed = False
    for entry in entries:
        if entry.rights & bit and matches(entry):
            if entry.effect != "allow":
                return False
            allowed = True
    return allowed


def tls_policy(endpoint: Endpoint) -> str | None:
    """The TLS policy in force: None for `sftp`, always `required` for `ftps`."""
    if endpoint.protocol == "sftp":
        return None
    return "required" if endpoint.protocol == "ftps" else endpoint.tls or "required"


def _addresses_overlap(a: str, b: str) -> bool:
    one, other = read_address(a), read_address(b)
    if one.version != other.version:
        return False
    return one == other or one.is_unspecified or other.is_unspecified


def _overlap(a: tuple[int, int], b: tuple[int, int]) -> tuple[int, int] | None:
    low, high = max(a[0], b[0]), min(a[1], b[1])
    return (low, high) if low <= high else None


class Clash(NamedTuple):
    """Two enabled endpoints that want the same ports; `loser` does not start."""

    loser: str
    winner: str
    text: str


def clash(a: Endpoint, b: Endpoint) -> str | None:
    """What two endpoints contend for, in words; None if nothing."""
    if not (a.enabled and b.enabled) or not _addresses_overlap(a.address, b.address):
        return None
    if (
        a.port == b.port
        and a.host_names
        and b.host_names
        and not set(a.host_names) & set(b.host_names)
    ):
        return None
    ranges_a = [
        ((a.port, a.port), "port"),
        *([(a.passive_ports, "passive ports")] if a.passive_ports else []),
    ]
    ranges_b = [
        ((b.port, b.port), "port"),
        *([(b.passive_ports, "passive ports")] if b.passive_ports else []),
    ]
    for range_a, what_a in ranges_a:
        for range_b, what_b in ranges_b:
            common = _overlap(range_a, range_b)
            if common is not None:
                shown = str(common[0]) if common[0] == common[1] else f"{common[0]}-{common[1]}"
                return f"{what_a} of {a.name} and {what_b} of {b.name} both take {shown}"
    return None


def clashes(endpoints: tuple[Endpoint, ...]) -> list[Clash]:
    """Every pair of enabled endpoints that clash; the one whose name sorts later loses."""
    ordered = sorted((e for e in endpoints if e.enabled), key=lambda e: fold(e.name))
    found = []
    for i, later in enumerate(ordered):
        for earlier in ordered[:i]:
            text = clash(earlier, later)
            if text is not None:
                found.append(Clash(later.name, earlier.name, text))
    return found


def stopped_by(endpoints: tuple[Endpoint, ...]) -> dict[str, Clash]:
    """For each endpoint that does not start, the first clash that keeps it from it."""
    found: dict[str, Clash] = {}
    for c in clashes(endpoints):
        found.setdefault(c.loser, c)
    return found


def reachable(endpoint: Endpoint, client: Address) -> bool:
    """Can a client at this address come to where the endpoint listens?

    An endpoint listens in one address family, and one on a loopback address hears its own machine
    only.
    """
    address = read_address(endpoint.address)
    if address.version != client.version:
        return False
    return client.is_loopback or not address.is_loopback
