"""Reports of who can get at what, for whoever answers for it to go through and sign."""

from __future__ import annotations

from pathlib import Path
from typing import BinaryIO

import click
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.sizes import number_of, several

from .columns import plain_table
from .common import WRONG_USAGE, console, fail, moment, print_json, say, serves

_KINDS = ("pdf", "xlsx", "html")
_JSON = click.option("--json", "as_json", is_flag=True, help="Print JSON.")
_OUT = click.option(
    "--out",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Write it as a document; its ending says which kind: .pdf, .xlsx or .html.",
)


@click.group()
def report() -> None:
    """Reports to be signed: make, list, show, send, signed."""


@report.command("make")
@click.argument("about")
@_OUT
@_JSON
@serves
def make(client: Client, about: str, out: Path | None, as_json: bool) -> None:
    """Make a report of who can get at a folder, a store or a group, for whoever answers for it to
    go through.

    It is kept with its number. What has changed since one about the same was signed is marked in
    it.

    \b
    Examples:
      drawknife report make survey:/inbox --out inbox.pdf
      drawknife report make store:public --out public.xlsx
      drawknife report make group:boats
    """
    kind = _kind(out)
    found = client.make_report(about)
    _give(client, found, out, kind, as_json)


def _kind(out: Path | None) -> str | None:
    if out is None:
        return None
    kind = out.suffix.lower().lstrip(".")
    if kind not in _KINDS:
        fail(
            WRONG_USAGE, f"{out} has no ending that says what it is to be; .pdf, .xlsx or .html do"
        )
    return kind


def _give(
    client: Client, found: msg.Report, out: Path | None, kind: str | None, as_json: bool
) -> None:
    if out is not None and kind is not None:
        out.write_bytes(client.report_document(found.number, kind))
        say(f"wrote report {found.number} about {found.about} to {out}")
        if found.signed is None:
            say(f"To sign it when it is returned: drawknife report signed {found.number} FILE")
    elif as_json:
        print_json(found)
    else:
        _draw(found)


def _draw(found: msg.Report) -> None:
    out = console()
    out.print(Text(found.title, "bold"))
    out.print(
        f"report {found.number}, revision {found.revision}, made {moment(found.made)} by"
        f" {found.made_by}",
        style="dim",
    )
    for note in found.notes:
        out.print(note, style="dim")
    table = plain_table("row", "where", "who", "may", "by")
    for row in found.rows:
        who = several(row.accounts, 8)
        if row.new and found.since is not None:
            who += (
                " (new)" if len(row.new) == len(row.accounts) else f" (new: {several(row.new, 4)})"
            )
        table.add_row(str(row.number), row.place, who, row.may, "\n".join(row.by))
    out.print(table)
    for line in found.gone:
        out.print(
            Padding(
                Text("gone since ", "yellow").append(line, "default"), (0, 0, 0, 2), expand=False
            )
        )
    for line in found.not_removed:
        text = Text("to be removed, but still present ", "yellow").append(line, "default")
        out.print(Padding(text, (0, 0, 0, 2), expand=False))
    _draw_signed(found.signed)
    _draw_decided(found)
    for link in found.links:
        out.print(
            f"sent to {link.address} by {link.sent_by}; the link expires on"
            f" {link.expires:%Y-%m-%d}",
            style="dim",
        )


def _draw_decided(found: msg.Report) -> None:
    """The decision on each row, with its remark."""
    for d in sorted(found.decided, key=lambda d: d.row):
        style = "yellow" if d.decision == "take away" else ""
        text = Text(f"row {d.row}: ").append(
            "remove" if d.decision == "take away" else d.decision, style
        )
        text.append(f": {d.remark}" if d.remark else "")
        console().print(Padding(text, (0, 0, 0, 2)))


def _draw_signed(signed: msg.Signed | None) -> None:
    if signed is None:
        console().print("not signed", style="yellow")
        return
    through = f", through a link that {signed.sent_by} sent," if signed.sent_by is not None else ""
    said = (
        f"signed by {signed.by}{through} on {signed.at:%Y-%m-%d}: {number_of(signed.kept, 'row')}"
        f" kept, {len(signed.taken_away)} to remove"
    )
    if signed.undecided:
        said += f", {len(signed.undecided)} undecided ({several(map(str, signed.undecided), 10)})"
    console().print(said)


@report.command("list")
@_JSON
@serves
def list_reports(client: Client, as_json: bool) -> None:
    """List the reports, and who signed them.

    \b
    Example:
      drawknife report list
    """
    found = client.reports()
    if as_json:
        print_json(found)
        return
    table = plain_table("report", "about", "revision", "made", "by", "signed")
    for r in found.reports:
        signed = "" if r.signed is None else f"{r.signed.at:%Y-%m-%d}, {r.signed.by}"
        table.add_row(
            str(r.number), r.about, str(r.revision), f"{r.made:%Y-%m-%d}", r.made_by, signed
        )
    console().print(table)


@report.command("show")
@click.argument("number", type=int)
@_OUT
@click.option(
    "--returned",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Write the returned document, as it came back, to a file.",
)
@_JSON
@serves
def show(
    client: Client, number: int, out: Path | None, returned: Path | None, as_json: bool
) -> None:
    """Show a report, with what was decided, or write it as a document.

    \b
    Examples:
      drawknife report show 3
      drawknife report show 3 --out inbox.html
      drawknife report show 3 --returned as-signed.pdf
    """
    if returned is not None:
        returned.write_bytes(client.returned_document(number))
        say(f"wrote the returned document of report {number} to {returned}")
        return
    _give(client, client.report(number), out, _kind(out), as_json)


@report.command("send")
@click.argument("number", type=int)
@click.option(
    "--to", required=True, metavar="ADDRESS", help="Mail address of the person who signs."
)
@click.option(
    "--days",
    default=14,
    show_default=True,
    type=click.IntRange(1, 90),
    help="Days until the link expires.",
)
@_JSON
@serves
def send(client: Client, number: int, to: str, days: int, as_json: bool) -> None:
    """Mail somebody a link to review and sign a report.

    The person needs no account here. The link shows only this report and works once. The access
    that they remove goes into a draft, which an administrator applies. The service needs a mail
    server and its public address (`serve --public-url`).

    \b
    Example:
      drawknife report send 3 --to edda@tidewrack.example
    """
    sent = client.send_report(number, to, days)
    if as_json:
        print_json(sent)
        return
    say(f"sent to {sent.address}; the link works once and expires on {moment(sent.expires)}")


@report.command("signed")
@click.argument("number", type=int)
@click.argument("document", type=click.File("rb"))
@click.option(
    "--draft",
    metavar="NAME",
    help="The draft for what is to go; left out: one named after the report.",
)
@_JSON
@serves
def signed(
    client: Client, number: int, document: BinaryIO, draft: str | None, as_json: bool
) -> None:
    """Sign a report: with the PDF or workbook filled in, or the file that the page saved.

    You sign it under your own name. What is to be removed is put into a draft, to be reviewed and
    applied.

    \b
    Example:
      drawknife report signed 3 inbox.pdf
    """
    done = client.sign_report(number, document.read(), draft)
    if as_json:
        print_json(done)
        return
    _draw_signed(done.report.signed)
    for line in done.says:
        console().print(Padding(Text(line), (0, 0, 0, 2), expand=False))
    for line in done.left:
        console().print(
            Padding(Text("! ", "yellow").append(line, "default"), (0, 0, 0, 2), expand=False)
        )
    if done.report.signed is not None and done.report.signed.draft:
        name = done.report.signed.draft
        say(f"Draft {name} has these changes. Review it: drawknife draft show {name}")


def add_to(main: click.Group) -> None:
    main.add_command(report)
