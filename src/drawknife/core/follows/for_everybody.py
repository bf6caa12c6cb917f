"""What a change makes different for whoever comes, whatever the account (docs/rules.md, "What
follows").

From where and how clients come to endpoints, when somebody is locked out, and where files lie. None
of it is asked of single accounts, as no client, and no file, is given there.
"""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Network, IPv6Network, ip_network
from typing import Any

from ..decide.way_in import reach
from ..model.endpoints import Address, read_address, read_network, tls_policy
from ..model.items import Endpoint, Model
from ..model.kinds import ENDPOINT, NETWORK_FIELDS
from ..prepared.prepared import Prepared
from ..words.names import fold
from ..words.sizes import several
from .pairing import Pairing

Network = IPv4Network | IPv6Network

#: The fields of an endpoint by which clients find it and know it: all but who is let in, which is
#: told of each account, and TLS, which is told by itself.
_FOUND_BY = [
    f
    for f in ENDPOINT.fields
    if f.names is None and f.name not in ("name", "enabled", "tls", "note")
]
_EVERYWHERE: dict[Network, str] = {
    ip_network("0.0.0.0/0"): "anywhere",
    ip_network("::/0"): "anywhere",
    ip_network("127.0.0.0/8"): "the machine itself",
    ip_network("::1/128"): "the machine itself",
}
#: Whether clients without TLS, and with it, are let in by a policy.
_WITH_TLS = {
    "off": (True, False),
    "optional": (True, True),
    "required": (False, True),
    None: (True, True),
}


def for_everybody(pairing: Pairing) -> Iterator[str]:
    """What is different for whoever comes, in sentences."""
    for was, now in pairing.endpoints:
        if (
            was is not None
            and now is not None
            and _runs(pairing.before, was)
            and _runs(pairing.after, now)
        ):
            yield from _at_endpoint(
                pairing, pairing.before.endpoints[fold(was)], pairing.after.endpoints[fold(now)]
            )
    a, b = pairing.before.model, pairing.after.model
    for of in ("account", "address") if a.lockouts != b.lockouts else ():
        if [x for x in a.lockouts if x.of == of] != [x for x in b.lockouts if x.of == of]:
            yield f"an {of} is locked out by another rule than before"
    stores = {fold(s.name): s for s in b.stores}
    for old in a.stores:
        new = stores.get(fold(pairing.renames.name("store", old.name)))
        if new is not None and new.root != old.root:
            yield f"the files of {new.name} lie elsewhere: what lies there was not looked at"
        if new is not None and new.creation_mode != old.creation_mode:
            yield f"what is made in {new.name} is made with another mode"


def _runs(prepared: Prepared, name: str) -> bool:
    return prepared.endpoints[fold(name)].enabled and prepared.stopped_by.get(name) is None


def _at_endpoint(pairing: Pairing, old: Endpoint, new: Endpoint) -> Iterator[str]:
    a, b = pairing.before.model, pairing.after.model
    differs = [
        f.name.replace("_", " ") for f in _FOUND_BY if ENDPOINT.get(old, f) != ENDPOINT.get(new, f)
    ]
    if differs:
        yield f"clients come in at {new.name} otherwise than before: {', '.join(differs)}"
    ways = zip(
        ("without", "with"), _WITH_TLS[tls_policy(old)], _WITH_TLS[tls_policy(new)], strict=True
    )
    for word, was, now in ways:
        if was is not now:
            yield f"clients {word} TLS {'are let in' if now else 'are refused'} at {new.name}"
    if differs or any(getattr(a, x.name) != getattr(b, x.name) for x in NETWORK_FIELDS):
        yield from _from_where(a, b, old, new)


def _from_where(a: Model, b: Model, old: Endpoint, new: Endpoint) -> Iterator[str]:
    """Whether clients of each network that either model speaks of come to an endpoint, and their
    data.
    """
    found: dict[str, list[str]] = {}
    for called, client in _clients(a, b):
        was, now = reach(a, old, client), reach(b, new, client)
        if was.control is not now.control:
            said = (
                f"clients from {{}} {'can now' if now.control else 'can no longer'} reach"
                f" {new.name}"
            )
        elif was.control and was.data is not now.data:
            said = (
                f"{'data now comes' if now.data else 'no data comes any more'} to clients from {{}}"
                f" at {new.name}"
            )
        else:
            continue
        found.setdefault(said, []).append(called)
    yield from (said.format(several(networks)) for said, networks in found.items())


def _clients(a: Model, b: Model) -> Iterator[tuple[str, Address]]:
    """Of each network that either model speaks of, in words, and of all others, a client that is in
    no smaller one of them.
    """
    named: list[Any] = [
        *a.inside,
        *b.inside,
        *(n for x in (*a.openings, *b.openings) for n in x.networks),
    ]
    networks = list(dict.fromkeys((*_EVERYWHERE, *map(read_network, named))))
    for network in sorted(
        networks, key=lambda n: (n.version, -n.prefixlen, int(n.network_address))
    ):
        within: list[Any] = [n for n in networks if n != network and _holds(network, n)]
        last = network.broadcast_address
        after = [n.broadcast_address + 1 for n in within if n.broadcast_address != last]
        client = next(
            (x for x in (network.network_address, *after) if not any(x in n for n in within)), None
        )
        if client is not None:
            others = not set(within) <= _EVERYWHERE.keys()
            if network in _EVERYWHERE:
                called = f"{_EVERYWHERE[network]}{' else' if others else ''} (IPv{network.version})"
            else:
                called = f"{'the rest of ' if others else ''}{network}"
            yield called, read_address(str(client))


def _holds(network: Network, other: Any) -> bool:
    return network.version == other.version and bool(other.subnet_of(network))
