"""The ways past each refusal, one by one: what an administrator would do by hand is among them, and
it helps.
"""

from datetime import UTC, datetime

import pytest

from drawknife.answers import Answering
from drawknife.changing import apply
from drawknife.core.prepared.prepared import prepare
from drawknife.formats.model_file import read_model

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)  # a Monday
BASE = """
drawknife: 1
units: [crew/deck]
accounts:
- {name: ada, unit: crew/deck, methods: [password]}
- {name: bo}
groups:
- {name: readers, members: [account:bo]}
- {name: crew, members: [unit:crew]}
stores:
- name: hold
  folders:
  - {path: /, entries: [allow signed-in look]}
  - {path: /bay, entries: [allow group:readers read]}
virtual_paths:
- {path: /bay, leads_to: hold:/bay, grants: [signed-in read]}
endpoints:
- {name: quay, protocol: sftp, port: 2022}
"""


def model(*changes):
    return (
        apply(read_model(BASE.encode()), list(changes)).model
        if changes
        else read_model(BASE.encode())
    )


def change(kind, name, **what):
    return {"op": "change", "kind": kind, "name": name, **what}


def mend(given, stop=False, **question):
    answering = Answering(prepare(given), 1, NOW, seen=lambda _: None)
    asked = {"account": "ada", "action": "download", "path": "/bay/x", **question}
    return answering.mend(asked, stop, 16)


def ways(found):
    """All ways, those that are told with another, too."""
    return [way for m in found.mends for way in (m, *m.alike)]


def says(found):
    return [way.says for way in ways(found)]


DOWNLOAD = {}
SIGN_IN = {"action": "sign-in", "path": None, "endpoint": "quay"}


@pytest.mark.parametrize(
    ("changes", "question", "way"),
    [
        # At a folder.
        ([], DOWNLOAD, ["folder hold:/bay: add `allow account:ada download here`"]),
        ([], DOWNLOAD, ["folder hold:/bay: add `allow unit:crew/deck download`"]),
        ([], DOWNLOAD, ["folder hold:/bay: add `allow group:crew download here`"]),
        ([], DOWNLOAD, ["group readers: add `account:ada`"]),
        (
            [],
            {"path": "/bay/new/x"},
            ["folder hold:/bay/new: add `allow account:ada download here`"],
        ),
        (
            [
                change(
                    "folder",
                    "hold:/bay",
                    add={"entries": ["allow group:crew read", "deny account:ada download"]},
                )
            ],
            DOWNLOAD,
            ["folder hold:/bay: take `deny account:ada download` away"],
        ),
        (
            [
                change(
                    "folder",
                    "hold:/bay",
                    add={"entries": ["allow group:crew read", "deny unit:crew read"]},
                )
            ],
            DOWNLOAD,
            ["folder hold:/bay: add `deny unit:crew list`, take `deny unit:crew read` away"],
        ),
        (
            [
                change("folder", "hold:/", add={"entries": ["forbid group:crew download"]}),
                change("folder", "hold:/bay", add={"entries": ["allow group:crew read"]}),
            ],
            DOWNLOAD,
            ["folder hold:/: take `forbid group:crew download` away"],
        ),
        (
            [
                change("folder", "hold:/", add={"entries": ["allow group:crew read"]}),
                change("folder", "hold:/bay", set={"sealed": True}),
            ],
            DOWNLOAD,
            ["folder hold:/bay: set sealed to no"],
        ),
        (
            [
                change(
                    "folder",
                    "hold:/bay",
                    add={"entries": ["allow group:crew read until 2026-11-20"]},
                )
            ],
            DOWNLOAD,
            ["folder hold:/bay: add `allow group:crew read until 2027-11-23`"],
        ),
        (
            [change("group", "readers", add={"members": ["account:ada until 2026-11-22"]})],
            DOWNLOAD,
            ["group readers: add `account:ada until 2027-11-23`"],
        ),
        # At a virtual path.
        (
            [
                change("virtual-path", "/bay", set={"grants": ["signed-in look"]}),
                change("folder", "hold:/bay", add={"entries": ["allow group:crew read"]}),
            ],
            DOWNLOAD,
            ["virtual path /bay>hold:/bay: add `signed-in read`, take `signed-in look` away"],
        ),
        (
            [
                change("virtual-path", "/bay", set={"grants": ["group:readers read"]}),
                change("folder", "hold:/bay", add={"entries": ["allow group:crew read"]}),
            ],
            DOWNLOAD,
            ["virtual path /bay>hold:/bay: add `account:ada enter,download`"],
        ),
        (
            [
                {
                    "op": "add",
                    "kind": "virtual-path",
                    "item": {"path": "/bay", "leads_to": "hold:/", "grants": ["signed-in read"]},
                },
                change("folder", "hold:/bay", add={"entries": ["allow group:crew read"]}),
            ],
            DOWNLOAD,
            ["virtual path /bay>hold:/: take `signed-in read` away"],
        ),
        # At an endpoint, and at sign-in.
        (
            [change("endpoint", "quay", set={"enabled": False})],
            SIGN_IN,
            ["endpoint quay: set enabled to yes"],
        ),
        (
            [change("account", "ada", set={"enabled": False})],
            SIGN_IN,
            ["account ada: set enabled to yes"],
        ),
        (
            [change("account", "ada", set={"expires": "2026-11-01"})],
            SIGN_IN,
            ["account ada: set expires to 2027-11-23"],
        ),
        (
            [change("endpoint", "quay", add={"never": ["group:crew"]})],
            SIGN_IN,
            ["endpoint quay: take `group:crew` away"],
        ),
        (
            [change("endpoint", "quay", set={"only": ["group:readers"]})],
            SIGN_IN,
            ["endpoint quay: add `account:ada`"],
        ),
        (
            [change("endpoint", "quay", set={"only": ["group:readers"]})],
            SIGN_IN,
            ["endpoint quay: set only to as by default"],
        ),
        (
            [change("endpoint", "quay", set={"entries": ["allow account:bo all"]})],
            SIGN_IN,
            ["endpoint quay: add `allow account:ada enter,list,download`"],
        ),
        (
            [change("setting", "group:crew", set={"hours": ["tue 08:00-09:00"]})],
            SIGN_IN,
            ["setting group:crew: set hours to as by default"],
        ),
        (
            [change("setting", "group:crew", set={"addresses": ["allow 192.0.2.0/24"]})],
            {**SIGN_IN, "from": "198.51.100.9"},
            ["setting group:crew: add `allow 198.51.100.9/32`"],
        ),
        (
            [change("setting", "unit:crew", set={"methods": ["key"]})],
            {**SIGN_IN, "method": "password"},
            ["setting unit:crew: add `password`"],
        ),
        (
            [change("setting", "unit:crew", set={"sessions": 2})],
            {**SIGN_IN, "sessions": 2},
            ["setting account:ada: set sessions to 3"],
        ),
        ([], {**SIGN_IN, "method": "key"}, ["account ada: add `key`"]),
    ],
)
def test_it_is_among_the_ways_and_it_helps(changes, question, way):
    given = model(*changes)
    found = mend(given, **question)
    assert not found.allowed and way in says(found), says(found)
    taken = next(w for w in ways(found) if w.says == way)
    after = apply(given, [c.plain() for c in taken.changes])
    assert mend(after.model, **question).allowed


@pytest.mark.parametrize(
    ("quota", "way"),
    [
        (
            {
                "op": "add",
                "kind": "quota",
                "item": {"name": "bay", "folder": "hold:/bay", "hard_bytes": 10},
            },
            "quota bay: set hard_bytes to 50",
        ),
        (
            {"op": "change", "kind": "store", "name": "hold", "set": {"capacity": 10}},
            "store hold: set capacity to 50",
        ),
        (
            {"op": "change", "kind": "setting", "name": "unit:crew", "set": {"quota_bytes": 10}},
            "setting account:ada: set quota_bytes to 50",
        ),
        (
            {"op": "change", "kind": "setting", "name": "unit:crew", "set": {"upload_limit": 10}},
            "setting account:ada: set upload_limit to 50",
        ),
    ],
)
def test_at_the_limits_as_much_more_as_is_asked_for(quota, way):
    open_to_all = [
        change("folder", "hold:/bay", add={"entries": ["allow signed-in all"]}),
        change("virtual-path", "/bay", set={"grants": ["signed-in all"]}),
    ]
    found = mend(model(*open_to_all, quota), action="upload", size=50)
    assert [way] in says(found), says(found)


@pytest.mark.parametrize(
    "way",
    [
        ["folder hold:/bay: add `deny account:bo download here`"],
        ["folder hold:/bay: take `allow group:readers read` away"],
        ["folder hold:/bay: add `allow group:readers look`, take `allow group:readers read` away"],
        ["virtual path /bay>hold:/bay: add `signed-in look`, take `signed-in read` away"],
        ["group readers: take `account:bo` away"],
    ],
)
def test_stopping_is_by_less_of_what_allows_it(way):
    found = mend(model(), stop=True, account="bo")
    assert found.allowed and way in says(found), says(found)


def test_a_way_that_others_pay_for_comes_after_one_that_nobody_does():
    found = mend(
        model(
            change(
                "folder",
                "hold:/bay",
                set={"entries": ["deny signed-in download", "allow signed-in read"]},
            )
        )
    )
    takes_all = ["folder hold:/bay: take `deny signed-in download` away"]
    assert takes_all in says(found)
    way = next(m for m in found.mends if m.says == takes_all)
    assert way.others == ["bo"] and way.other_count == 1


def test_wider_ways_with_the_same_effect_are_told_with_the_narrowest():
    found = mend(model())
    narrowest = next(
        m
        for m in found.mends
        if m.says == ["folder hold:/bay: add `allow account:ada download here`"]
    )
    assert ["folder hold:/bay: add `allow group:crew download here`"] in [
        a.says for a in narrowest.alike
    ]
    told = [(m.says[0].split(":")[0], m.follows) for m in found.mends]
    assert len({str(x) for x in told}) == len(told)
