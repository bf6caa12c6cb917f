"""Directories of people, groups and units, and their syncs."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import Any, TypeVar

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.sizes import number_of, several

from .columns import plain_table
from .common import DONE, NOT_SO, confirm, console, moment, print_json, say, serves
from .previews import draw_follows

F = TypeVar("F", bound=Callable[..., Any])
JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON.")


@click.group()
def directory() -> None:
    """Directories (LDAP or LDIF): list, show, try, add, change, remove."""


def _options_only(command: F) -> F:
    """An option for each of the options of a directory."""
    made: Any = command
    for name, field in reversed(msg.DirectoryOptions.model_fields.items()):
        option = "--" + name.replace("_", "-")
        about = field.description or ""
        if field.annotation is bool:
            made = click.option(f"{option}/--no-{option[2:]}", name, default=None, help=about)(made)
        else:
            kind = int if field.annotation is int else str
            made = click.option(option, name, type=kind, metavar="VALUE", help=about)(made)
    return made  # type: ignore[no-any-return]


def _options(command: F) -> F:
    """The same, and one for the bind password."""
    about = "Ask for the bind password, or read it from standard input."
    return click.option("--bind-password", is_flag=True, help=about)(_options_only(command))


def _given(options: dict[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in options.items() if value is not None}


def _password(wanted: bool) -> str | None:
    if not wanted:
        return None
    if sys.stdin.isatty():
        return str(click.prompt("Bind password", hide_input=True, err=True))
    return sys.stdin.readline().rstrip("\n")


@directory.command("list")
@JSON
@serves
def list_directories(client: Client, as_json: bool) -> None:
    """List the directories, and how their last syncs went.

    \b
    Example:
      drawknife directory list
    """
    found = client.directories()
    if as_json:
        print_json(found)
        return
    table = plain_table("directory", "accounts", "groups", "units", "last sync", "state")
    for d in found.directories:
        at = moment(d.last.at if d.last else None)
        table.add_row(d.name, str(d.accounts), str(d.groups), str(d.units), at, _state_of(d))
    console().print(table)


#: More lines of a kind than these are counted, not printed.
SHOWN = 20
STATES = {
    "done": "green",
    "nothing-to-do": "green",
    "preview": "default",
    "refused": "yellow",
    "failed": "red",
}


def _state_of(d: msg.DirectoryLine) -> Text:
    if d.last is None:
        return Text("waits for the first sync" if d.options.interval and not d.confirmed else "")
    since = f" since {moment(d.failing_since)}" if d.failing_since else ""
    return Text(d.last.state.replace("-", " ") + since, STATES[d.last.state])


@directory.command("show")
@click.argument("name")
@JSON
@serves
def show_directory(client: Client, name: str, as_json: bool) -> None:
    """Show a directory's options and its last sync. The bind password is never shown.

    \b
    Example:
      drawknife directory show bureau
    """
    found = client.directory(name)
    if as_json:
        print_json(found)
        return
    out = console()
    out.print(Text(found.name, "bold"))
    always_shown = (
        ("address", "shown_first", "suffix", "most_leavers", "interval")
        if found.options.is_provisioned
        else ()
    )
    for key, value in found.options.model_dump().items():
        if value not in (None, "") and (not always_shown or key in always_shown):
            out.print(Text(f"  {key:<22}", "dim").append(str(value), "default"))
    if found.has_password:
        out.print(Text(f"  {'bind_password':<22}", "dim").append("kept encrypted", "default"))
    if found.last:
        out.print("\nLast sync", style="bold")
        draw_report(out, found.last)


@directory.command("add")
@click.argument("name")
@_options
@serves
def add_directory(client: Client, name: str, bind_password: bool, **options: Any) -> None:
    """Add a directory: an LDAP server, an LDIF file on the service's machine, or one that is
    provisioned by SCIM.

    What is provisioned comes to /scim/v2, with a token of `drawknife token make NAME --directory
    DIRECTORY`.

    \b
    Examples:
      drawknife directory add bureau --address $PWD/demo/bureau.ldif \\
          --people-base ou=harbour-bureau,dc=tidewrack,dc=example
      drawknife directory add staff --address ldaps://ldap.tidewrack.example --interval 900 \\
          --people-base ou=people,dc=tidewrack,dc=example \\
          --bind-name cn=reader,dc=tidewrack,dc=example --bind-password
      drawknife directory add office --address scim: --shown-first
    """
    client.add_directory(name, _given(options), _password(bind_password))
    say(f"added directory {name}; see what it has with `drawknife directory try {name}`")
    if options.get("interval"):
        say(
            "Nothing is read at its interval before the first sync: review it with `drawknife sync"
            f" {name}`."
        )


@directory.command("change")
@click.argument("name")
@_options
@serves
def change_directory(client: Client, name: str, bind_password: bool, **options: Any) -> None:
    """Change some options of a directory; the others stay.

    \b
    Example:
      drawknife directory change bureau --interval 3600 --most-leavers 10
    """
    client.change_directory(name, _given(options), _password(bind_password))
    say(f"changed directory {name}")


@directory.command("remove")
@click.argument("name")
@click.option(
    "--keep", is_flag=True, help="Make the accounts, groups and units that came from it local."
)
@serves
def remove_directory(client: Client, name: str, keep: bool) -> None:
    """Remove a directory. Refused while accounts come from it, unless they are kept.

    \b
    Example:
      drawknife directory remove bureau --keep
    """
    client.remove_directory(name, keep)
    say(f"removed directory {name}")


@directory.command("try")
@click.argument("name")
@_options_only
@JSON
@serves
def try_directory(client: Client, name: str, as_json: bool, **options: Any) -> None:
    """Show the first people, groups and units that a directory has.

    Options given here are tried and not saved.

    \b
    Examples:
      drawknife directory try bureau
      drawknife directory try bureau --suffix @bureau
    """
    found = client.try_directory(name, _given(options))
    if as_json:
        print_json(found)
        return
    out = console()
    for heading, lines in (
        ("people", found.people),
        ("groups", found.groups),
        ("units", found.units),
        ("skipped", found.left_out),
        ("would be renamed", found.renamed),
        ("skipped, as the name already exists here", found.left_alone),
    ):
        if lines:
            out.print(Text(heading, "bold"))
            for line in lines:
                out.print(f"  {line}")


@click.command()
@click.argument("name")
@click.option(
    "--preview", is_flag=True, help="Show what it would change, and what follows; do nothing."
)
@click.option(
    "--most-leavers",
    type=click.IntRange(0, 100),
    metavar="PERCENT",
    help="Share that this sync may remove; default: the option of the directory.",
)
@click.option(
    "--adopt",
    multiple=True,
    metavar="SUBJECT",
    help="An account or a group that is here already: the directory's from now on.",
)
@click.option("--yes", is_flag=True, help="Do not ask before the first sync.")
@JSON
@serves
def sync(
    *,
    client: Client,
    name: str,
    preview: bool,
    most_leavers: int | None,
    adopt: tuple[str, ...],
    yes: bool,
    as_json: bool,
) -> None:
    """Synchronise people, groups and units from a directory.

    Who is renamed there is renamed here, with all that names them. Leavers are switched off, not
    removed. What exists here is left alone, unless it is handed over with --adopt. A directory that
    does not answer in full, or suddenly has far fewer people, changes nothing; the exit status then
    is 1. Before the first sync the command shows what it would change, and asks.

    \b
    Examples:
      drawknife sync bureau --preview
      drawknife sync bureau --yes
      drawknife sync bureau --adopt account:ines --preview
    """
    out = console()
    if preview:
        previewed = client.preview_sync(name, most_leavers, adopt)
        print_json(previewed) if as_json else _draw_preview(out, previewed)
        raise SystemExit(NOT_SO if previewed.report.state == "refused" else DONE)
    if not yes and not client.directory(name).confirmed:
        previewed = client.preview_sync(name, most_leavers, adopt)
        _draw_preview(console(error=True), previewed)
        if previewed.report.state == "refused":
            raise SystemExit(NOT_SO)
        confirm(f"Synchronise {name} for the first time?", abort=True)
    report = client.sync(name, most_leavers, adopt)
    if as_json:
        print_json(report)
    else:
        draw_report(out, report)
        if report.state == "done" and report.revision is not None:
            for line in client.journal_line(report.revision, limit=1).followed or []:
                out.print(Padding(Text(line), (0, 0, 0, 2), expand=False))
    raise SystemExit(DONE if report.state in ("done", "nothing-to-do") else NOT_SO)


def _draw_preview(out: Console, previewed: msg.SyncPreview) -> None:
    draw_report(out, previewed.report)
    if previewed.changes and previewed.changes.item_count:
        draw_follows(out, previewed.changes)
        for finding in previewed.changes.new_findings:
            out.print(
                Padding(
                    Text("! ", "yellow").append(finding.text, "default"), (0, 0, 0, 2), expand=False
                )
            )


def draw_report(out: Console, report: msg.SyncReport) -> None:
    """What a sync found, and did or would do."""
    heading = {"preview": "would be synced", "done": "synced", "nothing-to-do": "synced"}.get(
        report.state, report.state
    )
    style = STATES[report.state]
    out.print(
        Text(f"{report.directory}  ", "bold")
        .append(heading, style)
        .append(f"  {report.text}", "default")
    )
    if report.people or report.groups or report.units:
        out.print(
            f"  it has {report.people:,} people, {number_of(report.groups, 'group')},"
            f" {number_of(report.units, 'unit')}",
            style="dim",
        )
    for what, count in report.counts.items():
        names = report.named.get(what, [])
        noun, _, verb = what.partition(" ")
        line = Text(f"  {count:>5} {noun[:-1] if count == 1 else noun} {verb}: ").append(
            several(names, len(names), count), "dim"
        )
        out.print(Padding(line, (0, 0, 0, 0), expand=False))
    for label, lines in (
        ("left alone, as the name exists here", report.left_alone),
        ("left out", report.left_out),
        ("noted", report.notes),
    ):
        if lines:
            out.print(Text(f"  {label}", "yellow"))
            for line_ in lines[:SHOWN]:
                out.print(Padding(Text(line_), (0, 0, 0, 8), expand=False))
            if len(lines) > SHOWN:
                out.print(
                    f"        and {len(lines) - SHOWN:,} more; --json prints them all", style="dim"
                )


def add_to(main: click.Group) -> None:
    main.add_command(directory)
    main.add_command(sync)
