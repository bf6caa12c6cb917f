"""The census: measure a store's files here, and send what was found to the service."""

from __future__ import annotations

import os
from typing import IO, Any

import click

from drawknife import messages as msg
from drawknife.census.report import census_of, read_mapping, read_rows
from drawknife.census.walk import Walked, walk_files
from drawknife.client import Client
from drawknife.core.words.errors import NotFound
from drawknife.core.words.sizes import number_of, show_size

from .common import (
    FAILED,
    RAW,
    ExportedText,
    counting,
    errors_in_words,
    fail,
    print_text,
    say,
    serves,
    write_csv,
)


@click.command()
@click.argument("store")
@click.option("--root", metavar="FOLDER", help="Walk this folder instead of the store's root.")
@click.option(
    "--measure",
    type=click.Choice(["length", "disk"]),
    default="length",
    show_default=True,
    help="Count the length of files, or what they occupy on disk (sparse files are smaller there).",
)
@click.option(
    "--map",
    "mapping_file",
    type=ExportedText(),
    metavar="FILE",
    help="Which OS user is which account: CSV os_user,account.",
)
@click.option("--cross", is_flag=True, help="Enter other file systems below the root, too.")
@click.option(
    "--take-folders",
    "deepest",
    type=click.IntRange(1),
    metavar="LEVELS",
    help="Record folders found, down to so many levels.",
)
@click.option(
    "--from",
    "rows_file",
    type=ExportedText(),
    metavar="FILE",
    help="Take rows folder,owner,bytes,files from CSV or JSON lines instead of walking.",
)
@click.option("--csv", "as_csv", is_flag=True, help="Print the rows as CSV, and send nothing.")
@RAW
@click.option(
    "--json-lines", "as_lines", is_flag=True, help="Print the rows as JSON lines, and send nothing."
)
@click.option("--at", metavar="TIME", help="When it was, if not now (ISO 8601).")
@serves
def census(
    *,
    client: Client,
    store: str,
    rows_file: IO[str] | None,
    as_csv: bool,
    as_lines: bool,
    raw: bool,
    at: str | None,
    **options: Any,
) -> None:
    """Measure the files of STORE by folder and owner, here, and send what was found.

    Files with several names count once, in the first folder by name; symbolic links are not
    followed, other file systems not entered unless told. A user on the host is the account that
    --map names, else the one that acts as it (acts_as), else the one of the same name; what belongs
    to nobody known, and what cannot be read, is told. Nothing is sent before the walk is done:
    broken off, it changes nothing.

    \b
    Examples:
      drawknife census public --root .run/files/public
      drawknife census survey --root .run/files/survey --take-folders 2 --csv
    """
    if rows_file is not None:
        with errors_in_words(rows_file.name):
            found = msg.NewCensus(
                store=store, measured=options["measure"], rows=read_rows(rows_file)
            )
    else:
        found = _measure(client, store, **options)
    if at:
        found = msg.NewCensus.model_validate({**found.model_dump(), "at": at})
    if as_lines:
        for row in found.rows:
            print_text(row.model_dump_json())
    elif as_csv:
        head = ("folder", "owner", "bytes", "files")
        write_csv([head, *((r.folder, r.owner or "", r.bytes, r.files) for r in found.rows)], raw)
    else:
        done = client.take_census(found)
        new = f", {number_of(done.new_folders, 'new folder')}" if done.new_folders else ""
        say(
            f"{store}: {show_size(done.bytes)} in {number_of(done.files, 'file')}{new}; revision"
            f" {done.revision} is in force"
        )
    _tell(found)


def _measure(
    client: Client,
    store: str,
    root: str | None,
    measure: str,
    mapping_file: IO[str] | None,
    *,
    cross: bool,
    deepest: int | None,
) -> msg.NewCensus:
    known = {s.name.casefold(): s for s in client.stores().stores}
    line = known.get(store.casefold())
    if line is None:
        raise NotFound("store", store, (s.name for s in known.values()), "store")
    top = root or line.root
    if top is None:
        raise click.UsageError(
            f"store {line.name} is only planned: it has no root; name one with --root"
        )
    mapping: dict[str, str] = {}
    if mapping_file is not None:
        with errors_in_words(mapping_file.name):
            mapping = read_mapping(mapping_file)
    # Where several accounts act as one user, whose file it is cannot be told.
    acting = {
        user: names[0] for user, names in client.host_users().users.items() if len(names) == 1
    }
    walked = _walk(top, measure == "disk", cross)
    accounts = [a.name for a in client.accounts().accounts]
    return census_of(line.name, walked, accounts, {**acting, **mapping}, measure, deepest=deepest)


def _walk(top: str, by_disk: bool, cross: bool) -> Walked:
    with counting("walking") as tell:
        try:
            return walk_files(
                top,
                by_disk=by_disk,
                cross=cross,
                progress=lambda files, size: tell(f"{number_of(files, 'file')}, {show_size(size)}"),
                processes=min(4, os.cpu_count() or 1),
            )
        except OSError as error:
            fail(FAILED, f"{top} cannot be read: {error.strerror}")


def _tell(found: msg.NewCensus) -> None:
    for user, (bytes_, files) in sorted(found.unknown_owners.items()):
        say(
            f"  nobody known: OS user {user} owns {show_size(bytes_)} in"
            f" {number_of(files, 'file')}; name its account with --map"
        )
    for folder in found.unreadable[:20]:
        say(f"  not readable: {folder}")
    if len(found.unreadable) > 20:
        say(f"  and {len(found.unreadable) - 20} more that are not readable")
    for note in found.notes:
        say(f"  {note}")


def add_to(group: click.Group) -> None:
    group.add_command(census)
