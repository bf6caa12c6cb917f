"""What is set up again and again, as a few questions."""

from __future__ import annotations

import sys
from pathlib import Path

import click
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client

from .changing import Apply, asking_with, edits
from .common import WRONG_USAGE, Answers, asks, console, fail, print_json, say, write_output

OWN = click.option(
    "--patterns",
    "folders",
    multiple=True,
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="With --model: a folder with patterns of your own. A service has its own. Repeatable.",
)


@click.group()
def pattern() -> None:
    """What is set up again and again, from a few answers: shared folders, drop boxes, homes,
    partners.

    A pattern is a YAML file with its questions and changes; a service is given more with
    --patterns.
    """


@pattern.command("list")
@OWN
@asks
def list_patterns(answers: Answers, folders: tuple[Path, ...], as_json: bool) -> None:
    """The patterns there are.

    \b
    Example:
      drawknife pattern list
    """
    if isinstance(answers, Client):
        found = answers.patterns()
    else:
        from drawknife.answers.patterns import patterns

        found = patterns(folders)
    if as_json:
        print_json(found)
        return
    table = Table.grid(padding=(0, 2))
    for p in found.patterns:
        table.add_row(Text(p.name, "bold", no_wrap=True), p.about)
    console().print(table)


@pattern.command("show")
@click.argument("name")
@click.option(
    "--yaml",
    "as_yaml",
    is_flag=True,
    help="The file of a shipped pattern, to make one of your own from.",
)
@OWN
@asks
def show_pattern(
    answers: Answers, name: str, as_yaml: bool, folders: tuple[Path, ...], as_json: bool
) -> None:
    """What a pattern asks, and what holds afterwards.

    \b
    Examples:
      drawknife pattern show drop-box
      drawknife pattern show drop-box --yaml > our-box.yaml
    """
    if as_yaml:
        from drawknife.patterns import source_of

        write_output(source_of(name))
        return
    found = _pattern(answers, name, folders)
    if as_json:
        print_json(found)
        return
    out = console()
    out.print(Text(f"{found.name}  ", "bold").append(found.about, "default"))
    width = max((len(a.key) for a in found.asks), default=0)
    for a in found.asks:
        more = f"  [{a.default}]" if a.default else "  may be left out" if a.optional else ""
        out.print(
            Text(f"  {a.key:<{width}}  ", "bold")
            .append(f"{a.asks} ({a.kind})", "default")
            .append(more, "dim")
        )
    for number, step in enumerate(found.steps, 1):
        out.print(
            Text(f"  step {number}  ", "bold").append(
                f"{step.does}: {', '.join(step.asks)}", "default"
            )
        )
    if not found.given:
        return
    given = ", ".join(f"{key}={value}" for key, value in found.given.items())
    out.print(Padding(Text(f"With {given}", "dim"), (1, 0, 0, 0), expand=False))
    for word, style, lines in (("can", "green", found.can), ("cannot", "red", found.cannot)):
        for line in lines:
            out.print(Text(f"  {word:<6}  ", style).append(line, "default"))


def _pattern(answers: Answers, name: str, folders: tuple[Path, ...]) -> msg.PatternMessage:
    if isinstance(answers, Client):
        return answers.pattern(name)
    from drawknife.answers.patterns import pattern as found

    return found(name, folders)


@pattern.command("use")
@click.argument("name")
@click.argument("given", nargs=-1, metavar="[KEY=VALUE]...")
@click.option(
    "--step", type=click.IntRange(1), help="Only this step of it, as `pattern show` counts them."
)
@OWN
@edits
def use_pattern(
    apply: Apply, name: str, given: tuple[str, ...], step: int | None, folders: tuple[Path, ...]
) -> None:
    """Set up what a pattern sets up. What is not answered is asked for on a terminal.

    \b
    Examples:
      drawknife pattern use drop-box senders=group:boats collectors=group:night-watch \\
          folder=survey:/box location=/box --draft the-box
      drawknife pattern use homes who=group:sonar-lab --preview
      drawknife pattern use first-server --step 2 account=ines
    """
    answers = _given(given)
    asking = asking_with(apply.writer)
    if sys.stdin.isatty():
        found = _pattern(asking, name, folders)
        steps = found.steps if step is None else found.steps[step - 1 : step]
        keys = {key for s in steps for key in s.asks} or {a.key for a in found.asks}
        for ask in (a for a in found.asks if a.key in keys):
            if not answers.get(ask.key):
                default = "" if ask.optional else ask.default
                answers[ask.key] = click.prompt(
                    ask.asks, default=default, err=True, show_default=bool(default)
                )
    if isinstance(asking, Client):
        made = asking.pattern_changes(name, answers, step)
    else:
        made = asking.pattern_changes(name, answers, folders, step)
    if not apply.preview and not apply.as_json:
        for line in made.says:
            say(f"  {line}")
    apply([c.plain() for c in made.changes])


def _given(words: tuple[str, ...]) -> dict[str, str]:
    found = {}
    for word in words:
        key, equals, value = word.partition("=")
        if not (key and equals):
            fail(
                WRONG_USAGE,
                f"{word!r} is no answer; expected KEY=VALUE, such as folder=survey:/box",
            )
        found[key.replace("-", "_")] = value
    return found


def add_to(group: click.Group) -> None:
    group.add_command(pattern)
