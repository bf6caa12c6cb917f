"""Putting in place what a server needs besides the package."""

from __future__ import annotations

from pathlib import Path

import click

from .common import FAILED, fail, say


@click.command("install-files")
@click.option(
    "--to",
    "root",
    type=click.Path(path_type=Path, file_okay=False),
    default=Path("/"),
    show_default=True,
    metavar="DIR",
    help="Write below this folder, such as the root of a package.",
)
def install_files(root: Path) -> None:
    """Install the systemd unit, a configuration, man pages and completions.

    A file that exists and differs stays as it is. The new one is written beside it, with `.new`
    after its name.

    \b
    Example:
      drawknife install-files --to /tmp/package
    """
    from drawknife.host_files import place

    try:
        done = place(root)
    except OSError as error:
        fail(FAILED, f"{error.filename or root} cannot be written: {error.strerror}")
    for each in done:
        if not each.kept:
            say(f"installed {each.path}")
        elif each.path.suffix == ".new":
            say(f"kept {each.path.with_suffix('')}; the new version is {each.path}")
        else:
            say(f"kept {each.path}, which is not of this installation")
    if not done:
        say("Up to date: nothing to install.")


def add_to(group: click.Group) -> None:
    group.add_command(install_files)
