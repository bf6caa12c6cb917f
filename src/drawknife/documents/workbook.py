"""A report as a workbook (ISO/IEC 29500): what is decided is chosen in a column."""

from __future__ import annotations

from io import BytesIO
from math import ceil

import xlsxwriter

from drawknife import messages as msg

from .words import DECISIONS, heading, lines_of

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
    book = xlsxwriter.Workbook(out, {"in_memory": True, "strings_to_formulas": False, "strings_to_urls": False})
    book.set_properties({"title": found.title, "comments": f"report {found.number}"})
    head = book.add_format({"bold": True, "bottom": 1, "valign": "top"})
    cell = {"text_wrap": True, "valign": "top", "align": "left", "bottom": 1, "bottom_color": "#dddbd4"}
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
    choice = {"validate": "list", "source": [word for _, word in DECISIONS], "error_message": "keep, or take away"}
    last = 0
    for last, line in enumerate(lines_of(found.rows), 1):
        at, row = last, line.row
        rows.set_row(at, min(MOST_HIGH, LINE * max(map(_lines, line.words, WIDTHS[1:]))))
        if row is not None:
            rows.write_number(at, 0, row.number, text)
        for column, said in enumerate(line.words, 1):
            rows.write_string(at, column, said, text)
        if row is not None and row.to_decide:
            rows.write_blank(at, 5, None, open_)
            rows.write_blank(at, 6, None, open_)
            rows.data_validation(at, 5, at, 5, choice)
    rows.autofilter(0, 0, last, len(HEADS) - 1)
    about = book.add_worksheet(ABOUT)
    about.set_column(0, 0, 14)
    about.set_column(1, 1, 110)
    lines = [("report", str(found.number)), ("title", found.title), *(("", line) for line in heading(found))]
    lines += [("gone since", line) for line in found.gone]
    for at, (key, said) in enumerate(lines):
        about.write_string(at, 0, key, head)
        about.write_string(at, 1, said, text)
    book.close()
    return out.getvalue()


def _lines(said: str, width: int) -> int:
    """So many lines a text takes in a column: programs do not all work that out by themselves."""
    return sum(max(1, ceil(len(line) * 1.1 / width)) for line in said.split("\n"))
