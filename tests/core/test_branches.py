"""What is compared folder by folder is what comes out where all locations of both models are
brought together first.
"""

from dataclasses import replace
from random import Random

from hypothesis import example, given
from hypothesis import strategies as st

from drawknife.core.follows.access_changes import Side, access_changes
from drawknife.core.follows.branches_compared import changes_in_branches
from drawknife.core.follows.some_names import Roll, SomeNames, each_once
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare

from .models import random_model


def with_other_folders(model, rng):
    """The same with the entries of some folders given to others, some seals and owners turned:
    everybody is led as before.
    """
    stores = []
    for store in model.stores:
        folders = list(store.folders)
        for i in rng.sample(range(len(folders)), min(3, len(folders))):
            if (
                rng.random() < 0.5
            ):  # what carries nothing shares what it has with others that carry nothing
                folders[i] = replace(folders[i], entries=(), sealed=False, owner=None)
            else:
                folders[i] = replace(
                    folders[i], entries=rng.choice(folders).entries, sealed=rng.random() < 0.3
                )
        stores.append(replace(store, folders=tuple(folders)))
    return sound(replace(model, stores=tuple(stores)))


def as_told(changes):
    return sorted((tuple(c.accounts), c.locations, *c[2:6], c.worth_a_line) for c in changes)


@given(st.integers(0, 10**9))
@example(330)  # a virtual path begins between two folders that are compared
@example(
    1252
)  # what lies between is a location of others only, that leads to a virtual path of theirs
@example(6342)  # the same virtual path leads others to another folder
def test_side_by_side_is_what_is_found_by_looking_everywhere(seed):
    rng = Random(seed)
    before = prepare(random_model(seed))
    after = prepare(with_other_folders(before.model, rng), before)
    names = [a.name for a in before.model.accounts]
    branches = {
        s.name: with_below(before, after, s, b)
        for s, b in zip(before.model.stores, after.model.stores, strict=True)
    }
    branches = {store: folders for store, folders in branches.items() if folders}
    sides = [Side(p, None) for p in (before, after)]
    assert as_told(changes_in_branches(*sides, names, branches)) == as_told(
        access_changes(*sides, names)
    )
    some = sorted(rng.sample(range(len(names)), rng.randint(1, len(names))))
    named, kept = [names[i] for i in some], sum(1 << i for i in some)
    sides_of_some = [Side(p, some) for p in (before, after)]
    found = as_told(access_changes(*sides_of_some, named))
    assert as_told(changes_in_branches(*sides_of_some, named, branches)) == found
    assert as_told(changes_in_branches(*sides, names, branches, kept)) == found


def with_below(before, after, was, now):
    """The folders that differ, and what is recorded below them."""
    tops = [f.path for f, g in zip(was.folders, now.folders, strict=True) if f != g]
    return sorted(
        {
            f.path
            for top in tops
            for p in (before, after)
            for f in p.stores[was.name].recorded_below(top)
        }
        | {*tops}
    )


def test_folders_that_are_alike_now_are_told_apart_by_what_they_were():
    def made(*entries):
        folders = (m.Folder("/"), m.Folder("/a", entries=entries), m.Folder("/b"))
        grants = (m.parse_grant("anyone all"),)
        paths = (m.VirtualPath("/v", "s:/", grants=grants),)
        return sound(
            m.Model(
                accounts=(m.Account("ada"),),
                stores=(m.Store("s", None, "open", None, folders),),
                virtual_paths=paths,
            )
        )

    before = prepare(made(m.parse_entry("deny account:ada upload")))
    sides = Side(before, None), Side(prepare(made(), before), None)
    (change,) = changes_in_branches(*sides, ["ada"], {"s": ["/a", "/b"]})
    assert (change.locations, change.gained, change.lost) == (("/v/a",), ("upload",), ())


NAMES = tuple(f"a{i:02}" for i in range(40))


@given(st.integers(0, 2**40 - 1), st.integers(0, 2**40 - 1), st.integers(0, 45))
def test_some_names_are_a_tuple_of_them(bits, others, few):
    roll = Roll(NAMES)
    some, written = SomeNames(roll, bits), tuple(n for i, n in enumerate(NAMES) if bits >> i & 1)
    assert (
        some == written
        and written == some
        and hash(some) == hash(written)
        and repr(some) == repr(written)
    )
    assert (len(some), tuple(some), some[:few], some[few:]) == (
        len(written),
        written,
        written[:few],
        written[few:],
    )
    assert [n in some for n in (*NAMES, "nobody", 7)] == [
        n in written for n in (*NAMES, "nobody", 7)
    ]
    assert (some == SomeNames(roll, others)) is (bits == others)
    assert (some == SomeNames(Roll(NAMES), others)) is (bits == others)
    more = tuple(n for i, n in enumerate(NAMES) if others >> i & 1)
    every = [some, ("nobody",), SomeNames(roll, others), SomeNames(Roll(NAMES), others), written]
    assert each_once(every) == list(dict.fromkeys([*written, "nobody", *more]))
