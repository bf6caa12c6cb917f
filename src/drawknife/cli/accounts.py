"""Accounts: list, show, and standing."""

from __future__ import annotations

import sys
from typing import IO, Any

import click
from rich.text import Text

from drawknife import messages as msg
from drawknife.client import Client
from drawknife.core.model.kinds import SETTINGS
from drawknife.core.words.sizes import show_size

from .changing import Writer, say_followed, tell_changed, writes
from .columns import READABLE, plain_table, print_table
from .common import (
    NOT_SO,
    Answers,
    ExportedText,
    asks,
    confirm,
    console,
    fail,
    print_json,
    print_text,
    say,
    serves,
)
from .items import add_command, change_command, remove_command, rename_command
from .previews import draw_preview


@click.group()
def account() -> None:
    """Accounts: list, show, add, change, rename, remove, import; passwords and keys."""


def state_of(a: msg.AccountLine) -> str:
    """Can it sign in, as far as the account itself goes?"""
    return "off" if not a.enabled else "expired" if a.expired else "active"


@account.command("list")
@click.argument("matching", default="")
@click.option(
    "--expires-within",
    type=click.IntRange(0, 36500),
    metavar="DAYS",
    help="Only those whose last day is so near, or over.",
)
@click.option("--off", is_flag=True, help="Only those that are switched off.")
@click.option("--locked", is_flag=True, help="Only those that are locked out now.")
@click.option("--no-credential", is_flag=True, help="Only those that have nothing to sign in with.")
@click.option(
    "--source", metavar="NAME", help="Only those that come from this directory (or `local`)."
)
@click.option("--all", "unfolded", is_flag=True, help="Print them however many they are.")
@asks
def list_accounts(
    answers: Answers, matching: str, unfolded: bool, as_json: bool, **only: Any
) -> None:
    """List accounts, those that match a part of a name, mail or unit.

    \b
    Examples:
      drawknife account list
      drawknife account list fleet
      drawknife account list --expires-within 30
      drawknife account list --no-credential
    """
    found = answers.accounts(matching, **only)
    if as_json:
        print_json(found)
        return
    table = plain_table("account", "kind", "unit", "state", "expires", "name")
    states = {
        s: Text(s, style)
        for s, style in (("active", "green"), ("expired", "yellow"), ("off", "red"))
    }
    for a in found.accounts:
        table.add_row(
            a.name, a.kind, a.unit or "", states[state_of(a)], str(a.expires or ""), a.display or ""
        )
    out = console()
    if found.total > READABLE and out.is_terminal and not unfolded:
        out.print(
            f"{found.total:,} accounts: more than one reads. Narrow it by a part of a name, mail or"
            " unit; --all prints them."
        )
        return
    print_table(out, table)
    shown = "account" if found.total == 1 else "accounts"
    out.print(f"\n{found.total} {shown}", style="dim")


@account.command("show")
@click.argument("name")
@asks
def show_account(answers: Answers, name: str, as_json: bool) -> None:
    """Show one account.

    \b
    Example:
      drawknife account show kittiwake
    """
    a = answers.account_detail(name)
    if as_json:
        print_json(a)
        return
    out = console()
    out.print(Text().append(a.name, "bold").append(f"   {a.display or ''}"))
    facts = [
        ("kind", a.kind),
        ("state", state_of(a)),
        ("unit", a.unit),
        ("groups", ", ".join(a.groups)),
        ("mail", a.mail),
        ("home", a.home),
        ("expires", a.expires and f"{a.expires}, at the end of that day (UTC)"),
        ("signs in by", ", ".join(a.methods)),
        ("source", a.source),
        ("note", a.note),
    ]
    for label, value in facts:
        if value:
            out.print(Text(f"  {label:<12}", "dim").append(str(value), "default"))


@click.command()
@click.argument("account")
@asks
def standing(answers: Answers, account: str, as_json: bool) -> None:
    """What ACCOUNT counts as, and through which chain; its settings, and where each comes from.

    Nearest first: where two settings differ, the nearer one holds.

    \b
    Example:
      drawknife standing yuki
    """
    found = answers.standing(account)
    if as_json:
        print_json(found)
        return
    out = console()
    out.print(Text().append(found.account.name, "bold").append(" counts as"))
    table = plain_table("near", "subject", "through")
    for s in found.standing:
        steps = s.chain[1:-1] if s.class_ < 3 else []
        through = (
            " > ".join(steps)
            if steps
            else "itself"
            if s.class_ == 0
            else "directly"
            if s.class_ < 3
            else ""
        )
        table.add_row(
            f"{s.class_}.{s.distance}", s.subject, Text(through, "default" if steps else "dim")
        )
    out.print(table)
    out.print("\nSettings", style="bold")
    table = plain_table("setting", "value", "from", "overruled")
    for c in found.settings:
        source = " and ".join(c.subjects) or "default"
        value = Text(show_value(c.name, c.value), "default" if c.subjects else "dim")
        table.add_row(
            c.name, value, Text(source, "default" if c.subjects else "dim"), ", ".join(c.overruled)
        )
    out.print(table)


def show_value(name: str, value: object) -> str:
    """A setting's value for people."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    unit = SETTINGS[name].unit if name in SETTINGS else ""
    if isinstance(value, int) and unit:
        return f"{value} s" if unit == "s" else f"{show_size(value)}{unit.removeprefix('bytes')}"
    if name in SETTINGS and SETTINGS[name].stricter is tuple and isinstance(value, list | tuple):
        return " and ".join(", ".join(lines) for lines in value) or "any"
    if isinstance(value, list | tuple):
        return ", ".join(map(str, value)) or "none"
    return "none" if value is None else str(value)


# --- editing ------------------------------------------------------------------------------------

add_command(
    account,
    "account",
    "NAME",
    "Add an account.",
    'account add lidia --unit shore/lab --display "Lidia Brandt"',
    "account add gannet --kind service --method key",
)
change_command(
    account, "account", "NAME", "Change an account.",
    "account change uni-esk --expires 2027-09-30", "account change refa --not-enabled --preview",
)  # fmt: skip
rename_command(
    account,
    "account",
    "NAME",
    "Rename an account; all that names it goes along.",
    "account rename refa refa-noor",
)
remove_command(
    account, "account", "NAME", "Remove an account. Refused while something names it.",
    "account remove uni-esk --everywhere --preview",
)  # fmt: skip


@account.command("import")
@click.argument("file", type=ExportedText())
@click.option("--yes", is_flag=True, help="Do it without asking.")
@writes
def import_accounts(writer: Writer, target: str | None, file: IO[str], yes: bool) -> None:
    """Add and change accounts from a CSV FILE ("-": standard input), all or nothing.

    Its first line names the columns: name, and any of kind, display, mail, unit, home, enabled,
    expires, methods (separated by spaces), groups (to join; separated by spaces). An empty field
    leaves what is there. Shows first what it will do, and asks.

    \b
    Example:
      drawknife account import demo/new-people.csv --yes
    """
    from drawknife.formats.accounts_csv import changes_from_csv

    changes = changes_from_csv(file, writer.account_names())
    if yes:
        tell_changed(writer.change(changes), target)
        return
    previewed = writer.preview(changes)
    draw_preview(console(), previewed)
    if not previewed.item_count:
        return
    if file.name == "<stdin>" or not sys.stdin.isatty():
        fail(NOT_SO, "nothing was done: say --yes to do it")
    confirm("\nDo it?", abort=True)
    tell_changed(writer.change(changes, previewed.revision), target)


# --- passwords and keys -------------------------------------------------------------------------


@account.command("password")
@click.argument("name")
@click.option("--generate", is_flag=True, help="Generate one, and print it this once.")
@click.option(
    "--length",
    default=20,
    show_default=True,
    type=click.IntRange(8, 200),
    help="How long a generated one is.",
)
@click.option(
    "--alphabet", default="", metavar="CHARACTERS", help="What a generated one is made of."
)
@click.option(
    "--check", is_flag=True, help="Only say whether it is the right one: exit status 0 or 1."
)
@click.option("--clear", is_flag=True, help="Take the password away.")
@serves
def password(
    *,
    client: Client,
    name: str,
    generate: bool,
    length: int,
    alphabet: str,
    check: bool,
    clear: bool,
) -> None:
    """Set the password of an account: asked for twice, or read from standard input.

    It is kept as an argon2 hash only, and never shown again.

    \b
    Examples:
      drawknife account password ines --generate
      drawknife account password ines --generate --length 32
    """
    if clear:
        client.clear_password(name)
        say(f"{name} has no password any more")
    elif generate:
        made = client.set_password(name, None, length, alphabet)
        print_text(made.password or "")
        say_followed(made.followed)
    else:
        asked = sys.stdin.isatty()
        given = (
            click.prompt("Password", hide_input=True, confirmation_prompt=not check, err=True)
            if asked
            else sys.stdin.readline().rstrip("\n")
        )
        if check:
            right = client.password_is_right(name, given)
            say("it is the right one" if right else "it is not the right one")
            raise SystemExit(0 if right else NOT_SO)
        done = client.set_password(name, given)
        say(f"the password of {name} is set")
        say_followed(done.followed)


@account.group("key")
def key() -> None:
    """Public keys of an account: list, add, remove."""


@key.command("list")
@click.argument("name")
@serves
def list_keys(client: Client, name: str) -> None:
    """List the public keys of an account, and say since when it has a password.

    \b
    Example:
      drawknife account key list kittiwake
    """
    found = client.credentials(name)
    table = plain_table("fingerprint", "type", "comment", "added", "by")
    for k in found.keys:
        table.add_row(k.fingerprint, k.kind, k.comment, k.added[:10], k.added_by)
    out = console()
    out.print(table if found.keys else Text("no keys", "dim"))
    since = found.password_set
    out.print(
        Text(
            f"password set {since[:10]} by {found.password_set_by}" if since else "no password set",
            "dim",
        )
    )


@key.command("add")
@click.argument("name")
@click.argument("file", type=ExportedText())
@serves
def add_key(client: Client, name: str, file: IO[str]) -> None:
    """Attach the public key in FILE ("-": standard input), one line as OpenSSH writes it.

    \b
    Example:
      drawknife account key add kittiwake demo/kittiwake.pub
    """
    found = client.add_key(name, file.read())
    say(f"{found.account} has {len(found.keys)} key{'' if len(found.keys) == 1 else 's'}")
    say_followed(found.followed)


@key.command("remove")
@click.argument("name")
@click.argument("fingerprint")
@serves
def remove_key(client: Client, name: str, fingerprint: str) -> None:
    """Take a public key away, named by its fingerprint.

    \b
    Example:
      drawknife account key remove kittiwake SHA256:NTEStW6//dL99qe3SpLo8IDwKOq0wgFe1J32cIbr8yk
    """
    found = client.remove_key(name, fingerprint)
    say(f"{found.account} has {len(found.keys)} key{'' if len(found.keys) == 1 else 's'} left")
    say_followed(found.followed)


def add_to(group: click.Group) -> None:
    group.add_command(account)
    group.add_command(standing)
