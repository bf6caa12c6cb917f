"""What a change makes different for whoever comes: nothing is left unsaid of who can come in from
where, and with what.
"""

from dataclasses import replace
from ipaddress import ip_address
from random import Random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.answers.previews import follow
from drawknife.core.decide.way_in import reach
from drawknife.core.follows.consequences import consequences_on
from drawknife.core.follows.pairing import Renames, Renaming
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare

from .models import _endpoint, _networks, _of_both_families, random_model
from .test_until import NOW

#: Of each network that the random models name, and of all others, some addresses.
CLIENTS = [
    *(
        f"{net}.{n}"
        for net in ("192.0.2", "198.51.100", "203.0.113")
        for n in (0, 3, 4, 7, 127, 128, 130, 255)
    ),
    "8.8.8.8",
    "127.0.0.1",
    "127.200.0.9",
    "2001:db8::7",
    "2001:db8::8",
    "2001:db8::f",
    "2001:db8::10",
    "2001:db8:5::9",
    "2a00::1",
    "::1",
]


def changed(rng, model):
    """The model with other networks, or endpoints that clients find otherwise."""
    if rng.random() < 0.5:
        empty = {"inside": (), "openings": (), "forwardings": ()}
        model = replace(model, **{**empty, **_networks(rng)})
    else:
        some = [_endpoint(rng, e.name) if rng.random() < 0.5 else e for e in model.endpoints]
        model = replace(model, endpoints=tuple(some))
    return sound(_of_both_families(rng, model) if rng.random() < 0.3 else model)


def runs(prepared, name):
    return prepared.endpoints[name].enabled and prepared.stopped_by.get(name) is None


@given(st.integers(0, 2**32))
def test_who_comes_in_from_where_is_told_of_each_endpoint(seed):
    rng = Random(seed)
    before = random_model(seed)
    after = changed(rng, before)
    one, other = prepare(before), prepare(after)
    found = consequences_on(one, other, NOW).for_everybody
    for old, new in zip(before.endpoints, after.endpoints, strict=True):
        here = [line for line in found if line.endswith(f" {new.name}")]
        if not (runs(one, old.name) and runs(other, new.name)):
            assert here == []
            continue
        told = {words: any(words in line for line in here) for words in WORDS}
        was, now = (
            [reach(x, e, ip_address(c)) for c in CLIENTS] for x, e in ((before, old), (after, new))
        )
        pairs = list(zip(was, now, strict=True))
        assert told == {
            "can now reach": any(not a.control and b.control for a, b in pairs),
            "can no longer reach": any(a.control and not b.control for a, b in pairs),
            "data now comes": any(
                a.control and b.control and not a.data and b.data for a, b in pairs
            ),
            "no data comes any more": any(
                a.control and b.control and a.data and not b.data for a, b in pairs
            ),
        }


WORDS = ("can now reach", "can no longer reach", "data now comes", "no data comes any more")


def quay(**how):
    endpoint = m.Endpoint("quay", **{"protocol": "ftp", "port": 21, "tls": "required", **how})
    return m.Model(
        accounts=(m.Account("ada"),), endpoints=(endpoint,), stores=(m.Store("s", root="/srv"),)
    )


@pytest.mark.parametrize(
    ("made", "said"),
    [
        ({"tls": "optional"}, ["clients without TLS are let in at quay"]),
        (
            {"tls": "off"},
            ["clients without TLS are let in at quay", "clients with TLS are refused at quay"],
        ),
        (
            {"protocol": "ftps", "tls": None},
            ["clients come in at quay otherwise than before: protocol"],
        ),
        (
            {"port": 2121, "host_names": ("a.example",)},
            ["clients come in at quay otherwise than before: port, host names"],
        ),
        (
            {"address": "127.0.0.1"},
            [
                "clients come in at quay otherwise than before: address",
                "clients from anywhere (IPv4) can no longer reach quay",
            ],
        ),
        ({"enabled": False, "tls": "off"}, []),
    ],
)
def test_how_clients_come_in(made, said):
    assert (
        list(
            consequences_on(prepare(sound(quay())), prepare(sound(quay(**made))), NOW).for_everybody
        )
        == said
    )


def test_lockouts_and_where_files_lie_whatever_a_thing_is_called():
    before = sound(
        replace(quay(), lockouts=(m.Lockout("account", 5, 60, 60), m.Lockout("address", 5, 60, 60)))
    )
    lockouts = (m.Lockout("account", 1, 60, 60), before.lockouts[1])
    stores = (m.Store("t", root="/elsewhere", creation_mode="0640"),)
    after = sound(replace(before, lockouts=lockouts, stores=stores))
    renames = Renames([Renaming("store", "s", "t")])
    told = follow(prepare(before), prepare(after), NOW, renames).follows
    assert not told.nothing and not told.for_nobody
    assert told.for_everybody == (
        "an account is locked out by another rule than before",
        "the files of t lie elsewhere: what lies there was not looked at",
        "what is made in t is made with another mode",
    )
