"""The steps of a draft: what they say, what they name, and which of them fit no more."""

import pytest

from drawknife.answers.changing import InMemory
from drawknife.answers.drafting import lay, misfits, names_in, says
from drawknife.core.words.errors import NotFound, Refused


@pytest.mark.parametrize(
    ("step", "line"),
    [
        ({"op": "add", "kind": "unit", "item": {"path": "shore/pier"}}, "add unit shore/pier"),
        (
            {"op": "add", "kind": "account", "item": {"name": "lidia", "unit": "shore/lab"}},
            "add account lidia: unit shore/lab",
        ),
        (
            {"op": "add", "kind": "folder", "name": "survey:/a", "item": {"sealed": True}},
            "add folder survey:/a: sealed yes",
        ),
        (
            {
                "op": "change",
                "kind": "group",
                "name": "boats",
                "add": {"members": ["account:ines"]},
            },
            "group boats: add `account:ines`",
        ),
        (
            {
                "op": "change",
                "kind": "group",
                "name": "boats",
                "drop": {"members": [{"member": "account:ines", "until": "2031-01-01"}]},
            },
            "group boats: take `account:ines until 2031-01-01` away",
        ),
        (
            {
                "op": "change",
                "kind": "account",
                "name": "ines",
                "set": {"enabled": False, "expires": None},
            },
            "account ines: set enabled to no, set expires to as by default",
        ),
        ({"op": "change", "kind": "network", "set": {"inside": []}}, "network: set inside to none"),
        (
            {"op": "rename", "kind": "virtual-path", "name": "a", "to": "b"},
            "rename virtual path a to b",
        ),
        (
            {"op": "remove", "kind": "account", "name": "bram", "everywhere": True},
            "remove account bram: and every line that names it",
        ),
        ({"op": "back", "revision": 12}, "take back revision 12"),
        ({"op": "back-to", "as_of": "2026-11-20"}, "go back to 2026-11-20"),
        ({"op": "load", "model": {"accounts": [{}, {}]}}, "load a model of 2 accounts"),
    ],
)
def test_each_step_in_a_line(step, line):
    assert says(step) == line


def test_what_a_step_names_is_what_it_changes_and_whoever_its_lines_name():
    step = {
        "op": "change",
        "kind": "folder",
        "name": "survey:/charts",
        "add": {
            "entries": [
                "allow group:boats read",
                {"line": "deny account:ines all", "until": "2031-01-01"},
            ]
        },
    }
    assert set(names_in(step)) == {
        ("folders", "survey:/charts"),
        ("stores", "survey"),
        ("groups", "boats"),
        ("accounts", "ines"),
    }
    new = {
        "op": "add",
        "kind": "account",
        "item": {"name": "lidia", "unit": "shore/lab", "home": "homes:/lidia"},
    }
    assert set(names_in(new)) == {
        ("units", "shore/lab"),
        ("folders", "homes:/lidia"),
        ("stores", "homes"),
    }


GONE = {"op": "change", "kind": "group", "name": "gone", "set": {"note": "x"}}
UNIT = {"op": "add", "kind": "unit", "item": {"path": "shore/pier"}}
IN_IT = {"op": "add", "kind": "account", "item": {"name": "lidia", "unit": "shore/pier"}}


def test_only_those_that_cannot_be_done_fit_no_more(demo):
    keeper = InMemory(demo, lambda *_: None)
    found = misfits(demo, [UNIT, GONE, IN_IT], keeper)
    assert list(found) == [1] and isinstance(found[1], NotFound)
    # Without the first, the last has lost its ground, too.
    assert list(misfits(demo, [GONE, IN_IT], keeper)) == [0, 1]


def test_steps_are_laid_one_upon_the_other_and_what_they_rename_is_known(demo):
    keeper = InMemory(demo, lambda *_: None)
    rename = {"op": "rename", "kind": "account", "name": "ines", "to": "inez"}
    laid = lay(
        demo,
        [UNIT, rename, {"op": "change", "kind": "account", "name": "inez", "set": {"note": "x"}}],
        keeper,
    )
    assert [(r.old, r.new) for r in laid.renames.each] == [("ines", "inez")]
    assert (
        next(a.note for a in laid.model.accounts if a.name == "inez") == "x"
        and "shore/pier" in laid.model.units
    )


def test_a_way_back_needs_a_history(demo):
    keeper = InMemory(demo, lambda *_: None)
    for step in ({"op": "back", "revision": 1}, {"op": "back-to", "as_of": "1"}):
        with pytest.raises(Refused, match="no history"):
            lay(demo, [step], keeper)
