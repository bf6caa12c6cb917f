"""What lies within an administrator's area: whatever is let through brings no gain about outside it."""

from datetime import UTC, datetime, timedelta
from random import Random

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.follows.days import consequences
from drawknife.core.follows.outside_area import outside
from drawknife.core.model.areas import parse_area
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadValue, DrawknifeError

from .changes import random_change
from .models import random_model
from .test_consequences import Brute, all_lines

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
PARTS = ("store:s", "s:/a", "t:/a", "unit:fleet", "unit:shore", "group:g1", "group:g2", "store:t", "s:/b")


def changed(seed):
    """A random model, some random changes that it allows, and the model after them."""
    rng = Random(seed)
    model = random_model(seed)
    for _ in range(20):
        changes = [random_change(rng, model) for _ in range(rng.choice([1, 1, 2]))]
        try:
            applied = apply(model, changes)
        except DrawknifeError:
            continue
        if applied.model != model:
            return rng, model, changes, applied
    assume(False)
    raise AssertionError


def what_is_outside(area, model, applied):
    before, after = prepare(model), prepare(applied.model)
    follows = consequences(before, after, NOW, applied.renames)
    return outside(parse_area(area), before, after, follows, applied.renames, NOW.date())


def in_places(area, store, path):
    tops = [
        (x[6:], "/") if x.startswith("store:") else tuple(x.split(":")) for x in area if ":/" in x or x[:6] == "store:"
    ]
    return any(store == s and (top == "/" or path == top or path.startswith(top + "/")) for s, top in tops)


def in_units(area, unit):
    return unit is not None and any(unit == x[5:] or unit.startswith(x[5:] + "/") for x in area if x[:5] == "unit:")


@settings(max_examples=250)
@given(st.integers(0, 10**9))
@example(30406)  # a grant has ended, and what it led into is there no more
def test_what_is_let_through_gains_nobody_anything_outside(seed):
    rng, model, changes, applied = changed(seed)
    area = rng.sample(PARTS, rng.randint(3, 9))
    if what_is_outside(area, model, applied):
        return
    were, are = {a.name: a.unit for a in model.accounts}, {a.name: a.unit for a in applied.model.accounts}
    ends = {line.until for x in (model, applied.model) for line in all_lines(x)} - {None}
    for day in (NOW, *(NOW + (end - NOW.date()) + timedelta(1) for end in ends if end >= NOW.date())):
        brute = Brute(model, applied.model, changes, day)
        inside = {new or old for old, new in brute.pairs if (new is None or in_units(area, are[new]))
                  and (old is None or in_units(area, were[old]))}  # fmt: skip
        for (account, location, depth), (gained, _lost, widened, _narrowed) in brute.access().items():
            if (gained or widened) and account not in inside:
                where = brute.b.resolve(account, location)
                assert where[0] == "real", (location, depth)
                assert in_places(area, where[1], where[2]), (account, location, gained)
        for account, endpoint, now in brute.sign_in():
            assert not now or account in inside, (account, endpoint)
    # Nothing outside is touched, whatever comes of it.
    for old, new in ((model, applied.model), (applied.model, model)):
        for store in old.stores:
            there = {f for s in new.stores if s.name == store.name for f in s.folders}
            assert all(f in there or in_places(area, store.name, f.path) for f in store.folders)
        assert all(a in new.accounts or in_units(area, a.unit) for a in old.accounts)
        assert all(g in new.groups or f"group:{g.name}" in area for g in old.groups)
        assert set(old.endpoints) <= set(new.endpoints)
        assert old.inside == new.inside


@settings(max_examples=60)
@given(st.integers(0, 10**9))
def test_the_larger_area_lets_through_what_the_smaller_does(seed):
    rng, model, _, applied = changed(seed)
    area = rng.sample(PARTS, rng.randint(1, 4))
    if not what_is_outside(area, model, applied):
        assert what_is_outside([*area, "unit:fleet", "store:t", "group:g1"], model, applied) == []


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


def test_a_group_alone_may_lose_members_but_not_bring_in_strangers(demo):
    leaves = apply(
        demo, [{"op": "change", "kind": "group", "name": "night-watch", "drop": {"members": ["account:odile"]}}]
    )
    assert what_is_outside(["group:night-watch"], demo, leaves) == []
    joins = apply(
        demo, [{"op": "change", "kind": "group", "name": "night-watch", "add": {"members": ["account:refa"]}}]
    )
    assert any("refa" in x for x in what_is_outside(["group:night-watch"], demo, joins))
    assert what_is_outside(["group:night-watch", "unit:shore/office"], demo, joins) == []


def test_a_home_elsewhere_is_no_business_of_a_unit(demo):
    moves = apply(demo, [{"op": "change", "kind": "account", "name": "ines", "set": {"home": "survey:/soundings"}}])
    assert "the home of ines, survey:/soundings" in what_is_outside(["unit:shore/lab"], demo, moves)


@pytest.mark.parametrize("line", ["survey", "account:ines", "unit:", "group:a/b", "store:a:b", "survey:relative"])
def test_what_is_no_part_of_an_area_is_refused(line):
    with pytest.raises(BadValue):
        parse_area([line])
