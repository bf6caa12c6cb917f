"""Tables as wide as the terminal is.

A word, and so a name or a day, is never broken: where they have no room beside each other, a row is
a few lines, each with its head.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderResult
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

#: So many rows are printed on a terminal unasked.
READABLE = 2000
#: Tables with more rows are printed without wrapping what is long: it takes long to work out for
#: all of them.
SMALL = 300
GAP = 2


class PlainTable:
    """A table without lines, its head dim.

    A cell that is no text of its own style says what it says, brackets and all.

    Rows are kept as they come: what a terminal makes of them is worked out where they are drawn,
    and not of ten thousand.
    """

    def __init__(self, heads: Sequence[str]) -> None:
        self.heads = heads
        self.rows: list[tuple[object, ...]] = []

    def add_row(self, *cells: object) -> None:
        """Add a row; cells that are left out at its end are empty."""
        self.rows.append(cells)

    def columns(self) -> list[tuple[object, ...]]:
        """The cells, column by column, without the heads."""
        count = len(self.heads)
        return (
            list(zip(*(row + ("",) * (count - len(row)) for row in self.rows), strict=True))
            or [()] * count
        )

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        columns = [list(map(_text, column)) for column in self.columns()]
        widths = _widths(self.heads, columns, options.max_width)
        if widths is None:
            yield from _stacked(self.heads, columns)
            return
        table = Table(box=None, pad_edge=False, padding=(0, GAP, 0, 0), header_style="dim")
        for head, width in zip(self.heads, widths, strict=True):
            table.add_column(head, overflow="fold", width=width)
        for row in zip(*columns, strict=True):
            table.add_row(*row)
        yield table


def plain_table(*heads: str) -> PlainTable:
    """A table with these heads."""
    return PlainTable(heads)


def print_table(out: Console, table: PlainTable) -> None:
    """Print a table; a long one quickly, each cell on one line."""
    if len(table.rows) <= SMALL:
        out.print(table)
        return
    columns = [
        [head, *map(_plain, cells)]
        for head, cells in zip(table.heads, table.columns(), strict=True)
    ]
    lengths = [[len(x) if x.isascii() else cell_len(x) for x in cells] for cells in columns]
    widths = list(map(max, lengths))
    if out.is_terminal and sum(widths) + GAP * (len(widths) - 1) > out.width:
        for line in _stacked(table.heads, [list(map(_text, column)) for column in table.columns()]):
            out.print(line)
        return
    padded = [
        [x + " " * (width - length) for x, length in zip(cells, long, strict=True)]
        for cells, long, width in zip(columns, lengths, widths, strict=True)
    ]
    gap = " " * GAP
    out.file.writelines(gap.join(row).rstrip() + "\n" for row in zip(*padded, strict=True))


def _plain(cell: object) -> str:
    return cell.plain if isinstance(cell, Text) else str(cell)


def _text(cell: object) -> Text:
    return cell if isinstance(cell, Text) else Text(str(cell))


def _widest_word(text: Text) -> int:
    return max(map(cell_len, text.plain.split()), default=0)


def _widest_line(text: Text) -> int:
    return max(map(cell_len, text.plain.split("\n")))


def _widths(heads: Sequence[str], columns: Sequence[Sequence[Text]], room: int) -> list[int] | None:
    """How wide each column is, so that no word is broken; None where that needs more room than
    there is.

    What is left beyond the widest words goes to the columns that need least to be on one line.
    """
    least = [
        max([cell_len(head), *map(_widest_word, cells)])
        for head, cells in zip(heads, columns, strict=True)
    ]
    whole = [max([n, *map(_widest_line, cells)]) for n, cells in zip(least, columns, strict=True)]
    left = room - sum(least) - GAP * (len(least) - 1)
    if left < 0:
        return None
    widths = list(least)
    for rank, i in enumerate(sorted(range(len(widths)), key=lambda i: whole[i] - least[i])):
        more = min(whole[i] - least[i], left // (len(widths) - rank))
        widths[i] += more
        left -= more
    return widths


def _stacked(heads: Sequence[str], columns: Sequence[Sequence[Text]]) -> Iterator[Text | Padding]:
    """Each row as a few lines: what it is called, and then what its other cells say."""
    called = next((i for i, head in enumerate(heads) if head.strip()), 0)
    for row in zip(*columns, strict=True):
        first = Text(" ").join(cell for cell in row[: called + 1] if cell.plain.strip())
        if first.plain:
            yield first
        beside = Table.grid(padding=(0, GAP, 0, 0))
        beside.add_column(no_wrap=True, style="dim")
        beside.add_column(overflow="fold")
        for head, cell in zip(heads[called + 1 :], row[called + 1 :], strict=True):
            if cell.plain.strip():
                beside.add_row(head.strip(), cell)
        yield Padding(beside, (0, 0, 0, 4), expand=False)
