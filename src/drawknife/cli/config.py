"""The configuration file of a service, checked before it is started with."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

import click

from .common import NOT_SO, fail, say


@click.group()
def config() -> None:
    """The configuration file of a service: is it sound?"""


@config.command()
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@click.option(
    "--connect",
    is_flag=True,
    help="Also connect to the database, the mail server and the webhook server.",
)
def check(file: Path, connect: bool) -> None:
    """Check a configuration FILE of `drawknife serve`.

    Run it as the user that the service runs as. Nothing is started. With --connect it also connects
    to the servers in the file, and changes and sends nothing there.

    \b
    Examples:
      drawknife config check /etc/drawknife/drawknife.toml
      drawknife config check /etc/drawknife/drawknife.toml --connect
    """
    from .serve import check_options, serve

    try:
        with serve.make_context("serve", ["--config", str(file)]) as context:
            wrong = check_options(context.params)
            reached = list(_reached(context.params)) if connect and not wrong else []
    except click.BadParameter as error:
        of_file = error.param is not None and error.param.name == "config"
        fail(
            NOT_SO, error.message if of_file else error.format_message()
        )  # or of what the environment says
    if wrong:
        fail(NOT_SO, f"{file}: {wrong}")
    say(f"{file} is sound")
    for what, why in reached:
        say(f"{what}: {why or 'connected'}")
    if any(why for _, why in reached):
        raise SystemExit(NOT_SO)


def _reached(given: Mapping[str, Any]) -> Iterator[tuple[str, str]]:
    """Each server in the options, and why it cannot be reached; empty where it can."""
    from drawknife.core.words.errors import OutOfReach
    from drawknife.records.database import connected

    from .tell_options import ways_of

    address = given["database"] or given["database_file"].read_text().strip()
    try:
        with connected(address) as connection:
            connection.execute("SELECT 1")
        yield "database", ""
    except OutOfReach as error:
        yield "database", str(error)
    for way in ways_of(given):
        yield way.name, way.why_not_reached()


def add_to(group: click.Group) -> None:
    group.add_command(config)
