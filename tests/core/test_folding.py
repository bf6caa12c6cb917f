"""Folded access is the whole access, with what is alike counted: held against folding the whole,
literally.
"""

from dataclasses import replace
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.everybody.compare import differences
from drawknife.core.everybody.effective import effective_access
from drawknife.core.everybody.folding import folded_access
from drawknife.core.follows.access_changes import Side, access_changes
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.names import ancestors

from ..disk.test_everybody import random_model as on_a_disk
from .models import random_model


def literally(rows, asked):
    """Each row in turn: is it as the nearest location above it, however that is shown?"""
    found, states = [], {}
    owner = {}  # the line that each location is shown in
    for row in rows:
        above = None
        at = row.location
        while at != "/" and above is None:
            at = at.rpartition("/")[0] or "/"
            above = at if at in states else None
        states[row.location] = row.states
        if (
            above is not None
            and row.kind == "folder"
            and row.location != asked
            and states[above] == row.states
        ):
            owner[row.location] = owner[above]
            found[owner[above]][1] += 1
        else:
            owner[row.location] = len(found)
            found.append([row, 0])
    return [(tuple(row), below) for row, below in found]


def same(prepared, account, endpoint, under, disk):
    whole, closed = effective_access(prepared, account, endpoint, under, disk)
    folded, also_closed, total = folded_access(prepared, account, endpoint, under, disk)
    assert [(tuple(row[:4]), row.below) for row in folded] == literally(whole, under), (
        account.name,
        under,
    )
    assert total == len(whole) and also_closed == closed
    return len(whole) - len(folded)


@given(st.integers(0, 10**9))
@settings(max_examples=250, deadline=None)
def test_folded_it_is_the_whole_with_what_is_alike_counted(seed):
    rng = Random(seed)
    prepared = prepare(random_model(seed))
    endpoint = rng.choice([None, *prepared.model.endpoints])
    for index in range(len(prepared.people.accounts)):
        account = prepared.people.prepared(index)
        same(prepared, account, endpoint, "/", False)
        rows, _ = effective_access(prepared, account, endpoint)
        if rows:
            same(prepared, account, endpoint, rng.choice(rows).location, False)


@given(st.integers(0, 10**9))
@settings(max_examples=80, deadline=None)
def test_on_a_disk_too(seed):
    prepared = prepare(on_a_disk(Random(seed)))
    for index in range(len(prepared.people.accounts)):
        same(prepared, prepared.people.prepared(index), None, "/", True)


def test_a_large_branch_is_counted_and_what_differs_in_it_is_shown():
    from drawknife.core.model import items as m
    from drawknife.core.model.canonical import sound

    folders = [
        m.Folder(
            "/",
            entries=(
                m.parse_entry("allow anyone read"),
                m.parse_entry("allow anyone upload children"),
            ),
        )
    ]
    folders += [m.Folder(f"/a{i}") for i in range(3)] + [m.Folder(f"/a0/b{i}") for i in range(500)]
    folders += [
        m.Folder("/a0/b7/c", entries=(m.parse_entry("deny anyone download"),)),
        m.Folder("/a0/b7/c/d"),
    ]
    model = sound(
        m.Model(
            accounts=(m.Account("ada"),),
            stores=(m.Store("s", folders=tuple(folders)),),
            virtual_paths=(m.VirtualPath("/v", "s:/", grants=(m.parse_grant("anyone all"),)),),
        )
    )
    prepared = prepare(model)
    rows, _, total = folded_access(prepared, prepared.account("ada"))
    assert [(r.location, r.below) for r in rows if "/b" not in r.location] == [
        ("/", 0),
        ("/v", 0),
        ("/v/a0", 0),
        ("/v/a1", 0),
        ("/v/a2", 0),
    ]
    assert [(r.location, r.below) for r in rows if r.location.count("/") > 3] == [("/v/a0/b7/c", 1)]
    assert total == 507 == len(rows) + sum(r.below for r in rows)


@given(st.integers(0, 10**9))
@settings(max_examples=120, deadline=None)
def test_folded_differences_hide_none(seed):
    """Each location below a line, up to the next line, differs as that does; and all together they
    are as many.
    """
    prepared = prepare(random_model(seed))
    accounts = [prepared.people.prepared(i) for i in range(len(prepared.people.accounts))]
    one, other = Random(seed).choices(accounts, k=2)
    sides = (prepared, one), (prepared, other)
    whole, total = differences(*sides)
    folded, same_total = differences(*sides, folded=True)
    assert total == same_total == len(whole)
    apart = (
        (prepared, one),
        (prepare(prepared.model), other),
    )  # as two models: side by side, and not in one pass
    assert differences(*apart) == (whole, total) and differences(*apart, folded=True) == (
        folded,
        total,
    )
    ways = {}
    for d in whole:
        ways.setdefault(d.location, []).append(d[1:4])
    lines = {}
    for d in folded:
        lines.setdefault(d.location, []).append(d)
    every = {
        row.location for account in (one, other) for row in effective_access(prepared, account)[0]
    }
    counted = 0
    for location, some in lines.items():
        assert [d[1:4] for d in some] == ways[location]
        counted += some[0].below
    for location in ways.keys() - lines.keys():
        above = next(at for at in list(ancestors(location))[1:] if at in every)
        assert ways[location] == ways[above]
    assert counted == len(ways) - len(lines)


@given(st.integers(0, 10**9))
@settings(max_examples=120, deadline=None)
def test_what_is_folded_of_a_change_changes_as_the_location_above(seed):
    """Between two models of the same people: each change has its lines first, and of the rest it is
    so just above.
    """
    rng = Random(seed)
    model = random_model(seed)
    stores = tuple(
        replace(s, folders=t.folders)
        for s, t in zip(model.stores, random_model(seed + 1).stores, strict=False)
    )
    try:
        other = sound(replace(model, stores=stores or model.stores))
    except ValueError:
        return  # folders that name somebody who is not there
    before, after = prepare(model), prepare(other)
    some = [a.name for a in rng.sample(model.accounts, min(4, len(model.accounts)))]
    sides = [Side(p, [p.people.index[name] for name in some]) for p in (before, after)]
    for change in access_changes(*sides, some):
        lines, folded = change.worth_a_line, change.locations[len(change.worth_a_line) :]
        assert lines and len(set(change.locations)) == len(change.locations)
        for location in folded:
            above = next(
                at
                for at in list(ancestors(location))[1:]
                if any(
                    at == row.location
                    for p in (before, after)
                    for name in change.accounts
                    for row in effective_access(p, p.account(name))[0]
                )
            )
            assert above in change.locations, (location, above, change)
