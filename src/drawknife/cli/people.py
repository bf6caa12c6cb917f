"""Groups and units: who is in them, and what comes down from them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from drawknife import messages as msg
from drawknife.core.words.sizes import several

from .accounts import show_value
from .changing import edits, member, terms, with_terms
from .columns import plain_table
from .common import Answers, asks, console, print_json
from .items import add_command, change_command, remove_command, rename_command
from .marks import line_of
from .previews import draw_access, draw_settings

Apply = Callable[[Sequence[dict[str, Any]]], None]


@click.group()
def group() -> None:
    """Groups: list, show, add, change, rename, remove; join and leave."""


@group.command("list")
@click.argument("matching", default="")
@asks
def list_groups(answers: Answers, matching: str, as_json: bool) -> None:
    """List groups, with their direct members and how many accounts they come to.

    \b
    Examples:
      drawknife group list
      drawknife group list bank
    """
    found = answers.groups(matching)
    if as_json:
        print_json(found)
        return
    table = plain_table("group", "accounts", "members", "held by", "source")
    for g in found.groups:
        table.add_row(
            g.name,
            str(g.accounts),
            several(g.members, 6),
            ", ".join(g.held_by),
            Text(g.source, "dim"),
        )
    console().print(table)


@group.command("show")
@click.argument("name")
@asks
def show_group(answers: Answers, name: str, as_json: bool) -> None:
    """Show a group: who is in it and how, and everything that comes down from it.

    \b
    Example:
      drawknife group show sonar-lab
    """
    _show(answers.subject(f"group:{name}"), as_json)


@click.group()
def unit() -> None:
    """Organisational units: list, show, add, change, rename, remove."""


@unit.command("list")
@asks
def list_units(answers: Answers, as_json: bool) -> None:
    """List the units as a tree.

    \b
    Example:
      drawknife unit list
    """
    found = answers.units()
    if as_json:
        print_json(found)
        return
    table = plain_table("unit", "accounts", "with those below", "member of", "source")
    for u in found.units:
        depth = u.path.count("/")
        label = "  " * depth + u.path.rsplit("/", 1)[-1]
        table.add_row(
            label, str(u.accounts), str(u.all_accounts), ", ".join(u.held_by), Text(u.source, "dim")
        )
    console().print(table)


@unit.command("show")
@click.argument("path")
@asks
def show_unit(answers: Answers, path: str, as_json: bool) -> None:
    """Show a unit: who is in it, and everything that comes down from it.

    \b
    Example:
      drawknife unit show shore/lab
    """
    _show(answers.subject(f"unit:{path}"), as_json)


def _show(found: msg.SubjectDetail, as_json: bool) -> None:
    if as_json:
        print_json(found)
        return
    out = console()
    title = Text(found.subject, "bold").append(
        f"   {found.total} account{'' if found.total == 1 else 's'}", "dim"
    )
    out.print(
        title.append(
            "" if found.source == "local" else f", from the directory {found.source}", "dim"
        )
    )
    if found.note:
        out.print(Text(f"  “{found.note}”", "dim italic"))
    plain = [x.line for x in found.members if x.until is None and x.note is None]
    for label, names in (("holds", plain), ("held by", found.held_by)):
        if names:
            out.print(Text(f"  {label:<9}", "dim").append(several(names, 30), "default"))
    for x in found.members:
        if x.until is not None or x.note is not None:
            out.print(Text(f"  {'holds':<9}", "dim").append_text(line_of(x)))
    if found.accounts:
        _draw_accounts(out, found)
    out.print("\nWhat comes down from it", style="bold")
    draw_given(out, found.gives)
    if found.settings:
        out.print("\nWhom its settings reach", style="bold")
    for reach in found.settings:
        _draw_reach(out, reach)


def _draw_accounts(out: Console, found: msg.SubjectDetail) -> None:
    out.print("\nWho is in it", style="bold")
    table = plain_table("  account", "through")
    for a in found.accounts[:200]:
        through = " > ".join(a.chain[1:-1]) or "directly"
        table.add_row(f"  {a.account}", Text(through, "default" if len(a.chain) > 2 else "dim"))
    out.print(table)
    if found.total > 200:
        out.print(f"  and {found.total - 200} more", style="dim")


def _draw_reach(out: Console, r: msg.ReachMessage) -> None:
    """How many accounts a setting reaches, and whose nearer setting goes before it."""
    line = Text(f"  {r.name} ", "default").append(show_value(r.name, r.value), "bold")
    line.append(f"   reaches {len(r.reaches)} of {len(r.reaches) + len(r.nearer)}", "dim")
    out.print(line)
    for n in r.nearer[:8]:
        nearer = " and ".join(n.subjects) or "a stricter value"
        out.print(Text(f"      {n.account}: {nearer} goes before it", "yellow"))
    if len(r.nearer) > 8:
        out.print(f"      and {len(r.nearer) - 8} more have something nearer", style="dim")


def draw_given(out: Console, given: list[msg.GivenMessage]) -> None:
    """Lines that come down, with the chain where they are given farther up."""
    if not given:
        out.print("  nothing", style="dim")
        return
    table = plain_table("  where", "what it says", "through")
    for g in given:
        where = g.where if g.kind in ("virtual path", "folder") else f"{g.kind} {g.where}"
        table.add_row(f"  {where}", g.line, Text(" > ".join(g.chain[1:]), "dim"))
    out.print(table)


@group.command("join")
@click.argument("name")
@click.argument("members", nargs=-1, required=True, metavar="MEMBER...")
@terms
@edits
def join(
    apply: Apply, name: str, members: tuple[str, ...], until: str | None, note: str | None
) -> None:
    """Put members into a group: account:NAME, group:NAME or unit:PATH; a bare name is an account.

    For one that is in it already, the end becomes the one that is given, or none.

    \b
    Examples:
      drawknife group join night-watch account:tomasz
      drawknife group join night-watch yuki --until 2031-04-30 --note "while Tomasz is away"
      drawknife group join north-bank unit:partners --preview
    """
    lines = with_terms([member(m) for m in members], until, note, "member")
    apply([{"op": "change", "kind": "group", "name": name, "add": {"members": lines}}])


@group.command("leave")
@click.argument("name")
@click.argument("members", nargs=-1, required=True, metavar="MEMBER...")
@edits
def leave(apply: Apply, name: str, members: tuple[str, ...]) -> None:
    """Take members out of a group. --preview shows what they lose by it.

    \b
    Example:
      drawknife group leave north-bank group:dredge-liaison
    """
    lines = [member(m) for m in members]
    apply([{"op": "change", "kind": "group", "name": name, "drop": {"members": lines}}])


@click.command()
@click.argument("account")
@click.argument("group_name", metavar="[GROUP]", required=False)
@asks
def ways(answers: Answers, account: str, group_name: str | None, as_json: bool) -> None:
    """Each way in which ACCOUNT came to be in each of its groups, or in GROUP.

    \b
    Examples:
      drawknife ways bram
      drawknife ways harrow-dredging soundings-readers
    """
    found = answers.ways(account, group_name)
    if as_json:
        print_json(found)
        return
    out = console()
    if not found.groups:
        out.print(
            f"{found.account} is not in {group_name}"
            if group_name
            else f"{found.account} is in no group"
        )
        raise SystemExit(1 if group_name else 0)
    for g in found.groups:
        out.print(
            Text(g.group, "bold").append(
                f"   {len(g.chains)} way{'' if len(g.chains) == 1 else 's'}", "dim"
            )
        )
        for chain in g.chains:
            out.print("  " + " > ".join(chain))


@click.command()
@click.argument("account")
@click.argument("subject", metavar="GROUP|unit:PATH")
@asks
def without(answers: Answers, account: str, subject: str, as_json: bool) -> None:
    """What ACCOUNT would lose if it were not in GROUP, however it came to be in it.

    \b
    Examples:
      drawknife without harrow-dredging soundings-readers
      drawknife without kittiwake unit:fleet/inshore
    """
    found = answers.without(account, subject)
    if as_json:
        print_json(found)
        return
    out = console()
    out.print(
        Text("Without ")
        .append(found.subject, "bold")
        .append(", ")
        .append(found.account, "bold")
        .append(" loses")
    )
    draw_given(out, found.lines)
    draw_access(out, found.access)
    draw_settings(out, found.settings)
    if not found.access and not found.settings:
        out.print("\nIt would lose nothing: all of it comes to it in other ways, too.", style="dim")


add_command(
    group,
    "group",
    "NAME",
    "Add a group.",
    "group add tide-desk --member account:odile --member unit:shore/office",
)
change_command(
    group,
    "group",
    "NAME",
    "Change a group's note or its members; join and leave are for single ones.",
    'group change night-watch --note "who is called at night"',
)
rename_command(
    group,
    "group",
    "NAME",
    "Rename a group; all that names it goes along.",
    "group rename night-watch watch",
)
remove_command(
    group, "group", "NAME", "Remove a group. Refused while something names it.",
    "group remove north-bank --everywhere --preview",
)  # fmt: skip
add_command(
    unit, "unit", "PATH", "Add a unit; those above it come with it.", "unit add shore/lab/sonar"
)
change_command(
    unit,
    "unit",
    "PATH",
    "Change why a unit is there.",
    'unit change partners --note "all with a contract"',
)
rename_command(
    unit,
    "unit",
    "PATH",
    "Rename or move a unit, with those below it; all that names them goes along.",
    "unit rename shore/lab shore/sonar-lab",
)
remove_command(
    unit,
    "unit",
    "PATH",
    "Remove a unit. Refused while something names it.",
    "unit remove shore/office --everywhere",
)


def add_to(main: click.Group) -> None:
    for command in (group, unit, ways, without):
        main.add_command(command)
