"""Who can do what in a folder: everybody's access there, those together that can do the same."""

from random import Random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadInput

from ..core.models import random_model
from ..core.test_promises import NOW
from ..disk.test_everybody import random_model as on_a_disk


@given(st.integers(0, 10**9), st.booleans())
@settings(max_examples=100, deadline=None)
def test_it_is_what_the_access_of_each_says(seed, disk):
    rng = Random(seed)
    model = on_a_disk(rng) if disk else random_model(seed)
    asked = Answering(prepare(model), 1, NOW, seen=lambda _: None)
    store = rng.choice(model.stores)
    place = f"{store.name}:{rng.choice([f.path for f in store.folders] or ['/'])}"
    found = asked.inside(place)
    wanted, led = {}, set()
    for account in model.accounts:
        for row in asked.access(account.name).rows:
            if row.place == place:
                led.add(account.name)
                if set(row.rights.values()) != {"no"}:
                    wanted.setdefault(tuple(row.rights.values()), set()).add(account.name)
    told = {tuple(row.rights.values()): row for row in found.rows}
    assert {states: row.account_count for states, row in told.items()} == {
        s: len(names) for s, names in wanted.items()
    }
    for states, names in wanted.items():
        assert (
            told[states].accounts == [a.name for a in model.accounts if a.name in names][:8]
            and told[states].by
        )
    assert found.seeing == len(led - {name for names in wanted.values() for name in names})
    assert [row.account_count for row in found.rows] == sorted(
        (len(n) for n in wanted.values()), reverse=True
    )


def test_what_is_no_folder_is_told():
    with pytest.raises(BadInput, match="names no store"):
        Answering(prepare(random_model(1)), 1, NOW, seen=lambda _: None).inside("/charts")
