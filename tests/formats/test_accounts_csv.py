"""Accounts from CSV: what each line comes to, and every mistake with its line."""

import csv
import io

import pytest
from hypothesis import given
from hypothesis import strategies as st

from drawknife.changing import apply
from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.formats.accounts_csv import COLUMNS, changes_from_csv
from drawknife.formats.document import BadDocument
from drawknife.formats.spreadsheets import guarded

MODEL = sound(
    m.Model(
        units=("shore/lab",),
        accounts=(m.Account("ines", unit="shore/lab"),),
        groups=(m.Group("crew"),),
    )
)


def changes(text):
    return changes_from_csv(io.StringIO(text), {a.name for a in MODEL.accounts})


def test_who_is_there_is_changed_and_who_is_not_is_added():
    found = changes(
        "name,display,unit,methods,groups\nINES,Inês,,,crew\nzoe,Zoë,shore/lab,key password,crew\n"
    )
    assert found == [
        {"op": "change", "kind": "account", "name": "INES", "set": {"display": "Inês"}},
        {
            "op": "add",
            "kind": "account",
            "item": {
                "name": "zoe",
                "display": "Zoë",
                "unit": "shore/lab",
                "methods": ["key", "password"],
            },
        },
        {
            "op": "change",
            "kind": "group",
            "name": "crew",
            "add": {"members": ["account:INES", "account:zoe"]},
        },
    ]
    after = apply(MODEL, found).model
    assert [a.display for a in after.accounts] == ["Inês", "Zoë"]
    assert [str(x) for x in after.groups[0].members] == ["account:ines", "account:zoe"]


@pytest.mark.parametrize(
    ("cell", "enabled"),
    [("yes", True), ("TRUE", True), ("1", True), ("no", False), ("false", False), ("0", False)],
)
def test_yes_and_no_as_spreadsheets_write_them(cell, enabled):
    (change,) = changes(f"name,enabled\nzoe,{cell}\n")
    assert change["item"]["enabled"] is enabled


@pytest.mark.parametrize(
    ("text", "line", "said"),
    [
        ("name,dsplay\nzoe,Z\n", 1, "there is no column 'dsplay'"),
        ("display\nZ\n", 1, "there is no column name"),
        ("name,unit\nzoe,a,b\n", 2, "more fields than the first"),
        ("name,unit\n,shore\n", 2, "the name is empty"),
        ("name\nzoe\nZOE\n", 3, "'ZOE' is there already, in line 2"),
        ("name\n", None, "there is nothing to do in it"),
        ('name,display\nzoe,"Z\n', 2, "this is no CSV"),
    ],
)
def test_mistakes_are_told_with_their_lines(text, line, said):
    with pytest.raises(BadDocument) as caught:
        changes(text)
    assert any(x.line == line and said in x.message for x in caught.value.mistakes), (
        caught.value.mistakes
    )
    assert all(p.message for p in caught.value.places)


def test_a_line_that_says_nothing_new_is_no_change():
    assert changes("name,display,unit\nines,,\nzoe,,\n") == [
        {"op": "add", "kind": "account", "item": {"name": "zoe"}}
    ]


@given(st.lists(st.from_regex(r"[-=+@a-z0-9 ,;\"é]{0,12}", fullmatch=True), min_size=1, max_size=5))
def test_what_is_guarded_for_spreadsheets_comes_back_as_it_was(texts):
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["name", "display"])
    for i, text in enumerate(texts):
        writer.writerow([f"a{i}", guarded(text)])
    found = changes(out.getvalue())
    # Blanks around a cell, and empty cells, say nothing; the apostrophe before a formula is taken
    # off.
    assert [c["item"].get("display", "") for c in found] == [text.strip() for text in texts]


def test_every_column_is_a_field_of_an_account():
    assert set(COLUMNS) == {
        "name",
        "kind",
        "display",
        "mail",
        "unit",
        "home",
        "enabled",
        "expires",
        "methods",
        "note",
        "groups",
    }
