"""Making a disk say what the model says: the plan, doing it here, and taking it back."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from itertools import groupby
from typing import IO, TYPE_CHECKING, Any

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.core.words.sizes import number_of

from .changing import Apply, asking_with, edits
from .common import (
    FAILED,
    RAW,
    WRONG_USAGE,
    Answers,
    asks,
    confirm,
    console,
    counting,
    fail,
    moment,
    print_json,
    say,
    write_csv,
    write_output,
)

if TYPE_CHECKING:
    from drawknife.core.disk.plan_steps import PlanStep

_WHAT = {
    "folder": "itself",
    "children": "folders in it",
    "deeper": "folders further down",
    "below": "folders below it",
}


@click.command()
@click.argument("store")
@click.option(
    "--script",
    "as_script",
    is_flag=True,
    help="Print a Python script that applies and reverts the plan.",
)
@click.option(
    "--acl",
    "as_acl",
    is_flag=True,
    help="Print the folders' lists, for `setfacl --restore=-` in the root.",
)
@click.option(
    "--apply", "doing", is_flag=True, help="Apply the plan on this machine, after asking."
)
@click.option(
    "--root", metavar="FOLDER", help="With --apply or --script: where the store's root is."
)
@click.option(
    "--kept",
    metavar="FILE",
    help="With --apply: the file for what was there before.  [default: STORE-before.acl]",
)
@click.option("--yes", is_flag=True, help="With --apply: do not ask.")
@click.option(
    "--under",
    metavar="PATH",
    default="/",
    show_default=True,
    help="Only this folder and everything below it.",
)
@asks
def plan(
    *,
    answers: Answers,
    store: str,
    as_script: bool,
    as_acl: bool,
    doing: bool,
    root: str | None,
    kept: str | None,
    yes: bool,
    under: str,
    as_json: bool,
) -> None:
    """Plan access control lists that make the disk of STORE match the model.

    Each user that an account acts as gets what the model allows that account, in as few lines as
    possible. Other users keep their own lines and groups, and nobody gets more than the model and
    the disk gave before. Owners stay. The plan lists what access control lists cannot express, and
    every file that it opens. --apply and --script keep what was: `drawknife disk put-back` or
    `setfacl --restore` restores it.

    \b
    Examples:
      drawknife disk plan survey
      drawknife disk plan survey --script > survey-plan.sh
      drawknife disk plan survey --apply --root .run/files/survey
    """
    if as_script + as_acl + doing + as_json > 1:
        raise click.UsageError("one of --script, --acl, --apply and --json")
    if under != "/" and (as_acl or as_json):
        raise click.UsageError("--under does not go with --acl and --json")
    found = answers.disk_plan(store)
    if as_json:
        print_json(found)
    elif as_script or as_acl:
        _print_text(answers, found, root, as_script, under)
    elif doing:
        _do(answers, found, root, kept or f"{found.store}-before.acl", yes, under)
    else:
        _draw(found, under)


def _draw(found: msg.PlanAnswer, under: str = "/") -> None:
    out = console()
    if under != "/":
        found = _only_under(found, under)
    for path, steps in groupby(found.steps, key=lambda step: step.path):
        out.print(Text(f"{found.store}:{path}", "bold"))
        _draw_steps(out, steps)
    if found.not_said or found.made:
        out.print()
    tell_not_said(found.not_said, "What the lists cannot say:", out)
    for made in found.made:
        out.print(
            f"  new files in {made.place} can be {made.text} besides: one list is for new files and"
            " new folders"
        )
    _draw_opened(out, "Files opened to more users:", found.opened)
    _draw_opened(
        out,
        "Files that stay closed, as others beside them are open (open them by hand, and read the"
        " disk again):",
        found.private,
    )
    changes = number_of(len(found.steps), "change")
    said = number_of(len(found.not_said), "thing") if found.not_said else "nothing"
    out.print(f"\n{changes if found.steps else 'Nothing to change'}; {said} that lists cannot say")
    for note in found.notes:
        out.print(f"  {note}", style="dim")


def _draw_steps(out: Console, steps: Iterable[msg.PlanStepMessage]) -> None:
    """The steps of one folder; those that change the same lines together."""
    alike: dict[tuple[str, ...], list[str]] = {}
    for step in steps:
        what = number_of(step.number, "file") if step.what == "files" else _WHAT[step.what]
        perhaps = ", if it is there" if step.perhaps and step.what == "folder" else ""
        alike.setdefault(tuple(step.lines), []).append(what + perhaps)
    for lines, whats in alike.items():
        out.print(Text("  " + " and ".join(whats), "dim"))
        for line in lines:
            out.print(Text(f"    {line}", "green" if line[0] == "+" else "red"))


def _draw_opened(out: Console, title: str, files: Sequence[msg.OpenedMessage]) -> None:
    if files:
        out.print(title, style="bold")
    for file in files:
        line = Text(f"  {number_of(file.number, 'file')} in {file.place}", "bold")
        out.print(line.append(f"   {file.thing}", "dim"))
        for word, users in (("read", file.read), ("write", file.write)):
            if users:
                out.print(f"    {word}: {', '.join(users)}")


def _only_under(found: msg.PlanAnswer, under: str) -> msg.PlanAnswer:
    def is_under(path: str) -> bool:
        return path == under or path.startswith(under.rstrip("/") + "/")

    place = len(found.store) + 1
    return found.model_copy(
        update={
            "steps": [s for s in found.steps if is_under(s.path)],
            "not_said": [x for x in found.not_said if is_under(x.place[place:])],
            "made": [x for x in found.made if is_under(x.place[place:])],
            "opened": [x for x in found.opened if is_under(x.place[place:])],
            "private": [x for x in found.private if is_under(x.place[place:])],
        }
    )


def tell_not_said(rows: Sequence[msg.NotSaid], title: str, out: Console) -> None:
    """Where model and disk would not say the same, and why."""
    if rows:
        out.print(title, style="bold")
    for row in rows:
        below = f"   and {number_of(row.below, 'folder')} below" if row.below else ""
        out.print(
            Text(f"  {row.account}", "bold").append(
                f" at {row.location}   {row.place}{below}", "default"
            )
        )
        for mark, style, word, rights in (
            ("✕", "red", "still refused", row.refused),
            ("!", "yellow", "also allowed", row.wider),
        ):
            if rights:
                out.print(Text(f"    {mark} {word} ", style).append(", ".join(rights), "default"))
        for part in row.partly:
            out.print(
                f"    ◐ {part.right}: refused on {part.refused:,} of"
                f" {number_of(part.files, 'file')}"
            )
        for reason in row.reasons:
            out.print(Padding(Text(reason, "dim"), (0, 0, 0, 6), expand=False))


def _steps(found: msg.PlanAnswer) -> list[PlanStep]:
    from drawknife.core.disk.plan_steps import PlanStep
    from drawknife.core.model.disk import parse_described

    return [
        PlanStep(
            s.path,
            s.what,
            parse_described(s.now),
            parse_described(s.planned),
            s.number,
            tuple(s.but),
            s.perhaps,
        )
        for s in found.steps
    ]


def _root(found: msg.PlanAnswer, root: str | None) -> str:
    top = root or found.root
    if top is None:
        raise click.UsageError(
            f"store {found.store} is only planned: it has no root; name one with --root"
        )
    return top


def _print_text(
    answers: Answers, found: msg.PlanAnswer, root: str | None, as_script: bool, under: str
) -> None:
    from drawknife.disk.plan_text import restore_text, script

    steps = _steps(found)
    if as_script:
        read = f", read {moment(found.taken)}" if found.taken else ""
        about = (
            f"Makes the disk of {found.store}{read} say what the model says at revision"
            f" {found.revision}."
        )
        write_output(script(_data(answers, found, _root(found, root), under), about))
        return
    write_output(restore_text(steps))
    left = sum(s.what != "folder" or s.perhaps for s in steps)
    if left:
        say(
            f"{number_of(left, 'change')} of files, and of folders that the reading does not name:"
            " only --script and --apply do them"
        )


def _data(answers: Answers, found: msg.PlanAnswer, top: str, under: str) -> dict[str, Any]:
    """A plan with the reading that it is of, as it is carried out."""
    from drawknife.core.words.names import check_path
    from drawknife.disk.plan_text import plan_data
    from drawknife.formats.model_file import read_item

    reading = read_item("disk-reading", answers.item("disk-reading", found.store).item)
    return plan_data(reading, top, _steps(found), check_path(under))


def _do(
    answers: Answers, found: msg.PlanAnswer, root: str | None, kept: str, yes: bool, under: str
) -> None:
    from drawknife.disk.standalone.carrying_out import carry_out, kept_in

    top = _root(found, root)
    if not os.path.isdir(top):
        fail(
            FAILED,
            f"there is no folder {top} on this machine; where the store's files are here, --root"
            " says",
        )
    if not (_only_under(found, under) if under != "/" else found).steps:
        write_output("Nothing to change.\n")
        return
    if not yes:
        _draw(found, under)
        confirm(f"Do it at {top}?", abort=True)
    data = _data(answers, found, top, under)
    try:
        # What is there already may be the only way back of an earlier time: it is never written
        # over.
        with kept_in(kept) as keep, counting("changing") as tell:
            done = carry_out(top, data, keep, lambda n: tell(number_of(n, "thing")))
    except FileExistsError:
        fail(
            FAILED,
            f"{kept} already exists, and may be needed to put something back: name another file"
            " with --kept",
        )
    except OSError as error:
        back = (
            f"; `drawknife disk put-back {kept} --root {top}` undoes what was changed"
            if os.path.exists(kept)
            else ""
        )
        fail(
            FAILED,
            f"{os.fsdecode(error.filename or top)} cannot be changed: {error.strerror}{back}",
        )
    was = f"; {kept} has what was" if done.changed else ""
    say(f"{number_of(done.changed, 'thing')} changed{was}")
    for left in done.in_words():
        say(f"  not changed: {left}")
    say(
        "Read the disk again: `drawknife disk read"
        f" {found.store}{f' --root {root}' if root else ''}`"
    )
    if done.left:
        raise SystemExit(FAILED)


@click.command()
@click.argument("store")
@edits
def adopt(apply: Apply, store: str) -> None:
    """Adopt the permissions on the disk of STORE in the model.

    The folders of STORE get owners, seals and entries that match the disk's lists.
    For each account that acts as a user there (setting acts_as). The lines name groups and units
    where all their accounts may have the same. Lines that the store's folders have now go. Best
    into a draft, to be looked at: what would not be the same is told.

    \b
    Example:
      drawknife disk adopt survey --draft as-it-is
    """
    answers = asking_with(apply.writer)
    found = answers.adopt(store)
    say(
        f"{found.store}: {number_of(found.folders, 'folder')} with lines,"
        f" {number_of(len(found.changes), 'change')}"
    )
    tell_not_said(
        found.not_said,
        "What the model does not say as the disk does, after it:",
        console(error=True),
    )
    for note in found.notes:
        say(f"  {note}")
    if found.changes:
        apply(found.changes)


@click.command()
@click.argument("store")
@click.option(
    "--root", metavar="FOLDER", help="The root, as Windows writes it.  [default: the store's root]"
)
@RAW
@asks
def descriptors(answers: Answers, store: str, root: str | None, raw: bool, as_json: bool) -> None:
    """Print the model of STORE as security descriptors (CSV).

    For a store whose Windows tree was read: path, owner and descriptor. Differences that
    descriptors cannot express go to standard error.

    \b
    Example:
      drawknife disk descriptors public > public-descriptors.csv
    """
    found = answers.descriptors(store)
    if as_json:
        print_json(found)
        return
    from drawknife.core.model.described_folders import DescribedFolder
    from drawknife.formats.descriptors_csv import COLUMNS, rows_of

    item = answers.item("store", found.store).item
    folders = [DescribedFolder(row.path, row.descriptor) for row in found.rows]
    write_csv([COLUMNS, *rows_of(folders, root or item.get("root") or "")], raw)
    tell_not_said(found.not_said, "What descriptors cannot say:", console(error=True))
    for note in found.notes:
        say(f"  {note}")


@click.command("put-back")
@click.argument("file", type=click.File("rb"))
@click.option("--root", metavar="FOLDER", required=True, help="Where the store's root is.")
@click.option("--yes", is_flag=True, help="Do not ask.")
def put_back(file: IO[bytes], root: str, yes: bool) -> None:
    """Restore what a plan changed, from the FILE that it kept.

    \b
    Example:
      drawknife disk put-back survey-before.acl --root .run/files/survey
    """
    from drawknife.disk.standalone import carrying_out
    from drawknife.disk.standalone.lists_and_modes import NotKept, kept_things

    text = file.read()
    try:
        things = len(kept_things(text))
        if things and not yes:
            confirm(f"Put back {number_of(things, 'thing')} at {root}?", abort=True)
        done = carrying_out.put_back(root, text)
    except NotKept as error:
        fail(WRONG_USAGE, f"{file.name}: {error}")
    except OSError as error:
        fail(FAILED, f"{os.fsdecode(error.filename or root)} cannot be changed: {error.strerror}")
    say(f"{number_of(done.changed, 'thing')} put back")
    for left in done.in_words():
        say(f"  not changed: {left}")
