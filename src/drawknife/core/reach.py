"""Reach: can a client at an address come to an endpoint (docs/rules.md, "Endpoints")?

Inside, a client comes to where the endpoint listens. From outside it needs an opening for the address and
port it connects to, and, where that is not the endpoint's own, a forwarding from there. Data connections go
to the passive ports, which have to come through under the same numbers, as the server tells them to the client.
"""

from __future__ import annotations

from ipaddress import ip_address, ip_network
from typing import NamedTuple

from .endpoints import Address, reachable
from .model import Endpoint, Forwarding, Model, Opening

Ports = tuple[int, int]


class Reach(NamedTuple):
    """`way` is where the client connects to; `missing` says what would have to be stated for it to come through."""

    inside: bool
    control: bool
    data: bool
    way: str
    missing: tuple[str, ...]


def stated(model: Model) -> bool:
    """Is anything said of how networks reach each other?"""
    return bool(model.openings or model.forwardings or model.inside)


def is_inside(model: Model, client: Address) -> bool:
    """Is it in one of the networks that are stated as inside?"""
    return client.is_loopback or any(client in ip_network(n) for n in model.inside)


def reach(model: Model, endpoint: Endpoint, client: Address) -> Reach:
    """Whether control and data connections of a client would both come through."""
    needs_data = endpoint.protocol != "sftp"
    if not stated(model) or is_inside(model, client):
        comes = reachable(endpoint, client)
        missing = [] if comes else [f"{endpoint.name} listens on {endpoint.address}, where {client} cannot come"]
        data = comes and (not needs_data or endpoint.passive_ports is not None)
        if comes and not data:
            missing.append(f"{endpoint.name} has no passive ports")
        return Reach(True, comes, data, f"{endpoint.address}:{endpoint.port}", tuple(missing))
    ways = [_from_outside(model, endpoint, client, *way) for way in _ways_in(model, endpoint)]
    if not ways:
        text = f"nothing outside leads to port {endpoint.port} of {endpoint.name}: no forwarding, and no opening of its own address"
        return Reach(False, False, False, "", (text,))
    return max(ways, key=lambda r: (r.control, r.data))


def _ways_in(model: Model, endpoint: Endpoint) -> list[tuple[str, int]]:
    """The addresses and ports outside at which the endpoint's control port may be found."""
    found = []
    for f in model.forwardings:
        if _listens_on(endpoint, f.to_address) and f.to_ports[0] <= endpoint.port <= f.to_ports[1]:
            found.append((f.address, f.ports[0] + endpoint.port - f.to_ports[0]))
    for o in model.openings:
        direct = _listens_on(endpoint, o.address) and not any(f.address == o.address for f in model.forwardings)
        if direct and o.ports[0] <= endpoint.port <= o.ports[1]:
            found.append((o.address, endpoint.port))
    return list(dict.fromkeys(found))


def _listens_on(endpoint: Endpoint, address: str) -> bool:
    own, other = ip_address(endpoint.address), ip_address(address)
    return own.version == other.version and (own == other or own.is_unspecified)


def _from_outside(model: Model, endpoint: Endpoint, client: Address, address: str, port: int) -> Reach:
    missing = []
    control = not _closed(model.openings, address, (port, port), client)
    if not control:
        missing.append(f"port {port} of {address} is not open to {client}")
    data = True
    if endpoint.protocol != "sftp":
        if endpoint.passive_ports is None:
            data = False
            missing.append(f"{endpoint.name} has no passive ports")
        else:
            data = _data(model, endpoint, endpoint.passive_ports, client, address, port, missing)
    return Reach(False, control, control and data, f"{address}:{port}", tuple(missing))


def _data(
    model: Model, endpoint: Endpoint, passive: Ports, client: Address, address: str, port: int, missing: list[str]
) -> bool:
    shown = f"{passive[0]}-{passive[1]}"
    forwarded = any(f.address == address for f in model.forwardings)
    whole = True
    if forwarded:
        lacking = _not_forwarded(model.forwardings, endpoint, address, passive)
        if lacking == [passive]:
            missing.append(f"port {port} is forwarded, the passive range {shown} is not")
        elif lacking:
            missing.append(f"of the passive range {shown}, {_ranges(lacking)} is not forwarded to the same ports")
        whole = not lacking
    closed = _closed(model.openings, address, passive, client)
    if closed == [passive]:
        missing.append(f"the passive range {shown} of {address} is not open to {client}")
    elif closed:
        missing.append(f"of the passive range {shown} of {address}, {_ranges(closed)} is not open to {client}")
    return whole and not closed


def _not_forwarded(forwardings: tuple[Forwarding, ...], endpoint: Endpoint, address: str, wanted: Ports) -> list[Ports]:
    good = [
        f.ports
        for f in forwardings
        if f.address == address and f.ports == f.to_ports and _listens_on(endpoint, f.to_address)
    ]
    return without(wanted, good)


def _closed(openings: tuple[Opening, ...], address: str, wanted: Ports, client: Address) -> list[Ports]:
    """The part of the ports that no opening lets the client come to."""
    good = [o.ports for o in openings if o.address == address and any(_holds(n, client) for n in o.networks)]
    return without(wanted, good)


def _holds(network: str, client: Address) -> bool:
    found = ip_network(network)
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
