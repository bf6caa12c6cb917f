"""The way in: reach, networks, and lockout."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import click
from rich.padding import Padding
from rich.text import Text

from drawknife.client import Client

from .changing import change_from, edits, options_of
from .columns import plain_table
from .common import Answers, asks, console, print_json, say, serves
from .items import add_command, change_command, draw_item, remove_command, show_command

Apply = Callable[[Sequence[dict[str, Any]]], None]
AT = click.option("--at", metavar="TIME", help="As of this ISO 8601 time instead of now.")


@click.command()
@click.argument("endpoint")
@click.argument("address")
@asks
def reach(answers: Answers, endpoint: str, address: str, as_json: bool) -> None:
    """Can a client at ADDRESS come to ENDPOINT, with control and data connections, and what is
    missing?

    Exit status 0 if both come through, 1 if not.

    \b
    Examples:
      drawknife reach harbour 203.0.113.9
      drawknife reach lab-sftp 192.0.2.77
    """
    found = answers.reach(endpoint, address)
    if as_json:
        print_json(found)
    else:
        out = console()
        where = (
            f"straight to {found.way}"
            if found.inside is None
            else (
                f"inside, straight to {found.way}"
                if found.inside
                else f"from outside, to {found.way}"
                if found.way
                else "from outside"
            )
        )
        out.print(
            Text(found.endpoint, "bold").append(
                f"  for a client at {found.client}, {where}", "default"
            )
        )
        for name, comes in (("control", found.control), ("data", found.data)):
            sign = (
                ("✓", "green", "comes through") if comes else ("✗", "red", "does not come through")
            )
            out.print(Text("  ").append(sign[0], sign[1]).append(f" {name:<8} {sign[2]}"))
        for line in found.missing:
            out.print(
                Padding(Text("! ", "yellow").append(line, "default"), (0, 0, 0, 2), expand=False)
            )
    raise SystemExit(0 if found.control and found.data else 1)


# --- networks and lockout -----------------------------------------------------------------------


@click.group()
def network() -> None:
    """How networks reach each other: show and change."""


@network.command("show")
@asks
def show_network(answers: Answers, as_json: bool) -> None:
    """Show the networks inside, the openings, and the forwardings.

    \b
    Example:
      drawknife network show
    """
    found = answers.item("network", "network")
    if as_json:
        print_json(found)
    else:
        draw_item(found)


@network.command("change")
@options_of("network", changing=True)
@edits
def change_network(apply: Apply, **given: Any) -> None:
    """State what is inside, what is open, and what is forwarded; `drawknife reach` then tells who
    comes through.

    \b
    Example:
      drawknife network change --forwarding "198.51.100.5 40000-40099 to 192.0.2.10 40000-40099"
    """
    apply([change_from("network", "network", given)])


@click.group()
def lockout() -> None:
    """Lockout after failed sign-ins: list, lift, report; add, change, remove what locks."""


@lockout.command("list")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
@serves
def list_lockouts(client: Client, as_json: bool) -> None:
    """List what counts against which account or address, and until when it is locked.

    \b
    Example:
      drawknife lockout list
    """
    found = client.lockouts()
    if as_json:
        print_json(found)
        return
    table = plain_table("of", "name", "failures", "state")
    for c in found.counting:
        state = (
            Text(f"locked until {c.locked_until:%Y-%m-%d %H:%M:%S} UTC", "red")
            if c.locked_until
            else Text("counts", "dim")
        )
        table.add_row(c.of, c.name, f"{len(c.failures)} of {c.most}", state)
    console().print(table if found.counting else Text("nothing counts against anybody", "dim"))


@lockout.command("lift")
@click.argument("of", type=click.Choice(["account", "address"]))
@click.argument("name")
@serves
def lift(client: Client, of: str, name: str) -> None:
    """Lift a lock: no failure before now counts any more.

    \b
    Example:
      drawknife lockout lift account ines
    """
    client.lift(of, name)
    say(f"nothing counts against {of} {name} any more")


@lockout.command("report")
@click.argument("what", type=click.Choice(["failed", "began", "ended"]))
@click.argument("account")
@click.argument("address")
@click.option("--endpoint", metavar="NAME")
@click.option("--session", metavar="ID", help="What tells this session from others.")
@AT
@serves
def report(client: Client, **event: Any) -> None:
    """Report a sign-in that failed, or a session that began or ended, as a transfer server would.

    \b
    Example:
      drawknife lockout report failed ines 203.0.113.9 --endpoint harbour
    """
    client.report_sign_ins([{k: v for k, v in event.items() if v is not None}])


show_command(
    lockout,
    "lockout",
    "account|address",
    "Show what locks an account, or an address.",
    "lockout show account",
)
add_command(
    lockout, "lockout", "account|address", "Say what locks an account, or an address.",
    'lockout add account --failures 5 --within "10 minutes" --lasts "30 minutes"',
)  # fmt: skip
change_command(
    lockout,
    "lockout",
    "account|address",
    "Change what locks.",
    "lockout change address --failures 20",
)
remove_command(lockout, "lockout", "account|address", "Lock no more.", "lockout remove address")


def add_to(group: click.Group) -> None:
    for command in (reach, network, lockout):
        group.add_command(command)
