"""What a command says beside its answer: with -v and -q, on a terminal and in a pipe."""

import io
import sys
from types import SimpleNamespace

import pytest

from drawknife.cli import verbosity
from drawknife.cli.common import counting, moment, print_text, say, write_output
from drawknife.cli.main import main
from drawknife.cli.verbosity import VERBOSITY

from ..conftest import DEMO, run, until


class Terminal(io.StringIO):
    """Standard error of somebody who looks at it."""

    def isatty(self):
        return True


@pytest.fixture
def terminal(monkeypatch):
    made = Terminal()
    monkeypatch.setattr(verbosity, "sys", SimpleNamespace(stderr=made))
    monkeypatch.setattr(verbosity, "DELAY", 0)
    monkeypatch.setattr(VERBOSITY, "quiet", False)
    yield made
    VERBOSITY.stop_progress()


@pytest.mark.parametrize(
    "stop", [VERBOSITY.stop_progress, lambda: print_text("the answer"), lambda: say("a message")]
)
def test_on_a_terminal_a_line_says_that_something_goes_on_until_something_is_printed(
    terminal, stop
):
    VERBOSITY.start_progress()
    assert until(lambda: "working" in terminal.getvalue())
    stop()
    there = terminal.getvalue()
    assert VERBOSITY._progress is None and VERBOSITY._timer is None
    with counting("rows") as tell:  # another line takes its place
        tell("rows: 7")
    assert "working" not in terminal.getvalue()[len(there) :]


def test_an_answer_goes_where_it_is_sent_while_progress_is_shown(terminal, capsys):
    before = sys.stdout
    VERBOSITY.start_progress()
    assert until(lambda: "working" in terminal.getvalue())
    assert sys.stdout is before, "a file that takes the answer is not the terminal"
    write_output("the model\n")
    assert VERBOSITY._progress is None
    assert capsys.readouterr().out == "the model\n" and "the model" not in terminal.getvalue()


def test_nothing_is_said_of_progress_in_a_pipe_or_to_who_wants_quiet(terminal, monkeypatch):
    monkeypatch.setattr(VERBOSITY, "quiet", True)
    VERBOSITY.start_progress()
    assert VERBOSITY._timer is None
    monkeypatch.setattr(VERBOSITY, "quiet", False)
    monkeypatch.setattr(verbosity, "sys", SimpleNamespace(stderr=io.StringIO()))
    VERBOSITY.start_progress()
    assert VERBOSITY._timer is None and terminal.getvalue() == ""


def test_what_was_printed_before_the_time_is_up_leaves_no_line(terminal, monkeypatch):
    monkeypatch.setattr(verbosity, "DELAY", 3600)
    VERBOSITY.start_progress()
    timer = VERBOSITY._timer
    print_text("the answer")
    timer.join(10)
    assert not timer.is_alive() and terminal.getvalue() == ""


def test_quiet_leaves_the_answer_and_errors(service):
    loud = run("finding", "accept", "nothing", "nothing", environment=service.environment)
    quiet = run("-q", "finding", "accept", "nothing", "nothing", environment=service.environment)
    assert loud.returncode == quiet.returncode != 0 and loud.stderr == quiet.stderr != ""
    with service.client() as client:
        number = client.make_report("group:boats").number
    for before, after in ((["-q"], []), ([], ["-q"]), ([], ["--quiet"])):
        done = run(
            *before,
            "draft",
            "begin",
            f"quiet-{number}-{len(before)}{len(''.join(after))}",
            *after,
            environment=service.environment,
        )
        assert (done.returncode, done.stderr, done.stdout) == (0, "", "")
    assert run("check", DEMO, "-q").returncode == 0


def test_verbose_says_what_is_asked_of_the_service_and_no_secret(service):
    done = run("standing", "ines", "-v", environment=service.environment)
    assert "GET /api/v1/accounts/ines/standing: 200 in " in done.stderr and "GET" not in done.stdout
    assert service.token not in done.stderr
    assert "GET" not in run("standing", "ines", environment=service.environment).stderr


def test_every_command_takes_both_and_only_the_first_help_repeats_them():
    def leaves(group, called):
        context = main.make_context("drawknife", [], resilient_parsing=True)
        for name in group.list_commands(context):
            found = group.get_command(context, name)
            if hasattr(found, "list_commands"):
                yield from leaves(found, f"{called} {name}")
            else:
                yield f"{called} {name}", found

    commands = dict(leaves(main, "drawknife"))
    assert len(commands) > 100
    for called, command in commands.items():
        given = [flag for parameter in command.params for flag in parameter.opts]
        assert given.count("-v") == given.count("-q") == 1, called
        assert len(set(given)) == len(given), f"{called} has an option twice"
    assert "-q, --quiet" in run("--help").stdout and "-q" not in run("standing", "--help").stdout


def test_a_time_has_its_zone():
    from datetime import datetime, timedelta, timezone

    assert (
        moment(datetime(2026, 12, 2, 1, 30, tzinfo=timezone(timedelta(hours=2))))
        == "2026-12-01 23:30 UTC"
    )
    assert moment(None) == "never"
