"""Trials: what would be done by hand after a change, done again."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife.core.words.names import fold
from drawknife.core.words.sizes import number_of
from drawknife.trials import Outcome, Step, Trial, read_trials, run_trial, write_trials
from drawknife.trials.over import Address, AtServer, Done, Refused, sign_in

from .common import FAILED, NOT_SO, WRONG_USAGE, Answers, asks, console, errors_told, fail, read_model_file, say
from .servers import address, out_of_reach, read_passwords, speaks

#: What is looked at, at each place, where it is written down what an account can do.
RECORDED = (
    ("enter", ""), ("list", ""), ("upload", "/trial.bin"), ("make-folder", "/trial"), ("download", "/others.bin"),
    ("overwrite", "/others.bin"), ("delete-file", "/others.bin"),
)  # fmt: skip


def _decide(answers: Answers, question: dict[str, Any]) -> tuple[bool, str | None, str]:
    found = answers.decide(question)
    if isinstance(found, dict):
        return found["allowed"], found["gate"], found["text"]
    return found.allowed, found.gate, found.text


def _servers(_: click.Context, __: click.Parameter, given: tuple[str, ...]) -> dict[str, Address]:
    """``ENDPOINT=URL``, or one URL for all."""
    return {fold(name): address(url) for name, _, url in (text.rpartition("=") for text in given)}


@click.command("try")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option(
    "--junit", "junit_file", type=click.Path(path_type=Path, dir_okay=False), help="Write JUnit XML here, too."
)
@click.option(
    "--over",
    multiple=True,
    callback=_servers,
    metavar="ENDPOINT=URL",
    help="Do it at this server, too: ftp://, ftpes://, ftps:// or sftp://. Without ENDPOINT for all of them. Repeatable.",
)
@click.option("--may-write", is_flag=True, help="With --over: also put files there, which are taken away at the end.")
@speaks
@asks
def try_(
    answers: Answers,
    files: tuple[str, ...],
    junit_file: Path | None,
    over: dict[str, Address],
    may_write: bool,
    unchecked: bool,
    password_file: Path | None,
    password: str | None,
    as_json: bool,
) -> None:
    """Do the trials of some files: each step is asked, and held against what the file expects.

    What the steps before have put, moved or deleted counts. With --over each step is also done at a server, and held
    against the model; nothing is deleted or overwritten there but what the trial has put itself. Exit status 0 only
    if all is as expected.

    \b
    Examples:
      drawknife try demo/trials.yaml
      drawknife try demo/trials.yaml --junit trials.xml
    """  # fmt: skip
    passwords = read_passwords(password_file)
    done: list[tuple[str, Trial, list[Outcome]]] = []
    for name in files:
        raw = read_model_file(name)
        with errors_told(name):
            for trial in read_trials(raw):
                outcomes = run_trial(trial, lambda question: _decide(answers, question))
                if over:
                    word = passwords.get(fold(trial.account), password)
                    outcomes = _at_server(trial, outcomes, over, word, may_write, not unchecked)
                done.append((name, trial, outcomes))
    if junit_file is not None:
        _write_junit(junit_file, done)
    if as_json:
        _print(done)
    else:
        _draw(console(), done)
    if any(not x.as_expected for _, _, outcomes in done for x in outcomes):
        raise SystemExit(NOT_SO)


def _at_server(
    trial: Trial,
    outcomes: list[Outcome],
    over: dict[str, Address],
    password: str | None,
    may_write: bool,
    checked: bool,
) -> list[Outcome]:
    """The outcomes with what a server did with each step."""
    endpoint = trial.steps[0].question.get("endpoint", "") if trial.steps else ""
    server = over.get(fold(endpoint), over.get(""))
    if server is None:
        return [
            x._replace(server=Done(None, f"no --over for {endpoint or 'a trial without an endpoint'}"))
            for x in outcomes
        ]
    try:
        speaking = sign_in(server, trial.account, password or "", checked)
    except Refused as refused:
        return [x._replace(server=_not_in(x, trial.account, refused, password)) for x in outcomes]
    except OSError as error:
        fail(FAILED, out_of_reach(server, error))
    at = AtServer(speaking, may_write)
    try:
        found = []
        for x in outcomes:
            signing = x.step.question["action"] == "sign-in"
            found.append(x._replace(server=Done(True, "") if signing else at.do(x.step.question)))
        for left in at.clean_up():
            say(left)
        return found
    except OSError as error:
        fail(FAILED, f"{server.host}, port {server.port}, went away: {error.strerror or error}")
    finally:
        speaking.close()


def _not_in(x: Outcome, account: str, refused: Refused, password: str | None) -> Done:
    """What a server that does not let somebody in has done with a step: refused what takes being in, and no more is known."""
    more = "" if password else f"; no password was given for {account}: --passwords, or DRAWKNIFE_REHEARSAL_PASSWORD"
    of_signing_in = x.allowed or x.gate in ("door", "sign-in")
    return Done(False if of_signing_in else None, f"signing in there was refused: {refused}{more}")


def _print(done: Iterable[tuple[str, Trial, list[Outcome]]]) -> None:
    import json

    found = [
        {
            "file": name, "trial": trial.name, "as": trial.account,
            "steps": [
                {"step": x.step.says, "expected": x.step.allowed, "by": x.step.gate, "allowed": x.allowed, "gate": x.gate,
                 "text": x.text, "server": x.server._asdict() if x.server else None, "as_expected": x.as_expected}
                for x in outcomes
            ],
        }
        for name, trial, outcomes in done
    ]  # fmt: skip
    click.echo(json.dumps(found, ensure_ascii=False, indent=2))


def _draw(out: Console, done: list[tuple[str, Trial, list[Outcome]]]) -> None:
    """A line for each step; of what is not as expected why."""
    steps = failed = left = 0
    for _, trial, outcomes in done:
        wrong = [x for x in outcomes if not x.as_expected]
        mark = ("✕ ", "red") if wrong else ("● ", "green")
        out.print(Text().append(*mark).append(trial.name, "bold").append(f"  as {trial.account}", "dim"))
        steps, failed = steps + len(outcomes), failed + len(wrong)
        for x in outcomes:
            left += x.server is not None and x.server.allowed is None
            _draw_step(out, x)
    told = number_of(len(done), "trial") + ", " + number_of(steps, "step")
    out.print(
        Text()
        .append(f"\n{told}: ")
        .append(f"{failed} not as expected" if failed else "all as expected", "red" if failed else "green")
    )
    if left:
        out.print(f"{number_of(left, 'step')} not tried at the server", style="dim")


def _draw_step(out: Console, x: Outcome) -> None:
    said = "yes" if x.allowed else f"no, by {x.gate}"
    line = (
        Text()
        .append("    " if x.as_expected else "  ✕ ", "red")
        .append(f"{x.step.says}  ", "" if x.as_expected else "bold")
    )
    line.append(said, "dim" if x.is_allowed_as_expected else "red")
    if not x.is_allowed_as_expected:
        line.append(", expected " + ("yes" if x.step.allowed else f"no, by {x.step.gate}" if x.step.gate else "no"))
    if x.server is not None:
        word = (
            "not tried"
            if x.server.allowed is None
            else "the server, too"
            if x.is_so_at_server
            else "the server lets it"
            if x.server.allowed
            else "the server does not"
        )
        line.append(f"; {word}", "dim" if x.is_so_at_server else "red")
    out.print(line)
    below = [] if x.is_allowed_as_expected else [x.text]
    if x.server is not None and x.server.text and not (x.is_so_at_server and x.server.allowed is False):
        below.append(x.server.text)
    for text in below:
        out.print(Padding(Text(text, "dim" if x.as_expected else ""), (0, 0, 0, 6), expand=False))


def _write_junit(path: Path, done: Iterable[tuple[str, Trial, list[Outcome]]]) -> None:
    from junitparser import Failure, JUnitXml, TestCase, TestSuite

    xml = JUnitXml("drawknife")
    for name, trial, outcomes in done:
        suite = TestSuite(_plain(f"{name}: {trial.name}"))
        for x in outcomes:
            case = TestCase(_plain(x.step.says), classname=_plain(trial.name))
            if not x.as_expected:
                server = f"; the server: {x.server.text or x.server.allowed}" if x.server is not None else ""
                case.result = [Failure(_plain(x.text + server))]
            suite.add_testcase(case)
        xml.add_testsuite(suite)
    xml.update_statistics()  # type: ignore[no-untyped-call]
    try:
        xml.write(str(path), pretty=True)
    except OSError as error:
        fail(WRONG_USAGE, f"{path} cannot be written: {error.strerror}")


def _plain(text: str) -> str:
    """Without the control characters that XML cannot hold."""
    return "".join(c for c in text if c >= " " or c in "\t\n")


@click.group()
def trial() -> None:
    """Trials: what would be done by hand after a change."""


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
    facts: dict[str, Any] = {"account": account, **({"endpoint": endpoint} if endpoint else {})}
    steps = []
    for row in rows:
        for action, below in RECORDED if row.kind != "synthetic" else RECORDED[:2]:
            path = (row.location.rstrip("/") + below) or "/"
            question = {**facts, "action": action, "path": path}
            allowed, gate, _ = _decide(answers, question)
            steps.append(Step(f"{action} {path}", question, allowed, gate))
    if as_json:
        fail(WRONG_USAGE, "a trial is written as YAML: leave --json out")
    click.echo(write_trials([Trial(f"what {account} can do", account, tuple(steps))]), nl=False)


def add_to(group: click.Group) -> None:
    group.add_command(try_)
    group.add_command(trial)
