"""The sheet for a user names the ways in that there are, and every place with what may be done
there.
"""

from dataclasses import replace
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.answers import Answering
from drawknife.answers.handover import as_html, as_markdown, as_text, in_words, sheet
from drawknife.core.decide.gates import verdict
from drawknife.core.everybody.effective import effective_access
from drawknife.core.prepared.prepared import prepare
from drawknife.core.prepared.question import Question
from drawknife.core.words.names import ancestors, child
from drawknife.core.words.rights import RIGHTS

from ..core.models import ACCOUNTS, random_model

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


@given(st.integers(0, 10**9))
def test_the_ways_in_are_those_that_admit_the_account_at_some_hour(seed):
    model = random_model(seed)
    prepared = prepare(model).on(NOW.date())
    # Without hours: that it is not the hour now is no reason to hide a way in.
    always = prepare(
        replace(
            model,
            settings=tuple(
                replace(s, values=tuple(v for v in s.values if v[0] != "hours"))
                for s in model.settings
            ),
        )
    )
    for name in ACCOUNTS:
        made = sheet(prepared, prepared.account(name), NOW)
        connect = made.parts[0][1]
        ways = [
            e
            for e in model.endpoints
            if verdict(always, Question(name, "sign-in", endpoint=e.name), NOW).allowed
        ]
        told = [line for line in connect if ", port " in line]
        assert len(told) == len(ways) and all(
            f"port {e.port}," in line for e, line in zip(ways, told, strict=True)
        )
        assert ("You cannot sign in anywhere for now: ask your administrator." in connect) == (
            not ways
        )


@given(st.integers(0, 10**9), st.sampled_from(ACCOUNTS))
def test_every_place_with_a_right_is_told_or_is_as_the_one_above(seed, name):
    prepared = prepare(random_model(seed)).on(NOW.date())
    made = sheet(prepared, prepared.account(name), NOW)
    told = dict(line.split(": ", 1) for line in made.parts[1][1] if line.startswith("/"))
    every = effective_access(prepared, prepared.account(name))[0]
    states = {r.location: r.states for r in every}
    for r in [r for r in every if r.kind != "synthetic"]:
        above = next((states[at] for at in list(ancestors(r.location))[1:] if at in states), None)
        words = in_words(r.states, folders_in(prepared, name, r.location))
        if set(r.states) == {"no"}:
            assert r.location not in told
        elif r.location in told:
            assert told[r.location] == words
        else:
            # Deleting this very folder is not told: it is in the line of what holds it.
            assert but_deleting(r.states) == but_deleting(above)


def folders_in(prepared, name, location):
    """The state of deleting a folder in one, as questions about it are answered."""
    asked = [
        Question(name, "delete-folder", child(location, "new"), owner=owner)
        for owner in (None, name)
    ]
    plain, own = (verdict(prepared, q, NOW).allowed for q in asked)
    return {
        (True, True): "yes",
        (False, True): "own",
        (True, False): "others",
        (False, False): "no",
    }[plain, own]


def but_deleting(states):
    return [s for r, s in zip(RIGHTS, states, strict=True) if r != "delete-folder"]


def test_deleting_a_folder_is_told_of_the_folder_that_it_is_in(demo):
    """ines may change /soundings: she cannot delete what the virtual path leads to, and can what is
    in it.
    """
    prepared = prepare(demo)
    lines = dict(
        line.split(": ", 1) for line in sheet(prepared, prepared.account("yuki"), NOW).parts[1][1]
    )
    ines = dict(
        line.split(": ", 1) for line in sheet(prepared, prepared.account("tomasz"), NOW).parts[1][1]
    )
    for name, told in (("yuki", lines), ("tomasz", ines)):
        for location, words in told.items():
            assert ("delete the folders in it" in words) == (
                folders_in(prepared, name, location) != "no"
            )
    assert any("delete the folders in it" in words for words in (*lines.values(), *ines.values()))


@given(st.sampled_from(["yes", "own", "others", "no"]), st.sampled_from(RIGHTS))
def test_words_say_whose_files(state, right):
    states = tuple(state if r == right else "no" for r in RIGHTS)
    words = in_words(states, states[RIGHTS.index("delete-folder")])
    assert (" of your own" in words) == (
        state == "own" and right not in ("enter", "set-attributes")
    )
    assert (" of others" in words) == (
        state == "others" and right not in ("enter", "set-attributes")
    )
    assert state != "no" or words == "pass through"


def test_nothing_of_the_model_is_taken_for_markup(demo):
    model = replace(
        demo,
        accounts=tuple(
            replace(a, display="*<i>* [x](y)") if a.name == "ines" else a for a in demo.accounts
        ),
    )
    prepared = prepare(model)
    made = sheet(prepared, prepared.account("ines"), NOW)
    assert "Access for *<i>* [x](y)" in as_text(made)
    assert "<i>" not in as_html(made) and "&lt;i&gt;" in as_html(made)
    assert "# Access for \\*\\<i\\>\\* \\[x\\](y)" in as_markdown(made)


@pytest.mark.parametrize(
    ("name", "told"),
    [
        ("ines", "Together with others you may keep 2 TiB."),
        ("odile", "In /charts/tables, the files of all together may be 5 GiB and 2,000 files."),
        ("bram", "/charts/issued"),
        ("edda", None),
    ],
)
def test_what_is_kept_within_bounds_together_with_others_is_told(demo, name, told):
    prepared = prepare(demo)
    lines = dict(sheet(prepared, prepared.account(name), NOW).parts).get("What applies", ())
    shared = [x for x in lines if "of all together" in x or "with others" in x]
    assert told is None or any(told in line for line in shared), lines
    # Each bounds what it can put somewhere, as the question for room has it; and each that does is
    # told.
    answering = Answering(prepared, 1, NOW)
    rows = effective_access(prepared, prepared.account(name))[0]
    puts = [r for r in rows if r.kind != "synthetic" and r.states[RIGHTS.index("upload")] != "no"]
    bound = {
        x.name
        for r in puts
        for x in answering.headroom(name, r.location).limits
        if x.kind in ("shared", "folder")
    }
    assert len(shared) == len(bound), (shared, bound)
