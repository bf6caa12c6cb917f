"""A report as a workbook (ISO/IEC 29500): what is decided is chosen in a column."""

from __future__ import annotations

from io import BytesIO
from math import ceil

import xlsxwriter

from drawknife import messages as msg

from .words import (
    DECISIONS,
    PEOPLE,
    decision,
    heading,
    lines_of,
    lists_of,
    name_lists,
    people_of,
    said_of,
)

#: The heads of the columns; the last two are filled in.
HEADS = ("row", "where", "who", "may", "by", "decision", "remark")
#: How wide the columns are, in characters; how high a line is, in points.
WIDTHS, LINE = (6, 28, 34, 44, 44, 12, 26), 15
#: No row of a sheet is higher.
MOST_HIGH = 409
ABOUT = "about"


def report(found: msg.Report) -> bytes:
    """A report to be gone through: a sheet with the rows, and one that says what it is about."""
    out = BytesIO()
    book = xlsxwriter.Workbook(
        out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False}
    )
    book.set_properties({"title": found.title, "comments": f"report {found.number}"})
    head = book.add_format({"bold": True, "bottom": 1, "valign": "top"})
    cell = {
        "text_wrap": True,
        "valign": "top",
        "align": "left",
        "bottom": 1,
        "bottom_color": "#dddbd4",
    }
    text = book.add_format(cell)
    open_ = book.add_format({**cell, "bg_color": "#fff7d6", "locked": False})
    rows = book.add_worksheet("rows")
    for column, (word, width) in enumerate(zip(HEADS, WIDTHS, strict=True)):
        rows.write_string(0, column, word, head)
        rows.set_column(column, column, width)
    rows.freeze_panes(1, 0)
    rows.set_landscape()
    rows.set_paper(9)  # A4
    rows.fit_to_pages(1, 0)
    rows.repeat_rows(0)
    choice = {
        "validate": "list",
        "source": list(DECISIONS.values()),
        "error_message": "keep or remove",
    }
    said = said_of(found)
    last = 0
    for last, line in enumerate(lines_of(found), 1):
        at, row = last, line.row
        rows.set_row(at, min(MOST_HIGH, LINE * max(map(_lines, line.words, WIDTHS[1:]))))
        rows.write_number(at, 0, row.number, text)
        for column, words in enumerate(line.words, 1):
            rows.write_string(at, column, words, text)
        if row.to_decide and found.signed is not None:
            decided = said.get(row.number)
            rows.write_string(at, 5, decision(decided), text)
            rows.write_string(at, 6, (decided.remark if decided else None) or "", text)
        elif row.to_decide:
            rows.write_blank(at, 5, None, open_)
            rows.write_blank(at, 6, None, open_)
            rows.data_validation(at, 5, at, 5, choice)
    rows.autofilter(0, 0, last, len(HEADS) - 1)
    about = book.add_worksheet(ABOUT)
    about.set_column(0, 0, 14)
    about.set_column(1, 1, 110)
    lines = [
        ("report", str(found.number)),
        ("title", found.title),
        *(("", line) for line in heading(found)),
    ]
    lines += [
        (head if not at else "", line)
        for head, some in lists_of(found)
        for at, line in enumerate(some)
    ]
    for at, (key, line_said) in enumerate(lines):
        about.write_string(at, 0, key, head)
        about.write_string(at, 1, line_said, text)
    if lists := name_lists(found):
        sheet = book.add_worksheet("lists")
        for column, names in enumerate(lists):
            sheet.write_string(0, column, names.heading, head)
            sheet.write_column(1, column, names.names, text)
        sheet.set_column(0, len(lists) - 1, 28)
        sheet.freeze_panes(1, 0)
    if found.people:
        people = book.add_worksheet("people")
        people.set_column(0, 2, 30)
        people.freeze_panes(1, 0)
        for at, person in enumerate((PEOPLE, *people_of(found))):
            for column, words in enumerate(person):
                people.write_string(at, column, words, head if at == 0 else text)
    book.close()
    return out.getvalue()


def _lines(said: str, width: int) -> int:
    """So many lines a text takes in a column: programs do not all work that out by themselves."""
    return sum(max(1, ceil(len(line) * 1.1 / width)) for line in said.split("\n"))
