"""What accounts can do: access, list, who, map, compare."""

from __future__ import annotations

from itertools import groupby

import click
from rich.table import Table
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.actions import GATES
from drawknife.core.words.rights import RIGHTS
from drawknife.core.words.sizes import number_of

from .columns import READABLE, plain_table, print_table
from .common import (
    WITHOUT_DISK,
    Answers,
    as_rows,
    asks,
    console,
    print_json,
    print_rows,
    read_model_file,
    tell_notes,
)
from .marks import MARKS, MEANINGS, STYLES, access_table, legend, mark, tree_labels

ENDPOINT = click.option("--endpoint", metavar="NAME", help="As it is through this endpoint.")
RIGHT = click.Choice(RIGHTS)


@click.command()
@click.argument("account")
@click.argument("location", default="/")
@ENDPOINT
@click.option(
    "--all",
    "unfolded",
    is_flag=True,
    help="List every location, also where it is as the one above.",
)
@click.option(
    "--depth", type=click.IntRange(0), metavar="N", help="So many levels below LOCATION at most."
)
@as_rows
@WITHOUT_DISK
@asks
def access(
    *,
    answers: Answers,
    account: str,
    location: str,
    endpoint: str | None,
    unfolded: bool,
    depth: int | None,
    rows_as: str | None,
    raw: bool,
    as_json: bool,
) -> None:
    """What ACCOUNT can do at every location of its namespace, or at LOCATION and below.

    A location that is as the one above it is only counted there, if it is no virtual path; JSON,
    JSON lines and CSV have them all.

    \b
    Examples:
      drawknife access ines
      drawknife access kittiwake /inbox --endpoint harbour
      drawknife access yuki --csv > yuki.csv
    """
    if rows_as is not None:
        print_rows(answers.access_rows(account, location, endpoint), rows_as, raw)
        return
    found = answers.access(
        account, location, endpoint, folded=not (unfolded or as_json), deepest=depth
    )
    if as_json:
        print_json(found)
        return
    out = console()
    through = f" through {found.endpoint}" if found.endpoint else ""
    out.print(Text("What ").append(found.account, "bold").append(f" can do{through}"), "\n")
    labels = tree_labels([row.location for row in found.rows])
    table: list[tuple[str, list[str | None], str]] = []
    for label, row in zip(labels, found.rows, strict=True):
        behind = row.place if row.place and row.kind == "virtual path" else ""
        more = f"… {number_of(row.below, 'folder')} below, the same" if row.below else ""
        table.append((label, list(row.rights.values()), ", ".join(filter(None, (behind, more)))))
    if len(table) > READABLE and not unfolded and out.is_terminal:
        out.print(
            f"  {len(table):,} locations: more than one reads. Narrow it by a location or --depth;"
            " --all prints them.\n"
        )
    elif table:
        access_table(out, table)
    else:
        out.print("  nothing: no virtual path is served to it there\n")
    for closed in found.not_served:
        out.print(
            Text("  ! ", "yellow").append(f"{closed.path} is not served: {closed.text}", "default")
        )
    tell_notes(out, found.notes)


@click.command()
@click.argument("text")
@click.option(
    "--most",
    type=click.IntRange(1, 1000),
    default=20,
    show_default=True,
    help="Tell so many at most.",
)
@asks
def find(answers: Answers, text: str, most: int, as_json: bool) -> None:
    """What has TEXT in its name: accounts, groups, units, stores, folders, virtual paths,
    endpoints, promises, trials.

    \b
    Example:
      drawknife find shoal
    """
    found = answers.find(text, most)
    if as_json:
        print_json(found)
        return
    out = console()
    for x in found.found:
        out.print(
            Text(f"{x.kind.replace('-', ' '):<13}", "dim")
            .append(x.name, "default")
            .append(f"   {x.also}", "dim")
        )
    if found.total > len(found.found):
        out.print(
            f"and {found.total - len(found.found):,} more: --most tells more, and a longer text"
            " fewer",
            style="dim",
        )
    if not found.total:
        out.print("Nothing has that in its name.", style="dim")


@click.command("list")
@click.argument("account")
@click.argument("location", default="/")
@ENDPOINT
@WITHOUT_DISK
@asks
def list_(
    answers: Answers, account: str, location: str, endpoint: str | None, as_json: bool
) -> None:
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
    "--but-for", type=click.Choice(GATES[2:6]), help="Who lacks it only by what this gate refuses."
)
@WITHOUT_DISK
@asks
def who(
    answers: Answers,
    right: str,
    place: str,
    endpoint: str | None,
    but_for: str | None,
    as_json: bool,
) -> None:
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
        lines: list[tuple[str, ...]] = [
            (a.account, a.location or "-", a.obstacles[0].text) for a in found.almost
        ]
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
            table.add_row(
                mark(h.state), h.account, *([h.location] if many else []), by, " > ".join(steps)
            )
    out.print(heading, style="bold")
    if found.total == 0:
        out.print("  nobody")
        tell_notes(out, found.notes)
        return
    print_table(out, table)
    if not but_for:
        out.print()
        out.print(legend(h.state for h in found.holders))
    count = len({h.account for h in found.holders} | {a.account for a in found.almost})
    out.print(f"  {count} {'account' if count == 1 else 'accounts'}", style="dim")
    tell_notes(out, found.notes)


@click.command()
@click.argument("one")
@click.argument("other", required=False)
@click.option(
    "--with-model",
    "other_model",
    metavar="FILE",
    help="Compare ONE in force with ONE in this model file.",
)
@click.option("--under", default="/", metavar="LOCATION", help="Only LOCATION and below.")
@click.option(
    "--all",
    "unfolded",
    is_flag=True,
    help="List every location, also where they differ as in the one above.",
)
@ENDPOINT
@as_rows
@WITHOUT_DISK
@asks
def compare(
    *,
    answers: Answers,
    one: str,
    other: str | None,
    other_model: str | None,
    under: str,
    unfolded: bool,
    endpoint: str | None,
    rows_as: str | None,
    raw: bool,
    as_json: bool,
) -> None:
    """Where two accounts differ, or one account here and in another model, with the reason on each
    side.

    Exit status 0 if they do not differ, 1 if they do.

    \b
    Examples:
      drawknife compare ines yuki
      drawknife compare turnstone --with-model mended.yaml
    """
    if (other is None) == (other_model is None):
        raise click.UsageError("name a second account, or a model file with --with-model")
    if rows_as is not None:
        if other is None:
            raise click.UsageError("--csv and --json-lines are for two accounts of one model")
        raise SystemExit(
            1 if print_rows(answers.compare_rows(one, other, under, endpoint), rows_as, raw) else 0
        )
    if other is not None:
        found = answers.compare(one, other, under, endpoint, folded=not (unfolded or as_json))
    else:
        text = read_model_file(str(other_model)).decode("utf-8", "replace")
        if isinstance(answers, Client):
            found = answers.compare_model(one, text, under, endpoint)
        else:
            from drawknife.core.prepared.prepared import prepare
            from drawknife.formats.model_file import read_model

            found = answers.compare(
                one, one, under, endpoint, other_model=prepare(read_model(text))
            )
    if as_json:
        print_json(found)
    else:
        _draw_differences(
            found, (one, other) if other else (f"{one} here", f"{one} in {other_model}")
        )
    raise SystemExit(1 if found.total else 0)


def _draw_differences(found: msg.CompareAnswer, names: tuple[str, str]) -> None:
    out = console()
    if not found.total:
        out.print(f"{names[0]} and {names[1]} do not differ.")
        tell_notes(out, found.notes)
        return
    out.print(Text().append(names[0], "bold").append(" and ").append(names[1], "bold"))
    for location, group in groupby(found.differences, key=lambda d: d.location):
        some = list(group)
        below = f"   … {number_of(some[0].below, 'folder')} below, alike" if some[0].below else ""
        out.print(Text(f"\n{location}", "bold").append(below, "not bold dim"))
        for (a, b, why_a, why_b), same in groupby(
            some, key=lambda d: (d.one, d.other, _why(d, 0), _why(d, 1))
        ):
            out.print("  " + ", ".join(d.right for d in same))
            grid = Table.grid(padding=(0, 1), pad_edge=True)
            for name, state, why in ((names[0], a, why_a), (names[1], b, why_b)):
                shown = Text(
                    f"{MARKS[state]} {state}" if state else "  not there",
                    STYLES.get(state or "no", "dim"),
                )
                grid.add_row("  ", name, shown, Text(why, "dim"))
            out.print(grid)
    used = {s for d in found.differences for s in (d.one, d.other) if s} - {"yes", "no"}
    if used:
        out.print(
            "\n  " + "    ".join(f"{MARKS[s]} {MEANINGS[s]}" for s in sorted(used)), style="dim"
        )
    out.print(f"\n  {found.total} differences", style="dim")
    tell_notes(out, found.notes)


def _why(d: msg.DifferenceMessage, side: int) -> str:
    """The reason on one side, without the right in it, so that like reasons fall together."""
    text = d.why_other if side else d.why_one
    return text.replace(f" {d.right}`", " …`").replace(f"may not {d.right} in", "may not, in")


def add_to(group: click.Group) -> None:
    for command in (access, find, list_, who, compare):
        group.add_command(command)
