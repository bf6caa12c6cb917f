"""What a change may not do to promises that are always to be kept."""

from random import Random

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from drawknife.answers.changing import Changing, InMemory
from drawknife.changing import apply
from drawknife.core.follows.days import consequences
from drawknife.core.follows.promises_held import broken_by
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import DrawknifeError
from drawknife.formats.model_file import read_model, write_model

from .changes import random_change
from .models import random_model
from .test_promises import DAY, NOW, Brute, random_says


def with_promises(model, promises):
    return sound(
        m.Model(
            **{
                **{f: getattr(model, f) for f in model.__dataclass_fields__},
                "promises": tuple(promises),
            }
        )
    )


@given(st.integers(0, 10**9))
@example(29_950)  # the last name of one that was broken before goes
@settings(max_examples=80, deadline=None)
def test_a_change_is_refused_exactly_where_it_breaks_what_was_kept(seed):
    rng = Random(seed)
    bare = random_model(seed)
    says = list(dict.fromkeys(random_says(rng, bare) for _ in range(4)))
    before = with_promises(
        bare,
        [
            m.Promise(f"p{i}", x, rng.choice(["always", "always", "watched"]))
            for i, x in enumerate(says)
        ],
    )
    change = random_change(rng, before)
    assume(change["op"] != "rename")
    try:
        after = apply(before, [change]).model
    except DrawknifeError:
        assume(False)
    there = {p.name for p in after.promises}
    expected = {
        p.name
        for p in before.promises
        if p.kept == "always"
        and p.name in there
        and not Brute(before, p.says).broken_by()
        and Brute(after, p.says).broken_by()
    }
    found = {b.promise.name for b in broken_by(prepare(before), prepare(after), DAY)}
    assert {name for name in found if name in there} == expected


MODEL = read_model("""drawknife: 1
units: [crew]
accounts: [{name: ada, unit: crew}, {name: bo}]
groups: [{name: lab, members: [account:ada]}]
stores: [{name: s, folders: [{path: /x, entries: [allow group:lab read]}]}]
virtual_paths: [{path: /x, leads_to: "s:/x", grants: [signed-in all]}]
endpoints: [{name: quay, protocol: sftp, port: 22}]
promises:
- {name: inside, says: "only group:lab may download at s:/x tree", kept: always}
- {name: readers, says: "everybody in group:lab may read at /x through quay", kept: watched}
""")
LET_BO = {
    "op": "change",
    "kind": "folder",
    "name": "s:/x",
    "add": {"entries": ["allow account:bo read"]},
}


def face():
    kept = []
    return Changing(InMemory(MODEL, lambda model, _: kept.append(model)), NOW), kept


def test_what_breaks_it_is_refused_with_who_where_and_by_which_line():
    changing, kept = face()
    with pytest.raises(
        ChangeRefused, match="it would break a promise that is always to be kept: inside"
    ) as refused:
        changing.change([LET_BO])
    assert (
        "bo at /x: `allow account:bo read` on s:/x lets it download"
        in refused.value.places[0].message
    )
    told = changing.preview([LET_BO])
    assert told.notes[0].startswith("it would be refused: promise inside is broken") and not kept
    assert [f.kind for f in told.new_findings] == ["promise-broken"]


@pytest.mark.parametrize(
    "changes",
    [
        [{"op": "remove", "kind": "promise", "name": "inside"}, LET_BO],
        [{"op": "change", "kind": "promise", "name": "inside", "set": {"kept": "watched"}}, LET_BO],
        [
            {
                "op": "change",
                "kind": "promise",
                "name": "inside",
                "set": {"says": "nobody in unit:crew may upload at s:/x"},
            },
            LET_BO,
        ],
        [{"op": "rename", "kind": "promise", "name": "inside", "to": "within"}, LET_BO],
        [
            {"op": "rename", "kind": "account", "name": "bo", "to": "bob"},
            {**LET_BO, "add": {"entries": ["allow account:bob read"]}},
        ],
        [{"op": "rename", "kind": "group", "name": "lab", "to": "team"}, LET_BO],
        [{"op": "rename", "kind": "store", "name": "s", "to": "z"}, {**LET_BO, "name": "z:/x"}],
        [
            {"op": "rename", "kind": "folder", "name": "s:/x", "to": "s:/y"},
            {**LET_BO, "name": "s:/y"},
        ],
    ],
)
def test_it_is_held_even_by_a_change_that_takes_it_away_or_renames_what_it_names(changes):
    with pytest.raises(ChangeRefused, match="always to be kept"):
        face()[0].change(changes)


def test_who_takes_it_away_first_may_do_it_then():
    changing, kept = face()
    changing.change([{"op": "remove", "kind": "promise", "name": "inside"}])
    again = Changing(InMemory(kept[-1], kept.append), NOW)
    assert broken_by(prepare(kept[-1]), prepare(apply(kept[-1], [LET_BO]).model), DAY) == []
    assert again.preview([LET_BO]).notes == []


@pytest.mark.parametrize(
    ("change", "refused"),
    [
        (
            {
                "op": "add",
                "kind": "promise",
                "item": {
                    "name": "new",
                    "says": "nobody in anyone may download at s:/x",
                    "kept": "always",
                },
            },
            True,
        ),
        (
            {
                "op": "add",
                "kind": "promise",
                "item": {"name": "new", "says": "nobody in anyone may download at s:/x"},
            },
            False,
        ),
        (
            {
                "op": "add",
                "kind": "promise",
                "item": {
                    "name": "new",
                    "says": "nobody in account:bo may download at s:/x",
                    "kept": "always",
                },
            },
            False,
        ),
        (
            {
                "op": "change",
                "kind": "promise",
                "name": "inside",
                "set": {"says": "only account:bo may download at s:/x"},
            },
            True,
        ),
        ({"op": "change", "kind": "promise", "name": "readers", "set": {"kept": "always"}}, False),
        ({"op": "change", "kind": "endpoint", "name": "quay", "set": {"enabled": False}}, False),
    ],
)
def test_one_that_is_brought_in_broken_is_refused_and_one_that_is_watched_is_a_finding(
    change, refused
):
    after = apply(MODEL, [change])
    assert bool(broken_by(prepare(MODEL), prepare(after.model), DAY, after.renames)) is refused
    found = consequences(prepare(MODEL), prepare(after.model), NOW).new_findings
    assert bool([f for f in found if f.kind == "promise-broken"]) is (
        refused or change["kind"] == "endpoint" or "anyone" in str(change)
    )


def test_what_a_promise_names_is_spelled_carried_along_and_struck_out():
    renamed = apply(
        MODEL, [{"op": "rename", "kind": "endpoint", "name": "quay", "to": "pier"}]
    ).model
    assert renamed.promises[1].says.endpoint == "pier"
    with pytest.raises(ChangeRefused, match="still names"):
        apply(MODEL, [{"op": "remove", "kind": "endpoint", "name": "quay"}])
    gone = apply(
        MODEL, [{"op": "remove", "kind": "group", "name": "lab", "everywhere": True}]
    ).model
    # `only` nobody is nobody at all; that everybody of none may do a thing says nothing.
    assert [str(p.says) for p in gone.promises] == ["nobody in anyone may download at s:/x tree"]
    text = (
        write_model(MODEL).replace("only group:lab", "only group:LAB").replace("at s:/x", "at S:/x")
    )
    assert read_model(text) == MODEL


def test_a_broken_promise_does_not_hold_up_the_removal_of_somebody_it_names():
    """Whoever goes is struck out of it: it is broken as before, and nobody has reworded it."""
    says = "everybody in account:ada, account:bo may upload at /x"
    model = with_promises(MODEL, [m.Promise("all", m.parse_says(says), "always")])
    after = apply(
        model, [{"op": "remove", "kind": "account", "name": "ada", "everywhere": True}]
    ).model
    assert str(after.promises[0].says) == "everybody in account:bo may upload at /x"
    assert broken_by(prepare(model), prepare(after), DAY) == []
    # Who rewords a broken one to another that is broken is told all the same.
    other = with_promises(
        MODEL,
        [m.Promise("all", m.parse_says("everybody in account:bo may upload at /x"), "always")],
    )
    assert [b.promise.name for b in broken_by(prepare(model), prepare(other), DAY)] == ["all"]
