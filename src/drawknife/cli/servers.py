"""What commands that speak with a server share, and holding what it shows against the model."""

from __future__ import annotations

import functools
import os
import ssl
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import click
from rich.padding import Padding
from rich.text import Text

from drawknife.core.words.errors import BadValue
from drawknife.core.words.names import fold
from drawknife.core.words.sizes import number_of
from drawknife.trials.comparing import Compared, Listing, compare_server
from drawknife.trials.over import Address, Credentials, RefusedByServer, read_address

from .common import FAILED, NOT_SO, Answers, asks, check_private, console, fail, print_text

F = TypeVar("F", bound=Callable[..., Any])


def address(text: str) -> Address:
    """The address that a URL names; wrong usage if it is none."""
    try:
        return read_address(text)
    except BadValue as bad:
        raise click.BadParameter(f"{bad}; expected {bad.expected}") from None


def password_from(path: Path | None) -> str | None:
    """The password in a file, else in DRAWKNIFE_REHEARSAL_PASSWORD: on a command line everybody on
    the machine sees it.
    """
    if path is None:
        return os.environ.get("DRAWKNIFE_REHEARSAL_PASSWORD") or None
    check_private(path)
    return path.read_text().rstrip("\r\n")


class SignInOptions(NamedTuple):
    """Who signs in at a server with what: each by the account, in the form in which names are
    compared, or for all ("").
    """

    password: str | None
    passwords: dict[str, str]
    keys: dict[str, str]
    names: dict[str, str]
    known_hosts: Path | None
    checked: bool

    def of(self, account: str) -> Credentials:
        """What an account signs in with."""
        key = self.keys.get(fold(account), self.keys.get(""))
        return Credentials(
            self.names.get(fold(account), self.names.get("", account)),
            self.passwords.get(fold(account), self.password) or "",
            self.checked,
            None if key is None else Path(key),
            self.known_hosts,
        )

    def lacking(self, account: str) -> str:
        """What to say where somebody with nothing to sign in with was refused; empty where there
        was something.
        """
        given = self.of(account)
        if given.password or given.key is not None:
            return ""
        return (
            f"; no password and no key was given for {account}: --passwords, --key, or"
            " DRAWKNIFE_REHEARSAL_PASSWORD"
        )


def _by_account(_: click.Context, __: click.Parameter, given: tuple[str, ...]) -> dict[str, str]:
    """``ACCOUNT=VALUE``, or one value for all."""
    return {fold(name): value for name, _, value in (text.rpartition("=") for text in given)}


def speaks(command: F) -> F:
    """Options of what signs in at a server, passed as `signing`."""

    @click.option(
        "--password-file",
        type=click.Path(path_type=Path, exists=True, dir_okay=False),
        help="A file with one password for every account; else DRAWKNIFE_REHEARSAL_PASSWORD.",
    )
    @click.option(
        "--passwords",
        type=click.Path(path_type=Path, exists=True, dir_okay=False),
        help="A file with a line for each account: its name and its password.",
    )
    @click.option(
        "--key",
        multiple=True,
        callback=_by_account,
        metavar="[ACCOUNT=]FILE",
        help="Sign in with this private key (SFTP). Repeatable.",
    )
    @click.option(
        "--sign-in-as",
        multiple=True,
        callback=_by_account,
        metavar="[ACCOUNT=]NAME",
        help="Sign in under another name than the account's. Repeatable.",
    )
    @click.option(
        "--known-hosts",
        type=click.Path(path_type=Path, exists=True, dir_okay=False),
        help="The host keys to trust (SFTP).  [default: ~/.ssh/known_hosts]",
    )
    @click.option("--unchecked", is_flag=True, help="Take any certificate or host key.")
    @functools.wraps(command)
    def wrapped(
        password_file: Path | None,
        passwords: Path | None,
        key: dict[str, str],
        sign_in_as: dict[str, str],
        known_hosts: Path | None,
        unchecked: bool,
        **others: Any,
    ) -> Any:
        word = password_from(password_file)
        signing = SignInOptions(
            word, read_passwords(passwords), key, sign_in_as, known_hosts, not unchecked
        )
        return command(signing=signing, **others)

    return wrapped  # type: ignore[return-value]


def out_of_reach(server: Address, error: OSError) -> str:
    """Why nothing can be said to a server, and what helps."""
    where = f"{server.host}, port {server.port}"
    if isinstance(error, ssl.SSLCertVerificationError):
        return (
            f"the certificate of {where} is not trusted: {error.verify_message}; --unchecked"
            " takes any"
        )
    return f"{where}, cannot be reached: {os.strerror(error.errno) if error.errno else error}"


def read_passwords(path: Path | None) -> dict[str, str]:
    """Passwords by account, in the form in which names are compared; the file is nobody else's."""
    if path is None:
        return {}
    check_private(path)
    lines = (line.split(None, 1) for line in path.read_text().splitlines() if line.strip())
    return {fold(words[0]): words[1] for words in lines if len(words) == 2}


@click.command("compare-server")
@click.argument("server", callback=lambda _, __, text: address(text))
@click.argument("account")
@click.option(
    "--endpoint", metavar="NAME", help="The endpoint of the model that the server stands for."
)
@click.option(
    "--most",
    default=1000,
    show_default=True,
    type=click.IntRange(1),
    help="Look into no more folders than this.",
)
@speaks
@asks
def compare_server_(
    *,
    answers: Answers,
    server: Address,
    account: str,
    endpoint: str | None,
    most: int,
    signing: SignInOptions,
    as_json: bool,
) -> None:
    """Hold what a server shows ACCOUNT against the model, folder by folder; it only reads.

    What is listed, what is shown, and over FTP the perm fact of each folder: entering, listing,
    putting files, making folders. Exit status 1 where anything is different.

    \b
    Example:
      drawknife compare-server ftpes://files.tidewrack.example ines --endpoint harbour
    """
    facts = {"account": account, **({"endpoint": endpoint} if endpoint else {})}

    def listing(location: str) -> Listing:
        found = answers.listing(account, location, endpoint)
        return Listing(
            found.allowed, found.text, {x.name: x.kind for x in found.folders}, found.shows
        )

    def decide(question: dict[str, Any]) -> tuple[bool, str]:
        found = answers.decide({**facts, **question})
        return (
            (found["allowed"], found["text"])
            if isinstance(found, dict)
            else (found.allowed, found.text)
        )

    listing("/")  # a name that is wrong is told before anybody signs in
    try:
        from drawknife.trials.signing_in import sign_in

        speaking = sign_in(server, signing.of(account))
        try:
            compared = compare_server(speaking, listing, decide, most)
        finally:
            speaking.close()
    except RefusedByServer as refused:
        fail(NOT_SO, f"{account} cannot sign in there: {refused}{signing.lacking(account)}")
    except OSError as error:
        fail(FAILED, out_of_reach(server, error))
    _print(compared) if as_json else _draw(compared)
    raise SystemExit(NOT_SO if compared.differences else 0)


def _print(compared: Compared) -> None:
    import json

    data = {**compared._asdict(), "differences": [d._asdict() for d in compared.differences]}
    print_text(json.dumps(data, ensure_ascii=False, indent=2))


def _draw(compared: Compared) -> None:
    out = console()
    for d in compared.differences:
        said = (
            "the server does, and the model does not"
            if d.server
            else "the model does, and the server does not"
        )
        out.print(
            Text().append("✕ ", "red").append(d.location, "bold").append(f"  {d.what}: {said}")
        )
        out.print(Padding(Text(d.text, "dim"), (0, 0, 0, 2), expand=False))
    headline = (
        f"{number_of(len(compared.differences), 'difference')} in"
        f" {number_of(compared.looked_at, 'folder')}"
    )
    out.print(Text(headline, "bold" if compared.differences else "green"))
    if compared.left_out:
        out.print(
            f"{number_of(compared.left_out, 'more folder')} not looked at: --most", style="dim"
        )
    if compared.odd:
        out.print(
            f"{number_of(compared.odd, 'folder')} not looked at: no model can hold the name",
            style="dim",
        )
    if not compared.perm:
        out.print(
            "The server does not tell what may be done in a folder (perm): only what is shown was"
            " compared.",
            style="dim",
        )


def add_to(group: click.Group) -> None:
    group.add_command(compare_server_)
