"""Lines that count until a day: entries, grants and members, and what is told when they
have ended.
"""

from dataclasses import replace
from datetime import UTC, date, datetime, timedelta

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.answers.previews import follow, follows_fields
from drawknife.answers.summaries import summary
from drawknife.changing import apply
from drawknife.core.decide.explain import explain
from drawknife.core.decide.gates import verdict
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.ending import ending, ends, without_ended
from drawknife.core.model.lines import each_once
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import BadValue, Place
from drawknife.formats.model_file import read_model, write_model

from .models import random_model
from .test_consequences import all_lines

LAST = date(2026, 11, 23)
AT_THE_END = datetime(2026, 11, 23, 23, 59, 59, tzinfo=UTC)
AFTERWARDS = datetime(2026, 11, 24, tzinfo=UTC)
NOW = datetime(2026, 11, 20, 12, tzinfo=UTC)


def model(
    entry="allow anyone all",
    grant="signed-in all",
    member="account:ada",
    way="allow group:crew all",
):
    return sound(
        m.Model(
            accounts=(m.Account("ada"),),
            groups=(m.Group("crew", (m.parse_member(member),)),),
            stores=(m.Store("s", folders=(m.Folder("/", entries=(m.parse_entry(entry),)),)),),
            virtual_paths=(m.VirtualPath("/x", "s:/", grants=(m.parse_grant(grant),)),),
            endpoints=(
                m.Endpoint("quay", "sftp", 22, entries=(m.parse_entry(way, at_endpoint=True),)),
            ),
        )
    )


@pytest.mark.parametrize(
    ("part", "gate", "note"),
    [
        ({"entry": "allow anyone all until 2026-11-23"}, "folder", ""),
        (
            {"grant": "signed-in all until 2026-11-23"},
            "virtual path",
            "the grant `signed-in all until 2026-11-23` on /x has ended",
        ),
        (
            {"member": "account:ada until 2026-11-23"},
            "sign-in",
            "account:ada was in group:crew until 2026-11-23",
        ),
        (
            {"way": "allow group:crew all until 2026-11-23"},
            "sign-in",
            "`allow group:crew all until 2026-11-23` has ended",
        ),
    ],
)
def test_each_counts_to_the_end_of_its_day(part, gate, note):
    prepared = prepare(model(**part))
    question = Question("ada", "download", "/x/a", endpoint="quay")
    assert verdict(prepared, question, AT_THE_END).allowed
    # The time of the question counts, whatever the time it is asked at, and whichever way it is
    # asked.
    for asked in (question, replace(question, at=AFTERWARDS)):
        told = explain(prepared, asked, AFTERWARDS if asked.at is None else NOW)
        assert told.verdict.gate == gate == verdict(prepared, asked, AFTERWARDS).gate
        assert not note or note in [n for g in told.gates for n in g.notes]
    assert verdict(prepared.on(AFTERWARDS.date()), question, NOW).allowed


def test_an_endpoint_whose_entries_have_all_ended_lets_nobody_do_anything():
    ended = prepare(model(way="allow anyone all until 2026-11-23")).on(AFTERWARDS.date())
    assert ended.model.endpoints[0].entries == ()
    assert (
        verdict(ended, Question("ada", "sign-in", endpoint="quay"), AFTERWARDS).reason
        == "endpoint-admits-nothing"
    )


def test_an_explanation_lists_what_has_ended_with_its_note():
    entry = m.parse_entry("deny anyone download until 2026-11-23")._replace(
        note="while it was counted"
    )
    both = (entry, m.parse_entry("allow anyone all"))
    prepared = prepare(
        sound(replace(model(), stores=(m.Store("s", folders=(m.Folder("/", entries=both),)),)))
    )
    question = Question("ada", "download", "/x/a")
    before, after = explain(prepared, question, NOW), explain(prepared, question, AFTERWARDS)
    assert not before.verdict.allowed and after.verdict.allowed
    assert [(x.entry, x.fate) for x in after.checks[0].judgement.levels[-1].entries] == [
        (both[1], "decides"),
        (entry, "has ended"),
    ]


LINE = m.parse_entry("allow anyone read")
UNTIL = st.none() | st.dates(date(2026, 11, 20), date(2026, 11, 26))


@given(st.lists(st.tuples(UNTIL, st.sampled_from([None, "a", "b"])), min_size=1, max_size=4))
def test_one_that_is_written_twice_counts_as_long_as_the_later(terms):
    lines = [LINE._replace(until=until, note=note) for until, note in terms]
    (found,) = each_once(lines)
    assert found in lines and each_once(reversed(lines)) == (found,)
    for day in (date(2026, 11, 19) + timedelta(i) for i in range(9)):
        counts = found.until is None or day <= found.until
        assert counts == any(x.until is None or day <= x.until for x in lines)


@given(st.integers(0, 10**9), st.dates(date(2026, 11, 19), date(2026, 11, 26)))
@example(1_000_000_000, date(2026, 11, 23))  # two virtual paths that are called alike
def test_the_model_of_a_day_has_the_lines_that_count_and_all_else(seed, day):
    whole = random_model(seed)
    prepared = prepare(whole)
    there = prepared.on(day)
    counting = [x for x in all_lines(whole) if x.until is None or x.until >= day]
    if len({(v.path, v.leads_to) for v in whole.virtual_paths}) == len(whole.virtual_paths):
        assert list(all_lines(there.model)) == counting
    # of several that are called alike, what is left may be the same, and stands in another order
    else:
        assert set(all_lines(there.model)) == set(counting)
    assert there.model == without_ended(whole, day) == prepare(there.model).model
    assert sound(there.model) == there.model, "it is in canonical form, and so can be compared"
    assert there.full is prepared is there.full.on(date(2026, 1, 1)) and there is prepared.on(day)
    assert ends(whole) == sorted({x.until for x in all_lines(whole)} - {None})
    assert [line for _, _, line in ending(whole)] != [] or not ends(whole)
    # The same from the revision before, whose days were asked for already.
    again = prepare(replace(whole, lockouts=()), prepared).on(day)
    assert again.model == without_ended(replace(whole, lockouts=()), day)


def test_lines_are_read_and_written_as_text_or_as_mappings():
    text = """drawknife: 1
accounts:
- name: ada
groups:
- name: crew
  members:
  - member: account:ada
    until: 2031-04-30
    note: while Bo is away
stores:
- name: s
  folders:
  - path: /
    entries:
    - line: allow group:crew read
      note: for the survey
    - deny anyone all until 2031-04-30
"""
    found = read_model(text)
    assert found.groups[0].members == (
        m.Member(m.Subject("account", "ada"), date(2031, 4, 30), "while Bo is away"),
    )
    assert [str(e) for e in found.stores[0].folders[0].entries] == [
        "allow group:crew read",
        "deny anyone all until 2031-04-30",
    ]
    assert read_model(write_model(found)) == found and "until: 2031-04-30" in write_model(found)


@pytest.mark.parametrize(
    ("line", "mistake"),
    [
        ({"line": "allow anyone read", "till": "2031-04-30"}, "unknown key 'till'"),
        ({"until": "2031-04-30"}, "the key 'line' is missing"),
        (
            {"line": "allow anyone read until 2031-04-30", "until": "2031-05-01"},
            "its end is written twice",
        ),
        ({"line": "allow anyone read", "until": "2031-04-31"}, "2031-04-31 is no day"),
        ("allow anyone read until tomorrow", "tomorrow is no day"),
        ({"line": "allow anyone read", "note": 7}, "7 is not text"),
    ],
)
def test_mistakes_in_lines_are_told(line, mistake):
    from drawknife.core.model.kinds import FOLDER

    with pytest.raises(BadValue, match=mistake):
        FOLDER.by_name["entries"].read(line)


def edited(before, *lines, way="add"):
    change = {"op": "change", "kind": "group", "name": "crew", way: {"members": list(lines)}}
    return [str(x) for x in apply(before, [change]).model.groups[0].members]


def test_adding_a_line_that_is_there_gives_it_the_end_that_is_written():
    before = model(member="account:ada until 2026-11-23")
    assert edited(before, "account:ADA until 2026-11-25") == ["account:ada until 2026-11-25"]
    assert edited(before, {"member": "account:ada", "until": "2026-11-21"}) == [
        "account:ada until 2026-11-21"
    ]
    assert edited(before, "account:ada") == ["account:ada"]
    assert edited(before, "account:ada", way="drop") == []
    noted = apply(
        before,
        [
            {
                "op": "change",
                "kind": "group",
                "name": "crew",
                "add": {"members": [{"member": "account:ada", "note": "why"}]},
            }
        ],
    ).model
    later = apply(
        noted,
        [
            {
                "op": "change",
                "kind": "group",
                "name": "crew",
                "add": {"members": ["account:ada until 2026-12-01"]},
            }
        ],
    )
    assert later.model.groups[0].members[0].note == "why"


def told(before, *changes):
    applied = apply(before, list(changes))
    return follow(prepare(before), prepare(applied.model, prepare(before)), NOW, applied.renames)


def add(line):
    return {"op": "change", "kind": "folder", "name": "s:/", "add": {"entries": [line]}}


def test_what_follows_only_later_is_told_with_its_day():
    found = told(model(), add("allow anyone all until 2026-11-23"))
    assert found.follows.access == () and not found.follows.nothing
    ((day, then),) = found.follows.later
    assert day == date(2026, 11, 24) and {a for x in then.access for a in x.accounts if x.lost} == {
        "ada"
    }
    assert summary(found.follows)[0].startswith("from 2026-11-24 on: ada loses")
    fields = follows_fields(found)
    assert (
        fields["later"][0].day == day
        and fields["later"][0].follows.access
        and not fields["nothing"]
    )


def test_what_differs_now_and_later_alike_is_told_once():
    before = model(member="account:ada until 2026-11-23")
    assert told(before, add("deny anyone upload")).follows.later == ()


def test_a_line_that_has_ended_has_no_effect_and_that_is_why():
    (idle,) = told(model(), add("deny anyone all until 2026-11-19")).without_effect
    assert idle.reasons == ("it has ended: 2026-11-19 was the last day that it counted",)


def expiring(name="ada", to=None, **set_):
    rename = (
        [{"op": "rename", "kind": "account", "name": "ada", "to": name}] if name != "ada" else []
    )
    return [*rename, {"op": "change", "kind": "account", "name": name, "set": set_}]


@pytest.mark.parametrize(
    ("was", "now", "name", "days"),
    [
        (None, "2026-12-20", "ada", {date(2026, 12, 21): False}),
        ("2026-12-20", None, "ada", {date(2026, 12, 21): True}),
        (
            "2026-12-20",
            "2026-12-29",
            "ada",
            {date(2026, 12, 21): True},
        ),  # and then again it cannot, as before
        ("2026-12-20", "2026-12-29", "ida", {date(2026, 12, 21): True}),
        ("2026-12-20", "2026-12-20", "ida", {}),
    ],
)
def test_that_an_account_expires_on_another_day_is_told_with_that_day(was, now, name, days):
    before = model()
    if was:
        before = apply(before, expiring(expires=was)).model
    found = told(before, *expiring(name, expires=now)).follows
    assert not found.sign_in
    assert {day: x.may for day, then in found.later for x in then.sign_in} == days


def test_that_a_grace_period_runs_out_on_another_day_is_told_with_that_day():
    quota = m.Quota(
        "pool", (m.Subject("anyone"),), soft_bytes=10, grace=10 * 86400, bytes_over_since=NOW
    )
    usage = m.Usage(Place("s", "/"), "ada", 30, 1)
    before = sound(replace(model(), quotas=(quota,), usage=(usage,)))
    for changed, day in (({"grace": "3 days"}, 3), ({"soft_bytes": 100}, 10)):
        found = told(
            before, {"op": "change", "kind": "quota", "name": "pool", "set": changed}
        ).follows
        assert not found.room
        assert [then for then, x in found.later if x.room] == [NOW.date() + timedelta(days=day + 1)]


def test_a_soft_limit_that_is_exceeded_at_once_takes_room_when_its_grace_period_has_run_out():
    """Its clock begins as it is put in force; in a file, where none runs, those of all others do
    so, too.
    """
    usage = m.Usage(Place("s", "/"), "ada", 30, 1)
    quota = m.Quota("pool", (m.Subject("anyone"),), soft_bytes=10, grace=86400)
    without = sound(replace(model(), usage=(usage,)))
    having = sound(replace(without, quotas=(quota,)))
    item = {"name": "pool", "shared_by": ["anyone"], "soft_bytes": 10, "grace": "1 day"}
    other = {"op": "add", "kind": "account", "item": {"name": "bo"}}
    for before, change, room in (
        (without, {"op": "add", "kind": "quota", "item": item}, 0),
        (having, {"op": "remove", "kind": "quota", "name": "pool"}, None),
    ):
        found = told(before, change).follows
        ((day, then),) = found.later
        assert not found.room and not found.nothing
        assert day == NOW.date() + timedelta(days=2) and [x.after.bytes for x in then.room] == [
            room
        ]
    assert told(having, other).follows.later == ()


def test_days_that_were_not_looked_at_are_named():
    many = sound(
        replace(
            model(),
            groups=tuple(
                m.Group(f"g{i}", (m.Member(m.Subject("account", "ada"), LAST + timedelta(i)),))
                for i in range(14)
            ),
            endpoints=(),
        )
    )
    found = told(many, add("deny anyone upload")).follows
    assert found.left_out == (
        "something ends on 14 days to come; what differs after 2026-12-05 was not looked at",
    )


def test_an_end_is_a_finding_a_week_before_and_when_it_has_passed():
    def kinds(day):
        prepared = prepare(
            model(entry="allow anyone all until 2026-11-23", member="account:ada until 2027-01-01")
        )
        found = Answering(prepared, 1, datetime(2026, 11, day, 12, tzinfo=UTC)).findings().findings
        return {(f.kind, f.about) for f in found if f.kind.startswith("line-")}

    assert kinds(15) == set()
    assert kinds(16) == kinds(23) == {("line-ends", "s:/")}
    assert kinds(24) == {("line-ended", "s:/")}


def test_answers_are_of_the_day_and_what_is_written_is_shown_whole():
    answering = Answering(prepare(model(entry="allow anyone all until 2026-11-23")), 1, AFTERWARDS)
    assert answering.who("download", "/x").total == 0
    (line,) = answering.folder("s:/").entries
    assert line.ended and line.until == LAST and line.line == "allow anyone all"
    assert answering.item("folder", "s:/").item["entries"] == [
        {"line": "allow anyone all", "until": "2026-11-23"}
    ]
    assert Answering(answering.full, 1, NOW).who("download", "/x").total == 1


def test_a_unit_can_be_noted_renamed_and_removed():
    before = sound(replace(model(), units=("fleet",)))
    noted = apply(
        before, [{"op": "change", "kind": "unit", "name": "FLEET", "set": {"note": "the boats"}}]
    ).model
    assert noted.unit_facts == (m.UnitFacts("fleet", note="the boats"),)
    renamed = apply(noted, [{"op": "rename", "kind": "unit", "name": "fleet", "to": "boats"}]).model
    assert (
        renamed.unit_facts == (m.UnitFacts("boats", note="the boats"),)
        and read_model(write_model(renamed)) == renamed
    )
    assert (
        apply(
            noted, [{"op": "change", "kind": "unit", "name": "fleet", "set": {"note": None}}]
        ).model
        == before
    )
    assert (
        apply(renamed, [{"op": "remove", "kind": "unit", "name": "boats"}]).model.unit_facts == ()
    )
