"""Drafts: changes that are not in force.

Every changing command puts its change in one with --draft.
"""

from __future__ import annotations

import sys

import click
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client

from .changing import tell_changed
from .columns import plain_table
from .common import NOT_SO, WRONG_USAGE, confirm, console, fail, moment, print_json, say, serves
from .previews import draw_preview


@click.group()
def draft() -> None:
    """Drafts: list, show, begin, comment, leave-out, apply, drop.

    \b
    With --draft a change goes into the draft, and a question is answered as it would be:
      drawknife group join boats ines --draft spring
      drawknife why ines upload /inbox/a --draft spring
    """


@draft.command("list")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@serves
def list_drafts(client: Client, as_json: bool) -> None:
    """List the drafts, the newest first.

    \b
    Example:
      drawknife draft list
    """
    found = client.drafts()
    if as_json:
        print_json(found)
        return
    if not found.drafts:
        say("there are no drafts; a change goes into one with --draft NAME")
        return
    table = plain_table("draft", "steps", "written by", "begun", "comments", "about")
    for d in found.drafts:
        table.add_row(
            d.name,
            str(d.steps),
            ", ".join(d.writers) or d.begun_by,
            moment(d.begun),
            str(d.comments),
            d.about or "",
        )
    console().print(table)


@draft.command("show")
@click.argument("name")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@serves
def show_draft(client: Client, name: str, as_json: bool) -> None:
    """Show a draft, and what would follow from it on the model of today.

    Steps that fit no more are told with the change that took the ground away; exit status 1 then.

    \b
    Example:
      drawknife draft show spring
    """
    found = client.draft(name)
    if as_json:
        print_json(found)
    else:
        _draw(found)
    raise SystemExit(NOT_SO if found.preview is None else 0)


def _draw(found: msg.DraftAnswer) -> None:
    out = console()
    d = found.draft
    out.print(
        Text(d.name, "bold").append(f"   begun by {d.begun_by}, {moment(d.begun)}", "not bold dim")
    )
    if d.about:
        out.print(Padding(Text(d.about), (0, 0, 0, 2)))
    for s in found.steps:
        line = (
            Text(f"{s.number:>4}  ", "bold").append(s.says, "default").append(f"   {s.who}", "dim")
        )
        if s.misfit is not None:
            line.stylize("red", 0, 4)
        out.print(line)
        if s.why:
            out.print(Padding(Text(s.why, "dim"), (0, 0, 0, 6)))
        if s.misfit is not None:
            out.print(
                Padding(
                    Text("✗ fits no more: ", "red").append(s.misfit.says, "default"), (0, 0, 0, 6)
                )
            )
            if s.misfit.revision is not None:
                by = f"since revision {s.misfit.revision}, by {s.misfit.who}: {s.misfit.what}"
                out.print(Padding(Text(by, "dim"), (0, 0, 0, 8)))
    if not found.steps:
        out.print("  Nothing is in it yet.", style="dim")
    for c in found.comments:
        out.print(Padding(Text(f"{c.who}, {moment(c.at)}:", "dim"), (0, 0, 0, 6)))
        out.print(Padding(Text(c.says), (0, 0, 0, 8)))
    for said in found.changed_since:
        out.print(
            Padding(
                Text("! changed since it was written: ", "yellow").append(said, "default"),
                (0, 0, 0, 2),
            )
        )
    if found.preview is not None and found.steps:
        out.print()
        draw_preview(out, found.preview)
    elif found.preview is None:
        number = next(s.number for s in found.steps if s.misfit is not None)
        say(
            f"it cannot be applied as it is; `drawknife draft leave-out {d.name} {number}` takes a"
            " step out"
        )


@draft.command("begin")
@click.argument("name")
@click.option("--about", metavar="TEXT", help="What it is for.")
@serves
def begin(client: Client, name: str, about: str | None) -> None:
    """Begin an empty draft. A change with --draft begins one, too.

    \b
    Example:
      drawknife draft begin spring --about "the new season's crews"
    """
    client.begin_draft(name, about)
    say(f"draft {name} is begun; put changes in it with --draft {name}")


@draft.command("comment")
@click.argument("name")
@click.argument("text")
@serves
def comment(client: Client, name: str, text: str) -> None:
    """Say something of a draft, for whoever looks at it.

    \b
    Example:
      drawknife draft comment spring "does the night watch need this?"
    """
    client.comment_on_draft(name, text)
    say(f"said of draft {name}")


@draft.command("leave-out")
@click.argument("name")
@click.argument("number", type=click.IntRange(1))
@serves
def leave_out(client: Client, name: str, number: int) -> None:
    """Take step NUMBER out of a draft.

    \b
    Example:
      drawknife draft leave-out spring 2
    """
    client.leave_out_of_draft(name, number)
    say(f"step {number} is no more in draft {name}")


@draft.command("apply")
@click.argument("name")
@click.option("--yes", is_flag=True, help="Do it without showing or asking.")
@click.option(
    "--if-revision", type=int, metavar="N", help="Only if revision N is the one in force."
)
@serves
def apply(client: Client, name: str, yes: bool, if_revision: int | None) -> None:
    """Put a draft in force: all of it, as one change, or nothing.

    What follows is shown first, and asked about on a terminal.

    \b
    Example:
      drawknife draft apply spring
    """
    if not yes:
        found = client.draft(name)
        _draw(found)
        if found.preview is None:
            raise SystemExit(NOT_SO)
        if not sys.stdin.isatty():
            fail(WRONG_USAGE, "nobody can be asked here: if that is meant, say --yes")
        if not confirm("Apply it?"):
            fail(NOT_SO, "nothing was changed")
        if_revision = if_revision if if_revision is not None else found.revision
    tell_changed(client.apply_draft(name, if_revision))


@draft.command("drop")
@click.argument("name")
@serves
def drop(client: Client, name: str) -> None:
    """Take a draft away; the journal keeps what was in it.

    \b
    Example:
      drawknife draft drop spring
    """
    client.drop_draft(name)
    say(f"draft {name} is dropped; nothing of it was in force")


def add_to(group: click.Group) -> None:
    group.add_command(draft)
