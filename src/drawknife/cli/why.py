"""Why: one question explained; and many questions as lines."""

from __future__ import annotations

import functools
import json
import sys
from collections.abc import Callable, Iterator
from itertools import islice
from typing import IO, TYPE_CHECKING, Any, TypeVar

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.actions import ACTIONS
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue
from drawknife.core.words.plain import escaped
from drawknife.core.words.quantities import read_size
from drawknife.formats.mistakes import BadDocument

if TYPE_CHECKING:
    from drawknife.answers import Answering

from .common import WITHOUT_DISK, Answers, asks, console, print_json, write_output

F = TypeVar("F", bound=Callable[..., Any])
FATES = {"decides": ("▶", "bold"), "agrees": ("=", "default"), "overruled": ("×", "default")}


def questions(command: F) -> F:
    """A command about one question: its arguments and options, passed as `question`."""

    @click.argument("account")
    @click.argument("action", type=click.Choice(ACTIONS), metavar="ACTION")
    @click.argument("location", required=False)
    @click.option("--to", metavar="LOCATION", help="The destination of a rename.")
    @click.option(
        "--thing",
        type=click.Choice(["file", "folder"]),
        help="What is renamed, or has its attributes set.",
    )
    @click.option("--replaces", is_flag=True, help="A file of the destination's name exists.")
    @click.option("--owner", metavar="ACCOUNT", help="Who owns the file that is acted on.")
    @click.option(
        "--endpoint",
        metavar="NAME",
        help="Through this endpoint: asks door, sign-in and endpoint, too.",
    )
    @click.option("--from", "from_", metavar="ADDRESS", help="The client's address.")
    @click.option("--tls/--no-tls", default=None, help="Does the client use TLS?")
    @click.option(
        "--method", type=click.Choice(["password", "key", "directory"]), help="How it signs in."
    )
    @click.option("--size", metavar="SIZE", help="Bytes of the file, or such as 40 GiB.")
    @click.option(
        "--replaced-size",
        metavar="SIZE",
        help="Bytes of the file that is overwritten or appended to.",
    )
    @click.option(
        "--files",
        type=click.IntRange(0),
        metavar="N",
        help="How many files are in a folder that moves.",
    )
    @click.option("--at", metavar="TIME", help="As of this ISO 8601 time instead of now.")
    @functools.wraps(command)
    def wrapped(account: str, action: str, location: str | None, **others: Any) -> Any:
        facts = {name: others.pop(name) for name in _FACTS}
        return command(question=_question(account, action, location, facts), **others)

    return wrapped  # type: ignore[return-value]


_FACTS = (
    "to",
    "thing",
    "replaces",
    "owner",
    "endpoint",
    "from_",
    "tls",
    "method",
    "size",
    "replaced_size",
    "files",
    "at",
)


def _question(
    account: str, action: str, location: str | None, facts: dict[str, Any]
) -> dict[str, Any]:
    question: dict[str, Any] = {"account": account, "action": action, "path": location}
    question.update(
        {
            name.rstrip("_"): value
            for name, value in facts.items()
            if value is not None and value is not False
        }
    )
    if facts["tls"] is False:
        question["tls"] = False
    for name in ("size", "replaced_size"):
        text = facts[name]
        if text is not None:
            try:
                question[name] = read_size(int(text) if text.isdecimal() else text)
            except BadValue as bad:
                hint = f"--{name.replace('_', '-')}"
                raise click.BadParameter(
                    f"{bad}; expected {bad.expected}", param_hint=hint
                ) from None
    return {name: value for name, value in question.items() if value is not None}


@click.command()
@questions
@WITHOUT_DISK
@asks
def why(answers: Answers, question: dict[str, Any], as_json: bool) -> None:
    """May ACCOUNT do ACTION at LOCATION, and why?

    ACTION is one of the eleven rights, or sign-in. LOCATION is the file; for make-folder the folder
    to be made; for enter, list and delete-folder the folder. Exit status 0 if allowed, 1 if
    refused. `drawknife mend` tells ways to change what it says.

    \b
    Examples:
      drawknife why fulmar upload /charts/x
      drawknife why ines delete-file /charts/exchange/plan.pdf --owner odile
      drawknife why refa sign-in --endpoint harbour --from 203.0.113.9
    """
    answer = answers.decide({**question, "explain": True})
    found = answer if isinstance(answer, msg.Answer) else msg.Answer.model_validate(answer)
    if as_json:
        print_json(found)
    else:
        _draw(console(), found)
    raise SystemExit(0 if found.allowed else 1)


def _draw(out: Console, found: msg.Answer) -> None:
    explanation = found.explanation
    assert explanation is not None
    if found.allowed:
        out.print(Text().append(" ALLOWED ", "reverse green").append(f"  {found.text}"))
    else:
        out.print(
            Text().append(" REFUSED ", "reverse red").append(f"  by the {found.gate} gate", "bold")
        )
        out.print(Padding(Text(found.text), (0, 0, 0, 2)))
    further = explanation.obstacles[1:]
    if further:
        out.print("\nAlso in the way, once that is mended", style="bold")
        for obstacle in further:
            out.print(
                Padding(
                    Text(f"{obstacle.gate}: ", "yellow").append(obstacle.text, "default"),
                    (0, 0, 0, 2),
                )
            )
    for at in explanation.locations:
        if at.place:
            line = Text("\n").append(at.location, "bold").append(f" is {at.place}")
            out.print(
                line.append(
                    f", through the virtual path {at.virtual_path} (at most {at.ceiling})", "dim"
                )
            )
    out.print("\nGates", style="bold")
    for gate in explanation.gates:
        _draw_gate(out, gate)
    for check in explanation.checks:
        _draw_check(out, check)
    if any(
        e.fate in FATES for c in explanation.checks for x in c.judgement.levels for e in x.entries
    ):
        out.print("\n  ▶ decides   = agrees   × overruled   · has no part in it", style="dim")


def _draw_gate(out: Console, gate: msg.GateMessage) -> None:
    notes = f"  ({'; '.join(gate.notes)})" if gate.notes else ""
    if not gate.asked:
        line = Text(f"  – {gate.gate:<13} not asked", "dim")
    elif gate.obstacles:
        count = len(gate.obstacles)
        line = (
            Text("  ")
            .append("✗", "red")
            .append(f" {gate.gate:<13} refuses{'' if count == 1 else f', {count} times'}")
        )
        line.append(notes, "dim")
    elif any("cannot be evaluated" in note or "nothing to ask" in note for note in gate.notes):
        line = Text(f"  – {gate.gate:<13} {'; '.join(gate.notes)}", "dim")
    else:
        line = (
            Text("  ")
            .append("✓", "green")
            .append(f" {gate.gate:<13} lets it pass")
            .append(notes, "dim")
        )
    out.print(line)


def _draw_check(out: Console, check: msg.CheckMessage) -> None:
    on_the_way = [p for p in check.passing if p.place != check.judgement.place]
    if on_the_way:
        line = Text("\nOn the way: ", "bold")
        for p in on_the_way:
            line.append(p.place, "default").append(
                " ✓  " if p.allowed else " ✗  ", "green" if p.allowed else "red"
            )
        out.print(line)
    for judgement in (*check.blocked, check.judgement):
        _draw_judgement(out, judgement)


def _draw_judgement(out: Console, j: msg.JudgementMessage) -> None:
    whose = {True: " (one's own)", False: " (not one's own)", None: ""}[j.own]
    sign = Text("✓", "green") if j.allowed else Text("✗", "red")
    out.print(
        Text("\n")
        .append_text(sign)
        .append(f" {j.right}", "bold")
        .append(f"{whose} in {j.place}", "default")
    )
    width = max((len(e.entry) for x in j.levels for e in x.entries), default=0)
    for level in j.levels:
        if not level.entries and not level.sealed and level.up:
            continue
        facts = [f"owner {level.owner}"] if level.owner else []
        facts += ["sealed: nothing comes down into it"] if level.sealed else []
        facts += [] if level.entries else ["no entries"] if level.recorded else ["not recorded"]
        out.print(
            Text("  ").append(level.place).append(f"   {', '.join(facts)}" if facts else "", "dim")
        )
        for e in level.entries:
            sign_, style = FATES.get(e.fate, ("·", "dim"))
            became = f"{e.fate} by {e.by}" if e.by else e.fate
            line = Text(f"    {sign_} ", style).append(e.entry.ljust(width), style)
            out.print(
                line.append(f"  {became}", "dim" if style == "dim" else "italic"),
                no_wrap=True,
                overflow="ellipsis",
            )
            if len(e.chain) > 2:
                out.print(Text(f"        through {' > '.join(e.chain[1:])}", "dim"))
            if e.note and e.fate != "other subject":
                out.print(Text(f"        “{e.note}”", "dim italic"))


@click.command()
@click.argument("file", default="-", type=click.File("rb"))
@WITHOUT_DISK
@asks
def decide(answers: Answers, file: IO[bytes], as_json: bool) -> None:
    """Answer many questions: one JSON object a line in, one answer a line out, in the same order.

    A line that is no valid question gets {"error": …} in its place and the run goes on; the exit
    status then is 1. The questions' keys are told in docs/reference/questions.md.

    \b
    Examples:
      drawknife decide questions.jsonl
      echo '{"account": "ines", "action": "list", "path": "/inbox"}' \\
          | drawknife decide --model demo/tidewrack.yaml
    """
    lines = (line for line in file if line.strip())
    answered = (
        _by_service(answers, lines) if isinstance(answers, Client) else _locally(answers, lines)
    )
    bad = False
    dumps = json.JSONEncoder(ensure_ascii=False).encode
    for answer in answered:
        bad = bad or "error" in answer
        write_output(escaped(dumps(answer)) + "\n")
    sys.stdout.flush()
    raise SystemExit(1 if bad else 0)


def _parse(line: bytes) -> tuple[Any, dict[str, Any] | None]:
    from drawknife.formats.document import read_json

    try:
        return read_json(line.decode()), None
    except UnicodeDecodeError:
        return None, BadInput("", "the line is not UTF-8", "one JSON object in UTF-8").as_data()
    except BadDocument as bad:
        mistake = bad.mistakes[0]
        return None, BadInput("", mistake.message, "one JSON object on a line").as_data()


def _locally(answers: Answering, lines: Iterator[bytes]) -> Iterator[dict[str, Any]]:
    for line in lines:
        data, error = _parse(line)
        if error is not None:
            yield error
            continue
        try:
            yield answers.decide(data)
        except BadInput as bad:
            yield bad.as_data()


def _by_service(client: Client, lines: Iterator[bytes]) -> Iterator[dict[str, Any]]:
    """Ask in batches; what is no question at all is answered here, the service judges the rest."""
    from drawknife.formats.questions import read_question

    while batch := list(islice(lines, 1000)):
        answers: list[dict[str, Any] | None] = []
        asked: list[dict[str, Any]] = []
        for line in batch:
            data, error = _parse(line)
            if error is None:
                try:
                    read_question(data)
                    asked.append(data)
                except BadInput as bad:
                    error = bad.as_data()
            answers.append(error)
        from_service = iter(client.decide_many(asked) if asked else ())
        yield from (next(from_service) if answer is None else answer for answer in answers)


def add_to(group: click.Group) -> None:
    group.add_command(why)
    group.add_command(decide)
