"""What wants attention: each kind of finding, where it is and where it is not."""

from dataclasses import replace
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.everybody.effective import right_state
from drawknife.core.everybody.findings import findings
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.soundness import flaws
from drawknife.core.model.standing import loops
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import nearest
from drawknife.core.words.names import Place, join, rest_below

from .models import random_model
from .test_areas import changed


@given(st.integers(0, 10**9))
@settings(max_examples=150, deadline=None)
def test_what_is_kept_of_a_model_before_is_what_is_found_anew(seed):
    """What one model found is not looked for again in the next: that must not show."""
    _, model, _, applied = changed(seed)
    before = prepare(model)
    findings(before)
    assert findings(prepare(applied.model, before)) == findings(prepare(applied.model))


@given(st.integers(0, 10**9))
@settings(max_examples=150, deadline=None)
def test_what_is_kept_is_right_where_only_members_of_groups_differ(seed):
    """One membership after the other comes or goes, each model prepared from the one before."""
    rng, model = Random(seed), random_model(seed)
    before = prepare(model)
    before.people.derived["members"] = before.people.members()
    findings(before)
    for _ in range(2):
        groups = list(model.groups)
        at = rng.randrange(len(groups))
        subjects = [m.Subject("account", a.name) for a in model.accounts]
        subjects += [m.Subject("group", g.name) for g in groups[:at]]
        members = {*groups[at].members} ^ {m.Member(rng.choice(subjects))}
        groups[at] = replace(groups[at], members=tuple(sorted(members, key=str)))
        model = replace(model, groups=tuple(groups))
        after = prepare(model, before)
        assert findings(after) == findings(prepare(model))
        before = after


@given(st.integers(0, 10**9))
@settings(max_examples=150, deadline=None)
def test_an_owner_is_kept_out_who_may_enter_at_no_location(seed):
    prepared = prepare(random_model(seed))
    told = {f.about for f in findings(prepared) if f.kind == "owner-cannot-enter"}
    kept_out = set()
    for store in prepared.model.stores:
        for folder in store.folders:
            if folder.owner in prepared.people.index and not enters(
                prepared, folder.owner, store.name, folder.path
            ):
                kept_out.add(f"{store.name}:{folder.path}")
    assert told == kept_out


def enters(prepared, name, store, path):
    """Literally: is there a location of a virtual path that leads to the folder, and may it be
    entered there?
    """
    for vpath, served in prepared.namespace(prepared.account(name)).served.items():
        rest = rest_below(path, served.place.path) if served.place.store == store else None
        if rest is None:
            continue
        location = join(vpath, rest)
        leads = prepared.namespace(prepared.account(name)).resolve(location).place
        if (
            leads == Place(store, path)
            and right_state(prepared, prepared.account(name), location, "enter") != "no"
        ):
            return True
    return False


def kinds(model):
    return {(f.kind, f.about) for f in findings(prepare(model))}


def test_the_demo_has_these_and_no_others(demo):
    assert kinds(demo) == {
        ("endpoint-clash", "old-quay"),
        ("data-out-of-reach", "harbour"),
        ("path-ambiguous", "/archive"),
        ("path-unusable", "/team"),
        ("owner-cannot-enter", "survey:/inbox/turnstone"),
    }


def test_a_model_in_order_has_none():
    model = sound(
        m.Model(
            accounts=(m.Account("ada"),),
            stores=(
                m.Store(
                    "s",
                    folders=(
                        m.Folder("/", None, False, (m.parse_entry("allow account:ada all"),)),
                    ),
                ),
            ),
            virtual_paths=(m.VirtualPath("/x", "s:/", grants=(m.parse_grant("account:ada all"),)),),
        )
    )
    assert kinds(model) == set()


def test_what_a_directory_may_bring_is_kept_and_told():
    """A loop of groups, and names that nobody has any more: tolerated here, refused in a file."""
    model = m.Model(
        accounts=(m.Account("ada"),),
        groups=(
            m.Group("a", (m.Member(m.Subject("group", "b")),)),
            m.Group(
                "b", (m.Member(m.Subject("group", "a")), m.Member(m.Subject("account", "ada")))
            ),
        ),
        stores=(
            m.Store(
                "s",
                folders=(m.Folder("/", None, False, (m.parse_entry("allow group:gone read"),)),),
            ),
        ),
        virtual_paths=(
            m.VirtualPath(
                "/x",
                "s:/",
                grants=(m.parse_grant("group:gone read"), m.parse_grant("anyone download")),
            ),
        ),
    )
    assert {kind for kind, _ in kinds(model)} == {
        "group-loop",
        "dangling-name",
        "grant-without-enter",
    }
    assert ("dangling-name", "s:/") in kinds(model) and ("dangling-name", "/x") in kinds(model)
    assert {p.message for p in flaws(model)} == {
        "the groups form a loop: a > b > a",
        "there is no group 'gone'",
    }
    prepared = prepare(model)
    assert m.Subject("group", "a") in prepared.account("ada").standing.ranks


def test_loops_of_any_length_are_found_once():
    def groups(*pairs):
        names = sorted({n for pair in pairs for n in pair})
        return [
            m.Group(n, tuple(m.Member(m.Subject("group", b)) for a, b in pairs if a == n))
            for n in names
        ]

    assert loops(groups(("a", "b"), ("b", "c"), ("a", "c"))) == []
    assert loops(groups(("a", "a"))) == [("a", "a")]
    assert loops(groups(("a", "b"), ("b", "c"), ("c", "b"))) == [("b", "c", "b")]
    found = loops(groups(("a", "b"), ("b", "a"), ("c", "d"), ("d", "c"), ("a", "c")))
    assert sorted(map(frozenset, found), key=sorted) == [frozenset("ab"), frozenset("cd")]


def test_a_chain_of_a_thousand_groups_is_no_trouble():
    chain = tuple(
        m.Group(f"g{i}", (m.Member(m.Subject("group", f"g{i + 1}")),)) for i in range(1000)
    )
    model = m.Model(
        accounts=(m.Account("ada"),),
        groups=(*chain, m.Group("g1000", (m.Member(m.Subject("account", "ada")),))),
    )
    assert not flaws(model)
    prepared = prepare(sound(model))
    assert prepared.account("ada").standing.ranks[m.Subject("group", "g0")] == (1, 1001)
    assert prepared.people.members()[prepared.people.number(m.Subject("group", "g0"))] == 1


def test_many_accounts_with_one_trouble_are_one_finding():
    model = sound(
        m.Model(
            accounts=tuple(m.Account(f"a{i}") for i in range(20)),
            stores=(m.Store("s"),),
            virtual_paths=(
                m.VirtualPath("/t", "s:/{unit}", grants=(m.parse_grant("signed-in read"),)),
            ),
        )
    )
    found = findings(prepare(model))
    assert len(found) == 1 and "a0, a1, a10, a11, a12 and 15 more" in found[0].text


def test_the_nearest_name():
    assert nearest("inez", ["ines", "Ina", "fulmar"]) == "ines"
    assert nearest("KITIWAKE", ["kittiwake"]) == "kittiwake"
    assert nearest("zebra", ["ines"]) is None
