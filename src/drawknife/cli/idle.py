"""What has no effect, and taking it away."""

from __future__ import annotations

from typing import get_args

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.sizes import number_of

from .changing import Writer, asking_with, tell_changed, writes
from .common import WRONG_USAGE, console, fail, print_json, say

#: What can have no effect.
KINDS = [kind.replace(" ", "-") for kind in get_args(msg.IdleKind)]
#: Of the reasons of one part so many are told.
REASONS = 3


@click.command()
@click.option(
    "--take",
    type=click.IntRange(1),
    multiple=True,
    metavar="N",
    help="Take number N away; can be repeated.",
)
@click.option("--take-all", is_flag=True, help="Take all of it away; with --draft, in that draft.")
@click.option(
    "--only",
    multiple=True,
    type=click.Choice(KINDS),
    help="Only parts of this kind; can be repeated.",
)
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@writes
def idle(
    writer: Writer,
    target: str | None,
    take: tuple[int, ...],
    take_all: bool,
    only: tuple[str, ...],
    as_json: bool,
) -> None:
    """What has no effect, and why: groups, entries, grants, memberships, settings, and quotas.

    Without each of these, and without all of them, nobody could do more or less, now or when a line
    ends. Of two that say the same, one stays. What refuses something is marked: it may be there
    against what is still to come.

    \b
    Examples:
      drawknife idle
      drawknife idle --take 3 --take 4 --draft spring-clean
      drawknife idle --model demo/tidewrack.yaml
    """
    if take and take_all:
        raise click.UsageError("--take or --take-all, not both")
    found = asking_with(writer).idle()
    if only:
        found = found.model_copy(
            update={"idle": [x for x in found.idle if x.kind.replace(" ", "-") in only]}
        )
    wanted = [x for x in found.idle if take_all or x.number in take]
    if missing := sorted(set(take) - {x.number for x in wanted}):
        _draw(console(), found, only)
        fail(
            WRONG_USAGE,
            f"there is no number {missing[0]}" + (f" of {' and '.join(only)}" if only else ""),
        )
    if not wanted:
        print_json(found) if as_json else _draw(console(), found, only)
        return
    for x in wanted:
        say(f"taken away: {x.kind} {x.says} at {x.at}")
    # What was looked at is what is done: at that revision, or not at all.
    done = writer.change(
        [x.change.plain() for x in wanted], found.revision if isinstance(writer, Client) else None
    )
    print_json(done) if as_json else tell_changed(done, target)


def _draw(out: Console, found: msg.IdleAnswer, only: tuple[str, ...]) -> None:
    if not found.idle:
        what = (
            "Nothing that was looked at"
            if found.left_out
            else "Nothing of the kind"
            if only
            else "Nothing"
        )
        out.print(f"{what} is without effect.")
    width = len(str(len(found.idle)))
    place = None
    for x in found.idle:
        if place != (x.kind, x.at):
            place = (x.kind, x.at)
            out.print(Text(f"{x.kind}  ", "dim").append(x.at, "bold"))
        marks = ("  ◆ refuses", "yellow") if x.guards else ("", "")
        out.print(Text(f"{x.number:>{width + 2}}  ").append(x.says).append(*marks))
        for reason in x.reasons[:REASONS]:
            out.print(Padding(Text(reason, "dim"), (0, 0, 0, width + 4), expand=False))
        if len(x.reasons) > REASONS:
            out.print(
                Padding(
                    Text(f"and {len(x.reasons) - REASONS} more", "dim"),
                    (0, 0, 0, width + 4),
                    expand=False,
                )
            )
    if found.idle:
        out.print()
        out.print(f"{number_of(len(found.idle), 'part')} without effect.", style="bold")
        if any(x.guards for x in found.idle):
            out.print(
                Text(
                    "◆ may be there against lines to come: take away only what nobody wants.", "dim"
                )
            )
    for said in found.left_out:
        out.print(Padding(Text(said, "dim"), (0, 0, 0, 0), expand=False))


def add_to(group: click.Group) -> None:
    group.add_command(idle)
