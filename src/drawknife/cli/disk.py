"""Disks: reading what lies on one, and where it says something else than the model."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import replace
from datetime import UTC, datetime
from io import StringIO
from typing import IO

import click
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.core.model.items import DescriptorReading, DiskReading
from drawknife.core.model.kinds import DESCRIPTORS, DISK
from drawknife.core.words.errors import NotFound
from drawknife.core.words.sizes import number_of

from . import disk_plan
from .changing import Apply, asking_with, edits, put
from .common import FAILED, NOT_SO, Answers, asks, console, counting, fail, print_json, say
from .items import draw_item


@click.group()
def disk() -> None:
    """What the operating system lets through: read a disk, and hold it against the model."""


@disk.command()
@click.argument("store")
@click.option("--root", metavar="FOLDER", help="Read this folder instead of the store's root.")
@click.option(
    "--confined", is_flag=True, help="The server sees nothing above the store's root: those folders are not asked."
)
@click.option(
    "--getfacl",
    "text",
    type=click.File("rb"),
    metavar="FILE",
    help="Take it from the text of `getfacl -R` instead of reading here.",
)
@click.option(
    "--passwd", type=click.File("r"), metavar="FILE", help="With --getfacl: the machine's users, as in /etc/passwd."
)
@click.option(
    "--group", type=click.File("r"), metavar="FILE", help="With --getfacl: the machine's groups, as in /etc/group."
)
@click.option(
    "--folders",
    type=click.File("rb"),
    metavar="FILE",
    help="With --getfacl: its folders, as `find -type d` lists them.",
)
@click.option(
    "--descriptors",
    type=click.File("rb"),
    metavar="FILE",
    help="Of a Windows tree: CSV with path, owner and descriptor (SDDL).",
)
@click.option(
    "--names",
    type=click.File("rb"),
    metavar="FILE",
    help="With --descriptors: CSV with sid and subject, account:NAME or group:NAME.",
)
@edits
def read(
    apply: Apply,
    store: str,
    root: str | None,
    confined: bool,
    text: IO[bytes] | None,
    passwd: IO[str] | None,
    group: IO[str] | None,
    folders: IO[bytes] | None,
    descriptors: IO[bytes] | None,
    names: IO[bytes] | None,
) -> None:
    """Read owners, modes and access control lists of the disk that STORE is on.

    Folders that look as their parent would create them are left out, and equal files are counted. The users and
    groups of this machine are read, too. Links are not followed and other file systems not entered. Folders that
    cannot be read and mount points stay unknown, so run it as root. The new reading replaces the last one.

    Where Drawknife is not installed, use the text of `getfacl -R` with the machine's passwd and group lines. For a
    Windows tree, use a CSV file of paths and security descriptors, and one that maps security identifiers to names.

    \b
    Examples:
      drawknife disk read survey --root .run/files/survey
      drawknife disk read survey --getfacl demo/disk/survey.getfacl --passwd demo/disk/passwd --group demo/disk/group
    """  # fmt: skip
    answers = asking_with(apply.writer)
    stores = {s.name.casefold(): s for s in answers.stores().stores}
    line = stores.get(store.casefold())
    if line is None:
        raise NotFound("store", store, [s.name for s in stores.values()], "store")
    if descriptors is not None:
        if text or passwd or group or folders or confined:
            raise click.UsageError("--descriptors goes with --names and --root alone")
        _read_descriptors(
            apply, answers, line.name, root, descriptors.read(), names.read() if names else b"sid,subject"
        )
        return
    top = root or line.root
    if top is None:
        raise click.UsageError(f"store {line.name} is only planned: it has no root; name one with --root")
    if text is None:
        if passwd or group or folders:
            raise click.UsageError("--passwd, --group and --folders go with --getfacl")
        reading = _read(top, line.name, confined, _recorded(answers, line.name), _acting(answers))
    else:
        from drawknife.disk import reading_from, users_from

        lines = [list(file or ()) for file in (passwd, group)]
        users, groups = users_from(*lines)
        reading = reading_from(text.read(), line.name, top, users, groups, folders or (), _recorded(answers, line.name))
        referring = sum(line.startswith(("+", "-")) for some in lines for line in some)
        if referring:
            note = f"{number_of(referring, 'line')} of passwd or group that refer to a directory of users"
            reading = replace(reading, notes=(*reading.notes, note))
        reading = replace(reading, confined=confined)
    there = {x.store.casefold() for x in answers.disks().disks if not x.windows}
    say(f"{line.name}: {_in_short(reading)}")
    for note in reading.notes:
        say(f"  not judged: {note}")
    apply([put(DISK, DISK.data(reading), line.name.casefold() in there)])


def _read_descriptors(
    apply: Apply, answers: Answers, store: str, root: str | None, descriptors: bytes, names: bytes
) -> None:
    from drawknife.formats.descriptors_csv import folders_from_csv, names_from_csv
    from drawknife.formats.exported import exported_text

    folders, notes = folders_from_csv(StringIO(exported_text(descriptors, "descriptors"), newline=""), root)
    sid_names = names_from_csv(StringIO(exported_text(names, "names"), newline=""))
    found = DescriptorReading(
        store, datetime.now(UTC).replace(microsecond=0), tuple(folders), tuple(sid_names), tuple(notes)
    )
    say(f"{store}: {number_of(len(folders), 'folder')} with descriptors, {number_of(len(found.names), 'name')}")
    for note in notes:
        say(f"  not judged: {note}")
    there = {x.store.casefold() for x in answers.disks().disks if x.windows}
    apply([put(DESCRIPTORS, DESCRIPTORS.data(found), store.casefold() in there)])


def _in_short(reading: DiskReading) -> str:
    files = sum(x.number for x in reading.files)
    odd = f", {number_of(reading.odd, 'name')} that no model can hold" if reading.odd else ""
    return (
        f"{number_of(len(reading.folders), 'folder')} not as the one above would make them, "
        f"{number_of(files, 'file')}, {number_of(len(reading.users), 'user')}{odd}"
    )


def _acting(answers: Answers) -> list[str]:
    """The users of the machine that accounts act as."""
    return list(answers.host_users().users)


def _recorded(answers: Answers, store: str) -> list[str]:
    """The folders of a store that the model has."""
    top = f"{store}:"
    return [x.name.removeprefix(top) for x in answers.items("folder").items if x.name.startswith(top)]


def _read(top: str, store: str, confined: bool, recorded: Iterable[str], acting: Iterable[str]) -> DiskReading:
    from drawknife.disk import read_disk

    with counting("reading") as tell:
        try:
            return read_disk(
                top, store, confined=confined, recorded=recorded, acting=acting,
                progress=lambda things: tell(number_of(things, "thing")),
            )  # fmt: skip
        except OSError as error:
            fail(FAILED, f"{os.fsdecode(error.filename or top)} cannot be read: {error.strerror}")


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
        when = f"{d.taken:%Y-%m-%d %H:%M} (UTC)" if d.taken else "at an unknown time"
        confined = ", confined to its root" if d.confined else ""
        out.print(Text().append(d.store, "bold").append(f"   read {when}{confined}", "dim"))
        more = (
            f"{number_of(d.users, 'name')}"
            if d.windows
            else f"{number_of(d.files, 'file')}, {number_of(d.users, 'user')}"
        )
        out.print(f"    {number_of(d.folders, 'folder')} listed, {more}{'; a Windows tree' if d.windows else ''}")
        for note in [*d.notes, *([f"{number_of(d.odd, 'name')} that no model can hold"] if d.odd else [])]:
            out.print(f"    not judged: {note}", style="dim")
    if not found.disks:
        out.print("No disk was read yet: `drawknife disk read STORE` reads one.", style="dim")


@disk.command()
@click.argument("store")
@click.option("--account", metavar="NAME", help="Only of this account.")
@click.option(
    "--most", type=click.IntRange(1, 200_000), default=500, show_default=True, help="Tell so many lines at most."
)
@click.option("--fail", "failing", is_flag=True, help="Exit status 1 if they do not say the same.")
@asks
def compare(answers: Answers, store: str, account: str | None, most: int, failing: bool, as_json: bool) -> None:
    """Where the server and the disk of STORE do not say the same.

    What the server lets (by virtual path and folder) and the disk refuses, and what the disk lets and the server does not; of each account
    that acts as somebody there (setting acts_as), folder by folder. A folder that is as the one above it, or is not come to by it, is counted there.

    \b
    Example:
      drawknife disk compare survey
    """  # fmt: skip
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
        below = f"   {number_of(row.below, 'folder')} below with it" if row.below else ""
        out.print(Text(f"  {row.location}").append(f"   {row.place}{below}", "dim"))
        if row.refused:
            out.print(Text("    ✕ the disk refuses ", "red").append(", ".join(row.refused), "default"))
            out.print(Padding(Text(row.reason or "", "dim"), (0, 0, 0, 6), expand=False))
        for part in row.partly:
            out.print(f"    ◐ the disk refuses {part.right} on {part.refused:,} of {number_of(part.files, 'file')}")
        if row.wider:
            out.print(Text("    ! the disk lets besides ", "yellow").append(", ".join(row.wider), "default"))
            out.print(Padding(Text(row.server or "", "dim"), (0, 0, 0, 6), expand=False))
    folders = f"{number_of(found.folders, 'folder')} of {number_of(found.accounts, 'account')}"
    headline = f"{number_of(found.total, 'difference')} in {folders}" if found.total else f"No difference in {folders}."
    out.print(("\n" if found.rows else "") + headline)
    for owner in found.owners:
        out.print(f"no account acts as {owner.replace(' owns ', ', who owns ', 1)}", style="dim")
    for left in found.left_out:
        out.print(f"not told: {left}", style="dim")


def _read_of(answers: Answers, store: str) -> list[str]:
    """The kinds of what was read of a store."""
    lines = [d for d in answers.disks().disks if d.store.casefold() == store.casefold()]
    return ["descriptor-reading" if d.windows else "disk-reading" for d in lines] or ["disk-reading"]


@disk.command()
@click.argument("store")
@asks
def show(answers: Answers, store: str, as_json: bool) -> None:
    """Show all that was read of the disk of STORE.

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
    """Forget what was read of the disk of STORE.

    \b
    Example:
      drawknife disk remove survey
    """
    apply([{"op": "remove", "kind": kind, "name": store} for kind in _read_of(asking_with(apply.writer), store)])


disk.add_command(disk_plan.plan)
disk.add_command(disk_plan.put_back)
disk.add_command(disk_plan.adopt)
disk.add_command(disk_plan.descriptors)


def add_to(group: click.Group) -> None:
    group.add_command(disk)
