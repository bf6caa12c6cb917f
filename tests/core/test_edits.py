"""Editing: what it refuses, what it carries along, and that nothing else changes by it."""

from dataclasses import replace
from datetime import UTC, datetime
from random import Random

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.decide.gates import verdict
from drawknife.core.follows.days import consequences
from drawknife.core.follows.pairing import Renames, Renaming
from drawknife.core.model import edits
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.difference import differing
from drawknife.core.model.removal import lines_naming, references, remove
from drawknife.core.model.soundness import flaws
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import Place
from drawknife.formats.document import BadDocument

from .changes import random_change
from .models import ACCOUNTS, GROUPS, UNITS, random_model, random_questions

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
seeds = st.integers(0, 10**9)


@given(
    seeds,
    st.sampled_from(
        [
            ("account", "Cy", "zoe"),
            ("group", "g1", "h9"),
            ("unit", "fleet", "flotilla"),
            ("store", "s", "z"),
        ]
    ),
)
def test_a_rename_changes_no_answer(seed, renaming):
    kind, old, new = renaming
    model = random_model(seed)
    # A path of `{account}` or `{unit}` leads elsewhere once the name is another: that is what it is
    # for.
    model = replace(
        model,
        virtual_paths=tuple(
            v for v in model.virtual_paths if "{" not in v.leads_to or v.leads_to == "{home}"
        ),
    )
    renamed = edits.rename(model, kind, [(old, new)])
    assert not flaws(renamed) and sound(renamed) == renamed
    a, b = prepare(model), prepare(renamed)
    for q in random_questions(seed, model, 25):
        name = (lambda n: new if n == old else n) if kind == "account" else (lambda n: n)
        q2 = replace(q, account=name(q.account), owner=q.owner and name(q.owner))
        one, other = verdict(a, q, NOW), verdict(b, q2, NOW)
        assert (one.allowed, one.gate) == (other.allowed, other.gate)
    assert edits.rename(renamed, kind, [(new, old)]) == model


@given(
    seeds,
    st.sampled_from(
        [("account", a) for a in ACCOUNTS]
        + [("group", g) for g in GROUPS]
        + [("unit", u) for u in UNITS]
    ),
)
def test_what_is_removed_everywhere_is_named_nowhere(seed, what):
    kind, name = what
    model = random_model(seed)
    try:
        left = remove(model, kind, [name], everywhere=True)
    except edits.ChangeRefused as refused:
        assert kind == "unit" and f"unit {name} still holds {name}/" in str(refused)
        return
    assert not flaws(left)
    subject = m.Subject(kind, name)
    assert not list(lines_naming(left, {subject}))
    assert all(f.owner != name for s in left.stores for f in s.folders) or kind != "account"
    # Without `everywhere` it is refused exactly if something names it.
    naming = list(references(model, kind, {name}))
    if naming:
        with pytest.raises(edits.ChangeRefused) as refused:
            remove(model, kind, [name])
        assert [p.message for p in refused.value.problems] == [str(r) for r in naming]
    else:
        assert remove(model, kind, [name]) == left


@given(seeds)
def test_an_edit_of_one_thing_differs_in_that_thing_only(seed):
    model = random_model(seed)
    changed = apply(
        model, [{"op": "change", "kind": "account", "name": "CY", "set": {"display": "Cy Twist"}}]
    ).model
    assert [(d.section, d.name, d.after.display) for d in differing(model, changed)] == [
        ("accounts", "Cy", "Cy Twist")
    ]
    assert (
        apply(
            changed, [{"op": "change", "kind": "account", "name": "Cy", "set": {"display": None}}]
        ).model
        == model
    )
    added = apply(
        model,
        [
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/new",
                "add": {"entries": ["deny group:G2 all"]},
            }
        ],
    ).model
    assert [(d.section, d.name) for d in differing(model, added)] == [("folders", "s:/new")]
    assert apply(added, [{"op": "remove", "kind": "folder", "name": "S:/new"}]).model == model


REFUSED = (edits.ChangeRefused, edits.NotFound, BadInput, BadDocument)


@given(seeds, st.integers(2, 8))
def test_a_list_of_changes_does_what_each_does_after_the_other(seed, count):
    """Lists of one item that are edited again and again are read and written once; nothing may come
    of that.
    """
    model = random_model(seed)
    rng = Random(seed)
    ways = [random_change(rng, model) for _ in range(count)]
    changes = [rng.choice(ways) for _ in range(count + 2)]
    singly = model
    done = []
    for change in changes:
        try:
            singly = apply(singly, [change]).model
        except REFUSED:
            continue
        done.append(change)
    assume(done)
    assert apply(model, done).model == singly


@pytest.mark.parametrize(
    ("kind", "name", "key", "line"),
    [
        ("group", "boats", "members", "account:a{}"),
        ("folder", "survey:/inbox", "entries", "allow account:a{} read"),
        ("endpoint", "harbour", "never", "account:a{}"),
        ("virtual-path", "/notices", "grants", "account:a{} read"),
        ("quota", "lab-pool", "shared_by", "account:a{}"),
    ],
)
def test_an_item_is_read_once_however_many_lines_it_gets(demo, monkeypatch, kind, name, key, line):
    from drawknife.changing import apply as doing

    before = apply(
        demo, [{"op": "add", "kind": "account", "item": {"name": f"a{i}"}} for i in range(40)]
    ).model
    adds = [
        {"op": "change", "kind": kind, "name": name, "add": {key: [line.format(i)]}}
        for i in range(40)
    ]
    drops = [
        {"op": "change", "kind": kind, "name": name, "drop": {key: [line.format(i)]}}
        for i in range(39)
    ]
    reads = []
    module = __import__("sys").modules[doing.__module__]
    real = module.read_item
    monkeypatch.setattr(module, "read_item", lambda *given: reads.append(given) or real(*given))
    after = apply(before, [*adds, *drops]).model
    assert len(reads) == 1
    assert after == apply(before, adds[39:]).model != before


def test_names_are_looked_up_once_however_many_go(demo, monkeypatch):
    """Neither each name nor each place that names one is looked for by itself."""
    from drawknife.core.model import removal

    before = apply(
        demo, [{"op": "add", "kind": "account", "item": {"name": f"a{i}"}} for i in range(50)]
    ).model
    calls = []
    real = removal.references
    monkeypatch.setattr(removal, "references", lambda *given: calls.append(given) or real(*given))
    after = apply(
        before, [{"op": "remove", "kind": "account", "name": f"A{i}"} for i in range(50)]
    ).model
    assert after == demo and len(calls) == 1
    with pytest.raises(edits.ChangeRefused) as refused:
        apply(
            before, [{"op": "remove", "kind": "account", "name": n} for n in ("a1", "bram", "ines")]
        )
    said = " ".join(str(p) for p in refused.value.problems)
    assert "account:bram" in said and "ines" in said and "a1" not in said
    with pytest.raises(edits.NotFound):
        apply(
            before,
            [
                {"op": "remove", "kind": "folder", "name": n}
                for n in ("survey:/charts", "survey:/nowhere")
            ],
        )
    gone = apply(
        before,
        [{"op": "remove", "kind": "virtual-path", "name": n} for n in ("/notices", "/tides")],
    ).model
    assert len(gone.virtual_paths) == len(before.virtual_paths) - 2


def test_checking_only_what_is_new_finds_what_checking_all_finds(demo):
    broken = [
        replace(demo, accounts=(*demo.accounts, m.Account("zoe", unit="nowhere"))),
        replace(demo, groups=demo.groups[1:]),
        replace(demo, stores=demo.stores[1:]),
        replace(demo, quotas=(*demo.quotas, m.Quota("q", folder=Place("nowhere", "/")))),
        replace(demo, virtual_paths=(*demo.virtual_paths, m.VirtualPath("/x", "gone:/x"))),
    ]
    for model in broken:
        assert flaws(model) and flaws(model, demo) == flaws(model)
    fine = replace(demo, accounts=(*demo.accounts, m.Account("Zoe", unit="SHORE/lab")))
    assert sound(fine, demo) == sound(fine)


def test_a_moved_folder_takes_along_what_leads_there(demo):
    moved = edits.rename(demo, "folder", [("survey:/inbox", "survey:/incoming/raw")])
    paths = {f.path for f in next(s for s in moved.stores if s.name == "survey").folders}
    assert "/incoming/raw/kittiwake" in paths and "/inbox" not in paths
    assert {v.leads_to for v in moved.virtual_paths if v.path == "/inbox"} == {
        "survey:/incoming/raw",
        "survey:/incoming/raw/{account}",
    }
    renames = Renames([Renaming("folder", "survey:/inbox", "survey:/incoming/raw")])
    follows = consequences(prepare(demo), prepare(moved), NOW, renames)
    assert not (follows.access or follows.leads or follows.room)
    assert edits.rename(moved, "folder", [("survey:/incoming/raw", "survey:/inbox")]) == demo
    for to in ("survey:/inbox/deeper", "survey:/charts", "survey:/"):
        with pytest.raises(edits.ChangeRefused):
            edits.rename(demo, "folder", [("survey:/inbox", to)])


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (
            {"op": "add", "kind": "group", "item": {"name": "Boats"}},
            "group 'Boats' is there already",
        ),
        (
            {
                "op": "change",
                "kind": "group",
                "name": "boats",
                "add": {"members": ["group:all-hands"]},
            },
            "the groups form a loop: all-hands > boats > all-hands",
        ),
        (
            {"op": "rename", "kind": "account", "name": "ines", "to": "YUKI"},
            "account 'YUKI' is there already",
        ),
        (
            {"op": "rename", "kind": "unit", "name": "fleet", "to": "fleet/new"},
            "cannot go below itself",
        ),
        (
            {"op": "rename", "kind": "unit", "name": "fleet", "to": "Fleet/new"},
            "cannot go below itself",
        ),
        (
            {"op": "change", "kind": "virtual-path", "name": "/archive", "set": {"listing": "all"}},
            "2 virtual paths are at /archive",
        ),
        (
            {"op": "add", "kind": "folder", "name": "survey:/inbox", "item": {}},
            "is recorded already",
        ),
        ({"op": "remove", "kind": "store", "name": "public"}, "places still name store public"),
    ],
)
def test_edits_that_are_refused(demo, change, said):
    with pytest.raises(edits.ChangeRefused) as refused:
        apply(demo, [change])
    assert said in str(refused.value)


def test_of_two_virtual_paths_that_are_called_alike_no_change_can_name_one(demo):
    twin = next(v for v in demo.virtual_paths if v.path == "/soundings")
    model = sound(replace(demo, virtual_paths=(*demo.virtual_paths, replace(twin, grants=()))))
    with pytest.raises(
        edits.ChangeRefused,
        match="2 virtual paths are called /soundings>survey:/soundings, and a change cannot",
    ) as refused:
        apply(
            model,
            [
                {
                    "op": "change",
                    "kind": "virtual-path",
                    "name": twin.path,
                    "set": {"listing": "all"},
                }
            ],
        )
    assert "make them one in a model file" in refused.value.problems[0].expected


def test_mistakes_in_a_change_are_told_with_their_place(demo):
    fine = {"op": "add", "kind": "group", "item": {"name": "fine"}}
    wrong = {
        "op": "add",
        "kind": "quota",
        "item": {"name": "q", "shared_by": ["all"], "hard_bytes": "much"},
    }
    with pytest.raises(BadDocument) as bad:
        apply(demo, [fine, wrong])
    assert [x.key_path for x in bad.value.mistakes] == [
        "changes[1].item.shared_by[0]",
        "changes[1].item.hard_bytes",
    ]
    with pytest.raises(edits.NotFound, match="did you mean boats"):
        apply(demo, [{"op": "remove", "kind": "group", "name": "boat"}])


def test_what_comes_from_a_directory_is_not_edited_here(demo):
    model = replace(
        demo,
        accounts=tuple(
            replace(a, source="staff") if a.name in ("ines", "bram") else a for a in demo.accounts
        ),
        groups=tuple(
            replace(g, source="staff") if g.name == "sonar-lab" else g for g in demo.groups
        ),
        unit_facts=(m.UnitFacts("shore/lab", "staff"),),
    )
    for change in (
        {"op": "change", "kind": "account", "name": "ines", "set": {"mail": "x@y.example"}},
        {"op": "rename", "kind": "account", "name": "ines", "to": "inez"},
        {
            "op": "change",
            "kind": "group",
            "name": "sonar-lab",
            "add": {"members": ["account:refa"]},
        },
        {"op": "rename", "kind": "unit", "name": "shore/lab", "to": "shore/sonar"},
        {"op": "remove", "kind": "account", "name": "ines", "everywhere": True},
    ):
        with pytest.raises(edits.ChangeRefused, match="comes from the directory staff"):
            apply(model, [change])
    apply(
        model,
        [{"op": "change", "kind": "account", "name": "ines", "set": {"expires": "2027-01-01"}}],
    )
    apply(
        model,
        [
            {
                "op": "change",
                "kind": "group",
                "name": "boats",
                "add": {"members": ["group:sonar-lab", "account:ines"]},
            }
        ],
    )
