"""Reverse proxies in front of the service: whose word is taken on who asks, and over what."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from ipaddress import IPv4Network, IPv6Address, IPv6Network, ip_address, ip_network
from itertools import takewhile
from typing import Any

from waitress.proxy_headers import proxy_headers_middleware

_TAKEN = {"x-forwarded-for", "x-forwarded-proto"}


class Proxies:
    """The addresses and networks of the proxies. None: nobody's word is taken.

    A request may come through several of them. Each adds the address that it was asked from to
    X-Forwarded-For, so who asks is the last address there that is no proxy's; what stands before it
    anybody may have written.
    """

    def __init__(self, networks: Iterable[IPv4Network | IPv6Network] = ()) -> None:
        self.networks = tuple(networks)

    @classmethod
    def read(cls, text: str) -> Proxies:
        """Those of a text such as ``127.0.0.1, 10.0.0.0/8``; ValueError with the part that is
        neither.
        """
        return cls(ip_network(part.strip()) for part in text.split(","))

    def holds(self, address: str) -> bool:
        """Is it the address of one of them? What is no address is not."""
        try:
            found = ip_address(address.strip().strip("[]"))
        except ValueError:
            return False
        if isinstance(found, IPv6Address) and found.ipv4_mapped is not None:
            found = found.ipv4_mapped
        return any(found in network for network in self.networks)

    def before(self, application: Callable[..., Any]) -> Callable[..., Any]:
        """The application as they ask it: REMOTE_ADDR and the scheme are the client's.

        What others say of that is removed.
        """

        def asked(environ: dict[str, Any], start_response: Any) -> Any:
            peer, count = None, 1
            if self.holds(environ["REMOTE_ADDR"]):
                said = environ.get("HTTP_X_FORWARDED_FOR", "").split(",")
                passed_on = len(list(takewhile(self.holds, reversed(said))))
                peer, count = environ["REMOTE_ADDR"], min(passed_on + 1, len(said))
            taking = proxy_headers_middleware(
                application,
                trusted_proxy=peer,
                trusted_proxy_count=count,
                trusted_proxy_headers=_TAKEN,
            )
            return taking(environ, start_response)

        return asked
