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
from drawknife.core.words.names import BadValue
from drawknife.core.words.sizes import several

from .common import (
    NOT_SO,
    WRONG_USAGE,
    check_private,
    confirm,
    errors_in_words,
    fail,
    moment,
    print_text,
    say,
)
from .config_file import read_config

#: Where a command finds the file of the service's key, in the context; None where that is not
#: known.
KEY_FILE = "drawknife.key_file"
#: Where it finds the retention periods of the configuration.
KEEP = "drawknife.keep"


def _which(command: Callable[..., None]) -> Callable[..., None]:
    """Options that name the database, as `serve` has them; the command gets its `address`."""

    @click.option(
        "--database",
        envvar="DRAWKNIFE_DATABASE",
        metavar="URL",
        help="The PostgreSQL database, postgresql://…",
    )
    @click.option(
        "--database-file",
        envvar="DRAWKNIFE_DATABASE_FILE",
        type=click.Path(path_type=Path, exists=True, dir_okay=False),
        help="A file that holds that.",
    )
    @click.option(
        "--config",
        envvar="DRAWKNIFE_CONFIG",
        type=click.Path(path_type=Path, exists=True, dir_okay=False),
        help="The service's configuration file, which names it.",
    )
    @wraps(command)
    def found(
        database: str | None, database_file: Path | None, config: Path | None, **more: Any
    ) -> None:
        key_file = os.environ.get("DRAWKNIFE_KEY_FILE")
        keep: list[str] = []
        if config is not None:
            from .serve import serve

            try:
                said = read_config(config, serve)
            except click.BadParameter as error:
                fail(NOT_SO, error.message)
            key_file, keep = key_file or said.get("key_file"), said.get("keep", [])
            if not (database or database_file):
                database = said.get("database")
                database_file = Path(said["database_file"]) if "database_file" in said else None
        click.get_current_context().meta.update(
            {KEY_FILE: Path(key_file) if key_file else None, KEEP: keep}
        )
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

    `serve` does the same when it starts. Older services go on, or answer 503 where they would
    misread the new schema.

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
        print_text(f"applied  {name}  {moment(at)}")
    for name in found.missing:
        print_text(f"missing  {name}")
    for what, count in found.kept:
        print_text(f"{count:>12,}  {what}")
    if found.missing:
        fail(
            NOT_SO,
            f"{len(found.missing)} steps of the schema are missing; apply them with `drawknife"
            " database migrate`",
        )


@database.command()
@click.argument("file", type=click.Path(path_type=Path, dir_okay=False), required=False)
@_which
def backup(address: str, file: Path | None) -> None:
    """Write a backup of the whole database to FILE.

    It has the model, its history, credentials and administrators as of one moment; services go on
    meanwhile. It holds hashes of passwords and tokens, so only its owner can read the file.

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
        say(
            f"Not in it: the key to the passwords of {several(names)}. Keep a copy of {where}"
            " elsewhere."
        )
    say("Not in it: the token file, certificates, and other files that the configuration names.")


@database.command()
@click.argument("file", type=click.Path(path_type=Path, exists=True, dir_okay=False))
@_which
def restore(address: str, file: Path) -> None:
    """Restore the backup FILE into an empty database.

    The schema is brought up to this version. All tokens stay good. With --config, it is checked
    whether the service's key is the one that the backup needs.

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
        say(
            f"The key to the passwords of {several(names)} is another one, or missing: {where}, or"
            " set them again."
        )


@database.command()
@_which
@click.option(
    "--keep", multiple=True, metavar="DATA=DAYS", help="Like the option of `serve`. Repeatable."
)
@click.option("--yes", is_flag=True, help="Remove it without asking.")
def trim(address: str, keep: tuple[str, ...], yes: bool) -> None:
    """Remove data past its retention period.

    A running service removes expired data every ten minutes. This command shows what it would
    remove, and removes it now. These periods apply unless `keep` in the configuration or --keep
    sets others:

    \b
      journal              forever: history of the model, except console sign-ins
      console-sign-ins     forever: sign-ins to the console, allowed and refused
      sign-ins             30 days: sign-ins reported by transfer servers, allowed and refused
      censuses             forever: all but the last census of each store
      reports              forever: all but the last signed report per subject
      removed-credentials  30 days: passwords and keys of removed accounts
      rehearsal-log        20,000 lines: client actions in rehearsals
      syncs                50 syncs: sync reports per directory

    --as-of, `back` and `when` reach back as far as the history. History that an open draft needs
    stays, and so do sign-ins that count for a lockout. Only a backup can restore removed data.

    \b
    Examples:
      drawknife database trim --config /etc/drawknife/drawknife.toml
      drawknife database trim --config /etc/drawknife/drawknife.toml --keep journal=730
    """
    from drawknife.records.database import Database
    from drawknife.records.retention import parse_retention, preview_removal, remove_expired
    from drawknife.records.snapshots import read_snapshot

    try:
        retention = parse_retention([*click.get_current_context().meta[KEEP], *keep])
    except BadValue as bad:
        raise click.BadParameter(f"{bad}; expected {bad.expected}", param_hint="--keep") from None
    records = Database(address, size=0)
    records.open()
    lockouts = read_snapshot(records).model.lockouts
    removals = preview_removal(records, retention, lockouts)
    for removal in removals:
        print_text(removal.text)
    if not removals:
        say("Nothing has expired.")
    elif yes or confirm("Remove this data for good?"):
        for removal in remove_expired(records, retention, "drawknife database trim", lockouts):
            say(f"removed: {removal.text}")
    records.close()


def add_to(group: click.Group) -> None:
    group.add_command(database)
