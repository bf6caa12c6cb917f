"""What a disk says, taken over as a model: the model then says the same, but for what was told."""

from dataclasses import replace
from itertools import pairwise
from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.changing.apply import apply
from drawknife.core.decide.disk_gate import disk_obstacles, taken_on
from drawknife.core.everybody.adopting import adopt, with_folders
from drawknife.core.everybody.drift import ON_FOLDERS, drift
from drawknife.core.everybody.effective import effective_access, right_state
from drawknife.core.model import disk as d
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.names import Place, ancestors
from drawknife.core.words.rights import RIGHTS

from .test_everybody import random_model, random_reading
from .trees import USERS


def on_a_server(rng):
    """A model of which nothing is said yet, with groups among the accounts, on a disk that nobody
    made.
    """
    model = random_model(rng)
    members = tuple(m.parse_member(f"account:{u.name}") for u in USERS)
    groups = (m.Group("first", members[:2]), m.Group("most", members[1:]))
    reading = replace(random_reading(rng, confined=True), store="s")
    whole = (m.Grant(m.Subject("anyone"), (1 << 11) - 1),)
    paths = tuple(replace(v, grants=whole) for v in model.virtual_paths)
    return sound(replace(model, groups=groups, disk_readings=(reading,), virtual_paths=paths))


def can_be_deleted_but_not_what_holds_it(prepared, row):
    """On the disk: somewhere above the folder, one can be deleted, the next one not, and the one
    below that can be.
    """
    account, path = prepared.account(row.account), row.place.path
    deletable = [may_delete(prepared, account, "s", at) for at in ancestors(path)]
    return any(x and not y for x, y in pairwise(deletable))


def may_delete(prepared, account, store, path):
    return (
        path != "/"
        and next(disk_obstacles(prepared, account, "delete-folder", Place(store, path), path), None)
        is None
    )


@given(st.integers(0, 10**9))
@settings(max_examples=150, deadline=None)
def test_after_it_the_disk_says_the_same_but_for_what_was_told(seed):
    model = on_a_server(Random(seed))
    prepared = prepare(model)
    if not model.settings:
        with pytest.raises(ValueError, match="of no account"):
            adopt(prepared, "s")
        return
    found = adopt(prepared, "s")
    after = prepare(sound(with_folders(model, "s", found.folders)))
    assert drift(after, "s").rows == found.not_said
    # What a virtual path leads to stays where it is for the server, whatever a disk lets; no line
    # lets somebody do to others' files what it may not do to its own; and none lets a folder be
    # deleted that is in one which is not, in one which is. A line says of a folder itself what it
    # says of the files in it.
    of_files = {f.path for f in model.disk_readings[0].files}
    for row in drift(after, "s", fold_rows=False).rows:
        left = (
            {*row.refused, *row.wider}
            - ON_FOLDERS.keys()
            - ({"delete-folder"} if row.location == "/in/x" else set())
        )
        if "delete-folder" in row.wider and can_be_deleted_but_not_what_holds_it(prepared, row):
            left.discard("delete-folder")
        assert not left or (
            row.place.path in of_files and left <= {"download", "overwrite", "append"}
        ), row
    # Of whom nothing is known there, nobody gets more by it, but for what owners may now do with
    # what is theirs.
    known = {
        a.name
        for a in model.accounts
        if taken_on(prepared, prepared.account(a.name), "s") is not None
    }
    for account in (a.name for a in model.accounts if a.name not in known):
        for row in effective_access(after, after.account(account))[0]:
            for right, now in zip(RIGHTS, row.states, strict=True):
                before = right_state(prepared, prepared.account(account), row.location, right)
                assert now in ("no", "own") or before in ("yes", now), (account, row, right, before)
    # The changes that are given make just that model.
    done = apply(model, found.changes).model
    assert done.stores[0].baseline == "closed" and [
        f for f in done.stores[0].folders if f.entries or f.sealed
    ] == [f for f in after.model.stores[0].folders if f.entries or f.sealed]
    assert {f.path for f in done.stores[0].folders} >= {
        f.path for f in model.disk_readings[0].folders
    }


def test_what_lines_say_to_those_of_whom_nothing_is_known_stays():
    """Only u0 acts as somebody: what the model says to the others is said to them still, and their
    folders stay theirs.
    """
    model = on_a_server(Random(2))
    lines = (
        "allow anyone read",
        "deny account:u1 download",
        "forbid account:u2 upload",
        "allow owner all",
    )
    folders = (
        m.Folder("/", None, False, tuple(m.parse_entry(x) for x in lines)),
        m.Folder("/kept", "u3", False, (m.parse_entry("allow account:u3 all"),)),
    )
    reading = m.DiskReading("s", None, True, (), (d.parse_folder("0:0 0755 /"),), (), USERS)
    acts = (m.Setting(m.Subject("account", "u0"), (("acts_as", "u0"),)),)
    stores = (replace(model.stores[0], folders=folders),)
    prepared = prepare(
        sound(replace(model, stores=stores, settings=acts, disk_readings=(reading,)))
    )
    found = {f.path: f for f in adopt(prepared, "s").folders}
    told = sorted(map(str, found["/"].entries))
    assert {"deny account:u1 download", "forbid account:u2 upload", "allow account:u0 read"} <= set(
        told
    )
    assert "allow anyone read" not in told and "allow owner all" not in told
    assert {x for x in told if x.endswith(" read")} == {
        "allow account:u0 read",
        "allow group:most read",
    }
    assert found["/kept"].owner == "u3" and list(map(str, found["/kept"].entries)) == [
        "allow account:u3 all"
    ]
