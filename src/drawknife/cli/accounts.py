"""Accounts: list, show, and standing."""

from __future__ import annotations

import click
from rich.text import Text

from drawknife import messages as msg
from drawknife.formats.units import show_size

from .common import Answers, asks, console, print_json
from .marks import plain_table


@click.group()
def account() -> None:
    """Accounts: list and show."""


def state_of(a: msg.AccountLine) -> str:
    """Can it sign in, as far as the account itself goes?"""
    return "off" if not a.enabled else "expired" if a.expired else "active"


@account.command("list")
@click.argument("matching", default="")
@asks
def list_accounts(answers: Answers, matching: str, as_json: bool) -> None:
    """List accounts, those that match a part of a name, mail or unit.

    \b
    Examples:
      drawknife account list
      drawknife account list fleet
    """
    found = answers.accounts(matching)
    if as_json:
        print_json(found)
        return
    table = plain_table("account", "kind", "unit", "state", "expires", "name")
    for a in found.accounts:
        state = state_of(a)
        style = {"active": "green", "expired": "yellow", "off": "red"}[state]
        table.add_row(a.name, a.kind, a.unit or "", Text(state, style), str(a.expires or ""), a.display or "")
    out = console()
    out.print(table)
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
        ("kind", a.kind), ("state", state_of(a)), ("unit", a.unit), ("groups", ", ".join(a.groups)), ("mail", a.mail),
        ("home", a.home), ("expires", a.expires and f"{a.expires}, at the end of that day (UTC)"),
        ("signs in by", ", ".join(a.methods)), ("source", a.source),
    ]  # fmt: skip
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
        through = " > ".join(steps) if steps else "itself" if s.class_ == 0 else "directly" if s.class_ < 3 else ""
        table.add_row(f"{s.class_}.{s.distance}", s.subject, Text(through, "default" if steps else "dim"))
    out.print(table)
    out.print("\nSettings", style="bold")
    table = plain_table("setting", "value", "from", "overruled")
    for c in found.settings:
        source = " and ".join(c.subjects) or "default"
        value = Text(show_value(c.name, c.value), "default" if c.subjects else "dim")
        table.add_row(c.name, value, Text(source, "default" if c.subjects else "dim"), ", ".join(c.overruled))
    out.print(table)


def show_value(name: str, value: object) -> str:
    """A setting's value for people."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int) and name in ("quota_bytes", "upload_limit"):
        return show_size(value)
    if isinstance(value, int) and name.startswith("rate"):
        return f"{show_size(value)}/s"
    if isinstance(value, int) and name == "idle_timeout":
        return f"{value} s"
    if name == "addresses" and isinstance(value, list | tuple):
        return " and ".join(", ".join(lines) for lines in value) or "any"
    if isinstance(value, list | tuple):
        return ", ".join(map(str, value)) or "none"
    return "none" if value is None else str(value)


def add_to(group: click.Group) -> None:
    group.add_command(account)
    group.add_command(standing)
