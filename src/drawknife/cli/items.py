"""The editing commands of every kind of item: add, change, rename, remove, show; single entries and
grants.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import click
from rich.text import Text

from drawknife import messages as msg
from drawknife.core.model.kinds import KINDS, SUBJECT_KINDS

from .changing import change_from, edits, item_from, options_of, terms, with_terms
from .columns import plain_table
from .common import Answers, asks, console, print_json, shown_value
from .marks import line_message, line_of

Apply = Callable[[Sequence[dict[str, Any]]], None]


def _help(text: str, *examples: str) -> str:
    lines = "\n".join(f"  drawknife {e}" for e in examples)
    return f"{text}\n\n\b\nExample{'s' if len(examples) > 1 else ''}:\n{lines}"


def add_command(group: click.Group, kind: str, argument: str, text: str, *examples: str) -> None:
    """`add`: the argument is what the item is called by."""
    key = KINDS[kind].fields[0].name

    @group.command("add", help=_help(text, *examples))
    @click.argument("called", metavar=argument)
    @options_of(kind, leave_out=(key,), changing=False)
    @edits
    def add(apply: Apply, called: str, **given: Any) -> None:
        item = item_from(kind, given)
        if kind in ("folder", "unit"):
            apply([{"op": "add", "kind": kind, "name": called, "item": item}])
        else:
            apply([{"op": "add", "kind": kind, "item": {key: called, **item}}])


def change_command(group: click.Group, kind: str, argument: str, text: str, *examples: str) -> None:
    """`change`: new values, lines added and taken away, keys back to their defaults."""
    declared = KINDS[kind]
    # Where a virtual path is can be changed; what other items are called by is changed by a rename.
    leave_out = (declared.fields[0].name,) if declared.each_once else ()

    @group.command("change", help=_help(text, *examples))
    @click.argument("called", metavar=argument)
    @options_of(kind, leave_out=leave_out, changing=True)
    @edits
    def change(apply: Apply, called: str, **given: Any) -> None:
        apply([change_from(kind, called, given)])


def rename_command(group: click.Group, kind: str, argument: str, text: str, *examples: str) -> None:
    """`rename`: what names it is carried along."""

    @group.command("rename", help=_help(text, *examples))
    @click.argument("called", metavar=argument)
    @click.argument("to", metavar=f"NEW-{argument}")
    @edits
    def rename(apply: Apply, called: str, to: str) -> None:
        apply([{"op": "rename", "kind": kind, "name": called, "to": to}])


def remove_command(group: click.Group, kind: str, argument: str, text: str, *examples: str) -> None:
    """`remove`: refused while something names it; subjects can be struck out everywhere."""
    if kind in SUBJECT_KINDS:

        @group.command("remove", help=_help(text, *examples))
        @click.argument("called", metavar=argument)
        @click.option("--everywhere", is_flag=True, help="Strike out the lines that name it, too.")
        @edits
        def remove_everywhere(apply: Apply, called: str, everywhere: bool) -> None:
            apply([{"op": "remove", "kind": kind, "name": called, "everywhere": everywhere}])

        return

    @group.command("remove", help=_help(text, *examples))
    @click.argument("called", metavar=argument)
    @edits
    def remove(apply: Apply, called: str) -> None:
        apply([{"op": "remove", "kind": kind, "name": called}])


def show_command(group: click.Group, kind: str, argument: str, text: str, *examples: str) -> None:
    """`show`: the item as the model has it, and what names it."""

    @group.command("show", help=_help(text, *examples))
    @click.argument("called", metavar=argument)
    @asks
    def show(answers: Answers, called: str, as_json: bool) -> None:
        found = answers.item(kind, called)
        if as_json:
            print_json(found)
        else:
            draw_item(found)


def draw_item(found: msg.ItemMessage) -> None:
    """An item, key by key, and the places that name it."""
    out = console()
    kind = "" if found.kind == found.name else f"{found.kind.replace('-', ' ')} "
    out.print(Text(kind, "dim").append(found.name, "bold"))
    for key, value in found.item.items():
        if key in ("name", "for") or str(value) == found.name:
            continue
        lines = value if isinstance(value, list) else [shown_value(value)]
        for i, line in enumerate(lines):
            shown = Text(str(line)) if not isinstance(line, dict) else line_of(line_message(line))
            out.print(Text(f"  {key if i == 0 else '':<14}", "dim").append_text(shown))
    for i, place in enumerate(found.named_by):
        out.print(Text(f"  {'named by' if i == 0 else '':<14}", "dim").append(place, "default"))


# --- entries ------------------------------------------------------------------------------------


@click.group()
def entry() -> None:
    """Entries of folders and endpoints: add and drop."""


PLACE = click.argument("place", metavar="PLACE")
LINES = click.argument("lines", metavar="ENTRY...", nargs=-1, required=True)


def _entry_change(place: str, way: str, lines: Sequence[Any]) -> dict[str, Any]:
    kind = "folder" if ":" in place else "endpoint"
    return {"op": "change", "kind": kind, "name": place, way: {"entries": list(lines)}}


@entry.command("add")
@PLACE
@LINES
@terms
@edits
def add_entry(
    apply: Apply, place: str, lines: tuple[str, ...], until: str | None, note: str | None
) -> None:
    """Add entries to PLACE: a folder, STORE:/path, or an endpoint's name.

    A folder that is not recorded yet is recorded. An entry that is there already ends from then on
    as is given, or not. With --preview, who gains and loses what is shown.

    \b
    Examples:
      drawknife entry add survey:/charts/drafts "allow group:night-watch read"
      drawknife entry add survey:/charts "allow group:partners read" \\
          --until 2031-03-31 --note "the harbour survey"
      drawknife entry add lab-sftp "deny account:yuki upload" --preview
    """
    apply([_entry_change(place, "add", with_terms(lines, until, note))])


@entry.command("drop")
@PLACE
@LINES
@edits
def drop_entry(apply: Apply, place: str, lines: tuple[str, ...]) -> None:
    """Take entries away from PLACE, written as they stand there.

    \b
    Example:
      drawknife entry drop survey:/charts/drafts "deny group:partners all"
    """
    apply([_entry_change(place, "drop", lines)])


# --- grants -------------------------------------------------------------------------------------


@click.group()
def grant() -> None:
    """Grants of virtual paths: add and drop."""


PATH = click.argument("path", metavar="PATH")
GRANTS = click.argument("lines", metavar="GRANT...", nargs=-1, required=True)


@grant.command("add")
@PATH
@GRANTS
@terms
@edits
def add_grant(
    apply: Apply, path: str, lines: tuple[str, ...], until: str | None, note: str | None
) -> None:
    """Add grants to the virtual path at PATH; where several are at one, PATH>LEADS_TO.

    A grant that is there already ends from then on as is given, or not.

    \b
    Example:
      drawknife grant add /charts "account:yuki read" --until 2031-04-30
    """
    add = {"grants": with_terms(lines, until, note)}
    apply([{"op": "change", "kind": "virtual-path", "name": path, "add": add}])


@grant.command("drop")
@PATH
@GRANTS
@edits
def drop_grant(apply: Apply, path: str, lines: tuple[str, ...]) -> None:
    """Take grants away from the virtual path at PATH, written as they stand there.

    \b
    Example:
      drawknife grant drop /charts "group:partners read"
    """
    apply([{"op": "change", "kind": "virtual-path", "name": path, "drop": {"grants": list(lines)}}])


# --- settings and quotas ------------------------------------------------------------------------


@click.group()
def setting() -> None:
    """Settings of accounts, groups, units and built-in subjects: list, show, change, remove."""


@setting.command("list")
@asks
def list_settings(answers: Answers, as_json: bool) -> None:
    """List what is set, and for whom.

    \b
    Example:
      drawknife setting list
    """
    found = answers.items("setting")
    if as_json:
        print_json(found)
        return
    out = console()
    for one in found.items:
        out.print(Text(one.name, "bold"))
        for key, value in one.item.items():
            if key != "for":
                shown = ", ".join(value) if isinstance(value, list) else shown_value(value)
                out.print(Text(f"  {key:<14}", "dim").append(shown, "default"))


@click.group()
def quota() -> None:
    """Quotas, shared by subjects or on a folder: list, show, add, change, rename, remove."""


@quota.command("list")
@asks
def list_quotas(answers: Answers, as_json: bool) -> None:
    """List the quotas; `drawknife limits` tells how full they are.

    \b
    Example:
      drawknife quota list
    """
    found = answers.items("quota")
    if as_json:
        print_json(found)
        return
    table = plain_table("quota", "counts", "hard", "soft", "grace")
    for one in found.items:
        q = one.item
        sizes = [
            " and ".join(
                str(q[f"{way}_{what}"]) + ("" if what == "bytes" else " files")
                for what in ("bytes", "files")
                if f"{way}_{what}" in q
            )
            for way in ("hard", "soft")
        ]
        table.add_row(
            one.name,
            q.get("folder") or ", ".join(q.get("shared_by", [])),
            *sizes,
            str(q.get("grace", "")),
        )
    console().print(table)


show_command(
    setting, "setting", "SUBJECT", "Show what is set for SUBJECT.", "setting show group:boats"
)
change_command(
    setting,
    "setting",
    "SUBJECT",
    "Set something for SUBJECT: account:NAME, group:NAME, unit:PATH, signed-in, …",
    "setting change group:boats --sessions 3",
    "setting change unit:partners --clear greeting",
)
remove_command(
    setting,
    "setting",
    "SUBJECT",
    "Remove everything that is set for SUBJECT.",
    "setting remove group:night-watch",
)
show_command(quota, "quota", "NAME", "Show one quota.", "quota show lab-pool")
add_command(
    quota, "quota", "NAME", "Add a quota: shared by subjects, or on a folder.",
    'quota add desk-pool --shared-by group:chart-desk --hard-bytes "1 TiB"',
    "quota add notices-shelf --folder public:/notices --hard-files 500",
)  # fmt: skip
change_command(
    quota,
    "quota",
    "NAME",
    "Change a quota.",
    'quota change lab-pool --hard-bytes "3 TiB" --grace "14 days"',
)
rename_command(quota, "quota", "NAME", "Rename a quota.", "quota rename tides-shelf tide-tables")
remove_command(quota, "quota", "NAME", "Remove a quota.", "quota remove tides-shelf")


def add_to(group: click.Group) -> None:
    for command in (entry, grant, setting, quota):
        group.add_command(command)
