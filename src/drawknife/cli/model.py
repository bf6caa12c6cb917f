"""The whole model: load, dump, check, and who changed it."""

from __future__ import annotations

import sys
from datetime import UTC, datetime

import click
from rich.padding import Padding
from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn
from rich.text import Text

from drawknife import messages as msg
from drawknife.answers import Answering
from drawknife.client import Client
from drawknife.core.prepared import prepare
from drawknife.formats.document import BadDocument
from drawknife.formats.model_file import json_schema, read_model

from .common import (
    NOT_SO,
    Answers,
    asks,
    console,
    errors_told,
    fail,
    faults_of,
    print_json,
    read_model_file,
    say,
    serves,
)
from .editing import draw_item, draw_preview


@click.command()
@click.argument("file")
@click.option("--preview", is_flag=True, help="Show what it would change, and what follows; do nothing.")
@click.option("--if-revision", type=int, metavar="N", help="Only if revision N is the one in force.")
@serves
def load(client: Client, file: str, preview: bool, if_revision: int | None) -> None:
    """Put the model FILE in force in place of the model there is ("-": standard input).

    All or nothing: a file with a mistake changes nothing, and all its mistakes are told.

    \b
    Examples:
      drawknife load demo/tidewrack.yaml --preview
      drawknife load demo/tidewrack.yaml
    """
    raw = read_model_file(file)
    if preview:
        with errors_told(file):
            draw_preview(console(), client.preview_model(raw))
        return
    with errors_told(file), Progress(
        TextColumn("{task.description}"), BarColumn(), TextColumn("{task.percentage:>3.0f} %"), TimeElapsedColumn(),
        console=console(error=True), transient=True, disable=not sys.stderr.isatty(),
    ) as bar:  # fmt: skip
        task = bar.add_task("sending", total=max(len(raw), 1))

        def progress(sent: int, total: int) -> None:
            bar.update(task, completed=sent, description="sending" if sent < total else "checking and writing")

        done = client.load(raw, progress, if_revision)
    counts = ", ".join(f"{count} {name.replace('_', ' ')}" for name, count in done.counts.items() if count)
    say(
        f"revision {done.revision} is in force: {counts}"
        if done.changed
        else f"revision {done.revision} says the same already; nothing changed"
    )


@click.command()
@click.option("--json", "as_json", is_flag=True, help="As JSON instead of YAML.")
@serves
def dump(client: Client, as_json: bool) -> None:
    """Print the model in force as a model file; equal models give equal files.

    \b
    Example:
      drawknife dump > model.yaml
    """
    sys.stdout.write(client.dump(as_json))


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
    try:
        model = read_model(read_model_file(path))
    except BadDocument as error:
        count = len(error.mistakes)
        if as_json:
            import json

            click.echo(
                json.dumps(
                    {"sound": False, "mistakes": [f.model_dump() for f in faults_of(error)]},
                    ensure_ascii=False,
                    indent=2,
                )
            )
            raise SystemExit(NOT_SO) from None
        fail(NOT_SO, f"{path} has {count} mistake{'' if count == 1 else 's'}", faults_of(error), path)
    found = Answering(prepare(model), 0, datetime.now(UTC)).findings().findings
    if as_json:
        import json

        click.echo(
            json.dumps({"sound": True, "findings": [f.model_dump() for f in found]}, ensure_ascii=False, indent=2)
        )
        return
    click.echo(f"{path} is sound.")
    if found:
        out = console()
        out.print(f"\n{len(found)} thing{'' if len(found) == 1 else 's'} to look at:")
        for finding in found:
            out.print(f"  [yellow]![/] [bold]{finding.kind}[/]")
            out.print(Padding(Text(finding.text), (0, 0, 0, 4)))


@click.command()
def schema() -> None:
    """Print the JSON Schema of model files, for editors and other programs.

    \b
    Example:
      drawknife schema > model.schema.json
    """
    import json

    click.echo(json.dumps(json_schema(), indent=2))


@click.command()
@click.option("--limit", default=20, show_default=True, type=click.IntRange(1, 10_000))
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@serves
def journal(client: Client, limit: int, as_json: bool) -> None:
    """Who changed the model, what, and when; the newest first.

    \b
    Example:
      drawknife journal --limit 5
    """
    page = client.journal(limit=limit)
    if as_json:
        print_json(page)
        return
    out = console()
    for line in page.lines:
        out.print(
            Text(f"{line.revision:>5}  ", "bold").append(f"{line.at:%Y-%m-%d %H:%M:%S}  ", "dim").append(f"{line.who}  ")
            .append(line.what, "bold")
        )  # fmt: skip
        for change in journal_items(line):
            draw_item(out, change)


def journal_items(line: msg.JournalLine) -> list[msg.ItemChange]:
    """The items that a journal line tells of; where there were many, how many there are of each kind."""
    found = []
    for section in dict.fromkeys((*line.before, *line.after)):
        before, after = line.before.get(section, {}), line.after.get(section, {})
        if isinstance(before, int) or isinstance(after, int):
            if before != after:
                text = f"{before or 0} → {after or 0}"
                found.append(msg.ItemChange(section=section, name=text, before=0, after=0))
            continue
        for name in dict.fromkeys((*before, *after)):
            found.append(msg.ItemChange(section=section, name=name, before=before.get(name), after=after.get(name)))
    return found


@click.command()
@asks
def findings(answers: Answers, as_json: bool) -> None:
    """What wants attention: clashes, paths that lead two ways, names of nobody.

    \b
    Example:
      drawknife findings --model demo/tidewrack.yaml
    """
    found = answers.findings()
    if as_json:
        print_json(found)
        return
    for finding in found.findings:
        click.echo(f"{finding.kind}: {finding.text}")
    if not found.findings:
        say("nothing")


def add_to(group: click.Group) -> None:
    for command in (load, dump, check, schema, findings, journal):
        group.add_command(command)
