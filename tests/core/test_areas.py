"""What lies within an administrator's area: whatever is let through brings no gain about outside
it.
"""

from dataclasses import replace
from datetime import UTC, datetime, timedelta
from random import Random

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.follows.days import consequences
from drawknife.core.follows.outside_area import outside
from drawknife.core.follows.pairing import Renames
from drawknife.core.model.areas import parse_area
from drawknife.core.model.items import Usage
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadValue, DrawknifeError
from drawknife.core.words.names import Place
from drawknife.formats.model_file import read_model

from .changes import random_change
from .models import random_model
from .test_consequences import Brute, all_lines, new_place

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
PARTS = (
    "store:s",
    "s:/a",
    "t:/a",
    "unit:fleet",
    "unit:shore",
    "group:g1",
    "group:g2",
    "store:t",
    "s:/b",
)


def traps(rng, model):
    """Changes that reach beyond an area, though the item they touch may lie in it."""
    owner = rng.choice(["ada", "bo", "Cy", None])
    subject = rng.choice(["account:ada", "unit:fleet", "group:g1"])
    return rng.choice(
        [
            {
                "op": "change",
                "kind": "store",
                "name": rng.choice("st"),
                "set": {"root": rng.choice(["/etc", None])},
            },
            {
                "op": "change",
                "kind": "store",
                "name": rng.choice("st"),
                "set": {"creation_mode": "0666 0777"},
            },
            {
                "op": "change",
                "kind": "setting",
                "name": subject,
                "set": {"acts_as": rng.choice(["root", None])},
            },
            {"op": "change", "kind": "setting", "name": subject, "set": {"uploads_owner": owner}},
            {
                "op": "add",
                "kind": "virtual-path",
                "item": {
                    "path": rng.choice(["/a", "/b", "/home"]),
                    "leads_to": rng.choice(["s:/a/b", "t:/a", "s:/b"]),
                    "grants": [
                        rng.choice(
                            ["signed-in all", "account:bo all", "anyone look", "unit:shore all"]
                        )
                    ],
                },
            },
        ]
    )


def changed(seed):
    """A random model, some random changes that it allows, and the model after them."""
    rng = Random(seed)
    model = random_model(seed)
    for _ in range(20):
        changes = [
            rng.choice([random_change, random_change, traps])(rng, model)
            for _ in range(rng.choice([1, 1, 2]))
        ]
        try:
            applied = apply(model, changes)
        except DrawknifeError:
            continue
        if applied.model != model:
            return rng, model, changes, applied
    assume(False)
    raise AssertionError


def what_is_outside(area, model, applied):
    return found_outside(area, model, applied.model, applied.renames)


def found_outside(area, model, changed, renames=None):
    before, after = prepare(model), prepare(changed)
    renames = renames or Renames()
    follows = consequences(before, after, NOW, renames)
    return outside(parse_area(area), before, after, follows, renames, NOW.date())


def in_places(area, store, path):
    tops = [
        (x[6:], "/") if x.startswith("store:") else tuple(x.split(":"))
        for x in area
        if ":/" in x or x[:6] == "store:"
    ]
    return any(
        store == s and (top == "/" or path == top or path.startswith(top + "/")) for s, top in tops
    )


def in_units(area, unit):
    return unit is not None and any(
        unit == x[5:] or unit.startswith(x[5:] + "/") for x in area if x[:5] == "unit:"
    )


def counted(rng, model):
    """What a census makes of a model: other usage of one store, with owners from anywhere."""
    store = rng.choice(model.stores)
    rows = {
        (
            rng.choice(["/", "/a", "/b"]),
            rng.choice([None, *(a.name for a in model.accounts)]),
        ): rng.choice([1, 30, 10**15])
        for _ in range(rng.randint(0, 3))
    }
    usage = [Usage(Place(store.name, path), owner, size, 1) for (path, owner), size in rows.items()]
    return replace(
        model,
        usage=tuple(
            sorted([u for u in model.usage if u.folder.store != store.name] + usage, key=str)
        ),
    )


@settings(max_examples=300)
@given(st.integers(0, 10**9))
@example(30406)  # a grant has ended, and what it led into is there no more
def test_nothing_outside_an_area_differs_by_what_is_permitted(seed):
    """By single changes, by a whole model put in force, on the way back, and by a census: against
    brute force.
    """
    rng, model, changes, applied = changed(seed)
    area = rng.sample(PARTS, rng.randint(3, 9))
    way, after, renames = (
        rng.choice(["changes", "changes", "load", "back", "census"]),
        applied.model,
        applied.renames,
    )
    if way != "changes":
        renames = Renames()
        changes = []
    if way == "back":
        model, after = after, model
    if way == "census":
        after = counted(rng, model)
    if found_outside(area, model, after, renames):
        return
    were, are = {a.name: a.unit for a in model.accounts}, {a.name: a.unit for a in after.accounts}
    ends = {line.until for x in (model, after) for line in all_lines(x)} - {None}
    for day in (
        NOW,
        *(NOW + (end - NOW.date()) + timedelta(1) for end in ends if end >= NOW.date()),
    ):
        brute = Brute(model, after, changes, day)
        name_before = {new or old: old for old, new in brute.pairs}
        inside = {
            new or old
            for old, new in brute.pairs
            if (new is None or in_units(area, are[new]))
            and (old is None or in_units(area, were[old]))
        }
        for endpoints in (None, *brute.endpoints):
            for account, location, depth in brute.access(endpoints):
                if account not in inside:
                    places = [
                        brute.b.resolve(account, location),
                        brute.a.resolve(name_before[account], location),
                    ]
                    real = [x for x in places if x[0] == "real"]
                    assert real, (account, location, depth)
                    assert all(in_places(area, x[1], x[2]) for x in real), (account, location)
        assert {account for account, _, _ in brute.sign_in()} <= inside
        assert {account for account, _ in brute.settings()} <= inside
        assert {account for account, _ in brute.room()} <= inside
        moves = any(c["kind"] == "folder" and c["op"] == "rename" for c in changes)
        for old, new in brute.pairs:
            if new in inside or old is None or new is None:
                continue
            for location in brute.a.locations(old) if not moves else brute.a.namespace(old):
                was, now = (
                    x[1:3] or None
                    for x in (brute.a.resolve(old, location), brute.b.resolve(new, location))
                )
                assert was is None or new_place(changes, was) == now, (new, location)
    # No item outside is touched, whatever its effects.
    for old, new in ((model, after), (after, model)):
        for store in old.stores:
            there = {s.name: s for s in new.stores}.get(store.name)
            assert all(
                f in (there.folders if there else ()) or in_places(area, store.name, f.path)
                for f in store.folders
            )
            fields = store.root, store.creation_mode, store.capacity
            assert fields == (
                (there.root, there.creation_mode, there.capacity) if there else (None, None, None)
            )
        assert all(a in new.accounts or in_units(area, a.unit) for a in old.accounts)
        assert all(g in new.groups or f"group:{g.name}" in area for g in old.groups)
        assert set(old.endpoints) <= set(new.endpoints)
        assert set(old.lockouts) <= set(new.lockouts)
        assert old.inside == new.inside
        for usage in old.usage:
            assert (
                usage in new.usage
                or usage.owner is None
                or in_units(area, (are | were)[usage.owner])
            )
        others = {s.subject: dict(s.values) for s in new.settings}
        for one in old.settings:
            values, other = dict(one.values), others.get(one.subject, {})
            assert values.get("acts_as") == other.get("acts_as")
            owner = values.get("uploads_owner")
            assert owner in (None, other.get("uploads_owner")) or in_units(
                area, (are | were)[owner]
            )


@settings(max_examples=60)
@given(st.integers(0, 10**9))
def test_the_larger_area_lets_through_what_the_smaller_does(seed):
    rng, model, _, applied = changed(seed)
    area = rng.sample(PARTS, rng.randint(1, 4))
    if not what_is_outside(area, model, applied):
        assert what_is_outside([*area, "unit:fleet", "store:t", "group:g1"], model, applied) == []


SMALL = """drawknife: 1
accounts: [{name: ada, unit: lab}, {name: bo, unit: crew}]
units: [lab, crew]
groups: [{name: guests, members: [account:bo]}, {name: crews, members: [account:bo]}]
stores:
  - name: s
    folders:
      - {path: /, entries: ["allow anyone look"]}
      - {path: /in, entries: ["allow anyone all"]}
      - {path: /out, entries: ["allow group:guests read"]}
virtual_paths:
  - {path: /in, leads_to: "s:/in", grants: [signed-in all]}
  - {path: /out, leads_to: "s:/out", grants: [signed-in all]}
endpoints: [{name: quay, protocol: sftp, port: 22, only: [unit:lab, group:crews]}]
quotas: [{name: full, folder: "s:/in", hard_bytes: 30}]
"""
AREA = ["s:/in", "unit:lab", "group:guests", "group:crews"]


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (
            {
                "op": "change",
                "kind": "group",
                "name": "guests",
                "drop": {"members": ["account:bo"]},
            },
            "bo would lose",
        ),
        (
            {"op": "change", "kind": "group", "name": "crews", "drop": {"members": ["account:bo"]}},
            "bo could no longer sign in at quay",
        ),
        (
            {"op": "change", "kind": "quota", "name": "full", "set": {"hard_bytes": 40}},
            "room of bo at /in",
        ),
        (
            {"op": "change", "kind": "setting", "name": "group:guests", "set": {"sessions": 1}},
            "sessions of bo",
        ),
        (
            {
                "op": "add",
                "kind": "virtual-path",
                "item": {"path": "/out/here", "leads_to": "s:/in", "grants": ["account:bo all"]},
            },
            "/out/here would lead bo to s:/in",
        ),
        ({"op": "remove", "kind": "virtual-path", "name": "/in"}, "/in would lead bo to nothing"),
        (
            {"op": "change", "kind": "store", "name": "s", "set": {"root": "/etc"}},
            "the root of store s",
        ),
        (
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/in",
                "add": {"entries": ["deny account:bo upload"]},
            },
            None,
        ),
        (
            {
                "op": "add",
                "kind": "virtual-path",
                "item": {"path": "/more", "leads_to": "s:/in", "grants": ["signed-in all"]},
            },
            None,
        ),
        ({"op": "change", "kind": "setting", "name": "unit:lab", "set": {"sessions": 1}}, None),
    ],
)
def test_each_effect_on_others_is_told_by_itself(change, told):
    model = read_model(SMALL)
    found = [
        x
        for x in what_is_outside(AREA, model, apply(model, [change]))
        if not x.startswith("the files of")
    ]
    assert found == [] if told is None else any(told in x for x in found), found


def test_a_change_within_is_let_through_and_one_beside_it_told(demo):
    entry = {
        "op": "change",
        "kind": "folder",
        "name": "survey:/soundings",
        "add": {"entries": ["allow account:refa read"]},
    }
    applied = apply(demo, [entry])
    assert what_is_outside(["survey:/soundings"], demo, applied) == []
    assert what_is_outside(["survey:/charts"], demo, applied)[0] == "folders survey:/soundings"


def test_a_group_alone_neither_loses_members_nor_brings_in_strangers(demo):
    leaves = apply(
        demo,
        [
            {
                "op": "change",
                "kind": "group",
                "name": "night-watch",
                "drop": {"members": ["account:odile"]},
            }
        ],
    )
    assert any(
        "odile would lose" in x for x in what_is_outside(["group:night-watch"], demo, leaves)
    )
    joins = apply(
        demo,
        [
            {
                "op": "change",
                "kind": "group",
                "name": "night-watch",
                "add": {"members": ["account:refa"]},
            }
        ],
    )
    assert any("refa" in x for x in what_is_outside(["group:night-watch"], demo, joins))
    assert what_is_outside(["group:night-watch", "unit:shore/office"], demo, joins) == []


def test_a_home_elsewhere_is_no_business_of_a_unit(demo):
    moves = apply(
        demo,
        [{"op": "change", "kind": "account", "name": "ines", "set": {"home": "survey:/soundings"}}],
    )
    assert "the home of ines, survey:/soundings" in what_is_outside(["unit:shore/lab"], demo, moves)


@pytest.mark.parametrize(
    "line", ["survey", "account:ines", "unit:", "group:a/b", "store:a:b", "survey:relative"]
)
def test_what_is_no_part_of_an_area_is_refused(line):
    with pytest.raises(BadValue):
        parse_area([line])
