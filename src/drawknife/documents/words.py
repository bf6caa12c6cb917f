"""What a report says, the same in each kind of document."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import islice
from typing import NamedTuple, TypeVar

from drawknife import messages as msg
from drawknife.core.words.sizes import number_of

T = TypeVar("T")
#: What is decided of a row: the key of its field, and the word.
DECISIONS = (("keep", "keep"), ("take-away", "take away"))
#: So many names are written in a line; the rest in lines below it.
NAMES = 40


def batched(items: Iterable[T], most: int) -> Iterator[list[T]]:
    """The items in lists of at most so many."""
    left = iter(items)
    while some := list(islice(left, most)):
        yield some


def heading(found: msg.Report) -> list[str]:
    """What has to be known before one goes through it."""
    lines = [
        f"Report {found.number}, of revision {found.revision}, made {found.made:%Y-%m-%d %H:%M} UTC by {found.made_by}."
    ]
    if found.since is not None and found.since.signed is not None:
        signed = found.since.signed
        new = sum(bool(r.new) for r in found.rows)
        lines.append(
            f"Compared with report {found.since.number} (revision {found.since.revision}), which {signed.by} signed on {signed.at:%Y-%m-%d}: "
            f"{number_of(new, 'row')} with something new, {len(found.gone)} gone."
        )
    elif not found.about.startswith("group:"):
        lines.append("No earlier report about this was signed.")
    if not found.about.startswith("group:"):
        lines.append(
            "Each row lists accounts with the same rights from the same entries. Folders below have the same rights, "
            "unless a row further down says otherwise."
        )
    return [*lines, *found.notes]


class Line(NamedTuple):
    """A line of the table: `row` is None where it goes on with the names of the row above."""

    row: msg.ReportRow | None
    where: str
    who: str
    may: str = ""
    by: str = ""

    @property
    def words(self) -> tuple[str, str, str, str]:
        return self.where, self.who, self.may, self.by


def lines_of(rows: Iterable[msg.ReportRow]) -> Iterator[Line]:
    """Each row with its words: where, who, what they may, and by what. Every name is told, in as many lines as it takes."""
    for row in rows:
        seen = "" if row.location is None else f"\nseen at {row.location}"
        first, *more = _names(row)
        yield Line(row, row.place + seen, first, row.may, "\n".join(row.by))
        for names in more:
            yield Line(None, f"row {row.number}, continued", names)


def _names(row: msg.ReportRow) -> list[str]:
    """Who is in a row, in parts that a cell can hold; with those that are new."""
    parts = [", ".join(some) for some in batched(row.accounts, NAMES)] or ["nobody"]
    if row.new:
        every = len(row.new) == len(row.accounts)
        new = ["new: all"] if every else [f"new: {', '.join(some)}" for some in batched(row.new, NAMES)]
        parts[-1] += f"\n{new[0]}"
        parts += new[1:]
    return parts
