"""The command `drawknife`."""

from __future__ import annotations

import click
from click.shell_completion import get_completion_class

from drawknife import __version__

from . import (
    access,
    accounts,
    administrators,
    census,
    directories,
    drafts,
    history,
    items,
    limits,
    mending,
    model,
    people,
    places,
    promises,
    serve,
    way_in,
    why,
)
from .common import NOT_SO, fail

CONTEXT = {"help_option_names": ["-h", "--help"], "max_content_width": 100}


@click.group(context_settings=CONTEXT)
@click.version_option(__version__, prog_name="drawknife")
def main() -> None:
    """What each account of a file transfer server can really do, and why.

    \b
    Examples:
      drawknife access ines                     what ines can do, everywhere
      drawknife why fulmar upload /charts/x     why it is refused, and what else is in the way
      drawknife who download /soundings         everybody who can, and through what
      drawknife check demo/tidewrack.yaml       is a model file sound?

    A service is asked: --url and --token, or DRAWKNIFE_URL and DRAWKNIFE_TOKEN, or the
    configuration file. With --model FILE a command works on a model file instead.

    \b
    Exit status: 0 done or allowed, 1 refused or not as expected, 2 wrong usage,
    3 no service, or it failed.
    """


@main.command()
@click.argument("shell", type=click.Choice(["bash", "zsh", "fish"]))
def completion(shell: str) -> None:
    """Print the completion script of a shell.

    \b
    Example:
      drawknife completion bash > ~/.local/share/bash-completion/completions/drawknife
    """
    kind = get_completion_class(shell)
    if kind is None:
        fail(NOT_SO, f"no completion for {shell}")
    click.echo(kind(main, {}, "drawknife", "_DRAWKNIFE_COMPLETE").source())


for module in (
    serve,
    model,
    accounts,
    people,
    directories,
    places,
    items,
    way_in,
    limits,
    census,
    access,
    why,
    mending,
    promises,
    history,
    drafts,
    administrators,
):
    module.add_to(main)
