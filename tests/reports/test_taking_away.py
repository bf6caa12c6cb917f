"""What is to go by a signed report goes, and all that it does not reach is told; held against
single accounts' access.
"""

from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.answers.reports import compared
from drawknife.changing import apply
from drawknife.core.everybody.effective import effective_access
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import Refused

from ..core.models import random_model

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def asked(model):
    return Answering(prepare(model), 1, NOW)


def may(model, account, place):
    """Has it any right at the place, wherever it sees it? Slow, and by another way."""
    prepared = prepare(model)
    found = next((i for i, a in enumerate(prepared.people.accounts) if a.name == account), None)
    if found is None:
        return False
    rows, _ = effective_access(prepared, prepared.people.prepared(found))
    return any(str(r.place) == place and set(r.states) != {"no"} for r in rows)


@given(st.integers(0, 10**9), st.data())
def test_what_is_to_go_goes_or_is_told_and_what_is_kept_stays_or_is_told(seed, data):
    model = random_model(seed)
    stores = [s.name for s in model.stores]
    if not stores:
        return
    answering = asked(model)
    _, _, rows, _ = answering.report(f"store:{data.draw(st.sampled_from(stores))}")
    deciding = [r for r in rows if r.to_decide]
    if not deciding:
        return
    go = set(
        data.draw(st.lists(st.sampled_from([r.number for r in deciding]), min_size=1, max_size=3))
    )
    changes, left = answering.taking_away(rows, go)
    after = apply(model, changes).model
    recorded = {f"{s.name}:{f.path}" for s in after.stores for f in s.folders}
    for row in (r for r in deciding if r.place in recorded):
        for name in row.accounts:
            here = may(after, name, row.place)
            if row.number in go:
                assert not here or f"{name} still can get at {row.place}" in left
            elif may(model, name, row.place) and not any(
                name in r.accounts and r.place == row.place for r in deciding if r.number in go
            ):
                assert here or any(
                    line.startswith(f"{name} would lose what was kept at {row.place},")
                    for line in left
                ), (row, left)


@given(st.integers(0, 10**9))
def test_a_report_held_against_itself_has_nothing_new_and_nothing_gone(seed):
    model = random_model(seed)
    for store in model.stores:
        rows = asked(model).report(f"store:{store.name}")[2]
        again = asked(model).report(f"store:{store.name}")[2]
        assert compared(again, rows) == (again, [])


def test_what_is_new_and_what_is_gone_is_told_by_name(demo):
    before = asked(demo).report("survey:/inbox")[2]
    changed = apply(
        demo,
        [
            {
                "op": "change",
                "kind": "folder",
                "name": "survey:/inbox",
                "add": {"entries": ["allow account:wanda list"]},
                "drop": {"entries": ["allow group:night-watch read"]},
            }
        ],
    ).model
    rows = asked(changed).report("survey:/inbox")[2]
    rows, gone = compared(rows, before)
    assert any("odile" in line and "look and fetch files" in line for line in gone)
    assert {n for r in rows for n in r.new} <= {"wanda", "yuki"}


def test_of_a_group_each_member_line_is_decided(demo):
    answering = asked(demo)
    called, title, rows, notes = answering.report("group:BOATS")
    assert (called, title) == ("group:boats", "Who is in the group boats")
    assert [(r.by, r.may, len(r.accounts)) for r in rows] == [(["unit:fleet"], "4 accounts", 4)]
    assert any("deny group:boats all below on survey:/inbox" in line for line in notes)
    assert answering.taking_away(rows, [1])[0] == [
        {"op": "change", "kind": "group", "name": "boats", "drop": {"members": ["unit:fleet"]}}
    ]


def test_a_report_that_nobody_would_go_through_is_refused(demo, monkeypatch):
    rows = len(asked(demo).report("store:survey")[2])
    for most in (1, rows - 1):  # before its rows are made, and after
        monkeypatch.setattr("drawknife.answers.reports.MOST_ROWS", most)
        with pytest.raises(Refused, match=f"over {most} rows, which nobody goes through"):
            asked(demo).report("store:survey")
    monkeypatch.setattr("drawknife.answers.reports.MOST_ROWS", rows)
    assert len(asked(demo).report("store:survey")[2]) == rows
