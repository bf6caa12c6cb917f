"""A model prepared from the one before answers as one prepared anew."""

from dataclasses import replace
from random import Random

from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.core.everybody.access_map import AccessMap
from drawknife.core.model.canonical import sound
from drawknife.core.prepared.prepared import prepare

from .models import _entry, random_model


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
        [(c.location, c.members, c.plain, c.owning) for c in AccessMap(p).cells()] for p in (anew, brought_forward)
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
