"""A model prepared from the one before answers as one prepared anew."""

from dataclasses import replace
from datetime import date
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.everybody.access_map import AccessMap, access_of_all
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import DrawknifeError

from .changes import random_change
from .models import _entry, random_model

#: Some lines have ended by then.
DAY = date(2026, 11, 23)


@given(st.integers(0, 2**32))
@settings(max_examples=100)
def test_one_changed_folder(seed):
    rng = Random(seed)
    model = random_model(seed)
    before = prepare(model)
    store = rng.choice(model.stores)
    if not store.folders:
        return
    folder = rng.choice(store.folders)
    changed = replace(folder, sealed=not folder.sealed, entries=(*folder.entries, _entry(rng)))
    after = sound(model.with_folder(store.name, changed))
    anew, brought_forward = prepare(after), prepare(after, before)
    assert brought_forward.people is before.people
    cells = [
        [(c.location, c.members, c.plain, c.owning) for c in AccessMap(p).cells()]
        for p in (anew, brought_forward)
    ]
    assert cells[0] == cells[1]


@given(st.integers(0, 2**32))
@settings(max_examples=50)
def test_another_model_altogether(seed):
    one, other = random_model(seed), random_model(seed + 1)
    cells = [
        [(c.location, c.members, c.plain) for c in AccessMap(p).cells()]
        for p in (prepare(other), prepare(other, prepare(one)))
    ]
    assert cells[0] == cells[1]


@given(st.integers(0, 2**32))
@settings(max_examples=150)
def test_whatever_was_changed(seed):
    """Memberships, grants, settings: what is taken over from the model before is as if it were made
    anew.
    """
    rng, model = Random(seed), random_model(seed)
    before = prepare(model)
    for prepared in (before, before.on(DAY)):
        list(access_of_all(prepared).cells())
    try:
        after = apply(model, [random_change(rng, model)]).model
    except DrawknifeError:
        return
    for anew, taken_over in zip(both(prepare(after)), both(prepare(after, before)), strict=True):
        assert standings(anew) == standings(taken_over)
        cells = [
            [(c.location, c.members, c.plain, c.owning) for c in access_of_all(p).cells()]
            for p in (anew, taken_over)
        ]
        assert cells[0] == cells[1]


def both(prepared):
    return prepared, prepared.on(DAY)


def standings(prepared):
    """What each account counts as, and what it is served."""
    people = [prepared.people.prepared(i) for i in range(len(prepared.model.accounts))]
    return [(p.name, (p.standing.ranks, prepared.namespace(p).served.keys())) for p in people]
