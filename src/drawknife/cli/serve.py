"""`drawknife serve`: run the service."""

from __future__ import annotations

import os
from datetime import timedelta
from pathlib import Path

import click

from drawknife.core.words.names import BadValue, fold
from drawknife.core.words.quantities import read_size
from drawknife.core.words.sizes import several

from .common import FAILED, check_private, errors_told, fail, say

CODE_LASTS = timedelta(minutes=15)
#: The owner that is made at first start.
FIRST_OWNER = "administrator"


def _size(text: str) -> int:
    try:
        return read_size(text)
    except BadValue as bad:
        raise click.BadParameter(f"{bad}; expected {bad.expected}") from None


@click.command()
@click.option(
    "--database",
    envvar="DRAWKNIFE_DATABASE",
    required=True,
    metavar="URL",
    help="The PostgreSQL database, postgresql://…",
)
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on.")
@click.option("--port", default=8750, show_default=True, type=click.IntRange(1, 65535))
@click.option(
    "--threads",
    default=8,
    show_default=True,
    type=click.IntRange(1, 64),
    help="Requests that a process answers at once.",
)
@click.option(
    "--console",
    "console_folder",
    type=click.Path(path_type=Path, exists=True, file_okay=False, resolve_path=True),
    help="The console's built files.",
)
@click.option(
    "--token-file",
    type=click.Path(path_type=Path),
    help="Where an administrator's token is kept; made if it is not there.",
)
@click.option(
    "--key-file",
    type=click.Path(path_type=Path),
    help="The key that directories' bind passwords are encrypted with; made if it is not there.",
)
@click.option(
    "--load",
    "first_model",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help="A model file for a database that has none yet.",
)
@click.option(
    "--files",
    multiple=True,
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="A folder below which files may be read: certificates, lists of people, passwords of directories. Repeatable.",
)
@click.option(
    "--largest-file",
    "largest",
    default="1 MiB",
    show_default=True,
    metavar="SIZE",
    callback=lambda _, __, v: _size(v),
    help="No file larger than this is read.",
)
@click.option(
    "--processes",
    default=lambda: max(1, min(4, os.cpu_count() or 1)),
    show_default="one a core, at most 4",
    type=click.IntRange(1, 64),
    help="Processes that answer; each has the model in memory.",
)
@click.option(
    "--second-person", is_flag=True, help="Every change is a draft, which is applied by somebody who wrote none of it."
)
@click.option(
    "--patterns",
    multiple=True,
    type=click.Path(path_type=Path, exists=True, file_okay=False),
    help="A folder with patterns of your own, YAML files as `pattern show --yaml` prints them. Repeatable.",
)
@click.option("--log-requests", is_flag=True, help="Log every request on standard error.")
def serve(
    database: str,
    host: str,
    port: int,
    threads: int,
    console_folder: Path | None,
    token_file: Path | None,
    key_file: Path | None,
    first_model: Path | None,
    files: tuple[Path, ...],
    largest: int,
    processes: int,
    second_person: bool,
    patterns: tuple[Path, ...],
    log_requests: bool,
) -> None:
    """Run the service, until Ctrl-C.

    Applies what is missing of the database's schema. Several services may share one database.
    With --token-file, prints a link that signs in to the console, good once and for 15 minutes.

    \b
    Example:
      drawknife serve --database postgresql://drawknife@127.0.0.1/drawknife \\
          --token-file ~/.config/drawknife/token
    """  # fmt: skip
    from drawknife.service.files import ReadableFolders
    from drawknife.service.server import Options, Server, listen

    if patterns:
        from drawknife.patterns import all_patterns

        with errors_told():
            all_patterns(patterns)  # told now, and not when somebody asks
    try:
        listening = listen(host, port)
    except OSError as error:
        fail(FAILED, f"cannot listen on {host}, port {port}: {error.strerror}; give others with --host and --port")
    link = _make_ready(database, first_model, token_file)
    shown = f"http://{f'[{host}]' if ':' in host else host}:{port}"

    def ready() -> None:
        if link and console_folder:
            say(f"Console, signed in (good once, for 15 minutes): {shown}{link}")
        say(f"Drawknife serves at {shown}")

    options = Options(
        database,
        host,
        port,
        console_folder,
        key_file,
        ReadableFolders(files, largest),
        threads,
        processes,
        log_requests,
        second_person,
        patterns,
    )
    Server(options, listening, ready).run()


def _make_ready(database: str, first_model: Path | None, token_file: Path | None) -> str:
    """Bring the database up to date, and put the first model and token in it; the end of a link that signs in."""
    from drawknife.formats.document import BadDocument
    from drawknife.formats.model_file import read_model
    from drawknife.records import tokens
    from drawknife.records.changes import replace_model
    from drawknife.records.database import Database, NoRoom, SchemaProblem, Unavailable, bring_up_to_date
    from drawknife.records.snapshots import read_snapshot

    from .common import NOT_SO, faults_of

    try:
        for step in bring_up_to_date(database):
            say(f"database: applied {step}")
        records = Database(database, size=2)
        records.open()
        if first_model is not None and read_snapshot(records).revision == 0:
            replace_model(records, read_model(first_model.read_bytes()), "drawknife serve", "load")
            say(f"loaded {first_model}")
        link = ""
        if token_file is not None:
            owner = _ensure_token(records, token_file)
            link = f"/sign-in#{tokens.make_token(records, owner, 'code', CODE_LASTS)}" if owner else ""
        records.close()
        return link
    except Unavailable as error:
        fail(FAILED, f"the database cannot be reached: {error}")
    except NoRoom as error:
        fail(FAILED, f"the database has no room: {error}")
    except SchemaProblem as error:
        fail(FAILED, str(error))
    except BadDocument as error:
        fail(NOT_SO, f"{first_model} has mistakes", faults_of(error), str(first_model))


def _ensure_token(records: object, path: Path) -> str | None:
    """Make the first owner and its token on first start, in a file that only its owner can read; its name.

    Where the file is gone, or its token is not valid, a new one takes its place and ends all that went before. Whoever
    starts the service holds its database, and so can always make that owner again, by deleting the file. None where it was
    removed as an administrator.
    """
    from drawknife.records import administrators, journal, tokens
    from drawknife.records.database import Database

    assert isinstance(records, Database)
    there = next((a.name for a in administrators.each(records) if fold(a.name) == FIRST_OWNER), None)
    if path.exists():
        check_private(path)
        if tokens.holder(records, path.read_text().strip(), "token") is not None:
            return there
        if there is None and (owners := [a.name for a in administrators.each(records) if a.role == "owner"]):
            say(
                f"the token in {path} is not valid, and {FIRST_OWNER} is no administrator any more; ask {several(owners)}"
            )
            return None
    path.parent.mkdir(parents=True, exist_ok=True)
    path.unlink(missing_ok=True)
    path.touch(mode=0o600, exist_ok=False)
    name = there or FIRST_OWNER
    if administrators.ensure_owner(records, name):
        say(f"{name} is an owner now")
    ended = tokens.end_all(records, name)
    path.write_text(tokens.make_token(records, name, called=name, role="owner") + "\n")
    say(f"made an administrator's token in {path}" + ("; those before it are ended" if ended else ""))
    if ended:
        journal.note(
            records, "drawknife serve", f"made a new administrator's token; {ended} tokens and sessions before it ended"
        )
    return name


def add_to(group: click.Group) -> None:
    group.add_command(serve)
