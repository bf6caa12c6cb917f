"""The command line without a process of its own: what it prints, says, and ends with."""

from __future__ import annotations

import os
import subprocess
import traceback
from collections.abc import Iterable, Mapping

from click.testing import CliRunner

from drawknife.cli.main import main


def in_process(
    arguments: Iterable[str], given: str | bytes | None, environment: Mapping[str, str]
) -> subprocess.CompletedProcess[str]:
    """Run a command as off a terminal; only the environment that is given names a service."""
    words = list(arguments)
    unset = {k: None for k in os.environ if k.startswith("DRAWKNIFE") or k == "COLUMNS"}
    done = CliRunner(env={**unset, **environment}).invoke(
        main, words, input=given, prog_name="drawknife"
    )
    said = done.stderr
    if done.exception is not None and not isinstance(done.exception, SystemExit):
        said += "".join(traceback.format_exception(done.exception))
    return subprocess.CompletedProcess(words, done.exit_code, done.stdout, said)
