"""Ways to mend a refusal, or to stop what is allowed."""

from __future__ import annotations

from datetime import date
from typing import Any

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.sizes import number_of

from .changing import Writer, asking_with, tell_changed, writes
from .common import NOT_SO, WRONG_USAGE, console, fail, print_json, say
from .previews import draw_preview
from .why import questions

#: Of the wider ways with the same effect so many are told.
ALIKE = 3


@click.command()
@questions
@click.option("--stop", is_flag=True, help="It is allowed: the ways to refuse it.")
@click.option(
    "--most", default=5, show_default=True, type=click.IntRange(1, 16), help="So many ways at most."
)
@click.option(
    "--take",
    type=click.IntRange(1),
    metavar="N",
    help="Do way N; with --draft, put it in that draft.",
)
@click.option(
    "--until",
    type=click.DateTime(["%Y-%m-%d"]),
    metavar="DAY",
    callback=lambda _context, _option, value: value and value.date(),
    help="The last day of each line that a way adds.",
)
@click.option(
    "--note", metavar="TEXT", help="Why it is there: a note on each line that a way adds."
)
@click.option("--preview", is_flag=True, help="With --take: show what it would do, and do nothing.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@writes
def mend(
    writer: Writer,
    target: str | None,
    question: dict[str, Any],
    *,
    stop: bool,
    most: int,
    take: int | None,
    until: date | None,
    note: str | None,
    preview: bool,
    as_json: bool,
) -> None:
    """What would let ACCOUNT do ACTION at LOCATION, and what else would follow from it.

    The ways come with the least harm first: those that break no promise, then by how many others
    gain or lose anything. None of the changes of a way can be left out; what stands after "or" has
    the same effect today, and speaks of more people. Facts are given as to `why`. With --draft, it
    is asked as it would be with that draft. Exit status 1 where there is no way to it.

    \b
    Examples:
      drawknife mend fulmar upload /charts/x
      drawknife mend refa list /charts --take 1 --draft for-refa
      drawknife mend refa list /charts --until 2027-03-31 --note "audit" --take 1 --preview
      drawknife mend odile download /charts/sheet-14.pdf --stop
    """
    if preview and take is None:
        raise click.UsageError("--preview goes with --take N: it shows what way N would do")
    found = asking_with(writer).mend(question, stop, max(most, take or 1), until, note)
    if take is None:
        print_json(found) if as_json else _draw(console(), found, stop, until)
        raise SystemExit(0 if found.mends or found.allowed is not stop else NOT_SO)
    if take > len(found.mends):
        _draw(console(), found, stop, until)
        fail(WRONG_USAGE, f"there is no way {take}; there are {len(found.mends)}")
    way = found.mends[take - 1]
    for line in way.says:
        say(line)
    if until is not None and not way.ends:
        say(_stays(until))
    if preview:
        previewed = writer.preview([c.plain() for c in way.changes])
        print_json(previewed) if as_json else draw_preview(console(), previewed)
        return
    # What was looked at is what is done: at that revision, or not at all.
    done = writer.change(
        [c.plain() for c in way.changes], found.revision if isinstance(writer, Client) else None
    )
    print_json(done) if as_json else tell_changed(done, target)


def _stays(until: date) -> str:
    return f"Not all of this ends on {until}: only lines that allow something have a last day."


def _draw(out: Console, found: msg.MendsAnswer, stop: bool, until: date | None) -> None:
    word = (" ALLOWED ", "reverse green") if found.allowed else (" REFUSED ", "reverse red")
    out.print(Text().append(*word).append(f"  {found.text}"))
    if found.allowed is not stop:
        out.print("There is nothing to stop." if stop else "There is nothing to mend.", style="dim")
    elif not found.mends and found.on_disk:
        out.print("The model allows it; the disk does not.")
    elif not found.mends:
        out.print(
            "No change of the model would "
            + ("refuse it." if stop else "allow it: see `drawknife why`.")
        )
    for mend in found.mends:
        _draw_fix(out, mend, " in your area" if found.only_area else "", until)
    if found.on_disk:
        out.print(Text("\nOn the disk, as well" if found.mends else "\nOn the disk", "bold"))
        for line in found.on_disk:
            out.print(Padding(line, (0, 0, 0, 2), expand=False))
    for left in found.left_out:
        out.print()
        out.print(Padding(Text(left, "dim"), (0, 0, 0, 0), expand=False))


def _draw_fix(out: Console, m: msg.MendMessage, where: str, until: date | None) -> None:
    """One fix with what it changes, and `where` its effects on others were checked."""

    def below(text: Text) -> None:
        out.print(Padding(text, (0, 0, 0, 4), expand=False))

    out.print()
    out.print(Text(f"{m.number:>2}  ", "bold").append(m.says[0], "bold"))
    for line in m.says[1:]:
        below(Text(line, "bold"))
    for alike in m.alike[:ALIKE]:
        others = "; ".join(line for line in alike.says if line not in m.says)
        below(Text("or ", "dim").append(others, "default"))
    if len(m.alike) > ALIKE:
        out.print(f"    or {len(m.alike) - ALIKE} more that are wider", style="dim")
    for broken in m.breaks:
        below(Text("✗ breaks ", "red").append(broken, "default"))
    if m.other_count:
        below(Text(f"{number_of(m.other_count, 'other account')}{where}", "yellow"))
    else:
        below(Text(f"no effect on others{where}", "dim"))
    for line in m.follows:
        below(Text("→ ", "dim").append(line, "default"))
    if until is not None and not m.ends:
        below(Text(_stays(until), "yellow"))


def add_to(group: click.Group) -> None:
    group.add_command(mend)
