"""Sets of accounts as integers, and who is in which subject."""

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.decide.folders import can_pass, decide
from drawknife.core.everybody.closed_form import ClosedForm, baseline
from drawknife.core.everybody.division import Division, bits_in
from drawknife.core.prepared.people import bits_of
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.names import ancestors, join, parent, rest_below, tree_key
from drawknife.core.words.rights import BIT, RIGHTS

from .models import ACCOUNTS, random_model
from .reference import Reference, is_above, up_from

seeds = st.integers(0, 2**32)


@given(st.sets(st.integers(0, 500)))
def test_bits_there_and_back(indices):
    members = bits_of(sorted(indices), 501)
    assert list(bits_in(members)) == sorted(indices)
    assert members == sum(1 << i for i in indices)


@given(seeds)
@settings(max_examples=100)
def test_the_members_of_every_subject_are_those_that_count_as_it(seed):
    model = random_model(seed)
    prepared, reference = prepare(model), Reference(model)
    members = prepared.people.members()
    for i, account in enumerate(model.accounts):
        counted = {prepared.people.subjects[sid] for sid, bits in members.items() if bits >> i & 1}
        assert counted == set(reference.standing(account.name))
        assert {
            s: tuple(r) for s, r in prepared.account(account.name).standing.ranks.items()
        } == reference.standing(account.name)


@given(seeds)
@settings(max_examples=100)
def test_the_closed_form_of_one_store(seed):
    """Folder by folder, as owner and not, as the plain walk decides."""
    model = random_model(seed)
    prepared, reference = prepare(model), Reference(model)
    division = Division(prepared, None, None)
    form = ClosedForm(division.bits, division.everybody)
    for store in prepared.stores.values():
        flows = {}
        for folder in store.store.folders:
            node = store.marked.get(folder.path)
            above = (
                next((a for a in ancestors(parent(folder.path)) if a in flows), None)
                if folder.path != "/"
                else None
            )
            flow = flows[above] if above is not None else baseline(division.everybody, store.open)
            is_child = above is not None and parent(folder.path) == above
            if node is None:
                continue
            at, at_own, flows[folder.path] = form.at(node, flow, is_child)
            for i, name in enumerate(a.name for a in model.accounts):
                for r, right in enumerate(RIGHTS):
                    assert at[r] >> i & 1 == reference.decide(
                        name, store.name, folder.path, right, False
                    )
                    assert at_own[r] >> i & 1 == reference.decide(
                        name, store.name, folder.path, right, True
                    )


@given(seeds)
@settings(max_examples=100)
def test_passing_is_entering_every_folder_on_the_way(seed):
    model = random_model(seed)
    prepared, reference = prepare(model), Reference(model)
    for name in ACCOUNTS:
        account = prepared.account(name)
        for store in model.stores:
            for path in {f.path for f in store.folders} | {"/a/b/ada/x"}:
                for top in up_from(path):
                    expected = all(
                        reference.may_enter(name, store.name, at)
                        for at in up_from(path)
                        if at == top or is_above(top, at)
                    )
                    assert can_pass(prepared.stores[store.name], top, path, account) is expected
                owner = reference.owns_folder(name, store.name, path)
                assert decide(
                    prepared.stores[store.name], path, BIT["list"], account
                ) is reference.decide(name, store.name, path, "list", owner)


@given(seeds)
@settings(max_examples=100)
def test_namespaces(seed):
    model = random_model(seed)
    prepared, reference = prepare(model), Reference(model)
    for name in ACCOUNTS:
        space, expected = prepared.namespace(prepared.account(name)), reference.namespace(name)
        assert {**dict.fromkeys(space.served, True), **dict.fromkeys(space.unserved, False)} == {
            p: there is not None for p, there in expected.items()
        }
        for path, served in space.served.items():
            assert (tuple(served.place), served.ceiling, served.listing) == expected[path]
        for location in ["/", "/a", "/a/b/x", *expected, *(p + "/b" for p in expected if p != "/")]:
            at, kind = space.resolve(location), reference.resolve(name, location)
            assert at.synthetic is (kind[0] == "synthetic") and (at.place is not None) is (
                kind[0] == "real"
            )
            if at.place is not None:
                assert tuple(at.place) == kind[1:3]


paths = st.lists(st.sampled_from(["a", "b", "a b", "á", "!"]), max_size=4).map(
    lambda parts: "/" + "/".join(parts)
)


@given(paths, paths)
def test_what_remains_of_a_path_below_another(path, top):
    rest = rest_below(path, top)
    assert (rest is not None) is (top in ancestors(path))
    if rest is not None:
        assert join(top, rest) == path


@given(st.lists(paths, unique=True))
def test_in_tree_order_a_folder_is_followed_by_all_that_is_below_it(some):
    ordered = sorted(some, key=tree_key)
    for i, path in enumerate(ordered):
        below = [p for p in ordered if is_above(path, p)]
        assert ordered[i + 1 : i + 1 + len(below)] == below
