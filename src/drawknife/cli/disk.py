"""Disks: reading what lies on one, and where it says something else than the model."""

from __future__ import annotations

import click
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.core.words.sizes import number_of

from . import disk_plan, disk_read
from .changing import Apply, asking_with, edits
from .common import NOT_SO, Answers, asks, console, moment, print_json
from .items import draw_item


@click.group()
def disk() -> None:
    """Compare the model with the permissions on a disk, and plan changes."""


@disk.command("list")
@asks
def list_disks(answers: Answers, as_json: bool) -> None:
    """List the stores whose disks were read.

    \b
    Example:
      drawknife disk list
    """
    found = answers.disks()
    if as_json:
        print_json(found)
        return
    out = console()
    for d in found.disks:
        when = moment(d.taken) if d.taken else "at an unknown time"
        confined = ", confined to its root" if d.confined else ""
        out.print(Text().append(d.store, "bold").append(f"   read {when}{confined}", "dim"))
        more = (
            f"{number_of(d.users, 'name')}"
            if d.windows
            else f"{number_of(d.files, 'file')}, {number_of(d.users, 'user')}"
        )
        out.print(
            f"    {number_of(d.folders, 'folder')} listed,"
            f" {more}{'; ' + d.form if d.windows else ''}"
        )
        for note in [
            *d.notes,
            *([f"{number_of(d.odd, 'name')} that no model can hold"] if d.odd else []),
        ]:
            out.print(f"    not judged: {note}", style="dim")
    if not found.disks:
        out.print("No disk was read yet: `drawknife disk read STORE` reads one.", style="dim")


@disk.command()
@click.argument("store")
@click.option("--account", metavar="NAME", help="Only of this account.")
@click.option(
    "--most",
    type=click.IntRange(1, 200_000),
    default=500,
    show_default=True,
    help="Tell so many lines at most.",
)
@click.option("--fail", "failing", is_flag=True, help="Exit status 1 if they do not say the same.")
@asks
def compare(
    answers: Answers, store: str, account: str | None, most: int, failing: bool, as_json: bool
) -> None:
    """List where the server and the disk of STORE differ.

    Each line is a folder of an account with a host user (acts_as): rights that the server allows
    (by virtual path and folder) and the disk refuses, and rights that only the disk allows. A
    folder with the same differences as the one above it, or below one that cannot be entered, is
    counted there.

    \b
    Example:
      drawknife disk compare survey
    """
    found = answers.drift(store, account, most)
    if as_json:
        print_json(found)
    else:
        _draw(found)
    raise SystemExit(NOT_SO if failing and found.total else 0)


def _draw(found: msg.DriftAnswer) -> None:
    out = console()
    last = None
    for row in found.rows:
        if row.account != last:
            out.print(Text().append(row.account, "bold").append(f"   as {row.acts_as}", "dim"))
            last = row.account
        below = f"   and {number_of(row.below, 'folder')} below" if row.below else ""
        out.print(Text(f"  {row.location}").append(f"   {row.place}{below}", "dim"))
        if row.refused:
            out.print(
                Text("    ✕ the disk refuses ", "red").append(", ".join(row.refused), "default")
            )
            out.print(Padding(Text(row.reason or "", "dim"), (0, 0, 0, 6), expand=False))
        for part in row.partly:
            out.print(
                f"    ◐ the disk refuses {part.right} on {part.refused:,} of"
                f" {number_of(part.files, 'file')}"
            )
        if row.wider:
            out.print(
                Text("    ! the disk also allows ", "yellow").append(
                    ", ".join(row.wider), "default"
                )
            )
            out.print(Padding(Text(row.server or "", "dim"), (0, 0, 0, 6), expand=False))
    folders = f"{number_of(found.folders, 'folder')} of {number_of(found.accounts, 'account')}"
    headline = (
        f"{number_of(found.total, 'difference')} in {folders}"
        if found.total
        else f"No difference in {folders}."
    )
    out.print(("\n" if found.rows else "") + headline)
    for owner in found.owners:
        out.print(f"no account acts as {owner.replace(' owns ', ', who owns ', 1)}", style="dim")
    for left in found.left_out:
        out.print(f"not checked: {left}", style="dim")


def _read_of(answers: Answers, store: str) -> list[str]:
    """The kinds of what was read of a store."""
    lines = [d for d in answers.disks().disks if d.store.casefold() == store.casefold()]
    return ["descriptor-reading" if d.windows else "disk-reading" for d in lines] or [
        "disk-reading"
    ]


@disk.command()
@click.argument("store")
@asks
def show(answers: Answers, store: str, as_json: bool) -> None:
    """Show the reading of the disk of STORE.

    \b
    Example:
      drawknife disk show survey
    """
    for kind in _read_of(answers, store):
        found = answers.item(kind, store)
        if as_json:
            print_json(found)
        else:
            draw_item(found)


@disk.command()
@click.argument("store")
@edits
def remove(apply: Apply, store: str) -> None:
    """Remove the reading of the disk of STORE.

    \b
    Example:
      drawknife disk remove survey
    """
    apply(
        [
            {"op": "remove", "kind": kind, "name": store}
            for kind in _read_of(asking_with(apply.writer), store)
        ]
    )


disk.add_command(disk_read.read)
disk.add_command(disk_read.scanner)
disk.add_command(disk_plan.plan)
disk.add_command(disk_plan.put_back)
disk.add_command(disk_plan.adopt)
disk.add_command(disk_plan.descriptors)


def add_to(group: click.Group) -> None:
    group.add_command(disk)
