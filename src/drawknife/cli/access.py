"""What accounts can do: access, list, who, map, compare."""

from __future__ import annotations

import json
from itertools import groupby
from typing import Any

import click
from rich.table import Table
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.rights import RIGHTS

from .common import RAW, Answers, asks, console, print_json, read_model_file, tell_notes, write_csv
from .marks import MARKS, MEANINGS, STYLES, access_table, legend, mark, plain_table, tree_labels

ENDPOINT = click.option("--endpoint", metavar="NAME", help="As it is through this endpoint.")
RIGHT = click.Choice(RIGHTS)


@click.command()
@click.argument("account")
@click.argument("location", default="/")
@ENDPOINT
@asks
def access(answers: Answers, account: str, location: str, endpoint: str | None, as_json: bool) -> None:
    """What ACCOUNT can do at every location of its namespace, or at LOCATION and below.

    \b
    Examples:
      drawknife access ines
      drawknife access kittiwake /inbox --endpoint harbour
    """
    found = answers.access(account, location, endpoint)
    if as_json:
        print_json(found)
        return
    out = console()
    through = f" through {found.endpoint}" if found.endpoint else ""
    out.print(Text("What ").append(found.account, "bold").append(f" can do{through}"), "\n")
    labels = tree_labels([row.location for row in found.rows])
    table: list[tuple[str, list[str | None], str]] = [
        (label, list(row.rights.values()), row.place if row.place and row.kind == "virtual path" else "")
        for label, row in zip(labels, found.rows, strict=True)
    ]
    if table:
        access_table(out, table)
    else:
        out.print("  nothing: no virtual path is served to it there\n")
    for closed in found.not_served:
        out.print(Text("  ! ", "yellow").append(f"{closed.path} is not served: {closed.text}", "default"))
    tell_notes(out, found.notes)


@click.command("list")
@click.argument("account")
@click.argument("location", default="/")
@ENDPOINT
@asks
def list_(answers: Answers, account: str, location: str, endpoint: str | None, as_json: bool) -> None:
    """The folders that ACCOUNT sees where it lists LOCATION; what is hidden from it is left out.

    \b
    Example:
      drawknife list harrow-dredging /charts
    """
    found = answers.listing(account, location, endpoint)
    if as_json:
        print_json(found)
    else:
        out = console()
        for f in found.folders:
            behind = f.place or "leads to virtual paths"
            out.print(Text(f"{f.name}/".ljust(28)).append(f"{f.kind:<14}{behind}", "dim"))
        if not found.allowed:
            out.print(Text("refused: ", "red").append(found.text, "default"))
        elif not found.folders:
            out.print("no folders", style="dim")
        tell_notes(out, found.notes)
    raise SystemExit(0 if found.allowed else 1)


@click.command()
@click.argument("right", type=RIGHT, metavar="RIGHT")
@click.argument("place")
@ENDPOINT
@click.option(
    "--but-for",
    type=click.Choice(["endpoint", "virtual path", "folder"]),
    help="Who lacks it only by what this gate refuses.",
)
@asks
def who(answers: Answers, right: str, place: str, endpoint: str | None, but_for: str | None, as_json: bool) -> None:
    """Everybody who has RIGHT at PLACE, and through what.

    PLACE is a virtual location, /soundings, or a store folder, survey:/soundings.

    \b
    Examples:
      drawknife who download /soundings/north-bank
      drawknife who upload survey:/inbox/turnstone
      drawknife who upload survey:/inbox/turnstone --but-for folder
    """
    found = answers.who(right, place, endpoint, but_for)
    if as_json:
        print_json(found)
        return
    out = console()
    if but_for:
        heading = f"Who lacks {right} at {found.at} only by the {but_for} gate"
        lines: list[tuple[str, ...]] = [(a.account, a.location or "-", a.obstacles[0].text) for a in found.almost]
        table = plain_table("account", "location", "what refuses")
        for line in lines:
            table.add_row(*line)
    else:
        heading = f"Who has {right} at {found.at}"
        # At a virtual location all are at the same one; at a folder each may come to it by another.
        many = not found.at.startswith("/")
        table = plain_table("", "account", *(["location"] if many else []), "by", "through")
        for h in found.holders:
            by = "the store is open" if h.place else "leads to virtual paths"
            if h.decided_by:
                by = f"{h.decided_by} on {h.decided_at}"
            steps = [s for s in h.chain[1:] if s.startswith(("group:", "unit:"))]
            table.add_row(mark(h.state), h.account, *([h.location] if many else []), by, " > ".join(steps))
    out.print(heading, style="bold")
    if found.total == 0:
        out.print("  nobody")
        tell_notes(out, found.notes)
        return
    out.print(table)
    if not but_for:
        out.print()
        out.print(legend(h.state for h in found.holders))
    count = len({h.account for h in found.holders} | {a.account for a in found.almost})
    out.print(f"  {count} {'account' if count == 1 else 'accounts'}", style="dim")
    tell_notes(out, found.notes)


@click.command("map")
@click.option("--right", type=RIGHT, help="One right; left out, a word of RFC 3659 letters for all.")
@click.option("--matching", default="", metavar="TEXT", help="Only accounts whose name holds TEXT.")
@click.option("--group", metavar="NAME", help="Only accounts in this group.")
@click.option("--unit", metavar="PATH", help="Only accounts in this unit.")
@click.option("--store", metavar="NAME", help="Only places in this store.")
@click.option("--under", default="/", metavar="LOCATION", help="Only LOCATION and below.")
@click.option("--depth", "deepest", type=click.IntRange(0), metavar="N", help="Only N levels below it.")
@ENDPOINT
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV: a row an account, a column a location.")
@RAW
@click.option("--json-lines", "as_lines", is_flag=True, help="Print JSON lines: one for each cell.")
@asks
def map_(answers: Answers, as_json: bool, as_csv: bool, as_lines: bool, raw: bool, **window: Any) -> None:
    """Accounts by places: a mark for one right, or a word for all of them.

    A word is FOLDER/FILES in the letters of the perm fact (RFC 3659): of the folder c upload,
    d delete, e enter, l list, m make folders, p delete files in it; of its files a append, d delete,
    f rename, r download, w overwrite. In round brackets: only on one's own.

    \b
    Examples:
      drawknife map --right upload
      drawknife map --group boats --under /inbox --csv
    """
    found = _whole_map(answers, window)
    if as_json:
        print_json(found)
    elif as_lines:
        for account, row in zip(found.accounts, found.cells, strict=True):
            for location, cell in zip(found.locations, row, strict=True):
                if cell is not None:
                    click.echo(
                        json.dumps({"account": account, "location": location, "access": cell}, ensure_ascii=False)
                    )
    elif as_csv:
        head = ["account", *found.locations]
        cells = (
            [a, *("" if c is None else c for c in row)] for a, row in zip(found.accounts, found.cells, strict=True)
        )
        write_csv([head, *cells], raw)
    else:
        _draw_map(found)


def _whole_map(answers: Answers, window: dict[str, Any]) -> msg.MapAnswer:
    """The whole of what was chosen; from a service, window by window."""
    if not isinstance(answers, Client):
        from drawknife.answers.map_window import MapWindow

        return answers.map(MapWindow(**window))
    step = 500
    whole = answers.map(**window, account_limit=step, location_limit=step)
    cells = [list(row) for row in whole.cells]
    accounts, locations = list(whole.accounts), list(whole.locations)
    for j in range(step, whole.total_locations, step):
        part = answers.map(**window, account_limit=step, location_limit=step, location_offset=j)
        locations += part.locations
        for row, more in zip(cells, part.cells, strict=True):
            row += more
    for i in range(step, whole.total_accounts, step):
        block: list[list[str | None]] = []
        for j in range(0, whole.total_locations, step):
            part = answers.map(**window, account_limit=step, location_limit=step, account_offset=i, location_offset=j)
            block = (
                [[*a, *b] for a, b in zip(block, part.cells, strict=True)] if block else [list(r) for r in part.cells]
            )
        accounts += part.accounts
        cells += block
    return whole.model_copy(update={"accounts": accounts, "locations": locations, "cells": cells})


def _draw_map(found: msg.MapAnswer) -> None:
    """Locations down, accounts across, as many as the terminal is wide; then the next ones below."""
    out = console()
    labels = tree_labels(found.locations)
    label_width = min(max(map(len, labels), default=0), 32) + 2
    what = f"who can {found.right}" if found.right else "access as FOLDER/FILES in letters of RFC 3659"
    out.print(Text("Accounts by places: ").append(what, "bold"), "\n")
    width = 3 if found.right else max((len(c or "") for row in found.cells for c in row), default=1) + 2
    room = max((out.width - label_width - 14) // width, 1)
    for start in range(0, len(found.accounts), room):
        some = range(start, min(start + room, len(found.accounts)))
        for n, i in enumerate(some):
            line = Text(" " * label_width)
            for _ in range(n):
                line.append("│".ljust(width), "dim")
            out.print(line.append(found.accounts[i]), no_wrap=True, overflow="crop")
        for j, label in enumerate(labels):
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
        out.print("  folder: c upload, d delete, e enter, l list, m make folders, p delete files", style="dim")
        out.print("  files: a append, d delete, f rename, r download, w overwrite; (own only)   - nothing", style="dim")
    tell_notes(out, found.notes)


@click.command()
@click.argument("one")
@click.argument("other", required=False)
@click.option("--with-model", "other_model", metavar="FILE", help="Compare ONE in force with ONE in this model file.")
@click.option("--under", default="/", metavar="LOCATION", help="Only LOCATION and below.")
@ENDPOINT
@asks
def compare(
    answers: Answers,
    one: str,
    other: str | None,
    other_model: str | None,
    under: str,
    endpoint: str | None,
    as_json: bool,
) -> None:
    """Where two accounts differ, or one account here and in another model, with the reason on each side.

    Exit status 0 if they do not differ, 1 if they do.

    \b
    Examples:
      drawknife compare ines yuki
      drawknife compare turnstone --with-model mended.yaml
    """
    if (other is None) == (other_model is None):
        raise click.UsageError("name a second account, or a model file with --with-model")
    if other is not None:
        found = answers.compare(one, other, under, endpoint)
    else:
        raw = read_model_file(str(other_model)).decode("utf-8", "replace")
        if isinstance(answers, Client):
            found = answers.compare_model(one, raw, under, endpoint)
        else:
            from drawknife.core.prepared.prepared import prepare
            from drawknife.formats.model_file import read_model

            found = answers.compare(one, one, under, endpoint, other_model=prepare(read_model(raw)))
    if as_json:
        print_json(found)
    else:
        _draw_differences(found, (one, other) if other else (f"{one} here", f"{one} in {other_model}"))
    raise SystemExit(1 if found.total else 0)


def _draw_differences(found: msg.CompareAnswer, names: tuple[str, str]) -> None:
    out = console()
    if not found.total:
        out.print(f"{names[0]} and {names[1]} do not differ.")
        tell_notes(out, found.notes)
        return
    out.print(Text().append(names[0], "bold").append(" and ").append(names[1], "bold"))
    for location, group in groupby(found.differences, key=lambda d: d.location):
        out.print(f"\n{location}", style="bold")
        for (a, b, why_a, why_b), same in groupby(group, key=lambda d: (d.one, d.other, _why(d, 0), _why(d, 1))):
            out.print("  " + ", ".join(d.right for d in same))
            grid = Table.grid(padding=(0, 1), pad_edge=True)
            for name, state, why in ((names[0], a, why_a), (names[1], b, why_b)):
                shown = Text(f"{MARKS[state]} {state}" if state else "  not there", STYLES.get(state or "no", "dim"))
                grid.add_row("  ", name, shown, Text(why, "dim"))
            out.print(grid)
    used = {s for d in found.differences for s in (d.one, d.other) if s} - {"yes", "no"}
    if used:
        out.print("\n  " + "    ".join(f"{MARKS[s]} {MEANINGS[s]}" for s in sorted(used)), style="dim")
    out.print(f"\n  {found.total} differences", style="dim")
    tell_notes(out, found.notes)


def _why(d: msg.DifferenceMessage, side: int) -> str:
    """The reason on one side, without the right in it, so that like reasons fall together."""
    text = d.why_other if side else d.why_one
    return text.replace(f" {d.right}`", " …`").replace(f"may not {d.right} in", "may not, in")


def add_to(group: click.Group) -> None:
    for command in (access, list_, who, map_, compare):
        group.add_command(command)
