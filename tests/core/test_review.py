"""Who can get at what below a folder, in lines: unfolded, they are the whole, held against single
accounts' access.
"""

from hypothesis import example, given
from hypothesis import strategies as st

from drawknife.core.decide.folder_decision import judge
from drawknife.core.everybody.effective import effective_access
from drawknife.core.everybody.review import review, review_within
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.names import Place, join, rest_below
from drawknife.core.words.rights import FILE_RIGHTS, RIGHTS

from .models import random_model

NOTHING = ("no",) * len(RIGHTS)


class Draws:
    """What an example draws."""

    def __init__(self, *values):
        self.values = list(values)

    def draw(self, _):
        return self.values.pop(0)


def unfolded(rows, account, location, place, top):
    """What the lines say of an account at a folder: the nearest line above it, of the same virtual
    path.
    """
    best = None
    for row in rows:
        if account not in row.accounts or row.place.store != place.store:
            continue
        rest, seen = rest_below(place.path, row.place.path), rest_below(location, row.location)
        if rest is None or seen != rest:
            continue
        levels = len([x for x in rest.split("/") if x])
        if (
            row.below == 0
            or (row.below == 3 and levels >= 3)
            or row.below == levels
            or levels > row.below
        ):
            applies = (len(row.place.path) if row.place.path != "/" else 0, row.below)
        else:
            continue
        best = max(best or (applies, row.states), (applies, row.states))
    return NOTHING if best is None else best[1]


@given(st.integers(0, 10**9), st.data())
@example(236, Draws("s", "/"))  # what lies above a virtual path cannot be deleted
@example(
    419, Draws("s", "/a")
)  # another virtual path leads to the very folder, and lets nothing be done
def test_unfolded_the_lines_are_what_each_account_can_do(seed, data):
    prepared = prepare(random_model(seed))
    if not prepared.stores:
        return
    store = data.draw(st.sampled_from(sorted(prepared.stores)))
    paths = ["/", *(f.path for f in prepared.stores[store].store.folders)]
    top = Place(store, data.draw(st.sampled_from(paths)))
    rows = review(prepared, top)
    for row in rows:
        assert row.accounts and rest_below(row.place.path, top.path) is not None
    for index in range(len(prepared.people.accounts)):
        account = prepared.people.prepared(index)
        for x in effective_access(prepared, account)[0]:
            if (
                x.place is not None
                and x.place.store == store
                and rest_below(x.place.path, top.path) is not None
            ):
                assert unfolded(rows, account.name, x.location, x.place, top) == x.states, (
                    account.name,
                    x,
                    rows,
                )
            for row in rows:  # a folder whose place another virtual path takes is not seen there
                rest = (
                    rest_below(x.location, row.location) if account.name in row.accounts else None
                )
                there = None if rest is None else Place(store, join(row.place.path, rest))
                if there is not None and there != x.place:
                    assert unfolded(rows, account.name, x.location, there, top) == NOTHING, (
                        account.name,
                        x,
                        rows,
                    )


@given(st.integers(0, 10**9))
def test_a_line_names_just_the_entries_that_let_those_in_it(seed):
    """Level by level and entry by entry, for each of them; and it is known where they
    are too many.
    """
    prepared = prepare(random_model(seed))
    for name, store in prepared.stores.items():
        rows = review(prepared, Place(name, "/"))
        for row in rows:
            path = join(row.place.path, "/new" * row.below)
            for account in row.accounts:
                standing = prepared.people.prepared(prepared.people.index[account])
                by = []
                for right, state in zip(RIGHTS, row.states, strict=True):
                    own = state != "others" if right in FILE_RIGHTS else None
                    told = judge(store, path, right, standing, own)
                    if state != "no":
                        assert told.allowed
                        by += [(told.decided_at, told.decided_by)] if told.decided_by else []
                assert set(by) == set(row.by) and len(set(row.by)) == len(row.by), (account, row)
        assert review_within(prepared, Place(name, "/"), 3) == (None if len(rows) > 3 else rows)


def test_those_who_come_by_the_same_entries_are_one_line(demo):
    rows = review(prepare(demo), Place("survey", "/soundings"))
    readers = next(r for r in rows if "odile" in r.accounts)
    assert readers.accounts == ("harrow-dredging", "jonas", "odile", "petra", "sverre")
    assert [(str(d.at), str(d.entry)) for d in readers.by] == [
        ("survey:/soundings", "allow group:soundings-readers read")
    ]
    yuki = next(
        r for r in review(prepare(demo), Place("survey", "/inbox")) if r.accounts == ("yuki",)
    )
    assert {str(d.entry.subject) for d in yuki.by} == {"group:night-watch", "group:sonar-lab"}
