"""Trials: what would be done by hand after a change, done again."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife.core.model.kinds import TRIAL
from drawknife.core.model.trials import Step, Trial
from drawknife.core.words.names import fold
from drawknife.core.words.sizes import number_of
from drawknife.formats.model_file import read_item
from drawknife.trials import GateAnswer, Outcome, outcomes_of, read_trials, write_trials
from drawknife.trials.over import Address, AtServer, RefusedByServer, ServerDid

from .changing import Apply, asking_with, edits, put
from .common import (
    FAILED,
    NOT_SO,
    WRONG_USAGE,
    Answers,
    asks,
    console,
    errors_in_words,
    fail,
    print_json,
    print_text,
    read_model_file,
    say,
)
from .items import add_command, change_command, remove_command, rename_command, show_command
from .junit import write_junit
from .servers import SignInOptions, address, out_of_reach, speaks

#: What is looked at, at each place, where it is written down what an account can do.
RECORDED = (
    ("enter", ""),
    ("list", ""),
    ("upload", "/trial.bin"),
    ("make-folder", "/trial"),
    ("download", "/others.bin"),
    ("overwrite", "/others.bin"),
    ("delete-file", "/others.bin"),
)


def _decide(answers: Answers, question: dict[str, Any]) -> GateAnswer:
    found = answers.decide(question)
    if isinstance(found, dict):
        return GateAnswer(found["allowed"], found["gate"], found["text"])
    return GateAnswer(found.allowed, found.gate, found.text)


def _kept(answers: Answers) -> list[Trial]:
    """The trials that the model keeps."""
    found = [read_item(TRIAL.name, line.item) for line in answers.trials().trials]
    if not found:
        fail(
            WRONG_USAGE,
            "no trial is kept there yet: give a file of trials, or keep one with `drawknife trial"
            " keep FILE`",
        )
    return found


def _servers(_: click.Context, __: click.Parameter, given: tuple[str, ...]) -> dict[str, Address]:
    """``ENDPOINT=URL``, or one URL for all."""
    return {fold(name): address(url) for name, _, url in (text.rpartition("=") for text in given)}


@click.command("try")
@click.argument("files", nargs=-1, metavar="[FILE...]")
@click.option(
    "--junit",
    "junit_file",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write JUnit XML here, too.",
)
@click.option(
    "--over",
    multiple=True,
    callback=_servers,
    metavar="ENDPOINT=URL",
    help=(
        "Do it at this server, too: ftp://, ftpes://, ftps:// or sftp://. Without ENDPOINT for all"
        " of them. Repeatable."
    ),
)
@click.option(
    "--may-write",
    is_flag=True,
    help="With --over: also put files there, which are taken away at the end.",
)
@speaks
@asks
def try_(
    *,
    answers: Answers,
    files: tuple[str, ...],
    junit_file: Path | None,
    over: dict[str, Address],
    may_write: bool,
    signing: SignInOptions,
    as_json: bool,
) -> None:
    """Do the trials of some files, or those that the model keeps: each step is asked, and held
    against what it expects.

    What the steps before have put, moved or deleted counts. With --over each step is also done at a
    server, and held against the model. With --may-write it creates files under names of its own
    there, and touches nothing else; they are deleted at the end. Exit status 0 only if all is as
    expected and nothing is left behind.

    \b
    Examples:
      drawknife try
      drawknife try demo/trials.yaml
      drawknife try demo/trials.yaml --junit trials.xml
    """
    left: list[str] = []
    done: list[tuple[str, Trial, list[Outcome]]] = []
    for name in files or ("the trials kept",):
        raw = read_model_file(name) if files else b""
        with errors_in_words(name):
            for trial in read_trials(raw) if files else _kept(answers):
                outcomes = outcomes_of(trial, lambda question: _decide(answers, question))
                if over:
                    outcomes = _at_server(trial, outcomes, over, signing, may_write, left)
                done.append((name, trial, outcomes))
    if junit_file is not None:
        write_junit(junit_file, done)
    if as_json:
        _print(done)
    else:
        _draw(console(), done)
    for line in left:
        say(line)
    if left or any(not x.as_expected for _, _, outcomes in done for x in outcomes):
        raise SystemExit(NOT_SO)


def _at_server(
    trial: Trial,
    outcomes: list[Outcome],
    over: dict[str, Address],
    signing: SignInOptions,
    may_write: bool,
    left: list[str],
) -> list[Outcome]:
    """The outcomes with what a server did with each step; what could not be cleaned up is added to
    `left`.
    """
    endpoint = trial.endpoint or ""
    server = over.get(fold(endpoint), over.get(""))
    if server is None:
        return [
            x._replace(
                server=ServerDid(None, f"no --over for {endpoint or 'a trial without an endpoint'}")
            )
            for x in outcomes
        ]
    try:
        from drawknife.trials.signing_in import sign_in

        speaking = sign_in(server, signing.of(trial.account))
    except RefusedByServer as refused:
        said = f"signing in there was refused: {refused}{signing.lacking(trial.account)}"
        return [x._replace(server=_not_in(x, said)) for x in outcomes]
    except OSError as error:
        fail(FAILED, out_of_reach(server, error))
    at = AtServer(speaking, may_write)
    try:
        found = []
        for x in outcomes:
            is_sign_in = x.step.action == "sign-in"
            did = ServerDid(True, "") if is_sign_in else at.do(x.came.question, x.answer.allowed)
            found.append(x._replace(server=did))
        left += at.clean_up()
        return found
    except OSError as error:
        fail(FAILED, f"{server.host}, port {server.port}, went away: {error.strerror or error}")
    finally:
        speaking.close()


def _not_in(x: Outcome, said: str) -> ServerDid:
    """What a server that refuses a sign-in has done with a step: refused what takes being in, and
    no more is known.
    """
    of_signing_in = x.answer.allowed or x.answer.gate in ("door", "sign-in")
    return ServerDid(False if of_signing_in else None, said)


def _print(done: Iterable[tuple[str, Trial, list[Outcome]]]) -> None:
    import json

    found = [
        {
            "file": name,
            "trial": trial.name,
            "as": trial.account,
            "steps": [
                {
                    "step": x.step.says,
                    "expected": x.step.allowed,
                    "by": x.step.gate,
                    "allowed": x.answer.allowed,
                    "gate": x.answer.gate,
                    "text": x.answer.text,
                    "server": x.server._asdict() if x.server else None,
                    "as_expected": x.as_expected,
                }
                for x in outcomes
            ],
        }
        for name, trial, outcomes in done
    ]
    print_text(json.dumps(found, ensure_ascii=False, indent=2))


def _draw(out: Console, done: list[tuple[str, Trial, list[Outcome]]]) -> None:
    """A line for each step; of what is not as expected why."""
    steps = failed = left = 0
    for _, trial, outcomes in done:
        wrong = [x for x in outcomes if not x.as_expected]
        mark = ("✕ ", "red") if wrong else ("● ", "green")
        out.print(
            Text().append(*mark).append(trial.name, "bold").append(f"  as {trial.account}", "dim")
        )
        steps, failed = steps + len(outcomes), failed + len(wrong)
        for x in outcomes:
            left += x.server is not None and x.server.allowed is None
            _draw_step(out, x)
    headline = number_of(len(done), "trial") + ", " + number_of(steps, "step")
    out.print(
        Text()
        .append(f"\n{headline}: ")
        .append(
            f"{failed} not as expected" if failed else "all as expected",
            "red" if failed else "green",
        )
    )
    if left:
        out.print(f"{number_of(left, 'step')} not tried at the server", style="dim")


def _draw_step(out: Console, x: Outcome) -> None:
    said = "yes" if x.answer.allowed else f"no, by {x.answer.gate}"
    line = (
        Text()
        .append("    " if x.as_expected else "  ✕ ", "red")
        .append(f"{x.step.says}  ", "" if x.as_expected else "bold")
    )
    line.append(said, "dim" if x.is_allowed_as_expected else "red")
    if not x.is_allowed_as_expected:
        line.append(f", expected {x.step.expects}")
    if x.server is not None:
        word = (
            "not tried"
            if x.server.allowed is None
            else (
                "the server, too"
                if x.is_so_at_server
                else "the server lets it"
                if x.server.allowed
                else "the server does not"
            )
        )
        line.append(f"; {word}", "dim" if x.is_so_at_server else "red")
    out.print(line)
    below = [] if x.is_allowed_as_expected else [x.answer.text]
    if (
        x.server is not None
        and x.server.text
        and not (x.is_so_at_server and x.server.allowed is False)
    ):
        below.append(x.server.text)
    for text in below:
        out.print(Padding(Text(text, "dim" if x.as_expected else ""), (0, 0, 0, 6), expand=False))


@click.group()
def trial() -> None:
    """Trials: what would be done by hand after a change: list, show, keep, record, add, change,
    rename, remove.
    """


@trial.command("list")
@click.option("--fail", "failing", is_flag=True, help="Exit status 1 if one is not as expected.")
@asks
def list_trials(answers: Answers, failing: bool, as_json: bool) -> None:
    """List the trials that are kept, and whether each comes out as expected.

    They are done at every preview and draft, which tell of each trial that a change turns.

    \b
    Example:
      drawknife trial list
    """
    found = answers.trials()
    if as_json:
        print_json(found)
    else:
        out = console()
        for t in found.trials:
            sign = Text().append("● ", "green") if t.as_expected else Text().append("✕ ", "red")
            facts = f"  as {t.item['as']}" + (f" at {t.item['at']}" if "at" in t.item else "")
            out.print(sign.append(t.name, "bold").append(facts, "dim"))
            for step in [] if t.as_expected else t.steps:
                if not step.as_expected:
                    line = (
                        Text(f"{step.says}  ")
                        .append(f"expected {step.expected}", "red")
                        .append(f": {step.text}")
                    )
                    out.print(Padding(line, (0, 0, 0, 4), expand=False))
        if not found.trials:
            out.print(
                "No trial is kept yet: `drawknife trial keep FILE` keeps those of a file.",
                style="dim",
            )
    raise SystemExit(NOT_SO if failing and not all(t.as_expected for t in found.trials) else 0)


@trial.command()
@click.argument("file")
@edits
def keep(apply: Apply, file: str) -> None:
    """Keep the trials of FILE in the model. One of a name that is there already takes its place.

    \b
    Example:
      drawknife trial keep demo/trials.yaml
    """
    raw = read_model_file(file)
    with errors_in_words(file):
        trials = read_trials(raw)
    there = {fold(t.name) for t in asking_with(apply.writer).trials().trials}
    apply([put(TRIAL, TRIAL.data(trial), fold(trial.name) in there) for trial in trials])


show_command(trial, "trial", "NAME", "Show one trial.", 'trial show "a partner sees no soundings"')
add_command(
    trial,
    "trial",
    "NAME",
    "Keep a trial.",
    'trial add "nobody from the lab sends charts" --as ines --at harbour --step "upload'
    ' /charts/issued/x: no"',
)
change_command(
    trial,
    "trial",
    "NAME",
    "Change a trial.",
    'trial change "a crew keeps to its own inbox" --step "list /charts: no"',
)
rename_command(
    trial, "trial", "NAME", "Rename a trial.", 'trial rename "a crew keeps to its own inbox" crews'
)
remove_command(
    trial, "trial", "NAME", "Remove a trial.", 'trial remove "a partner sees no soundings"'
)


@trial.command()
@click.argument("account")
@click.option("--endpoint", metavar="NAME", help="Through this endpoint.")
@asks
def record(answers: Answers, account: str, endpoint: str | None, as_json: bool) -> None:
    """Write down what ACCOUNT can do now, as a trial, so that a later change shows as a difference.

    \b
    Example:
      drawknife trial record ines > ines.yaml
    """
    rows = answers.access(account).rows
    steps = []
    for row in rows:
        for action, below in RECORDED if row.kind != "synthetic" else RECORDED[:2]:
            path = (row.location.rstrip("/") + below) or "/"
            question = {"account": account, "action": action, "path": path}
            found = _decide(answers, {**question, **({"endpoint": endpoint} if endpoint else {})})
            steps.append(Step(action, path, allowed=found.allowed, gate=found.gate))
    if as_json:
        fail(WRONG_USAGE, "a trial is written as YAML: leave --json out")
    print_text(
        write_trials([Trial(f"what {account} can do", account, tuple(steps), endpoint)]), nl=False
    )


def add_to(group: click.Group) -> None:
    group.add_command(try_)
    group.add_command(trial)
