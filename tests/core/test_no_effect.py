"""A line that is added and changes nothing is told with its reason; what is said is so."""

import re
from dataclasses import replace
from datetime import UTC, datetime
from random import Random

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from drawknife.answers.previews import follow
from drawknife.answers.summaries import summary
from drawknife.changing import apply
from drawknife.core.follows.added_lines import added_lines
from drawknife.core.follows.days import consequences
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.edits import ChangeRefused
from drawknife.core.prepared.prepared import prepare
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.formats.document import BadDocument

from .changes import random_change
from .models import random_model

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


def told(demo, *changes):
    before = prepare(demo)
    applied = apply(demo, changes)
    return follow(before, prepare(applied.model, before), NOW, applied.renames)


def entry(place, line):
    return {"op": "change", "kind": "folder", "name": place, "add": {"entries": [line]}}


@pytest.mark.parametrize(
    ("change", "reason"),
    [
        (
            entry("survey:/charts", "allow account:fulmar upload"),
            "no virtual path leads fulmar to survey:/charts",
        ),
        (
            entry("survey:/charts/review-2026", "allow account:ines upload below"),
            "ines cannot pass through to",
        ),
        (
            entry("survey:/soundings", "allow account:yuki delete-file here"),
            (
                "`deny group:night-watch delete-file,delete-folder` on survey:/soundings, a deny on"
                " its level"
            ),
        ),
        (entry("survey:/", "deny group:sonar-lab download"), "a nearer level decides for"),
        (
            entry("survey:/charts", "allow group:partners upload"),
            "the grants on /charts hold it back from harrow-dredging, uni-esk",
        ),
        (
            entry("survey:/charts", "allow group:all-hands look here"),
            "on survey:/charts decides the same for yuki",
        ),
        (
            entry("survey:/soundings", "deny anonymous all"),
            "no virtual path leads anonymous to survey:/soundings",
        ),
        (
            {
                "op": "change",
                "kind": "virtual-path",
                "name": "/charts",
                "add": {"grants": ["account:ines read"]},
            },
            "it is so without it: other grants let ines read on /charts",
        ),
        (
            {
                "op": "change",
                "kind": "endpoint",
                "name": "lab-sftp",
                "add": {"entries": ["allow account:ines read"]},
            },
            "it is so without it for ines",
        ),
        (
            {
                "op": "change",
                "kind": "group",
                "name": "all-hands",
                "add": {"members": ["account:ines"]},
            },
            "ines counted as group:all-hands already",
        ),
    ],
)
def test_the_reasons(demo, change, reason):
    found = told(demo, change)
    assert found.follows.for_nobody and len(found.without_effect) == 1
    assert reason in " / ".join(found.without_effect[0].reasons), found.without_effect


def test_a_line_among_others_that_does_nothing_is_told_and_those_that_do_are_not(demo):
    found = told(
        demo,
        entry("survey:/soundings/new-shoal", "deny group:sonar-lab all"),
        entry("survey:/charts", "allow account:fulmar upload"),
    )
    assert not found.follows.for_nobody
    assert [x.line.name for x in found.without_effect] == ["survey:/charts"]


def test_what_a_grant_or_an_endpoint_still_holds_back_is_told(demo):
    found = told(demo, entry("survey:/charts", "allow group:partners upload,download below"))
    assert any("the grants on /charts still hold back upload" in x for x in found.held_back)


def test_a_line_that_speaks_only_where_nobody_is_led_has_a_reason():
    folders = (m.Folder("/a"), m.Folder("/a/b"))
    path = m.VirtualPath("/a", "t:/a/b", grants=(m.parse_grant("account:ada all"),))
    model = sound(
        m.Model(
            accounts=(m.Account("ada"),),
            stores=(m.Store("t", baseline="open", folders=folders),),
            virtual_paths=(path,),
        )
    )
    (deep,) = told(model, entry("t:/", "allow account:ada append children")).without_effect
    assert deep.reasons == ("no virtual path leads ada to t:/",)
    (idle,) = told(model, entry("t:/", "allow account:ada append")).without_effect
    assert idle.reasons == ("it is so without it: what nothing decides is allowed in t",)


def test_a_line_that_names_somebody_by_a_new_name_is_not_a_new_line(demo):
    found = told(demo, {"op": "rename", "kind": "unit", "name": "partners", "to": "allies"})
    assert found.without_effect == () and found.held_back == ()
    again = told(
        demo,
        {"op": "rename", "kind": "group", "name": "sonar-lab", "to": "lab"},
        entry("survey:/", "deny group:lab download"),
    )
    assert [str(x.line) for x in again.without_effect] == ["`deny group:lab download` on survey:/"]


def test_the_previews_that_said_nothing_follows(demo):
    """Each of these once said that nothing follows, or named the wrong people."""
    lab = {"bram", "ines", "tomasz"}
    access = told(
        demo, entry("survey:/soundings/new-shoal", "deny group:sonar-lab all")
    ).follows.access
    assert {a for x in access for a in x.accounts} == lab | {"yuki"}
    assert all(x.lost and not x.gained and x.locations == ("/soundings/new-shoal",) for x in access)
    sealed = {
        "op": "add",
        "kind": "folder",
        "name": "survey:/soundings/reef",
        "item": {"sealed": True},
    }
    everybody = {a for x in told(demo, sealed).follows.access for a in x.accounts if x.lost}
    assert everybody > lab | {"harrow-dredging", "jonas"}
    removed = {"op": "remove", "kind": "folder", "name": "survey:/charts/review-2026"}
    assert told(demo, removed).follows.access
    off = told(
        demo, {"op": "change", "kind": "account", "name": "ines", "set": {"enabled": False}}
    ).follows
    assert {(s.accounts, s.endpoint, s.may) for s in off.sign_in} >= {
        (("ines",), "harbour", False)
    } and not off.nothing
    gone = told(
        demo, {"op": "change", "kind": "account", "name": "ines", "set": {"expires": "2026-01-01"}}
    ).follows
    assert {s.endpoint for s in gone.sign_in} == {
        s.endpoint for s in off.sign_in
    } and "expired" in gone.sign_in[0].why
    never = told(
        demo,
        {"op": "change", "kind": "endpoint", "name": "harbour", "add": {"never": ["account:ines"]}},
    )
    assert summary(never.follows)[0] == "ines can no longer sign in at harbour"
    shut = told(
        demo, {"op": "change", "kind": "endpoint", "name": "harbour", "set": {"enabled": False}}
    ).follows
    assert len({a for s in shut.sign_in for a in s.accounts if not s.may}) > 10
    only = told(
        demo,
        {"op": "change", "kind": "endpoint", "name": "harbour", "set": {"only": ["account:ines"]}},
    ).follows
    assert "ines" not in {a for s in only.sign_in for a in s.accounts} and only.sign_in
    let = told(
        demo,
        {
            "op": "change",
            "kind": "endpoint",
            "name": "harbour",
            "add": {"entries": ["deny account:ines upload"]},
        },
    )
    assert [(x.accounts, x.endpoint, x.lost) for x in let.follows.access] == [
        (("ines",), "harbour", ("upload",))
    ]


def test_a_load_without_people_tells_that_they_get_in_no_more(demo):
    left = sound(
        replace(
            demo,
            accounts=demo.accounts[:1],
            groups=(),
            stores=(),
            virtual_paths=(),
            quotas=(),
            usage=(),
            settings=(),
            endpoints=(),
            units=(),
            unit_facts=(),
            gone=(),
            promises=(),
            trials=(),
        )
    )
    before = prepare(demo)
    follows = consequences(before, prepare(left), NOW)
    assert len(follows.gone) == len(demo.accounts) - 1
    assert {a for s in follows.sign_in for a in s.accounts} > {"ines", "yuki"} and summary(follows)[
        0
    ].startswith("gone: bram")


def test_what_was_not_looked_at_is_said(demo, monkeypatch):
    from drawknife.core.follows import no_effect

    def two(number):
        names = ["tomasz", *(a.name for a in demo.accounts)][:number]
        return [
            {
                "op": "change",
                "kind": "folder",
                "name": "survey:/charts",
                "add": {"entries": [f"deny account:{n} list"]},
            }
            for n in names
        ]

    looked = told(demo, *two(2))
    assert not looked.left_out and not looked.follows.for_nobody
    assert told(demo, *two(8)).left_out == (
        "of 8 lines that are added, the first 5 were looked at one by one",
    )
    monkeypatch.setattr(no_effect, "SINGLY_WITHIN", 0)
    large = told(demo, *two(2))
    assert large.without_effect == () and "was not looked at" in large.left_out[0]
    assert large.follows == looked.follows


@given(st.integers(0, 10**9))
@settings(max_examples=150)
def test_a_line_without_effect_has_a_reason_and_can_be_left_out(seed):
    """Told as without effect is only what nobody is different by, and all of that, with at least
    one reason.
    """
    rng = Random(seed)
    model = random_model(seed)
    changes = [random_change(rng, model) for _ in range(rng.choice([1, 1, 2]))]
    try:
        applied = apply(model, changes)
    except (ChangeRefused, NotFound, BadInput, BadDocument):
        assume(False)
    before = prepare(model)
    after = prepare(applied.model, before)
    found = follow(before, after, NOW, applied.renames)
    for idle in found.without_effect:
        assert idle.reasons and not any(re.search(r"[{}]who|None", r) for r in idle.reasons), idle
    if found.follows.for_nobody:
        assert [x.line for x in found.without_effect] == [
            *added_lines(applied.renames.carried(model), applied.model)
        ]
        assert "nobody gains or loses anything" in summary(found.follows)
    else:
        assert "nobody gains or loses anything" not in summary(found.follows) and summary(
            found.follows
        )
