"""The whole model: load, dump, check."""

from __future__ import annotations

import sys
from datetime import datetime
from pathlib import Path

import click
from rich.padding import Padding
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.everybody.severity import SEVERITIES
from drawknife.core.words.sizes import number_of
from drawknife.formats.document import BadDocument

from .changing import DRAFT, say_followed, tell_changed
from .common import (
    AS_OF,
    IN_DRAFT,
    NOT_SO,
    WRONG_USAGE,
    Answers,
    asked_of,
    asks,
    confirm,
    console,
    errors_in_words,
    fail,
    faults_of,
    file_answering,
    print_json,
    print_text,
    read_model_file,
    say,
    serves,
    write_output,
)
from .previews import draw_preview


@click.command()
@click.argument("file")
@click.option(
    "--preview", is_flag=True, help="Show what it would change, and what follows; do nothing."
)
@click.option(
    "--if-revision", type=int, metavar="N", help="Only if revision N is the one in force."
)
@click.option("--yes", is_flag=True, help="Do not ask, even if accounts go.")
@DRAFT
@serves
def load(
    client: Client, file: str, preview: bool, if_revision: int | None, yes: bool, draft: str | None
) -> None:
    """Put the model FILE in force in place of the model there is ("-": standard input).

    All or nothing: a file with a mistake changes nothing, and all its mistakes are told. Where
    accounts would go, it is asked first; off a terminal that needs --yes.

    \b
    Examples:
      drawknife load demo/tidewrack.yaml --preview
      drawknife load demo/tidewrack.yaml
    """
    raw = read_model_file(file)
    if preview:
        with errors_in_words(file):
            draw_preview(console(), client.preview_model(raw))
        return
    if draft is not None:
        with errors_in_words(file):
            tell_changed(client.add_model_to_draft(draft, raw))
        return
    if not yes:
        with errors_in_words(file):
            losses = client.losses(raw)
        if_revision = if_revision if if_revision is not None else losses.revision
        _ask_about(losses)
    with (
        errors_in_words(file),
        Progress(
            TextColumn("{task.description}"),
            BarColumn(),
            TextColumn("{task.percentage:>3.0f} %"),
            TimeElapsedColumn(),
            console=console(error=True),
            transient=True,
            disable=not sys.stderr.isatty(),
        ) as bar,
    ):
        task = bar.add_task("sending", total=max(len(raw), 1))

        def progress(sent: int, total: int) -> None:
            bar.update(
                task,
                completed=sent,
                description="sending" if sent < total else "checking and writing",
            )

        done = client.load(raw, progress, if_revision)
    counts = ", ".join(
        f"{count} {name.replace('_', ' ')}" for name, count in done.counts.items() if count
    )
    say(
        f"revision {done.revision} is in force: {counts}"
        if done.changed
        else f"revision {done.revision} says the same already; nothing changed"
    )
    say_followed(done.followed)


def _ask_about(losses: msg.LoadLosses) -> None:
    """Ask before accounts go. Off a terminal nobody can answer, so nothing is done."""
    if not losses.accounts and not losses.folders:
        return
    parts = [
        f"{count:,} {word}{'' if count == 1 else 's'}"
        for count, word in (
            (losses.accounts, "account"),
            (losses.folders, "folder"),
            (losses.passwords, "password"),
            (losses.keys, "key"),
        )
        if count
    ]
    named = (
        f" ({', '.join(losses.named)}{', …' if losses.accounts > len(losses.named) else ''})"
        if losses.named
        else ""
    )
    text = f"with this file {' and '.join(parts)} would go{named}"
    if not losses.accounts:
        say(text)
        return
    if not sys.stdin.isatty():
        fail(WRONG_USAGE, f"{text}; if that is meant, say --yes, or look first with --preview")
    if not confirm(f"{text[0].upper()}{text[1:]}. Do it?"):
        fail(NOT_SO, "nothing was changed")


@click.command()
@click.option("--json", "as_json", is_flag=True, help="As JSON instead of YAML.")
@AS_OF
@IN_DRAFT
@serves
def dump(client: Client, as_json: bool, as_of: str | None, draft: str | None) -> None:
    """Print the model in force as a model file; equal models give equal files.

    \b
    Examples:
      drawknife dump > model.yaml
      drawknife dump --as-of 12 > before.yaml
    """
    write_output(asked_of(client, as_of, draft).dump(as_json))


@click.command()
@click.argument("file", required=False)
@click.option("--model", "model_file", metavar="FILE", help="The same as FILE.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def check(file: str | None, model_file: str | None, as_json: bool) -> None:
    """Is the model FILE sound? Tells all its mistakes, and then what wants attention.

    Exit status 0 if it could be loaded, findings or not; 1 if it has mistakes.

    \b
    Example:
      drawknife check demo/tidewrack.yaml
    """
    path = file or model_file
    if path is None:
        raise click.UsageError("name a model FILE")
    from drawknife.formats.model_file import read_model

    try:
        model = read_model(read_model_file(path))
    except BadDocument as error:
        count = len(error.mistakes)
        if as_json:
            import json

            print_text(
                json.dumps(
                    {"sound": False, "mistakes": [f.model_dump() for f in faults_of(error)]},
                    ensure_ascii=False,
                    indent=2,
                )
            )
            raise SystemExit(NOT_SO) from None
        fail(
            NOT_SO, f"{path} has {count} mistake{'' if count == 1 else 's'}", faults_of(error), path
        )
    found = file_answering(model, Path(path).parent).findings().findings
    if as_json:
        import json

        print_text(
            json.dumps(
                {"sound": True, "findings": [f.model_dump() for f in found]},
                ensure_ascii=False,
                indent=2,
            )
        )
        return
    print_text(f"{path} is sound.")
    if found:
        out = console()
        out.print(f"\n{len(found)} thing{'' if len(found) == 1 else 's'} to look at:")
        for finding in found:
            out.print(Text("  ! ", "yellow").append(finding.kind, "bold"))
            out.print(Padding(Text(finding.text), (0, 0, 0, 4)))


@click.command()
def schema() -> None:
    """Print the JSON Schema of model files, for editors and other programs.

    \b
    Example:
      drawknife schema > model.schema.json
    """
    import json

    from drawknife.formats.model_file import json_schema

    print_text(json.dumps(json_schema(), indent=2))


@click.command()
@click.option("--fail", "failing", is_flag=True, help="Exit status 1 if there is anything.")
@click.option("--accepted", is_flag=True, help="List those that are accepted, by whom and why.")
@asks
def findings(answers: Answers, failing: bool, accepted: bool, as_json: bool) -> None:
    """List what needs attention, the most pressing first.

    A finding that is accepted (`drawknife finding accept`) is only counted.

    \b
    Examples:
      drawknife findings --model demo/tidewrack.yaml
      drawknife findings --fail
      drawknife findings --accepted
    """
    if accepted and not isinstance(answers, Client):
        fail(
            WRONG_USAGE,
            "a model file holds no accepted findings: expected a service, so leave --model out",
        )
    found = answers.findings()
    if as_json:
        print_json(found)
    elif accepted:
        for finding in found.accepted:
            if finding.accepted is not None:
                by = finding.accepted
                print_text(
                    f"{finding.kind}: {finding.text}\n  accepted until {by.until} by {by.who}:"
                    f" {by.note}"
                )
        if not found.accepted:
            say("no finding is accepted")
    else:
        severity: str | None = None
        for finding in found.findings:
            if finding.severity != severity:
                severity = finding.severity
                print_text(SEVERITIES[finding.severity])
            print_text(f"  {finding.kind}: {finding.text}")
        if not found.findings:
            say("nothing")
        if found.accepted:
            say(f"{number_of(len(found.accepted), 'more finding')} accepted: --accepted lists them")
        if found.not_looked_at:
            say(f"not looked at: {'; '.join(found.not_looked_at)}")
    raise SystemExit(NOT_SO if failing and found.findings else 0)


@click.group()
def finding() -> None:
    """Findings: accept one for a time, or show it again."""


@finding.command("accept")
@click.argument("kind")
@click.argument("about")
@click.option(
    "--until",
    type=click.DateTime(["%Y-%m-%d"]),
    metavar="DAY",
    required=True,
    help="The last day (UTC).",
)
@click.option("--note", metavar="TEXT", required=True, help="Why it is accepted.")
@serves
def accept_finding(client: Client, kind: str, about: str, until: datetime, note: str) -> None:
    """Accept the finding of KIND about ABOUT: it is counted up to that day, and not shown.

    \b
    Example:
      drawknife finding accept endpoint-clash old-quay --until 2031-03-31 \\
          --note "old-quay is retired in spring"
    """
    client.accept_finding(kind, about, until.date(), note)
    say(f"{kind} {about} is accepted until {until.date()}")


@finding.command("reopen")
@click.argument("kind")
@click.argument("about")
@serves
def reopen_finding(client: Client, kind: str, about: str) -> None:
    """Show a finding again that was accepted.

    \b
    Example:
      drawknife finding reopen endpoint-clash old-quay
    """
    client.reopen_finding(kind, about)
    say(f"{kind} {about} is shown again")


def add_to(group: click.Group) -> None:
    for command in (load, dump, check, schema, findings, finding):
        group.add_command(command)
