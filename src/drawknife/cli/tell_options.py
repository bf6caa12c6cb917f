"""The options of `serve` that say to whom findings are told, and when."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from datetime import time
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar
from urllib.parse import urlsplit

import click

if TYPE_CHECKING:
    from drawknife.service.telling import When
    from drawknife.service.tidings import WayOfTelling

F = TypeVar("F", bound=Callable[..., Any])
_FILE = click.Path(path_type=Path, exists=True, dir_okay=False)
OPTIONS = (
    click.option(
        "--webhook",
        metavar="URL",
        help="Tell findings and broken promises to this address, each once.",
    ),
    click.option(
        "--webhook-secret-file",
        type=_FILE,
        help="The secret that what is sent there is signed with.",
    ),
    click.option(
        "--mail-to", multiple=True, metavar="ADDRESS", help="Tell them by mail. Repeatable."
    ),
    click.option("--mail-from", metavar="ADDRESS", help="Who the mail is from."),
    click.option(
        "--mail-server", metavar="HOST:PORT", help="Where it is handed in, by SMTP under STARTTLS."
    ),
    click.option("--mail-user", metavar="NAME", help="Who hands it in, if the server asks."),
    click.option("--mail-password-file", type=_FILE, help="The password for that."),
    click.option(
        "--mail-ca",
        type=_FILE,
        help="Certificates that the server's is to come from; left out: the system's.",
    ),
    click.option(
        "--tell",
        default="at once",
        show_default=True,
        metavar="WHEN",
        help="`at once`, or once a day, such as 07:00 (UTC).",
    ),
)


def telling_options(command: F) -> F:
    """The options, on a command."""
    for option in reversed(OPTIONS):
        command = option(command)
    return command


def check_telling(given: Mapping[str, Any]) -> str:
    """What is wrong with them; empty if they can be told by."""
    if given["webhook"] and (
        urlsplit(given["webhook"]).scheme not in ("http", "https")
        or not urlsplit(given["webhook"]).hostname
    ):
        return f"--webhook: {given['webhook']!r} is no address; expected https://…"
    if given["webhook_secret_file"] and not given["webhook"]:
        return "--webhook-secret-file is for --webhook"
    mail = [given["mail_to"], given["mail_from"], given["mail_server"]]
    if any(mail) and not all(mail):
        return "--mail-to, --mail-from and --mail-server go together"
    if given["mail_server"] and not re.fullmatch(r".+:\d{1,5}", given["mail_server"]):
        return (
            f"--mail-server: {given['mail_server']!r}; expected HOST:PORT, such as"
            " smtp.tidewrack.example:587"
        )
    if bool(given["mail_user"]) != bool(given["mail_password_file"]):
        return "--mail-user and --mail-password-file go together"
    try:
        when_of(given)
    except ValueError:
        return f"--tell: {given['tell']!r}; expected `at once`, or a time of the day, such as 07:00"
    return ""


def when_of(given: Mapping[str, Any]) -> When:
    """When it is told; ValueError for what is no time."""
    from drawknife.service.telling import When

    return When(None if given["tell"] == "at once" else time.fromisoformat(given["tell"]))


def ways_of(given: Mapping[str, Any]) -> tuple[WayOfTelling, ...]:
    """The ways of telling."""
    from drawknife.service.tidings import Mail, Webhook

    ways: list[WayOfTelling] = []
    if given["webhook"]:
        secret = given["webhook_secret_file"]
        ways.append(Webhook(given["webhook"], secret and secret.read_bytes().strip()))
    if given["mail_to"]:
        password = given["mail_password_file"]
        ways.append(
            Mail(
                given["mail_server"],
                given["mail_from"],
                given["mail_to"],
                given["mail_user"],
                password and password.read_text().strip(),
                given["mail_ca"],
                given["public_url"],
            )
        )
    return tuple(ways)
