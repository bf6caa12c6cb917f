"""A first sync of many people from a real directory server, against a bare paged search of the same
entries.
"""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

import ldap3
from tools.slapd import ROOT, SUFFIX, directory_server, group, person, uid, unit

from drawknife.client import Client

from .http import cluster_of_its_own, served
from .timing import seconds

PEOPLE, GROUPS, MEMBERS = 20_000, 2_000, 20


def tree() -> bytes:
    parts = [ROOT, unit("people"), unit("groups")]
    parts += [person(f"p{i}", mail=f"p{i}@tidewrack.example") for i in range(PEOPLE)]
    parts += [
        group(f"g{i}", *(uid(f"p{(i * 37 + k * 11) % PEOPLE}") for k in range(MEMBERS)))
        for i in range(GROUPS)
    ]
    return "".join(parts).encode()


def bare(address: str) -> int:
    """Nothing but the paged searches: how many entries came."""
    connection = ldap3.Connection(ldap3.Server(address, get_info=ldap3.NONE), auto_bind=True)
    count = 0
    for base, attributes in (
        ("people", ["uid", "displayName", "cn", "mail"]),
        ("groups", ["cn", "member"]),
    ):
        found = connection.extend.standard.paged_search(
            f"ou={base},{SUFFIX}",
            "(objectClass=*)",
            attributes=attributes,
            paged_size=500,
            generator=True,
        )
        count += sum(1 for _ in found)
    connection.unbind()
    return count


def measure() -> list[tuple[str, str, str, bool | None]]:
    with TemporaryDirectory() as folder, cluster_of_its_own() as cluster:
        address = cluster.create_database("sync")
        with (
            directory_server(
                Path(folder) / "slapd", tree(), limits="sizelimit unlimited\n"
            ) as server,
            served(address, None) as (port, token),
            Client(f"http://127.0.0.1:{port}", token) as client,
        ):
            options = {
                "address": server.address,
                "start_tls": False,
                "people_base": f"ou=people,{SUFFIX}",
                "groups_base": f"ou=groups,{SUFFIX}",
            }
            syncs, searches = [], []
            for i in range(3):
                name = f"d{i}"
                client.add_directory(name, {**options, "suffix": f"@{i}"})
                searches.append(seconds(lambda: bare(server.address)))
                syncs.append(seconds(lambda name=name: client.sync(name)))  # type: ignore[misc]
                assert client.directory(name).accounts == PEOPLE
    ratio = sorted(a / b for a, b in zip(syncs, searches, strict=True))[1]
    return [
        (
            f"sync of {PEOPLE:,} people and {GROUPS:,} groups / bare paged search",
            f"{ratio:.2f} ({min(syncs):.1f} s, {min(searches):.1f} s)",
            "within 4",
            ratio <= 4,
        )
    ]
