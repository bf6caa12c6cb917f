"""Who may use the service: administrators, and the tokens of programs."""

from __future__ import annotations

import sys

import click

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.words.names import fold
from drawknife.core.words.roles import ADDS, ROLES
from drawknife.messages.administrators import Reads

from .columns import plain_table
from .common import WRONG_USAGE, console, fail, moment, print_json, print_text, say, serves

_ROLE = click.option(
    "--role",
    type=click.Choice(ROLES),
    help="; ".join(f"{role}: {adds}" for role, adds in ADDS.items()) + ".",
)
_AREA = click.option(
    "--area",
    multiple=True,
    metavar="THING",
    help="store:NAME, STORE:/folder, unit:PATH or group:NAME. Repeatable.",
)
_READS = click.option(
    "--reads",
    type=click.Choice(("area", "everything")),
    help="With an area: read only what is in it (the default), or everything.",
)
_DIRECTORY = click.option(
    "--directory",
    metavar="NAME",
    help="It signs in through this directory (LDAP), with the password that it has there.",
)


@click.group()
def administrator() -> None:
    """Administrators: list, add, change, remove, password, link."""


@administrator.command("list")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@serves
def list_administrators(client: Client, as_json: bool) -> None:
    """List the administrators, their roles and areas.

    \b
    Example:
      drawknife administrator list
    """
    found = client.administrators()
    if as_json:
        print_json(found)
        return
    table = plain_table("administrator", "role", "area", "reads", "password", "added by")
    for a in found.administrators:
        area = "everything" if a.area is None else ", ".join(a.area)
        reads = (
            "everything" if a.area is None else f"its {a.reads}" if a.reads == "area" else a.reads
        )
        table.add_row(a.name, a.role, area, reads, _password_of(a), a.added_by)
    console().print(table)


def _password_of(a: msg.AdministratorLine) -> str:
    return f"of {a.directory}" if a.directory is not None else "set" if a.has_password else "none"


@administrator.command("add")
@click.argument("name")
@_ROLE
@_AREA
@_READS
@_DIRECTORY
@serves
def add(
    client: Client,
    name: str,
    role: str | None,
    area: tuple[str, ...],
    reads: Reads | None,
    directory: str | None,
) -> None:
    """Add an administrator, and print a link that signs in to the console: good once, and for a
    day.

    \b
    Examples:
      drawknife administrator add olga --role editor
      drawknife administrator add pim --role editor --area unit:shore/lab --area survey:/soundings
      drawknife administrator add thora --role reader --directory staff
    """
    if role is None:
        fail(WRONG_USAGE, f"say what {name} may do: --role {' or '.join(ROLES)}")
    client.add_administrator(name, role, area or None, directory, reads)
    say(f"{name} is an administrator with the role {role}")
    if directory is not None:
        say(f"{name} signs in with the password of the directory {directory}")
        return
    _print_link(client, name)


def _print_link(client: Client, name: str) -> None:
    link = client.sign_in_link(name)
    say(f"a link for {name}, good once, until {moment(link.until)}:")
    print_text(link.url or client.url + link.path)


@administrator.command("change")
@click.argument("name")
@_ROLE
@_AREA
@click.option("--everything", is_flag=True, help="Take the area away: everything may be changed.")
@_READS
@_DIRECTORY
@click.option(
    "--no-directory", is_flag=True, help="It signs in by a link or a password of its own again."
)
@serves
def change(
    *,
    client: Client,
    name: str,
    role: str | None,
    area: tuple[str, ...],
    everything: bool,
    reads: Reads | None,
    directory: str | None,
    no_directory: bool,
) -> None:
    """Give an administrator another role, another area, or another way to sign in.

    It counts at once.

    \b
    Examples:
      drawknife administrator change pim --role drafter
      drawknife administrator change pim --reads everything
    """
    if not any((role, area, everything, reads, directory is not None, no_directory)):
        fail(
            WRONG_USAGE,
            "name something to change: --role, --area, --everything, --reads, --directory, or"
            " --no-directory",
        )
    done = client.change_administrator(
        name, role, [] if everything else area or None, "" if no_directory else directory, reads
    )
    reach = "everything" if done.area is None else ", ".join(done.area)
    more = (
        ""
        if done.area is None
        else ", and reads everything"
        if done.reads == "everything"
        else ", and reads only that"
    )
    say(f"{done.name} has the role {done.role}, for {reach}{more}")


@administrator.command("remove")
@click.argument("name")
@serves
def remove(client: Client, name: str) -> None:
    """Remove an administrator; tokens, sessions and links end at once.

    \b
    Example:
      drawknife administrator remove pim
    """
    ended = client.remove_administrator(name)
    say(
        f"{name} is no administrator any more; {ended} token{'' if ended == 1 else 's'} and"
        " sessions ended"
    )


@administrator.command("password")
@click.argument("name")
@serves
def password(client: Client, name: str) -> None:
    """Set an administrator's password: prompted for, or read from standard input. 12 characters or
    more.

    To change your own, the present password comes first: at a prompt, or on a line of its own.

    \b
    Example:
      drawknife administrator password olga
    """
    own = fold(client.me().name) == fold(name)
    present = own and any(
        a.has_password for a in client.administrators().administrators if fold(a.name) == fold(name)
    )
    if sys.stdin.isatty():
        current = click.prompt("Present password", hide_input=True, err=True) if present else None
        given = click.prompt("New password", hide_input=True, confirmation_prompt=True, err=True)
    else:
        current = sys.stdin.readline().rstrip("\n") if present else None
        given = sys.stdin.readline().rstrip("\n")
    client.set_administrator_password(name, given, current)
    say(f"the password of {name} is set; whoever was signed in to the console with it is no more")


@administrator.command("link")
@click.argument("name")
@serves
def link(client: Client, name: str) -> None:
    """Print a link that signs an administrator in to the console: good once, and for a day.

    \b
    Example:
      drawknife administrator link olga
    """
    _print_link(client, name)


@click.group()
def token() -> None:
    """What is signed in with: list, make, end."""


@token.command("list")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@serves
def list_tokens(client: Client, as_json: bool) -> None:
    """List tokens of programs, console sessions, and links that nobody has opened yet.

    \b
    Example:
      drawknife token list
    """
    found = client.tokens()
    if as_json:
        print_json(found)
        return
    table = plain_table("number", "what", "of", "role", "last day", "last used")
    kinds = {"session": "console session", "code": "sign-in link"}
    for t in found.tokens:
        used = moment(t.last_used)
        last = "none" if t.last_day is None else str(t.last_day)
        role = t.role if t.directory is None else f"SCIM, {t.directory}"
        table.add_row(str(t.id), t.called or kinds[t.kind], t.administrator, role, last, used)
    console().print(table)


@token.command("make")
@click.argument("called")
@click.option(
    "--role",
    type=click.Choice(ROLES),
    help="No wider than your own, which it is if this is left out.",
)
@click.option("--last-day", metavar="DAY", help="The last day (UTC) that it is good.")
@click.option(
    "--directory",
    metavar="NAME",
    help="It provisions this directory by SCIM, and does nothing else.",
)
@serves
def make(
    client: Client, called: str, role: str | None, last_day: str | None, directory: str | None
) -> None:
    """Make a token for a program, and print it this once. The journal calls the program so.

    \b
    Examples:
      drawknife token make tide-report --role reader --last-day 2027-06-30
      drawknife token make office-sync --directory office
    """
    made = client.make_token(called, role, last_day, directory)
    what = (
        f"with the role {made.role}"
        if directory is None
        else f"which provisions {directory} at {client.url}/scim/v2"
    )
    say(f"the token {made.called}, {what}; it is not shown again:")
    print_text(made.token)


@token.command("end")
@click.argument("which", metavar="NUMBER|NAME")
@serves
def end(client: Client, which: str) -> None:
    """End a token, a session or a link, at once and everywhere; by its number or a program's name.

    \b
    Example:
      drawknife token end night-report
    """
    number = int(which) if which.isdecimal() else None
    if number is None:
        number = next((t.id for t in client.tokens().tokens if t.called == which), None)
    if number is None:
        fail(
            WRONG_USAGE,
            f"there is no token {which!r}; `drawknife token list` tells which there are",
        )
    client.end_token(number)
    say(f"{which} is ended")


def add_to(group: click.Group) -> None:
    group.add_command(administrator)
    group.add_command(token)
