"""What a command prints beside its answer: messages, progress on a terminal, and its requests."""

from __future__ import annotations

import sys
import threading
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from rich.progress import Progress

#: Seconds without output before progress is shown.
DELAY = 2.0


class Verbosity:
    """The options -v and -q of the running command, and its progress indicator.

    The indicator covers the time until the first output: :meth:`start_progress` is called before a
    command waits or computes, :meth:`stop_progress` by everything that prints.
    """

    def __init__(self) -> None:
        self.verbose = self.quiet = False
        self._lock = threading.RLock()
        self._timer: threading.Timer | None = None
        self._progress: Progress | None = None

    @property
    def shows_progress(self) -> bool:
        """True on a terminal, unless -q was given."""
        return not self.quiet and sys.stderr.isatty()

    def start_progress(self) -> None:
        """Show progress after :data:`DELAY` seconds, if nothing is printed until then."""
        if self.shows_progress:
            self._timer = threading.Timer(DELAY, self._show)
            self._timer.daemon = True
            self._timer.start()

    def stop_progress(self) -> None:
        """Remove the progress indicator, and show none later."""
        with self._lock:
            if self._timer is not None:
                self._timer.cancel()
                self._timer = None
            if self._progress is not None:
                self._progress.stop()
                self._progress = None

    def _show(self) -> None:
        from rich.console import Console
        from rich.progress import Progress, SpinnerColumn, TextColumn, TimeElapsedColumn

        with self._lock:
            if self._timer is None:
                return
            columns = SpinnerColumn(), TextColumn("{task.description}"), TimeElapsedColumn()
            self._progress = Progress(
                *columns,
                console=Console(file=sys.stderr),
                transient=True,
                redirect_stdout=False,  # an answer goes where it is sent, not to the terminal
                redirect_stderr=False,
            )
            self._progress.add_task("working", total=None)
            self._progress.start()


VERBOSITY = Verbosity()


def _set(context: click.Context, parameter: click.Parameter, value: bool) -> None:
    if value:
        setattr(VERBOSITY, str(parameter.name), True)


def options(**more: Any) -> list[click.Option]:
    """Return the options -v and -q."""
    more = {"is_flag": True, "expose_value": False, "callback": _set, **more}
    about_quiet = "Print answers and errors only: no messages, no progress."
    return [
        click.Option(["-v", "--verbose"], help="Print each request to the service.", **more),
        click.Option(["-q", "--quiet"], help=about_quiet, **more),
    ]


def accept_everywhere(command: click.Command) -> None:
    """Accept the options after a command, too; its own help does not repeat them.

    A command that stands in two groups gets them once.
    """
    if isinstance(command, click.Group):
        for subcommand in command.commands.values():
            accept_everywhere(subcommand)
    elif all("-q" not in parameter.opts for parameter in command.params):
        command.params += options(hidden=True)
