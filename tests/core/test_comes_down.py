"""What comes down from groups and units, each way into a group, and what would be lost outside of
it.
"""

from datetime import UTC, datetime
from itertools import pairwise

from hypothesis import given
from hypothesis import strategies as st

from drawknife.core.follows import comes_down
from drawknife.core.model import items as m
from drawknife.core.model.standing import groups_holding
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.settings import resolve

from .models import ACCOUNTS, random_model

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


@given(st.integers(0, 10**9))
def test_ways_are_chains_of_memberships_and_the_shortest_is_the_distance(seed):
    prepared = prepare(random_model(seed))
    held = groups_holding(prepared.model.groups)
    for name in ACCOUNTS:
        account = prepared.account(name)
        for group in prepared.model.groups:
            subject = m.Subject("group", group.name)
            found = comes_down.ways(prepared, account, subject)
            assert bool(found) == (subject in account.standing.ranks)
            assert len(set(found)) == len(found)
            steps = []
            for chain in found:
                units = [s for s in chain if s.kind == "unit"]
                assert (
                    chain[0] == m.Subject("account", name)
                    and chain[-1] == subject
                    and len(set(chain)) == len(chain)
                )
                assert [u.name for u in units] == [a.name for a in _own_units(account.account)][
                    : len(units)
                ]
                climbing = (
                    [*units[-1:], *(s for s in chain if s.kind == "group")]
                    if units
                    else list(chain)
                )
                assert all(b in held[a] for a, b in pairwise(climbing))
                steps.append(len(climbing) - 1)
            if found:
                assert min(steps) == account.standing.ranks[subject].distance


def _own_units(account):
    parts = account.unit.split("/") if account.unit else []
    return [m.Subject("unit", "/".join(parts[:n])) for n in range(len(parts), 0, -1)]


@given(st.integers(0, 10**9))
def test_who_is_in_and_whom_settings_reach(seed):
    prepared = prepare(random_model(seed))
    for setting in prepared.model.settings:
        if setting.subject.kind not in ("group", "unit"):
            continue
        inside = {a for a in ACCOUNTS if setting.subject in prepared.account(a).standing.ranks}
        assert {
            prepared.people.accounts[i].name for i in comes_down.members(prepared, setting.subject)
        } == inside
        for reach in comes_down.setting_reach(prepared, setting.subject):
            assert {*reach.reaches} | {n for n, _ in reach.nearer} == inside
            for name, subjects in reach.nearer:
                came = resolve(prepared, prepared.account(name), reach.name)
                assert set(subjects) <= set(came.subjects) and (
                    setting.subject not in came.subjects or came.value != reach.value
                )


@given(st.integers(0, 10**9))
def test_outside_of_a_group_nothing_of_it_comes_down_any_more(seed):
    prepared = prepare(random_model(seed))
    for name in ACCOUNTS:
        account = prepared.account(name)
        for subject in [s for s in account.standing.ranks if s.kind == "group"][:2]:
            other = prepare(comes_down._taken_out(prepared, subject, account))
            assert subject not in other.account(name).standing.ranks
            for them in ACCOUNTS:
                if them != name:
                    assert (subject in other.account(them).standing.ranks) == (
                        subject in prepared.account(them).standing.ranks
                    )


def test_what_the_nested_groups_of_the_demo_give(demo):
    prepared = prepare(demo)
    given_ = comes_down.gives(prepared, m.Subject("group", "dredge-liaison"))
    assert [(g.reference.name, " > ".join(map(str, g.chain[1:]))) for g in given_] == [
        ("/soundings", "group:north-bank > group:soundings-readers"),
        ("survey:/soundings", "group:north-bank > group:soundings-readers"),
        ("group:dredge-liaison", ""),
    ]
    loss = comes_down.without(
        prepared, m.Subject("group", "dredge-liaison"), prepared.account("harrow-dredging")
    )
    assert len(loss.lines) == 3 and {r for a in loss.access for r in a.lost} == {
        "enter",
        "list",
        "download",
    }
    assert {x for a in loss.access for x in a.accounts} == {"harrow-dredging"}
    # A unit gives what its parents give, too.
    lines = [
        g.reference.line for g in comes_down.gives(prepared, m.Subject("unit", "shore/office"))
    ]
    assert "unit:shore change" in lines and "unit:shore/office change" in lines
