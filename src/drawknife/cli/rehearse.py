"""Trying it as them, with a real client: a stand-in for the transfer server."""

from __future__ import annotations

import asyncio
import signal
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING

import click
from rich.console import Console
from rich.padding import Padding
from rich.text import Text

from drawknife.core.words.errors import NotFound
from drawknife.core.words.names import BadValue, fold
from drawknife.core.words.sizes import number_of, several

from .common import (
    DEFAULT_URL,
    WRONG_USAGE,
    connect,
    console,
    errors_in_words,
    fail,
    print_text,
    read_model_file,
    say,
)
from .servers import password_from
from .verbosity import VERBOSITY

if TYPE_CHECKING:
    from drawknife.rehearsal import StandIn
    from drawknife.rehearsal.log import ActionLine

#: When the log's file is turned over, and how many of them are kept.
LOG_SIZE, LOG_FILES = 10 * 2**20, 5
#: In a model of no more accounts it is said which cannot come in, and why.
MOST_NAMED = 2000


def _as_from(_: click.Context, __: click.Parameter, given: tuple[str, ...]) -> dict[str, str]:
    """``ADDRESS`` for all, or ``ACCOUNT=ADDRESS``."""
    from drawknife.core.model.endpoints import read_address

    found = {}
    for text in given:
        name, _equals, address = text.rpartition("=")
        try:
            read_address(address)
        except (BadValue, ValueError):
            raise click.BadParameter(
                f"{address!r} is no address; expected one such as 203.0.113.9, or ines=203.0.113.9"
            ) from None
        found[fold(name)] = address
    return found


def _store_and_folder(text: str) -> tuple[str, Path]:
    store, _, folder = text.partition("=")
    if not (store and folder and Path(folder).is_dir()):
        raise click.BadParameter(
            f"{text!r} names no store and folder; expected STORE=DIR, such as survey=/srv/survey"
        )
    return store, Path(folder)


@click.command()
@click.option(
    "--model", "model_file", metavar="FILE", help="Rehearse this model file, without a service."
)
@click.option("--url", envvar="DRAWKNIFE_URL", help=f"The service.  [default: {DEFAULT_URL}]")
@click.option("--token", envvar="DRAWKNIFE_TOKEN", help="The token to ask it with.")
@click.option("--draft", metavar="NAME", help="As it would be with this draft applied.")
@click.option("--host", default="127.0.0.1", show_default=True, help="The address to listen on.")
@click.option(
    "--offset",
    default=20000,
    show_default=True,
    type=click.IntRange(0, 60000),
    help="Ports are moved up by this; 0: any free ones.",
)
@click.option(
    "--as-from",
    multiple=True,
    callback=_as_from,
    metavar="ADDRESS",
    help="The address that clients are taken to come from, for all or ACCOUNT=ADDRESS; repeatable.",
)
@click.option(
    "--password-file",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help=(
        "A file with the one password for every account; else DRAWKNIFE_REHEARSAL_PASSWORD, else"
        " one is generated."
    ),
)
@click.option(
    "--folder",
    type=click.Path(path_type=Path, file_okay=False),
    help="Keep keys and files here; else they are thrown away at the end.",
)
@click.option(
    "--like",
    multiple=True,
    callback=lambda _, __, given: [_store_and_folder(text) for text in given],
    metavar="STORE=DIR",
    help=(
        "Begin with files of the names, sizes and owners of a real folder, without what is in them;"
        " repeatable."
    ),
)
@click.option(
    "--log",
    "log_file",
    type=click.Path(path_type=Path, dir_okay=False),
    help="Write each action here as a JSON line; turned over at 10 MiB and at the end of a day.",
)
def rehearse(
    *,
    model_file: str | None,
    url: str | None,
    token: str | None,
    draft: str | None,
    host: str,
    offset: int,
    as_from: dict[str, str],
    password_file: Path | None,
    folder: Path | None,
    like: list[tuple[str, Path]],
    log_file: Path | None,
) -> None:
    """Try it as them: opens the endpoints for real clients, with scratch files, until Ctrl-C.

    A client is told what its protocol says; here stands of each action whether it was let, by which
    gate it was refused, and why. It is for trying things out, and no server.

    \b
    Examples:
      drawknife rehearse --model demo/tidewrack.yaml
      drawknife rehearse --draft autumn --as-from ines=203.0.113.9
    """
    from drawknife.formats.model_file import read_model
    from drawknife.rehearsal import StandIn
    from drawknife.rehearsal.model_source import ModelSource, OfService, OneModel

    if model_file is not None and draft is not None:
        raise click.UsageError("a model file has no drafts: --draft is for a service")
    password = password_from(password_file)
    with errors_in_words(model_file or ""), TemporaryDirectory() as scratch:
        source: ModelSource
        if model_file is not None:
            from drawknife.core.prepared.prepared import prepare

            source = OneModel(prepare(read_model(read_model_file(model_file))))
        else:
            source = OfService(connect(url, token), draft)
        stand = StandIn(
            source,
            folder or Path(scratch),
            host=host,
            offset=offset,
            as_from=as_from,
            password=password,
        )
        for store, real in like:
            if store not in {s.name for s in stand.refresh().model.stores}:
                raise NotFound(
                    "store", store, [s.name for s in stand.refresh().model.stores], "like"
                )
            accounts = [a.name for a in stand.refresh().model.accounts]
            say(
                f"{store}: {number_of(stand.tree.take_shape(store, real, accounts), 'file')} as in"
                f" {real}"
            )
        asyncio.run(_serve(stand, password is None, log_file))


async def _serve(stand: StandIn, shown: bool, log_file: Path | None) -> None:
    from drawknife.rehearsal.log import BoundedFile

    await stand.open(say)
    for left in stand.left_out:
        say(f"not open: {left}")
    if not stand.opened:
        fail(WRONG_USAGE, "no endpoint could be opened; see `drawknife endpoint list`")
    file = BoundedFile(log_file, LOG_SIZE, LOG_FILES) if log_file is not None else None
    if file is not None:
        stand.log.listen(file.write)
    if not VERBOSITY.quiet:
        out = console()
        stand.log.listen(lambda line: draw(out, line))
    _print_how_to_sign_in(stand, shown)
    if len(stand.refresh().model.accounts) <= MOST_NAMED:
        for opened in stand.opened:
            for reason, names in stand.kept_out(opened.endpoint).items():
                say(f"Not at {opened.endpoint.name}: {several(names, 5)}: {reason.split('; ')[0]}")
    print_text("Ctrl-C ends it.", err=True)
    stop = asyncio.Event()
    loop = asyncio.get_running_loop()
    for number in (signal.SIGINT, signal.SIGTERM):
        loop.add_signal_handler(number, stop.set)
    await stop.wait()
    await stand.close()
    stand.source.close()
    if file is not None:
        file.close()


def _print_how_to_sign_in(stand: StandIn, with_password: bool) -> None:
    """Print the addresses, the password and the keys, with -q, too: they are the answer."""
    from drawknife.rehearsal.keys import fingerprints

    host_key, certificate = fingerprints(stand.folder)
    lines = ["A rehearsal, not a server. Sign in with"]
    lines += [f"    {line}" for line in stand.lines()]
    if with_password:
        lines += ["and this password, which every account has here:", f"    {stand.password}"]
    else:
        lines.append("and the password that was given.")
    lines += [f"Host key {host_key}", f"Certificate SHA-256 {certificate}"]
    for line in lines:
        print_text(line, err=True)


def draw(out: Console, line: ActionLine) -> None:
    """A line of the log for people: when, who, what, and why not."""
    text = Text().append(f"{line.at:%H:%M:%S}Z ", "dim")
    mark = ("✕ ", "red") if not line.allowed else ("● ", "green") if line.done else ("○ ", "yellow")
    text.append(*mark)
    text.append(f"{line.account} ", "bold").append(f"{line.action} ", "default").append(
        line.path or line.endpoint, "default"
    )
    if line.to:
        text.append(f" → {line.to}", "default")
    out.print(text)
    below = []
    if not line.allowed:
        below = [Text().append(f"{line.gate}: ", "red").append(line.text, "default")]
        below += [Text(line.why(), "dim")] if line.why() else []
    if line.note:
        below.append(Text(line.note, "dim"))
    for more in below:
        out.print(Padding(more, (0, 0, 0, 11), expand=False))


def add_to(group: click.Group) -> None:
    group.add_command(rehearse)
