"""Reach: can a client at an address come to an endpoint (docs/rules.md, "Endpoints")?

Where nothing is stated of networks, and for clients inside, it comes to where the endpoint listens.
From outside it needs an opening for the address and port it connects to, and, where that is not the
endpoint's own, a forwarding from there. Data connections go to the same address outside, to the
passive ports, which have to come through under the same numbers to the same address inside, as the
server tells them to the client.
"""

from __future__ import annotations

from typing import NamedTuple

from ..model.endpoints import Address, reachable, read_address, read_network
from ..model.items import Endpoint, Forwarding, Model, Opening

Ports = tuple[int, int]
#: What an endpoint without a passive range takes.
ANY_PORT: Ports = (1024, 65535)


class Reach(NamedTuple):
    """`way` is where the client connects to; `missing` says what would have to be stated for it to
    come through.

    `inside` is None where nothing is stated of networks.
    """

    inside: bool | None
    control: bool
    data: bool
    way: str
    missing: tuple[str, ...]


class _Way(NamedTuple):
    """An address and port outside at which the control port is found, and the address inside it
    leads to.
    """

    address: str
    port: int
    inside: str


def stated(model: Model) -> bool:
    """Is anything said of how networks reach each other?"""
    return bool(model.openings or model.forwardings or model.inside)


def is_inside(model: Model, client: Address) -> bool:
    """Is it in one of the networks that are stated as inside?"""
    return client.is_loopback or any(_holds(n, client) for n in model.inside)


def reach(model: Model, endpoint: Endpoint, client: Address) -> Reach:
    """Whether control and data connections of a client would both come through, if the endpoint
    runs.
    """
    said = stated(model)
    if not said or is_inside(model, client):
        comes = reachable(endpoint, client)
        missing = (
            ()
            if comes
            else (f"{endpoint.name} listens on {endpoint.address}, where {client} cannot come",)
        )
        return Reach(
            True if said else None, comes, comes, f"{endpoint.address}:{endpoint.port}", missing
        )
    ways = [_from_outside(model, endpoint, client, way) for way in _ways_in(model, endpoint)]
    if not ways:
        text = (
            f"nothing leads from outside to port {endpoint.port} of {endpoint.name}; add a"
            " forwarding, or an opening of its own address"
        )
        return Reach(False, False, False, "", (text,))
    return max(ways, key=lambda r: (r.control, r.data))


def _ways_in(model: Model, endpoint: Endpoint) -> list[_Way]:
    found = []
    for f in model.forwardings:
        if _listens_on(endpoint, f.to_address) and f.to_ports[0] <= endpoint.port <= f.to_ports[1]:
            found.append(_Way(f.address, f.ports[0] + endpoint.port - f.to_ports[0], f.to_address))
    for o in model.openings:
        if (
            _listens_on(endpoint, o.address)
            and o.ports[0] <= endpoint.port <= o.ports[1]
            and not _forwarded(model.forwardings, o.address, endpoint.port)
        ):
            found.append(_Way(o.address, endpoint.port, o.address))
    return list(dict.fromkeys(found))


def _listens_on(endpoint: Endpoint, address: str) -> bool:
    own, other = read_address(endpoint.address), read_address(address)
    return own.version == other.version and (own == other or own.is_unspecified)


def _forwarded(forwardings: tuple[Forwarding, ...], address: str, port: int) -> bool:
    """Is this very port of an address forwarded anywhere? Then it is not the endpoint's own."""
    return any(f.address == address and f.ports[0] <= port <= f.ports[1] for f in forwardings)


def _from_outside(model: Model, endpoint: Endpoint, client: Address, way: _Way) -> Reach:
    missing: list[str] = []
    control = not _closed(model.openings, way.address, (way.port, way.port), client)
    if not control:
        missing.append(f"no opening lets {client} come to port {way.port} of {way.address}")
    data = endpoint.protocol == "sftp" or _data(model, endpoint, client, way, missing)
    return Reach(False, control, control and data, f"{way.address}:{way.port}", tuple(missing))


def _data(model: Model, endpoint: Endpoint, client: Address, way: _Way, missing: list[str]) -> bool:
    wanted = endpoint.passive_ports or ANY_PORT
    called = f"the passive range {wanted[0]}-{wanted[1]}"
    if endpoint.passive_ports is None:
        called = f"any port from {wanted[0]} up (it has no passive range)"
    lacking = _not_led(model.forwardings, way, wanted)
    if lacking == [wanted]:
        missing.append(f"port {way.port} leads to {endpoint.name}, and {called} does not")
    elif lacking:
        missing.append(
            f"of {called}, {_ranges(lacking)} does not lead to the same ports of {way.inside}"
        )
    closed = _closed(model.openings, way.address, wanted, client)
    if closed == [wanted]:
        missing.append(f"no opening lets {client} come to {called} of {way.address}")
    elif closed:
        missing.append(
            f"of {called} of {way.address}, no opening lets {client} come to {_ranges(closed)}"
        )
    return not lacking and not closed


def _not_led(forwardings: tuple[Forwarding, ...], way: _Way, wanted: Ports) -> list[Ports]:
    """The part of the ports that do not lead to the same ports of the address inside."""
    there = [f for f in forwardings if f.address == way.address]
    good = [f.ports for f in there if f.ports == f.to_ports and f.to_address == way.inside]
    if way.address == way.inside:  # what is not forwarded anywhere is its own
        good += without(wanted, [f.ports for f in there])
    return without(wanted, good)


def _closed(
    openings: tuple[Opening, ...], address: str, wanted: Ports, client: Address
) -> list[Ports]:
    """The part of the ports that no opening lets the client come to."""
    good = [
        o.ports
        for o in openings
        if o.address == address and any(_holds(n, client) for n in o.networks)
    ]
    return without(wanted, good)


def _holds(network: str, client: Address) -> bool:
    found = read_network(network)
    return found.version == client.version and client in found


def without(wanted: Ports, covered: list[Ports]) -> list[Ports]:
    """What is left of a range of ports without some others, in order."""
    left, at = [], wanted[0]
    for low, high in sorted(covered):
        if high < at:
            continue
        if low > wanted[1]:
            break
        if low > at:
            left.append((at, low - 1))
        at = max(at, high + 1)
    if at <= wanted[1]:
        left.append((at, wanted[1]))
    return left


def _ranges(ports: list[Ports]) -> str:
    return ", ".join(str(a) if a == b else f"{a}-{b}" for a, b in ports)
