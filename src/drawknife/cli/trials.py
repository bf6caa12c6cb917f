"""Trials: what would be done by hand after a change, done again."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife.core.words.sizes import number_of
from drawknife.trials import Outcome, Step, Trial, read_trials, run_trial, write_trials

from .common import NOT_SO, WRONG_USAGE, Answers, asks, console, errors_told, fail, read_model_file

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


@click.command("try")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option(
    "--junit", "junit_file", type=click.Path(path_type=Path, dir_okay=False), help="Write JUnit XML here, too."
)
@asks
def try_(answers: Answers, files: tuple[str, ...], junit_file: Path | None, as_json: bool) -> None:
    """Do the trials of some files: each step is asked, and held against what the file expects.

    What the steps before have put, moved or deleted counts. Exit status 0 only if all is as expected.

    \b
    Examples:
      drawknife try demo/trials.yaml
      drawknife try demo/trials.yaml --junit trials.xml
    """
    done: list[tuple[str, Trial, list[Outcome]]] = []
    for name in files:
        raw = read_model_file(name)
        with errors_told(name):
            for trial in read_trials(raw):
                done.append((name, trial, run_trial(trial, lambda question: _decide(answers, question))))
    if junit_file is not None:
        _write_junit(junit_file, done)
    if as_json:
        _print(done)
    else:
        _draw(console(), done)
    if any(not x.as_expected for _, _, outcomes in done for x in outcomes):
        raise SystemExit(NOT_SO)


def _print(done: Iterable[tuple[str, Trial, list[Outcome]]]) -> None:
    import json

    found = [
        {
            "file": name, "trial": trial.name, "as": trial.account,
            "steps": [
                {"step": x.step.says, "expected": x.step.allowed, "by": x.step.gate, "allowed": x.allowed, "gate": x.gate,
                 "text": x.text, "as_expected": x.as_expected}
                for x in outcomes
            ],
        }
        for name, trial, outcomes in done
    ]  # fmt: skip
    click.echo(json.dumps(found, ensure_ascii=False, indent=2))


def _draw(out: Console, done: list[tuple[str, Trial, list[Outcome]]]) -> None:
    """A line for each step; of what is not as expected why."""
    steps = failed = 0
    for _, trial, outcomes in done:
        wrong = [x for x in outcomes if not x.as_expected]
        mark = ("✕ ", "red") if wrong else ("● ", "green")
        out.print(Text().append(*mark).append(trial.name, "bold").append(f"  as {trial.account}", "dim"))
        steps, failed = steps + len(outcomes), failed + len(wrong)
        for x in outcomes:
            said = "yes" if x.allowed else f"no, by {x.gate}"
            if x.as_expected:
                out.print(Text(f"    {x.step.says}  ").append(said, "dim"))
                continue
            expected = "yes" if x.step.allowed else f"no, by {x.step.gate}" if x.step.gate else "no"
            line = (
                Text()
                .append("  ✕ ", "red")
                .append(f"{x.step.says}  ", "bold")
                .append(said, "red")
                .append(f", expected {expected}", "default")
            )
            out.print(line)
            out.print(Padding(Text(x.text), (0, 0, 0, 6), expand=False))
    told = number_of(len(done), "trial") + ", " + number_of(steps, "step")
    out.print(
        Text(f"\n{told}: ").append(
            f"{failed} not as expected" if failed else "all as expected", "red" if failed else "green"
        )
    )


def _write_junit(path: Path, done: Iterable[tuple[str, Trial, list[Outcome]]]) -> None:
    from junitparser import Failure, JUnitXml, TestCase, TestSuite

    xml = JUnitXml("drawknife")
    for name, trial, outcomes in done:
        suite = TestSuite(_plain(f"{name}: {trial.name}"))
        for x in outcomes:
            case = TestCase(_plain(x.step.says), classname=_plain(trial.name))
            if not x.as_expected:
                case.result = [Failure(_plain(x.text))]
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
