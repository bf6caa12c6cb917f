"""Tables on terminals of any width: no word is broken, and nothing is left out."""

import io
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st
from rich.console import Console
from rich.text import Text

from drawknife.cli.columns import SMALL, plain_table, print_table

from ..conftest import DEMO, run

WORDS = st.lists(st.text("abcdefgh:/-2026●", min_size=1, max_size=14), max_size=4).map(" ".join)
TABLES = st.integers(1, 5).flatmap(
    lambda n: st.tuples(
        st.lists(st.text("ABCDEF", min_size=1, max_size=8), min_size=n, max_size=n, unique=True),
        st.lists(st.lists(WORDS, min_size=n, max_size=n), min_size=1, max_size=6),
    )
)


def drawn(heads, rows, width, terminal=False):
    table = plain_table(*heads)
    for row in rows:
        table.add_row(*map(Text, row))
    out = Console(file=io.StringIO(), width=width, force_terminal=terminal, color_system=None)
    print_table(out, table)
    return out.file.getvalue()


@given(TABLES, st.integers(30, 120))
def test_every_word_is_there_whole_and_no_line_is_too_long(table, width):
    heads, rows = table
    text = drawn(heads, rows, width)
    words = [word for row in rows for cell in row for word in cell.split()]
    assert sorted(words) == sorted(word for word in text.split() if not word.isupper())
    assert all(len(line) <= width for line in text.splitlines())


def test_what_fits_stands_side_by_side_and_what_does_not_below():
    heads, rows = (
        ("account", "unit", "expires"),
        [("harrow-dredging", "partners", "2031-04-30"), ("ines", "", "")],
    )
    assert drawn(heads, rows, 40).splitlines()[1].split() == [
        "harrow-dredging",
        "partners",
        "2031-04-30",
    ]
    assert [line.rstrip() for line in drawn(heads, rows, 34).splitlines()] == [
        "harrow-dredging",
        "    unit     partners",
        "    expires  2031-04-30",
        "ines",
    ]


def test_many_rows_are_stacked_only_on_a_terminal_that_is_too_narrow():
    rows = [(f"account-{n}", "shore/chart-desk", "2031-04-30") for n in range(SMALL + 1)]
    heads = ("account", "unit", "expires")
    for terminal, width, lines in (
        (False, 20, SMALL + 2),
        (True, 80, SMALL + 2),
        (True, 34, 3 * (SMALL + 1)),
    ):
        text = drawn(heads, rows, width, terminal)
        assert len(text.splitlines()) == lines
        assert all(word in text for row in rows for word in row)


@pytest.mark.parametrize(
    "command",
    [
        "account list",
        "group list",
        "endpoint list",
        "store list",
        "limits",
        "standing harrow-dredging",
        "access ines",
        "who download /soundings/north-bank",
        "trial list",
        "promise list",
        "quota list",
        "findings",
    ],
)
def test_names_and_days_are_whole_on_sixty_columns(command):
    wide = run(*command.split(), "--model", DEMO, environment={"COLUMNS": "400"}).stdout
    narrow = run(*command.split(), "--model", DEMO, environment={"COLUMNS": "60"}).stdout
    called = set(re.findall(r"[a-z]+(?:[:/-][a-z0-9-]+)+|\d{4}-\d\d-\d\d", wide))
    assert {name for name in called if name not in narrow and len(name) < 50} == set()


@pytest.mark.parametrize("many", [3, SMALL + 1])
def test_a_name_in_brackets_is_a_name(many):
    """Brackets are no way of saying how something is to look: whoever is called so is there, in
    short lists and long ones.
    """
    table = plain_table("account", "unit")
    for number in range(many):
        table.add_row(f"[bold]x{number}", "[/]")
    out = Console(file=io.StringIO(), width=80, markup=False)
    print_table(out, table)
    assert "[bold]x0  " in out.file.getvalue() and "[/]" in out.file.getvalue()


def test_what_is_said_of_a_name_in_brackets_has_them(tmp_path):
    model = tmp_path / "model.yaml"
    model.write_text("drawknife: 1\naccounts: [{name: '[red]x', unit: 'a[b]'}]\nunits: ['a[b]']\n")
    for arguments in (
        ("account", "show", "[red]x"),
        ("account", "list"),
        ("unit", "list"),
        ("handover", "[red]x"),
    ):
        said = run(*arguments, "--model", model)
        assert said.returncode == 0 and ("[red]x" in said.stdout or "a[b]" in said.stdout), (
            arguments,
            said,
        )
