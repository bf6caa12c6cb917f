"""Who changed what; since when somebody can do a thing; and the way back."""

from __future__ import annotations

import sys
from collections.abc import Callable
from datetime import datetime

import click
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.sizes import number_of

from .changing import DRAFT, tell_changed
from .columns import plain_table
from .common import NOT_SO, WRONG_USAGE, confirm, console, fail, moment, print_json, say, serves
from .previews import draw_item, draw_preview

#: The sorts of lines that can be asked for.
KINDS = ("done", "change", "census", "other", "sign-in", "all")


@click.command()
@click.option("--limit", default=20, show_default=True, type=click.IntRange(1, 10_000))
@click.option(
    "--revision",
    type=click.IntRange(0),
    metavar="N",
    help="Only this revision, with every item it changed.",
)
@click.option("--who", metavar="NAME", help="Only what this one did.")
@click.option(
    "--about",
    metavar="THING",
    help="Only what changed it, or a line that names it: group:NAME, STORE:/path, …",
)
@click.option("--since", metavar="TIME", help="From this time on.")
@click.option("--until", metavar="TIME", help="Up to this time.")
@click.option(
    "--day", type=click.DateTime(["%Y-%m-%d"]), metavar="DAY", help="Only this day (UTC)."
)
@click.option(
    "--kind",
    type=click.Choice(KINDS),
    default="done",
    show_default=True,
    help=(
        "Changes of the model, censuses, what else was done, or sign-ins to the console; done: all"
        " but the sign-ins."
    ),
)
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@serves
def journal(
    *,
    client: Client,
    limit: int,
    revision: int | None,
    who: str | None,
    about: str | None,
    since: str | None,
    until: str | None,
    day: datetime | None,
    kind: str,
    as_json: bool,
) -> None:
    """Who changed the model, what, when, and what followed; the newest first.

    \b
    Examples:
      drawknife journal --limit 5
      drawknife journal --revision 1
      drawknife journal --kind sign-in --day 2026-11-20
      drawknife journal --about group:sonar-lab --since 2026-11-01
    """
    if revision is not None:
        lines = [client.journal_line(revision)]
    else:
        if day is not None:
            since, until = f"{day:%Y-%m-%d}T00:00:00Z", f"{day:%Y-%m-%d}T23:59:59.999999Z"
        page = client.journal(
            0, limit, who, about, since=since, until=until, kind=None if kind == "all" else kind
        )
        lines = page.lines
    if as_json:
        print_json(lines[0] if revision is not None else page)
        return
    if not lines:
        say(
            "no line is like that"
            if any((who, about, since, until, kind != "done"))
            else "nothing was changed yet"
        )
    out = console()
    for line in lines:
        number = "" if line.revision is None else str(line.revision)
        out.print(
            Text(f"{number:>5}  ", "bold")
            .append(f"{line.at:%Y-%m-%d %H:%M:%S} UTC  ", "dim")
            .append(f"{line.who}  ")
            .append(line.what, "bold")
        )
        shown = (
            line.items
            if revision is not None
            else line.items[: 0 if line.kind == "census" else ITEMS_SHOWN]
        )
        for change in shown:
            draw_item(out, change)
        if line.item_count > len(shown):
            out.print(
                (
                    f"  … and {line.item_count - len(shown):,} more; drawknife journal --revision"
                    f" {number} tells them all"
                    if shown
                    else (
                        f"  {number_of(line.item_count, 'item')}; drawknife journal --revision"
                        f" {number} tells them"
                    )
                ),
                style="dim",
            )
        for said in line.followed or []:
            out.print(
                Padding(Text("→ ", "dim").append(said, "default"), (0, 0, 0, 7), expand=False)
            )


#: Of a change of many items so many are told in a list of changes.
ITEMS_SHOWN = 10


# --- since when ---------------------------------------------------------------------------------


@click.command()
@click.argument("account")
@click.argument("action")
@click.argument("location")
@click.option("--to", metavar="LOCATION", help="Where a rename leads.")
@click.option("--endpoint", metavar="NAME", help="Coming in by this endpoint.")
@click.option("--owner", metavar="ACCOUNT", help="Who owns the thing acted on.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@serves
def when(
    *,
    client: Client,
    account: str,
    action: str,
    location: str,
    to: str | None,
    endpoint: str | None,
    owner: str | None,
    as_json: bool,
) -> None:
    """Since when ACCOUNT can do ACTION at LOCATION, or cannot: each turn, with who made it and by
    what.

    \b
    Examples:
      drawknife when harrow-dredging download /charts/issued/sheet-14.pdf
      drawknife when ines upload /soundings/x --endpoint harbour
    """
    found = client.when(account, action, location, to, endpoint=endpoint, owner=owner)
    if as_json:
        print_json(found)
        return
    out = console()
    now = {
        True: ("can", "green"),
        False: ("cannot", "red"),
        None: ("is not there, and cannot", "dim"),
    }[found.allowed]
    out.print(
        Text()
        .append(found.account, "bold")
        .append(f" {now[0]} ", now[1])
        .append(f"{action} {location}", "bold")
    )
    table = plain_table("  since", "", "by", "what")
    for t in found.turns:
        mark = {True: Text("●", "green"), False: Text("✗", "red"), None: Text("–", "dim")}[
            t.allowed
        ]
        by = f"{t.revision} {t.who}" if t.revision is not None else ""
        first = "as it was at first" if found.history_start is None else "at this time or earlier"
        what = t.what or (first if t is found.turns[-1] else "something ended")
        table.add_row(f"  {moment(t.at)}", mark, by, what)
    out.print(table)
    if found.turns:
        out.print(Padding(Text(found.turns[0].text), (1, 0, 0, 2)))
    for note in found.notes:
        out.print(Text(f"  {note}", "dim"))


# --- the way back -------------------------------------------------------------------------------

_PREVIEW = click.option("--preview", is_flag=True, help="Show what it would do, and do nothing.")
_IF_REVISION = click.option(
    "--if-revision", type=int, metavar="N", help="Only if revision N is the one in force."
)
_YES = click.option("--yes", is_flag=True, help="Do not ask.")


@click.command()
@click.argument("revision", type=click.IntRange(1))
@_PREVIEW
@_IF_REVISION
@_YES
@DRAFT
@serves
def back(
    client: Client,
    revision: int,
    preview: bool,
    if_revision: int | None,
    yes: bool,
    draft: str | None,
) -> None:
    """Undo REVISION on the model of today; that is a revision itself.

    What it would do is shown first, and asked about on a terminal. It is refused where something
    later touched what the revision changed. Accounts that come back have their password and keys
    again, for thirty days.

    \b
    Examples:
      drawknife back 12 --preview
      drawknife back 12
    """
    if draft is not None:
        tell_changed(client.add_back_to_draft(draft, revision))
        return
    _take_back(
        client.preview_back(revision),
        preview,
        yes,
        if_revision,
        lambda at: client.back(revision, at),
    )


@click.command("back-to")
@click.argument("as_of", metavar="REVISION|TIME")
@_PREVIEW
@_IF_REVISION
@_YES
@DRAFT
@serves
def back_to(
    client: Client, as_of: str, preview: bool, if_revision: int | None, yes: bool, draft: str | None
) -> None:
    """Take the whole model back to what it was as of a revision or a time; that is a revision
    itself.

    \b
    Examples:
      drawknife back-to 12 --preview
      drawknife back-to 2026-11-20T08:00
    """
    if draft is not None:
        tell_changed(client.add_back_to_draft(draft, as_of=as_of))
        return
    _take_back(
        client.preview_back_to(as_of),
        preview,
        yes,
        if_revision,
        lambda at: client.back_to(as_of, at),
    )


def _take_back(
    previewed: msg.Preview,
    only_shown: bool,
    yes: bool,
    if_revision: int | None,
    do: Callable[[int], msg.Changed],
) -> None:
    """Show what it would do, ask, and do it, if that is still what it would do."""
    if only_shown or not yes:
        draw_preview(console(error=not only_shown), previewed)
    if only_shown:
        return
    if not yes:
        if not sys.stdin.isatty():
            fail(
                WRONG_USAGE,
                "nobody can be asked here: if that is meant, say --yes, or look first with"
                " --preview",
            )
        if not confirm("Do it?"):
            fail(NOT_SO, "nothing was changed")
    tell_changed(do(previewed.revision if if_revision is None else if_revision))


def add_to(group: click.Group) -> None:
    for command in (journal, when, back, back_to):
        group.add_command(command)
