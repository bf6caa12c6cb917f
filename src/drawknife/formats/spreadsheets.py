"""Cells of CSV as spreadsheets take them: one that begins like a formula is made plain text by an
apostrophe.
"""

from __future__ import annotations

from typing import Any

#: What a formula begins with, for one spreadsheet or another.
BEGINNINGS = ("=", "+", "-", "@", "\t", "\r")


def guarded(cell: Any) -> Any:
    """A cell that no spreadsheet computes. Numbers stay what they are."""
    return f"'{cell}" if isinstance(cell, str) and cell.startswith(BEGINNINGS) else cell


def unguarded(cell: str) -> str:
    """The cell as it was before :func:`guarded`."""
    return cell[1:] if cell.startswith("'") and cell[1:].startswith(BEGINNINGS) else cell


def delimiter_of(head: str) -> str:
    """What stands between the columns of a CSV file by its first line: a semicolon or tab, as some
    spreadsheets write, or a comma.
    """
    return next((mark for mark in (";", "\t") if mark in head and "," not in head), ",")
