"""The database of a service: its schema, and its backups."""

from __future__ import annotations

import os
from collections.abc import Callable
from datetime import UTC, datetime
from functools import wraps
from pathlib import Path
from typing import Any

import click

from drawknife import __version__
from drawknife.core.words.sizes import several

from .common import NOT_SO, WRONG_USAGE, check_private, errors_in_words, fail, print_text, say
from .config_file import read_config

#: Where a command finds the file of the service's key, in the context; None where that is not known.
KEY_FILE = "drawknife.key_file"


def _which(command: Callable[..., None]) -> Callable[..., None]:
    """Options that name the database, as `serve` has them; the command gets its `address`."""

    @click.option(
        "--database", envvar="DRAWKNIFE_DATABASE", metavar="URL", help="The PostgreSQL database, postgresql://…"
    )
    @click.option(
        "--database-file",
        envvar="DRAWKNIFE_DATABASE_FILE",
        type=click.Path(path_type=Path, exists=True, dir_okay=False),
        help="A file that holds that.",
    )
    @click.option(
        "--config", envvar="DRAWKNIFE_CONFIG", type=click.Path(path_type=Path, exists=True, dir_okay=False),
        help="The service's configuration file, which names it.",
    )  # fmt: skip
    @wraps(command)
    def found(database: str | None, database_file: Path | None, config: Path | None, **more: Any) -> None:
        key_file = os.environ.get("DRAWKNIFE_KEY_FILE")
        if config is not None:
            from .serve import serve

            try:
                said = read_config(config, serve)
            except click.BadParameter as error:
                fail(NOT_SO, error.message)
            key_file = key_file or said.get("key_file")
            if not (database or database_file):
                database = said.get("database")
                database_file = Path(said["database_file"]) if "database_file" in said else None
        click.get_current_context().meta[KEY_FILE] = Path(key_file) if key_file else None
        if database is None and database_file is not None:
            check_private(database_file)
            database = database_file.read_text().strip()
        if not database:
            fail(WRONG_USAGE, "which database? --database, --database-file, or --config")
        with errors_in_words():
            command(address=database, **more)

    return found


@click.group()
def database() -> None:
    """Migrate, back up and restore the database of a service."""


@database.command()
@_which
def migrate(address: str) -> None:
    """Bring the schema up to this version.

    `serve` does the same when it starts. Older services go on, or answer 503 where they would misread the new schema.

    \b
    Example:
      drawknife database migrate --config /etc/drawknife/drawknife.toml
    """
    from drawknife.records.database import bring_up_to_date

    for step in bring_up_to_date(address):
        say(f"applied {step}")
    say("the schema is up to date")


@database.command()
@_which
def status(address: str) -> None:
    """Show the version, the schema, and how much is kept.

    The exit status is 1 where steps of the schema are missing.

    \b
    Example:
      drawknife database status --config /etc/drawknife/drawknife.toml
    """
    from drawknife.records.status import look

    found = look(address)
    print_text(f"Drawknife {__version__}")
    for name, at in found.applied:
        print_text(f"applied  {name}  {at:%Y-%m-%d %H:%M} (UTC)")
    for name in found.missing:
        print_text(f"missing  {name}")
    for what, count in found.kept:
        print_text(f"{count:>12,}  {what}")
    if found.missing:
        fail(
            NOT_SO,
            f"{len(found.missing)} steps of the schema are missing; apply them with `drawknife database migrate`",
        )


@database.command()
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False), required=False)
@_which
def backup(address: str, file: Path | None) -> None:
    """Write a backup of the whole database to FILE.

    It has the model, its history, credentials and administrators as of one moment; services go on meanwhile. It holds
    hashes of passwords and tokens, so only its owner can read the file.

    \b
    Examples:
      drawknife database backup --config /etc/drawknife/drawknife.toml
      drawknife database backup /var/backups/drawknife.dump --database postgresql:///drawknife
    """
    from drawknife.records.backup import take
    from drawknife.records.directories import with_secrets

    file = file or Path(f"drawknife-{datetime.now(UTC):%Y%m%dT%H%M%SZ}.dump")
    take(address, file)
    say(f"wrote {file}, {file.stat().st_size:,} bytes")
    names = with_secrets(address)
    if names:
        key_file = click.get_current_context().meta[KEY_FILE]
        where = key_file or "the file that the service's option --key-file names"
        say(f"Not in it: the key to the passwords of {several(names)}. Keep a copy of {where} elsewhere.")
    say("Not in it: the token file, certificates, and other files that the configuration names.")


@database.command()
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@_which
def restore(address: str, file: Path) -> None:
    """Restore the backup FILE into an empty database.

    The schema is brought up to this version. All tokens stay good. With --config, it is checked whether the service's key is the one that the backup needs.

    \b
    Example:
      createdb drawknife_new
      drawknife database restore drawknife.dump --database postgresql:///drawknife_new
    """
    from drawknife.records.backup import note_restored
    from drawknife.records.backup import restore as put
    from drawknife.records.database import bring_up_to_date
    from drawknife.records.directories import not_readable

    put(address, file)
    for step in bring_up_to_date(address):
        say(f"applied {step}")
    note_restored(address)
    say(f"restored {file}")
    key_file = click.get_current_context().meta[KEY_FILE]
    names = not_readable(address, key_file)
    if names:
        where = f"copy it to {key_file}" if key_file else "name it with --config"
        say(f"The key to the passwords of {several(names)} is another one, or missing: {where}, or set them again.")


def add_to(group: click.Group) -> None:
    group.add_command(database)
