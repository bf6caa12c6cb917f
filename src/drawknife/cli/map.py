"""The map: accounts by places."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import click
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.names import parent
from drawknife.core.words.sizes import number_of

from .access import ENDPOINT, RIGHT
from .common import (
    RAW,
    WITHOUT_DISK,
    Answers,
    asks,
    console,
    counting,
    print_json,
    print_text,
    tell_notes,
    write_csv,
)
from .marks import legend, mark, tree_labels

#: So many cells of the map are printed unasked; and so many are asked for at once.
READABLE_CELLS, AT_ONCE = 200_000, 2_000_000


@click.command("map")
@click.option(
    "--right", type=RIGHT, help="One right; left out, a word of RFC 3659 letters for all."
)
@click.option("--matching", default="", metavar="TEXT", help="Only accounts whose name holds TEXT.")
@click.option("--group", metavar="NAME", help="Only accounts in this group.")
@click.option("--unit", metavar="PATH", help="Only accounts in this unit.")
@click.option("--store", metavar="NAME", help="Only places in this store.")
@click.option("--under", default="/", metavar="LOCATION", help="Only LOCATION and below.")
@click.option(
    "--depth", "deepest", type=click.IntRange(0), metavar="N", help="Only N levels below it."
)
@ENDPOINT
@click.option(
    "--csv", "as_csv", is_flag=True, help="Print CSV: a row an account, a column a location."
)
@RAW
@click.option("--json-lines", "as_lines", is_flag=True, help="Print JSON lines: one for each cell.")
@click.option("--all", "unfolded", is_flag=True, help="Print every place, and however much it is.")
@WITHOUT_DISK
@asks
def map_(
    answers: Answers,
    as_json: bool,
    as_csv: bool,
    as_lines: bool,
    raw: bool,
    unfolded: bool,
    **window: Any,
) -> None:
    """Accounts by places: a mark for one right, or a word for all of them.

    A place that is for everybody shown as the one above it is only counted there.

    A word is FOLDER/FILES in the letters of the perm fact (RFC 3659): of the folder c upload,
    d delete, e enter, l list, m make folders, p delete files in it; of its files a append, d
    delete, f rename, r download, w overwrite. In round brackets: only on one's own.

    \b
    Examples:
      drawknife map --right upload
      drawknife map --group boats --under /inbox --csv
    """
    if as_json:
        print_json(_whole_map(answers, window))
    elif as_lines:
        for block in _map_blocks(answers, window):
            for account, row in zip(block.accounts, block.cells, strict=True):
                for location, cell in zip(block.locations, row, strict=True):
                    if cell is not None:
                        line = {"account": account, "location": location, "access": cell}
                        print_text(json.dumps(line, ensure_ascii=False))
    elif as_csv:
        for i, block in enumerate(_map_blocks(answers, window)):
            head = [["account", *block.locations]] if i == 0 else []
            cells = zip(block.accounts, block.cells, strict=True)
            write_csv(
                [*head, *([a, *("" if c is None else c for c in row)] for a, row in cells)], raw
            )
    else:
        accounts, locations = _map_sizes(answers, window)
        if accounts * locations > READABLE_CELLS and not unfolded:
            print_text(
                f"{number_of(accounts, 'account')} by {number_of(locations, 'location')}: more than"
                " one reads. Narrow it with --group, --unit, --matching, --store, --under or"
                " --depth; --csv and --json-lines tell all of it, and --all prints it."
            )
            return
        _draw_map(_whole_map(answers, window), unfolded)


def _map_sizes(answers: Answers, window: dict[str, Any]) -> tuple[int, int]:
    """How many accounts and locations were chosen."""
    some = _window(answers, window, 0, 1, 0, 1)
    return some.total_accounts, some.total_locations


def _window(
    answers: Answers,
    window: dict[str, Any],
    account: int,
    accounts: int,
    location: int,
    locations: int,
) -> msg.MapAnswer:
    part: dict[str, Any] = {
        "account_offset": account,
        "account_limit": accounts,
        "location_offset": location,
        "location_limit": locations,
    }
    if isinstance(answers, Client):
        return answers.map(**window, **part)
    from drawknife.answers.map_window import MapWindow

    return answers.map(MapWindow(**window, **part))


def _map_blocks(answers: Answers, window: dict[str, Any]) -> Iterator[msg.MapAnswer]:
    """The map that was chosen, some accounts at a time with all their locations, so that it never
    has to be held whole.
    """
    accounts, locations = _map_sizes(answers, window)
    wide = min(max(locations, 1), AT_ONCE)
    step = max(AT_ONCE // wide, 1)
    with counting("the map") as tell:
        for i in range(0, max(accounts, 1), step):
            block = _window(answers, window, i, step, 0, wide)
            for j in range(wide, locations, wide):
                more = _window(answers, window, i, step, j, wide)
                rows = [[*a, *b] for a, b in zip(block.cells, more.cells, strict=True)]
                block = block.model_copy(
                    update={"locations": [*block.locations, *more.locations], "cells": rows}
                )
            yield block
            tell(f"the map: {min(i + step, accounts):,} of {accounts:,} accounts")


def _whole_map(answers: Answers, window: dict[str, Any]) -> msg.MapAnswer:
    """The whole of what was chosen."""
    whole: msg.MapAnswer | None = None
    for block in _map_blocks(answers, window):
        if whole is None:
            whole = block
        else:
            both = {
                "accounts": [*whole.accounts, *block.accounts],
                "cells": [*whole.cells, *block.cells],
            }
            whole = whole.model_copy(update=both)
    assert whole is not None
    return whole


def _folded_columns(found: msg.MapAnswer) -> dict[int, int]:
    """The locations that are worth a row, by position, each with how many below it are the same for
    all accounts in view.
    """
    places = {location: j for j, location in enumerate(found.locations)}
    columns = list(zip(*found.cells, strict=True)) if found.cells else [()] * len(found.locations)
    shown_at: dict[int, int] = {}
    below: dict[int, int] = {}
    for j, location in enumerate(found.locations):
        at = location
        above = None
        while at != "/" and above is None:
            at = parent(at)
            above = places.get(at)
        if above is not None and columns[above] == columns[j]:
            shown_at[j] = shown_at[above]
            below[shown_at[j]] += 1
        else:
            shown_at[j] = j
            below[j] = 0
    return below


def _draw_map(found: msg.MapAnswer, unfolded: bool) -> None:
    """Locations down, accounts across, as many as the terminal is wide; then the next
    ones below.
    """
    out = console()
    below = dict.fromkeys(range(len(found.locations)), 0) if unfolded else _folded_columns(found)
    labels = tree_labels([found.locations[j] for j in below])
    labels = [
        label + (f"  … {n:,} below" if n else "")
        for label, n in zip(labels, below.values(), strict=True)
    ]
    label_width = min(max(map(len, labels), default=0), 36) + 2
    what = (
        f"who can {found.right}" if found.right else "access as FOLDER/FILES in letters of RFC 3659"
    )
    out.print(Text("Accounts by places: ").append(what, "bold"), "\n")
    width = (
        3 if found.right else max((len(c or "") for row in found.cells for c in row), default=1) + 2
    )
    room = max((out.width - label_width - 14) // width, 1)
    for start in range(0, len(found.accounts), room):
        some = range(start, min(start + room, len(found.accounts)))
        for n, i in enumerate(some):
            line = Text(" " * label_width)
            for _ in range(n):
                line.append("│".ljust(width), "dim")
            out.print(line.append(found.accounts[i]), no_wrap=True, overflow="crop")
        for j, label in zip(below, labels, strict=True):
            shown = label if len(label) < label_width else label[: label_width - 2] + "…"
            line = Text(shown.ljust(label_width))
            for i in some:
                cell = found.cells[i][j]
                if found.right:
                    line.append_text(mark(cell)).append("  ")
                else:
                    line.append((cell or "").ljust(width), "dim" if cell == "-" else "default")
            out.print(line, no_wrap=True, overflow="crop")
        out.print()
    if found.right:
        used = {c for row in found.cells for c in row if c}
        out.print(legend(used).append("blank: no such location", "dim"))
    else:
        out.print(
            "  folder: c upload, d delete, e enter, l list, m make folders, p delete files",
            style="dim",
        )
        out.print(
            "  files: a append, d delete, f rename, r download, w overwrite; (own only)   -"
            " nothing",
            style="dim",
        )
    tell_notes(out, found.notes)


def add_to(group: click.Group) -> None:
    group.add_command(map_)
