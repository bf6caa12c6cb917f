"""Spelling: units in two spellings, characters that are not seen, names that look alike; paths that
stand for nothing.
"""

from datetime import UTC, datetime
from itertools import permutations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.decide.explain import explain
from drawknife.core.decide.folders import blocked
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.model.soundness import flaws
from drawknife.core.model.standing import units_of
from drawknife.core.model.values import number
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.confusable import alike
from drawknife.core.words.names import BadValue, check_name, fold
from drawknife.core.words.quantities import read_size
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import read_model


@pytest.mark.parametrize(
    ("lines", "spelled"),
    [
        (["shore/lab", "Shore"], ["Shore", "Shore/lab"]),
        (["Shore/lab", "shore/desk"], ["shore", "shore/desk", "shore/lab"]),
        (["Shore/a", "SHORE/b"], ["Shore", "Shore/a", "Shore/b"]),
        (["a/B/c", "A/b"], ["A", "A/b", "A/b/c"]),
        (["ß/x", "SS"], ["SS", "SS/x"]),
    ],
)
def test_a_unit_is_spelled_as_its_own_line_spells_it_whatever_the_order(lines, spelled):
    for order in permutations(lines):
        assert sorted(units_of(m.Model(units=tuple(order))).values()) == spelled
        made = sound(m.Model(units=tuple(order)))
        assert list(made.units) == sorted(spelled, key=fold) and sound(made) == made


@given(st.lists(st.sampled_from(["a", "A", "b", "B"]), min_size=1, max_size=3), st.randoms())
def test_units_by_the_rule_word_for_word(first, rng):
    lines = list(
        {
            "/".join(rng.choice(["a", "A", "b", "B"]) for _ in range(rng.randint(1, 3)))
            for _ in range(4)
        }
        | {"/".join(first)}
    )
    if any(fold(x) == fold(y) and x != y for x in lines for y in lines):
        assert flaws(m.Model(units=tuple(lines)))
        return
    found = units_of(m.Model(units=tuple(lines)))
    ordered = sorted(lines, key=lambda x: (x.casefold(), x))
    for key, spelled in found.items():
        for i, part in enumerate(spelled.split("/")):
            above = "/".join(key.split("/")[: i + 1])
            own = [x for x in lines if x.casefold() == above]
            needs = [
                x for x in ordered if x.casefold() == above or x.casefold().startswith(above + "/")
            ]
            assert part == (own or needs)[0].split("/")[i]
    rng.shuffle(lines)
    assert units_of(m.Model(units=tuple(lines))) == found


def test_whoever_names_a_unit_in_another_case_means_it_and_respells_nothing(demo):
    added = apply(demo, [{"op": "add", "kind": "unit", "name": "SHORE/y"}]).model
    assert set(added.units) - set(demo.units) == {"shore/y"}
    deep = apply(demo, [{"op": "add", "kind": "unit", "name": "Shore/LAB/deep"}]).model
    assert (
        set(deep.units) - set(demo.units) == {"shore/lab/deep"} and deep.accounts == demo.accounts
    )
    account = {"op": "add", "kind": "account", "item": {"name": "zoe", "unit": "SHORE/Lab"}}
    assert apply(demo, [account]).model.accounts[-1].unit == "shore/lab"
    with pytest.raises(ChangeRefused, match="is there already"):
        apply(demo, [{"op": "add", "kind": "unit", "name": "SHORE/lab"}])
    made = read_model(
        "drawknife: 1\nunits: [shore/lab, Shore]\naccounts: [{name: ada, unit: shore/lab}]"
    )
    standing = prepare(made).account("ada").standing
    assert [s.name for s in standing.ranks if s.kind == "unit"] == ["Shore/lab", "Shore"]


@pytest.mark.parametrize("bad", ["\u200b", "\u202e", "\ufeff", "\u00ad", "\u0007", "\ud800"])
def test_characters_that_are_not_seen_stand_in_no_name(bad):
    with pytest.raises(BadValue, match=r"the name holds the character U\+"):
        check_name(f"in{bad}es")
    assert check_name("Inês") == "Inês"


def test_names_that_look_alike_are_told():
    assert alike(["ines", "іnes", "yuki"]) == [
        ("ines", "іnes")
    ]  # the second begins with a Cyrillic letter
    assert alike(["line-l", "line-1", "tern", "tem"]) == [("line-l", "line-1"), ("tern", "tem")]
    assert alike(["ada", "bo", "cy"]) == []


@pytest.mark.parametrize(
    ("text", "size"),
    [
        ("1.17 GiB", int(1.17 * 2**30)),
        ("1.5 GB", 1_500_000_000),
        ("0.5 KiB", 512),
        ("1.0001 B", 1),
        ("2 TiB", 2 << 40),
        ("1023 B", 1023),
    ],
)
def test_sizes_with_decimals_are_taken(text, size):
    assert read_size(text) == size


def test_zero_is_told_as_zero():
    with pytest.raises(BadValue, match=r"^0 is out of place"):
        number(1, 65535)(0)


def test_usage_without_an_owner_is_sound_and_the_same_row_twice_is_one():
    rows = (
        "[{folder: 's:/a', bytes: 5, files: 1}, {folder: 's:/a', bytes: 6, files: 2}, {folder:"
        " 's:/a', owner: ada, bytes: 1, files: 1}]"
    )
    made = read_model(
        f"drawknife: 1\naccounts: [{{name: ada}}]\nstores: [{{name: s}}]\nusage: {rows}"
    )
    assert [(u.owner, u.bytes, u.files) for u in made.usage] == [(None, 11, 3), ("ada", 1, 1)]
    left = apply(
        made, [{"op": "remove", "kind": "account", "name": "ada", "everywhere": True}]
    ).model
    assert [(u.owner, u.bytes) for u in left.usage] == [(None, 12)]


def test_a_placeholder_in_the_path_of_a_virtual_path_is_a_mistake():
    with pytest.raises(BadDocument, match="stands for nothing"):
        read_model(
            "drawknife: 1\nstores: [{name: s}]\nvirtual_paths: [{path: '/homes/{account}',"
            " leads_to: 's:/', grants: []}]"
        )


# --- explanations of deep paths -----------------------------------------------------------------


def deep(carrying, depth=3000):
    """A store with a path of so many folders, some of which carry an entry."""
    folders = [m.Folder("/", None, False, (m.parse_entry("allow anyone all"),))]
    folders += [
        m.Folder("/a" * at, None, False, (m.parse_entry("deny account:ada enter"),))
        for at in carrying
    ]
    return prepare(
        sound(
            m.Model(
                accounts=(m.Account("ada"),),
                stores=(m.Store("s", folders=tuple(folders)),),
                virtual_paths=(m.VirtualPath("/", "s:/", grants=(m.parse_grant("anyone all"),)),),
            )
        )
    )


def test_an_explanation_of_a_deep_path_tells_what_carries_something_and_counts_the_rest():
    prepared = deep([7])
    told = explain(
        prepared, Question("ada", "download", "/a" * 3000), datetime(2026, 11, 23, tzinfo=UTC)
    )
    assert (
        told.verdict.gate == "folder"
        and len(told.checks[0].passing) < 20
        and len(told.checks[0].judgement.levels) < 5
    )
    passing = told.checks[0].passing
    assert len(passing) + sum(p.alike for p in passing) == 3000
    assert [p.place.path.count("a") for p in passing if not p.allowed] == [7, 8, 9] and passing[
        -1
    ].alike == 2999 - 9
    assert "nor the 2990 below it" in " ".join(o.text for o in told.obstacles)


@given(st.lists(st.integers(1, 40), max_size=5), st.integers(1, 40))
def test_what_is_blocked_on_the_way_is_what_asking_each_folder_finds(carrying, depth):
    from drawknife.core.decide.folders import decide
    from drawknife.core.words.rights import ENTER

    prepared = deep(sorted(set(carrying)))
    store, account = prepared.stores["s"], prepared.account("ada")
    ways = blocked(store, "/", "/a" * depth, account)
    one_by_one = [
        at
        for at in ["/", *("/a" * n for n in range(1, depth + 1))]
        if not decide(store, at, ENTER, account)
    ]
    told = []
    for way in ways:
        told += [way.path + "/a" * more for more in range(way.alike + 1)]
    assert told == one_by_one
