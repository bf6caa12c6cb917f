"""What a report says, the same in each kind of document."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from itertools import islice
from typing import NamedTuple, TypeVar

from drawknife import messages as msg
from drawknife.core.words.errors import BadInput
from drawknife.core.words.plain import hidden_in
from drawknife.core.words.sizes import number_of

T = TypeVar("T")
#: The decisions on a row: their codes in the API, and their labels.
DECISIONS = {"keep": "keep", "take away": "remove"}
#: So many people stand in their row, with a line each; more of them are in a list.
FEW = 12
#: So many names of a list are written in one paragraph.
NAMES = 40


def batched(items: Iterable[T], most: int) -> Iterator[list[T]]:
    """The items in lists of at most so many."""
    left = iter(items)
    while some := list(islice(left, most)):
        yield some


def heading(found: msg.Report) -> list[str]:
    """What has to be known before one goes through it."""
    lines = [
        f"Report {found.number}, of revision {found.revision}, made {found.made:%Y-%m-%d %H:%M} UTC"
        f" by {found.made_by}."
    ]
    if found.since is not None and found.since.signed is not None:
        signed = found.since.signed
        new = sum(bool(r.new) for r in found.rows)
        lines.append(
            f"Compared with report {found.since.number} (revision {found.since.revision}), which"
            f" {signed.by} signed on {signed.at:%Y-%m-%d}: {number_of(new, 'row')} with something"
            f" new, {len(found.gone)} gone."
        )
    elif not found.about.startswith("group:"):
        lines.append("No earlier report about this was signed.")
    if not found.about.startswith("group:"):
        lines.append(
            "Each row lists accounts with the same rights from the same entries. Folders below have"
            " the same rights, unless a row further down says otherwise."
        )
    if found.signed is not None:
        lines.append(signature(found.signed))
    return [*lines, *found.notes]


def check_decided(decided: Iterable[msg.Decided]) -> None:
    """:class:`BadInput` where a row is decided twice, or a remark has a control character."""
    rows: set[int] = set()
    for d in decided:
        hidden = hidden_in(d.remark or "", lines=True)
        if hidden is not None:
            raise BadInput(
                "document", f"the remark of row {d.row} holds the character {hidden}", "plain text"
            )
        if d.row in rows:
            raise BadInput("document", f"row {d.row} has two decisions", "one of them")
        rows.add(d.row)


def said_of(found: msg.Report) -> dict[int, msg.Decided]:
    """What was decided, by row; empty while the report is not signed."""
    return {d.row: d for d in found.decided} if found.signed is not None else {}


def decision(decided: msg.Decided | None) -> str:
    """The decision of one row in a signed report."""
    return "no decision" if decided is None else DECISIONS[decided.decision]


def signature(signed: msg.Signed) -> str:
    """Who signed, when, and how."""
    through = (
        "" if signed.sent_by is None else f", through a link that {signed.sent_by} sent by mail"
    )
    return f"Signed by {signed.by} on {signed.at:%Y-%m-%d %H:%M} UTC{through}."


def lists_of(found: msg.Report) -> list[tuple[str, list[str]]]:
    """What is told beside the rows, under headings."""
    lists = [
        ("Removed since the last signed report", found.gone),
        ("To be removed by the last signed report, but still present", found.not_removed),
    ]
    return [(heading, lines) for heading, lines in lists if lines]


PEOPLE = ("name", "display name", "last sign-in")


def people_of(found: msg.Report) -> list[tuple[str, str, str]]:
    """Everybody in the report, in the columns of `PEOPLE`."""
    return [
        (p.name, p.display or "", "" if p.last_sign_in is None else f"{p.last_sign_in:%Y-%m-%d}")
        for p in found.people
    ]


class Line(NamedTuple):
    """A row of the table, in words."""

    row: msg.ReportRow
    where: str
    who: str
    may: str
    by: str

    @property
    def words(self) -> tuple[str, str, str, str]:
        return self.where, self.who, self.may, self.by


class NameList(NamedTuple):
    """People who stand together in some rows, too many for a cell.

    They are listed once, and the rows refer to it.
    """

    called: str
    names: tuple[str, ...]
    rows: tuple[int, ...]

    @property
    def heading(self) -> str:
        """What it is called, how many are in it, and where it is referred to."""
        where = "row" if len(self.rows) == 1 else "rows"
        return (
            f"{self.called}: {number_of(len(self.names), 'name')}, {where}"
            f" {', '.join(map(str, self.rows))}"
        )


def name_lists(found: msg.Report) -> list[NameList]:
    """The lists that rows refer to, each set of people once, in the order of the rows."""
    rows: dict[tuple[str, ...], dict[int, None]] = {}
    for row in found.rows:
        for names in (tuple(row.accounts), tuple(row.new)):
            if len(names) > FEW:
                rows.setdefault(names, {})[row.number] = None
    return [
        NameList(f"List {n}", names, tuple(of)) for n, (names, of) in enumerate(rows.items(), 1)
    ]


def lines_of(found: msg.Report) -> Iterator[Line]:
    """Each row with its words: where, who, what they may, and by what.

    Every name is told, there or in a list.
    """
    display = {p.name: p.display for p in found.people if p.display}
    lists = {x.names: x.called for x in name_lists(found)}
    for row in found.rows:
        seen = "" if row.location is None else f"\nseen at {row.location}"
        yield Line(row, row.place + seen, _who(row, display, lists), row.may, "\n".join(row.by))


def _who(
    row: msg.ReportRow, display: Mapping[str, str], lists: Mapping[tuple[str, ...], str]
) -> str:
    """Who is in a row: a few people have a line each, with their display names; of more it says
    which list has them.
    """
    if not row.accounts:
        return "nobody"
    new = set(row.new)
    if len(row.accounts) <= FEW:
        return "\n".join(
            name
            + (f" ({display[name]})" if name in display else "")
            + (", new" if name in new else "")
            for name in row.accounts
        )
    said = f"{len(row.accounts):,} people: {lists[tuple(row.accounts)]}"
    if len(new) == len(row.accounts):
        return f"{said}\nall of them are new"
    if len(new) > FEW:
        return f"{said}\nnew: {len(new):,} of them, {lists[tuple(row.new)]}"
    return said + (f"\nnew: {', '.join(row.new)}" if new else "")
