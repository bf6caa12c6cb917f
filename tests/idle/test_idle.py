"""What has no effect: taking it away is noticed by nobody, by the plain rules; and what is not told
is noticed.
"""

from datetime import UTC, datetime, timedelta
from random import Random

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import DrawknifeError
from drawknife.formats.model_file import read_model
from drawknife.idle import idle, parts

from ..core.models import random_model
from ..core.test_consequences import Brute, all_lines

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
seeds = st.integers(0, 10**9)


def noticed(before, after):
    """Does anything that a change is compared by differ, now or after a line ends?"""
    ends = {line.until for model in (before, after) for line in all_lines(model)} - {None}
    for at in [
        NOW,
        *(NOW + (end - NOW.date()) + timedelta(1) for end in ends if end >= NOW.date()),
    ]:
        brute = Brute(before, after, (), at)
        if brute.sign_in() or brute.settings() or brute.leads() or brute.room():
            return True
        if any(brute.access(pair) for pair in [None, *brute.endpoints]):
            return True
    return False


def without(model, changes):
    return apply(model, changes).model


@settings(max_examples=25)
@given(seeds)
def test_taking_away_all_that_is_idle_is_noticed_by_nobody_nor_any_part_of_it(seed):
    model = random_model(seed)
    changes = [x.part.change for x in idle(prepare(model), NOW).found]
    assert not noticed(model, without(model, changes))
    for change in Random(seed).sample(changes, min(3, len(changes))):
        if (
            change["kind"] != "group" or change["op"] != "remove"
        ):  # a group goes after the lines that name it
            assert not noticed(model, without(model, [change])), change


def every_part(model):
    return [*parts.lines(model), *parts.settings(model), *parts.groups_unnamed(model)]


@settings(max_examples=25)
@given(seeds)
@example(
    16320
)  # without it, and one that is told, a path that was held back would be found to be unusable
def test_what_is_not_told_has_an_effect_or_stands_for_what_is(seed):
    """Without it, or without it and all that is told, something is different; or a finding would be
    new.
    """
    model = random_model(seed)
    found = idle(prepare(model), NOW)
    assert found.left_out == []
    changes = [x.part.change for x in found.found]
    rest = without(model, changes)
    others = [x for x in every_part(model) if x.change not in changes]
    gone = {x.part.what.name for x in found.found if x.part.kind == "group"}
    others = [x for x in others if not (x.kind == "membership" and x.what.name in gone)]
    for part in Random(seed).sample(others, min(3, len(others))):
        try:
            alone, too = without(model, [part.change]), without(rest, [part.change])
        except DrawknifeError:
            continue  # it is named, and cannot go
        differs = noticed(model, alone) or noticed(rest, too)
        assert differs or new_finding(model, alone) or new_finding(rest, too), part


def new_finding(before, after):
    from drawknife.core.follows.days import consequences

    told = consequences(prepare(before), prepare(after), NOW)
    return bool(told.new_findings or any(then.new_findings for _, then in told.later))


BASE = """drawknife: 1
units: [fleet]
accounts:
  - {name: ada, unit: fleet}
  - {name: bo}
groups:
  - {name: crew, members: [account:ada]}
stores:
  - name: s
    folders:
      - {path: /, entries: [allow signed-in all]}
      - {path: /deep/down}
virtual_paths:
  - {path: /, leads_to: "s:/", grants: [signed-in all]}
"""


@pytest.mark.parametrize(
    ("more", "at", "why"),
    [
        (
            {"op": "add", "kind": "group", "item": {"name": "none"}},
            "group:none",
            "nothing names it",
        ),
        (
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/deep/down",
                "add": {"entries": ["allow account:ada read"]},
            },
            "s:/deep/down",
            "it is so without it: `allow signed-in all` on s:/ decides the same for ada",
        ),
        (
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/deep/down",
                "add": {"entries": ["deny unit:empty all"]},
            },
            "s:/deep/down",
            "no account counts as unit:empty",
        ),
        (
            {
                "op": "change",
                "kind": "virtual-path",
                "name": "/",
                "add": {"grants": ["account:ada read"]},
            },
            "/",
            "it is so without it: other grants let ada read on /",
        ),
        (
            {"op": "add", "kind": "setting", "item": {"for": "unit:empty", "sessions": 2}},
            "unit:empty",
            "no account counts as unit:empty",
        ),
        (
            {"op": "add", "kind": "setting", "item": {"for": "account:ada", "landing": "/"}},
            "account:ada",
            "that is what holds where nothing is set",
        ),
        (
            {
                "op": "add",
                "kind": "quota",
                "item": {"name": "q", "shared_by": ["unit:empty"], "hard_bytes": 9},
            },
            "q",
            "no account counts as one of those who share it",
        ),
    ],
)
def test_each_kind_is_told_with_its_reason(more, at, why):
    model = without(
        read_model(BASE), [{"op": "add", "kind": "unit", "item": {"path": "empty"}}, more]
    )
    # the group `crew` comes with the base: nothing names it either
    (found,) = [x for x in idle(prepare(model), NOW).found if x.part.name != "group:crew"]
    assert found.part.name == at and why in "; ".join(found.reasons)


def test_a_setting_that_a_nearer_one_overrules_for_everybody_is_idle():
    model = without(
        read_model(BASE),
        [
            {"op": "add", "kind": "setting", "item": {"for": "unit:fleet", "sessions": 2}},
            {"op": "add", "kind": "setting", "item": {"for": "account:ada", "sessions": 3}},
        ],
    )
    found = {x.part.name: x.reasons for x in idle(prepare(model), NOW).found}
    assert (
        found["unit:fleet"] == ("what is set for account:ada is nearer to ada",)
        and "account:ada" not in found
    )


def test_a_quota_is_idle_only_where_it_can_never_bind():
    """Not one that has room today; one below a narrower one, or where nobody may put
    anything, is.
    """
    model = without(
        read_model(BASE),
        [
            {
                "op": "add",
                "kind": "quota",
                "item": {"name": "whole", "folder": "s:/", "hard_bytes": 100},
            },
            {
                "op": "add",
                "kind": "quota",
                "item": {"name": "below", "folder": "s:/deep", "hard_bytes": 200},
            },
            {
                "op": "add",
                "kind": "quota",
                "item": {"name": "tight", "folder": "s:/deep", "hard_bytes": 50},
            },
            {"op": "add", "kind": "store", "item": {"name": "shut"}},
            {
                "op": "add",
                "kind": "quota",
                "item": {"name": "shut", "folder": "shut:/", "hard_bytes": 50},
            },
        ],
    )
    found = {
        x.part.name: x.reasons for x in idle(prepare(model), NOW).found if x.part.kind == "quota"
    }
    assert found.keys() == {"below", "shut"}
    assert found["shut"] == ("nobody may put anything into shut:/ or below it",)
    assert "counts all that it counts, and is no wider" in found["below"][0]


def test_of_two_that_say_the_same_the_one_above_stays():
    model = without(
        read_model(BASE),
        [
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/deep/down",
                "add": {"entries": ["allow signed-in all"]},
            }
        ],
    )
    assert [x.part.name for x in idle(prepare(model), NOW).found if x.part.kind == "entry"] == [
        "s:/deep/down"
    ]


def test_an_end_that_is_ahead_counts():
    """The line above ends, and then the one below is what still lets it."""
    model = without(
        read_model(BASE),
        [
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/",
                "set": {"entries": [{"line": "allow signed-in all", "until": "2026-12-24"}]},
            },
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/",
                "add": {"entries": ["allow account:ada read"]},
            },
        ],
    )
    assert not [x for x in idle(prepare(model), NOW).found if x.part.kind == "entry"]


def test_a_group_of_a_directory_and_a_group_that_a_promise_names_stay():
    model = read_model(
        BASE.replace(
            "members: [account:ada]}", "members: [account:ada], source: bureau}\n  - {name: kept}"
        )
        + "promises: [{name: p, says: 'nobody in group:kept may read at s:/'}]\n"
    )
    assert not idle(prepare(model), NOW).found


def test_in_a_large_model_what_takes_long_is_named(monkeypatch):
    from drawknife.idle import taking_away

    monkeypatch.setattr(taking_away, "LARGE", 0)
    monkeypatch.setattr(taking_away, "FEW", 0)
    model = without(
        read_model(BASE),
        [
            {
                "op": "change",
                "kind": "group",
                "name": "crew",
                "set": {"members": ["account:ada", "account:bo"]},
            },
            {
                "op": "change",
                "kind": "folder",
                "name": "s:/deep/down",
                "add": {"entries": ["allow group:crew read"]},
            },
        ],
    )
    sought = idle(prepare(model), NOW)
    assert not sought.found
    assert sought.left_out == [
        (
            "not looked at, as it takes long in a model of this size: 2 memberships that may have"
            " no effect"
        ),
        "not looked at, as it takes long in a model of this size: 1 entry that may have no effect",
    ]
