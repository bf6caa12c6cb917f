"""The configuration file of a service, checked before it is started with."""

from __future__ import annotations

from pathlib import Path

import click

from .common import NOT_SO, fail, say


@click.group()
def config() -> None:
    """The configuration file of a service: is it sound?"""


@config.command()
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
def check(file: Path) -> None:
    """Is the configuration FILE sound? Tells what is wrong, with the place; nothing is started.

    \b
    Example:
      drawknife config check /etc/drawknife/drawknife.toml
    """
    from .serve import check_options, serve

    try:
        with serve.make_context("serve", ["--config", str(file)]) as context:
            wrong = check_options(context.params)
    except click.BadParameter as error:
        of_file = error.param is not None and error.param.name == "config"
        fail(NOT_SO, error.message if of_file else error.format_message())  # or of what the environment says
    if wrong:
        fail(NOT_SO, f"{file}: {wrong}")
    say(f"{file} is sound")


def add_to(group: click.Group) -> None:
    group.add_command(config)
