"""The limits: headroom, usage, limits, censuses; and the sheet for a user."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.errors import NotFound
from drawknife.core.words.sizes import number_of, show_size

from .columns import plain_table
from .common import (
    RAW,
    WITHOUT_DISK,
    WRONG_USAGE,
    Answers,
    asks,
    console,
    fail,
    moment,
    print_json,
    print_text,
    say,
    serves,
    write_csv,
    write_output,
)

Apply = Callable[[Sequence[dict[str, Any]]], None]
AT = click.option("--at", metavar="TIME", help="As of this ISO 8601 time instead of now.")


def amount(bytes_: int | None) -> str:
    return "as much as one likes" if bytes_ is None else show_size(bytes_)


def bar(used: int, hard: int | None, soft: int | None, width: int = 20) -> Text:
    """How full a limit is: a bar with a mark at the soft limit."""
    most = hard if hard is not None else soft
    if not most:
        return Text(" " * width)
    share = min(used / most, 1.0)
    full = round(share * width)
    style = (
        "red"
        if share >= 1 or (soft is not None and used > soft)
        else "yellow"
        if share >= 0.9
        else "green"
    )
    text = Text("█" * full, style).append("░" * (width - full), "dim")
    if soft is not None and hard:
        at = min(int(soft / hard * width), width - 1)
        text = text[:at].append("┃", "bold").append_text(text[at + 1 :])
    return text


@click.command()
@click.argument("account")
@click.argument("location")
@AT
@asks
def headroom(answers: Answers, account: str, location: str, at: str | None, as_json: bool) -> None:
    """How much more ACCOUNT can put at LOCATION, by every limit that counts, and the one that
    binds.

    \b
    Examples:
      drawknife headroom fulmar /inbox
      drawknife headroom odile /charts/issued
    """
    found = answers.headroom(account, location, at)
    if as_json:
        print_json(found)
        return
    out = console()
    out.print(
        Text("Room for ")
        .append(found.account, "bold")
        .append(f" at {found.location}, {found.place}")
    )
    if found.owner != found.account:
        out.print(f"  what it uploads belongs to {found.owner}, whose limits count", style="dim")
    bound = f", by the {found.bytes_bound_by}" if found.bytes_bound_by else ""
    out.print(Text("  ").append(amount(found.bytes), "bold").append(bound))
    if found.files is not None:
        out.print(
            Text("  ")
            .append(number_of(found.files, "file"), "bold")
            .append(f", by the {found.files_bound_by}")
        )
    if found.upload_limit is not None:
        out.print(f"  a single file of {show_size(found.upload_limit)} at most", style="dim")
    out.print()
    draw_limits(out, found.limits)


def draw_limits(out: Console, limits: Sequence[msg.LimitMessage]) -> None:
    """Limits as bars, a line each for bytes and for files."""
    if not limits:
        out.print("  no limit counts here", style="dim")
        return
    table = plain_table("  limit", "", "used", "hard", "soft", "room")
    for x in limits:
        called = f"  {x.called}"
        for used, hard, soft, room, show in (
            (x.used_bytes, x.hard_bytes, x.soft_bytes, x.room_bytes, show_size),
            (
                x.used_files,
                x.hard_files,
                x.soft_files,
                x.room_files,
                lambda n: number_of(n, "file"),
            ),
        ):
            if hard is None and soft is None:
                continue
            none = room == 0
            table.add_row(
                called,
                bar(used, hard, soft),
                show(used),
                "" if hard is None else show(hard),
                "" if soft is None else show(soft),
                Text(
                    "" if room is None else "none" if none else show(room),
                    "red" if none else "default",
                ),
            )
            called = ""
    out.print(table)
    for x in limits:
        if x.grace_ends:
            ended = "ended" if 0 in (x.room_bytes, x.room_files) else "ends"
            out.print(
                Text(
                    f"  ! {x.called}: above its soft limit; the grace period {ended}"
                    f" {moment(x.grace_ends)}",
                    "yellow",
                )
            )


@click.command()
@click.argument(
    "by", default="account", type=click.Choice(["account", "group", "unit", "folder", "store"])
)
@click.option(
    "--limit",
    default=30,
    show_default=True,
    type=click.IntRange(1, 100_000),
    help="How many to tell.",
)
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV.")
@RAW
@asks
def usage(answers: Answers, by: str, limit: int, as_csv: bool, raw: bool, as_json: bool) -> None:
    """Usage by accounts, groups, units, folders, or stores, the most first.

    \b
    Examples:
      drawknife usage
      drawknife usage folder --limit 10
    """
    found = answers.usage(by, limit=limit)
    if as_json:
        print_json(found)
        return
    if as_csv:
        write_csv([(by, "bytes", "files"), *((u.name, u.bytes, u.files) for u in found.lines)], raw)
        return
    out = console()
    table = plain_table(by, "", "bytes", "files")
    most = max((u.bytes for u in found.lines), default=0)
    for u in found.lines:
        full = round(24 * u.bytes / most) if most else 0
        table.add_row(
            u.name or Text("nobody known", "yellow"),
            Text("█" * full, "green"),
            show_size(u.bytes),
            f"{u.files:,}",
        )
    out.print(table)
    if found.total > len(found.lines):
        out.print(f"and {found.total - len(found.lines)} more", style="dim")
    out.print(
        f"\n{show_size(found.total_bytes)} in {number_of(found.total_files, 'file')} in all",
        style="dim",
    )


@click.command()
@click.argument("name", required=False)
@AT
@asks
def limits(answers: Answers, name: str | None, at: str | None, as_json: bool) -> None:
    """Every limit, the fullest first; with NAME who and what fills that one, and how it grows.

    Growth is a straight line through what the censuses found; the dates around the estimate are
    where two standard errors of its slope put it.

    \b
    Examples:
      drawknife limits
      drawknife limits tides-shelf
    """
    found = answers.limits(at)
    chosen = [x for x in found.limits if name in (None, x.name)]
    if name is not None and not chosen:
        raise NotFound("limit", name, (x.name for x in found.limits), "name")
    if as_json:
        print_json(found.model_copy(update={"limits": chosen}))
        return
    out = console()
    if name is None:
        draw_limits(out, chosen)
        _draw_promised(out, found.promised)
        return
    for x in chosen:
        _draw_filled(out, x)


def _draw_promised(out: Console, promised: Sequence[msg.PromisedLine]) -> None:
    for p in promised:
        where = f"store {p.store}" if p.store else "all stores together"
        share = p.given / p.capacity if p.capacity else 0
        open_ = (
            f"; {number_of(p.unlimited_accounts, 'account')} without a limit in bytes"
            if p.unlimited_accounts
            else ""
        )
        line = Text(f"\n  {where}: ").append(
            f"{show_size(p.given)} given away of {show_size(p.capacity)} ({share:.0%})",
            "red" if share > 1 else "default",
        )
        out.print(line.append(open_, "dim"))


def _draw_filled(out: Console, x: msg.FilledLimit) -> None:
    draw_limits(out, [x])
    for heading, lines in (("Who fills it", x.accounts), ("Where", x.folders)):
        if lines:
            out.print(f"\n{heading}", style="bold")
            table = plain_table("", "bytes", "files")
            for u in lines:
                table.add_row(f"  {u.name or 'nobody known'}", show_size(u.bytes), f"{u.files:,}")
            out.print(table)
    for g in x.growth:
        if (x.hard_bytes if g.what == "bytes" else x.hard_files) is None:
            continue
        rate = (
            show_size(round(abs(g.per_day)))
            if g.what == "bytes"
            else f"{abs(g.per_day):,.0f} files"
        )
        way = (
            f"{'grows' if g.per_day > 0 else 'shrinks'} by {rate} a day"
            if round(g.per_day)
            else "none to speak of"
        )
        line = Text("\nGrowth: ", "bold").append(
            f"{way}, from {g.measurements} censuses", "default"
        )
        if g.reached:
            line.append(f"; full around {g.reached:%Y-%m-%d}", "bold")
            if g.soonest and g.soonest.date() != (g.latest and g.latest.date()):
                line.append(
                    f" (between {g.soonest:%Y-%m-%d} and"
                    f" {f'{g.latest:%Y-%m-%d}' if g.latest else 'never'})",
                    "dim",
                )
        out.print(line)
    out.print(f"\n  {x.fullness:.0%} full", style="dim")


@click.command()
@click.argument("account")
@click.option("--endpoint", metavar="NAME", help="Only by this endpoint.")
@click.option(
    "--format",
    "format_",
    type=click.Choice(["text", "markdown", "html", "pdf"]),
    default="text",
    show_default=True,
)
@click.option(
    "--out", type=click.Path(dir_okay=False, path_type=Path), help="Write it into this file."
)
@WITHOUT_DISK
@asks
def handover(
    answers: Answers,
    account: str,
    endpoint: str | None,
    format_: str,
    out: Path | None,
    as_json: bool,
) -> None:
    """A short sheet for the user of ACCOUNT: where to connect, what is there, what applies.

    No secrets.

    The HTML is one page that prints well; the PDF has the letters that it needs in it.

    \b
    Examples:
      drawknife handover harrow-dredging
      drawknife handover kittiwake --endpoint harbour --format html > kittiwake.html
      drawknife handover kittiwake --format pdf --out kittiwake.pdf
    """
    if format_ == "pdf":
        if out is None:
            fail(WRONG_USAGE, "a PDF is not for a terminal: say where to write it with --out FILE")
        out.write_bytes(answers.handover_document(account, endpoint))
        say(f"the sheet is in {out}")
        return
    found = answers.handover(account, endpoint, format_)
    if as_json:
        print_json(found)
    elif out is not None:
        out.write_text(found.text)
    else:
        write_output(found.text)


@click.command()
@click.option("--json-lines", "as_lines", is_flag=True, help="Print JSON lines.")
@click.option("--limit", default=20, show_default=True, type=click.IntRange(1, 10_000))
@click.option(
    "--forget",
    nargs=2,
    metavar="STORE TIME",
    help="Forget one that was wrong, by its time as listed.",
)
@serves
def censuses(client: Client, as_lines: bool, limit: int, forget: tuple[str, str] | None) -> None:
    """The censuses, the newest first: what each store held, and what could not be read.

    \b
    Examples:
      drawknife censuses
      drawknife censuses --forget public "2026-11-02 04:00:11"
    """
    if forget is not None:
        client.forget_census(*forget)
        say(
            f"the census of {forget[0]} at {forget[1]} is forgotten; the usage stays as it is until"
            " the next"
        )
        return
    found = client.censuses(limit)
    if as_lines:
        for line in found.censuses:
            print_text(json.dumps(line.model_dump(mode="json"), ensure_ascii=False))
        return
    table = plain_table("store", "when (UTC)", "by", "bytes", "files", "wants a look")
    for c in found.censuses:
        wants = [f"{len(c.unreadable)} unreadable"] if c.unreadable else []
        wants += [f"{len(c.unknown_owners)} owners unknown"] if c.unknown_owners else []
        table.add_row(
            c.store,
            f"{c.at:%Y-%m-%d %H:%M:%S} UTC",
            c.who,
            show_size(c.bytes),
            f"{c.files:,}",
            Text(", ".join(wants), "yellow"),
        )
    console().print(table if found.censuses else Text("no census was taken yet", "dim"))


def add_to(group: click.Group) -> None:
    for command in (headroom, usage, limits, handover, censuses):
        group.add_command(command)
