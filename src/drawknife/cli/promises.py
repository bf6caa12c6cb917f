"""Promises: sentences about everybody, and whether they are kept."""

from __future__ import annotations

import click
from rich.padding import Padding
from rich.text import Text

from .common import NOT_SO, Answers, asks, console, print_json
from .items import add_command, change_command, remove_command, rename_command, show_command


@click.group()
def promise() -> None:
    """Promises about everybody: list, show, add, change, rename, remove."""


@promise.command("list")
@click.option("--fail", "failing", is_flag=True, help="Exit status 1 if one is broken.")
@asks
def list_promises(answers: Answers, failing: bool, as_json: bool) -> None:
    """List the promises, whether each is kept, and who breaks it, where, and by which line.

    \b
    Example:
      drawknife promise list
    """
    found = answers.promises()
    if as_json:
        print_json(found)
    else:
        out = console()
        for p in found.promises:
            sign = Text().append("✗ ", "red") if p.broken else Text().append("● ", "green")
            out.print(sign.append(p.name, "bold").append(f"   {p.kept}", "dim"))
            out.print(Padding(Text(p.says), (0, 0, 0, 4), expand=False))
            for b in p.breaches:
                line = (
                    Text().append(b.account, "bold").append(f" at {b.where}: {b.line}", "default")
                )
                out.print(Padding(line, (0, 0, 0, 4), expand=False))
            if p.accounts > len(p.breaches):
                out.print(f"    and {p.accounts - len(p.breaches)} more", style="dim")
        if not found.promises:
            out.print("There are no promises yet.", style="dim")
    raise SystemExit(NOT_SO if failing and any(p.broken for p in found.promises) else 0)


show_command(promise, "promise", "NAME", "Show one promise.", "promise show soundings-stay-inside")
add_command(
    promise,
    "promise",
    "NAME",
    "Add a promise. One that is always to be kept is refused if it is broken; what would break it"
    " later is, too.",
    'promise add drafts-stay-inside --kept always --says "nobody in group:partners may list at'
    ' survey:/charts/drafts tree"',
    'promise add all-read-notices --says "everybody in signed-in may read at /notices"',
)
change_command(
    promise,
    "promise",
    "NAME",
    "Change a promise.",
    "promise change lab-reads-charts --kept watched",
)
rename_command(
    promise,
    "promise",
    "NAME",
    "Rename a promise.",
    "promise rename lab-reads-charts charts-for-the-lab",
)
remove_command(promise, "promise", "NAME", "Remove a promise.", "promise remove lab-reads-charts")


def add_to(group: click.Group) -> None:
    group.add_command(promise)
