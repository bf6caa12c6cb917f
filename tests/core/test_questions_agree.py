"""Who, the map, compare and listings agree with the plain restatement, on random models."""

from datetime import UTC, datetime

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.answers.map_window import MapWindow
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import Place
from drawknife.core.words.rights import RIGHTS

from .models import ACCOUNTS, random_model
from .reference import FOR_FILES, Reference, has, is_above, up, up_from

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
seeds = st.integers(0, 2**32)


def both(seed):
    model = random_model(seed)
    return model, Answering(prepare(model), 1, NOW), Reference(model).on(NOW.date())


@given(seeds, st.sampled_from(RIGHTS), st.sampled_from([None, "east"]))
@settings(max_examples=60)
def test_map_window(seed, right, endpoint):
    model, asking, reference = both(seed)
    way_in = reference.endpoint(endpoint) if endpoint else None
    found = asking.map(MapWindow(right=right, endpoint=endpoint, account_offset=1, account_limit=2))
    assert found.accounts == [a.name for a in model.accounts][1:3]
    assert set(found.locations) == {x for name in ACCOUNTS for x in reference.locations(name)}
    for name, row in zip(found.accounts, found.cells, strict=True):
        there = reference.locations(name)
        for location, cell in zip(found.locations, row, strict=True):
            assert cell == (
                reference.state(name, location, right, way_in) if location in there else None
            )


@given(seeds, st.sampled_from(RIGHTS))
@settings(max_examples=60)
def test_who_at_a_location(seed, right):
    model, asking, reference = both(seed)
    for location in ["/", *{v.path for v in model.virtual_paths}, "/a/b/x"]:
        found = {h.account: h.state for h in asking.who(right, location).holders}
        expected = {}
        for name in ACCOUNTS:
            if reference.resolve(name, location)[0] != "out":
                state = reference.state(name, location, right)
                if state != "no":
                    expected[name] = state
        assert found == expected


@given(seeds, st.sampled_from(RIGHTS))
@settings(max_examples=60)
def test_who_at_a_folder(seed, right):
    _, asking, reference = both(seed)
    for store, path in (("s", "/a"), ("t", "/"), ("s", "/b/ada")):
        found = {
            (h.account, h.location): h.state
            for h in asking.who(right, str(Place(store, path))).holders
        }
        for (name, location), state in found.items():
            assert reference.resolve(name, location)[1:3] == (store, path)
            assert state == reference.state(name, location, right)
        for name in ACCOUNTS:
            for at in reference.locations(name):
                if (
                    reference.resolve(name, at)[1:3] == (store, path)
                    and reference.state(name, at, right) != "no"
                ):
                    assert (name, at) in found


@given(
    seeds,
    st.sampled_from(RIGHTS),
    st.sampled_from(["endpoint", "virtual path", "folder"]),
    st.booleans(),
)
@settings(max_examples=120)
def test_who_but_for_one_gate(seed, right, gate, through):
    """Those told, and only those, lack the right in every state, and would have it in some but for
    this gate.
    """
    model, asking, reference = both(seed)
    way_in = reference.endpoint("east") if through else None
    for location in ["/", "/a/b", *{v.path for v in model.virtual_paths}]:
        found = asking.who(
            right, location, endpoint="east" if through else None, but_for=gate
        ).almost
        assert all({o.gate for o in almost.obstacles} == {gate} for almost in found)
        expected = set()
        for name in ACCOUNTS:
            if reference.state(name, location, right, way_in) != "no":
                continue
            owning = (True, False) if right in FOR_FILES else (None,)
            if any(
                set(refusing(reference, name, location, right, own, way_in)) == {gate}
                for own in owning
            ):
                expected.add(name)
        assert {x.account for x in found} == expected


def refusing(reference, name, location, right, own, way_in):
    """The gates that refuse a right at a location, by the rules: endpoint, virtual path, folder."""
    if way_in is not None and not all(
        reference.endpoint_allows(way_in, name, r) for r in ("enter", right)
    ):
        yield "endpoint"
    where = reference.resolve(name, location)
    if where[0] == "out" or (where[0] == "synthetic" and right not in ("enter", "list")):
        yield "virtual path"
    if where[0] != "real":
        return
    _, store, path, _, top, ceiling = where
    fixed = reference.is_path(name, location) or reference.above_served(name, location)
    if not (has(ceiling, "enter") and has(ceiling, right)) or (right == "delete-folder" and fixed):
        yield "virtual path"
    on_the_way = [at for at in up_from(path) if at == top or is_above(top, at)]
    if right == "delete-folder":
        on_the_way = on_the_way[1:] if path != top else []
    owns = reference.owns_folder(name, store, path) if own is None else own
    passes = all(reference.may_enter(name, store, at) for at in on_the_way)
    held = right != "delete-folder" or path == top or reference.held(name, store, path)
    if not passes or not held or not reference.decide(name, store, path, right, owns):
        yield "folder"


@given(seeds, st.sampled_from(RIGHTS), st.sampled_from(["virtual path", "folder"]))
@settings(max_examples=60)
def test_who_but_for_one_gate_at_a_folder(seed, right, gate):
    _, asking, reference = both(seed)
    for store, path in (("s", "/a"), ("t", "/"), ("s", "/b/ada")):
        found = {x.account for x in asking.who(right, f"{store}:{path}", but_for=gate).almost}
        expected = set()
        for name in ACCOUNTS:
            there = list(_seen_at(reference, name, store, path))
            owning = (True, False) if right in FOR_FILES else (None,)
            ways = [
                set(refusing(reference, name, x, right, own, None)) for x in there for own in owning
            ]
            if not there:
                for own in owning:
                    owns = reference.owns_folder(name, store, path) if own is None else own
                    allowed = reference.decide(name, store, path, right, owns)
                    allowed = allowed and (
                        right != "delete-folder" or reference.held(name, store, path)
                    )
                    ways.append({"virtual path"} if allowed else {"virtual path", "folder"})
            if all(ways) and {gate} in ways:
                expected.add(name)
        assert found == expected


def _seen_at(reference, name, store, path):
    """Every virtual location at which an account sees a folder."""
    for at, there in reference.namespace(name).items():
        if there is None or there[0][0] != store:
            continue
        top = there[0][1]
        if top == path or is_above(top, path):
            rest = path[len(top.rstrip("/")) :] if top != path else ""
            location = (at.rstrip("/") + rest) or "/"
            if reference.resolve(name, location)[3:4] == (at,):
                yield location


@given(seeds)
@settings(max_examples=40)
def test_compare(seed):
    _, asking, reference = both(seed)
    found = {
        (d.location, d.right): (d.one, d.other) for d in asking.compare("ada", "Cy").differences
    }
    for location in reference.locations("ada") | reference.locations("Cy"):
        for right in RIGHTS:
            sides = [
                (
                    reference.state(name, location, right)
                    if location in reference.locations(name)
                    else None
                )
                for name in ("ada", "Cy")
            ]
            differ = (sides[0] or "no") != (sides[1] or "no")
            assert found.get((location, right)) == (tuple(sides) if differ else None)


@given(seeds, st.sampled_from(ACCOUNTS))
@settings(max_examples=80)
def test_listing(seed, name):
    """A listing shows what section "What a listing shows" says, and nothing else."""
    model, asking, reference = both(seed)
    space = reference.namespace(name)
    for location in ["/", *space]:
        found = asking.listing(name, location)
        allowed = reference.verdict(Question(name, "list", location), NOW)[0]
        assert found.allowed is allowed
        if not allowed:
            assert found.folders == []
            continue
        # The names directly there, of virtual paths, of what leads to them, and of recorded
        # folders.
        names = {p for p in space if space[p]} | {a for p in space if space[p] for a in _above(p)}
        where = reference.resolve(name, location)
        if where[0] == "real":
            inside = [f.path for s in model.stores for f in s.folders if s.name == where[1]]
            rests = [p[len(where[2].rstrip("/")) :] for p in inside if is_above(where[2], p)]
            names |= {location.rstrip("/") + "/" + rest.split("/")[1] for rest in rests}
        expected = set()
        for at in (x for x in names if x != "/" and up(x) == location):
            there = reference.resolve(name, at)[0]
            if there == "synthetic" or space.get(at):
                expected.add(at)
            elif there == "real":
                shown = (
                    space[where[3]][2] == "all"
                    or reference.verdict(Question(name, "enter", at), NOW)[0]
                )
                expected |= {at} if shown else set()
        assert {f.location for f in found.folders} == expected


def _above(path):
    while path != "/":
        path = up(path)
        yield path


def test_the_rights_on_files_are_the_states():
    assert set(FOR_FILES) < set(RIGHTS)
