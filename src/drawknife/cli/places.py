"""Places: stores, folders, virtual paths, endpoints."""

from __future__ import annotations

import click
from rich.text import Text

from drawknife.formats.units import show_size

from .common import Answers, asks, console, print_json
from .marks import plain_table


@click.group()
def store() -> None:
    """Stores: list."""


@store.command("list")
@asks
def list_stores(answers: Answers, as_json: bool) -> None:
    """List the stores.

    \b
    Example:
      drawknife store list
    """
    found = answers.stores()
    if as_json:
        print_json(found)
        return
    table = plain_table("store", "baseline", "capacity", "folders", "entries", "root")
    for s in found.stores:
        capacity = show_size(s.capacity) if s.capacity is not None else ""
        table.add_row(s.name, s.baseline, capacity, str(s.folders), str(s.entries), s.root or "planned")
    console().print(table)


@click.group()
def folder() -> None:
    """Folders: show."""


@folder.command("show")
@click.argument("place")
@asks
def show_folder(answers: Answers, place: str, as_json: bool) -> None:
    """Show the folder at PLACE, what comes down to it, and the folders in it.

    \b
    Example:
      drawknife folder show survey:/charts/exchange
    """
    f = answers.folder(place)
    if as_json:
        print_json(f)
        return
    out = console()
    facts = [f"owner {f.owner}"] if f.owner else []
    facts += ["sealed: nothing comes down into it"] if f.sealed else []
    facts += [] if f.recorded else ["not recorded"]
    out.print(Text().append(f.place, "bold").append(f"   {', '.join(facts)}" if facts else "", "dim"))
    for entry in f.entries or ["no entries of its own"]:
        out.print(Text(f"  {entry}", "default" if f.entries else "dim"))
    sealed = f.sealed
    for level in f.above:
        if level.entries:
            out.print(Text(f"\n{'behind the seal, from' if sealed else 'from'} {level.place}", "dim"))
            for e in level.entries:
                passes = not sealed or e.entry.startswith("forbid")
                out.print(Text(f"  {e.entry}", "default" if passes else "dim"))
        sealed = sealed or level.sealed
    if f.folders:
        out.print("\nin it", style="dim")
        for line in f.folders:
            marks = [f"{line.entries} entries"] if line.entries else []
            marks += ["sealed"] if line.sealed else []
            marks += [f"owner {line.owner}"] if line.owner else []
            out.print(Text(f"  {line.name}/".ljust(28)).append(", ".join(marks), "dim"))


@click.group()
def vpath() -> None:
    """Virtual paths: list."""


@vpath.command("list")
@asks
def list_virtual_paths(answers: Answers, as_json: bool) -> None:
    """List the virtual paths with their grants.

    \b
    Example:
      drawknife vpath list
    """
    found = answers.virtual_paths()
    if as_json:
        print_json(found)
        return
    table = plain_table("path", "leads to", "grants")
    for v in found.virtual_paths:
        table.add_row(v.path, v.leads_to, "\n".join(v.grants))
    console().print(table)


@click.group()
def endpoint() -> None:
    """Endpoints: list."""


@endpoint.command("list")
@asks
def list_endpoints(answers: Answers, as_json: bool) -> None:
    """List the endpoints, and which of them do not start.

    \b
    Example:
      drawknife endpoint list
    """
    found = answers.endpoints()
    if as_json:
        print_json(found)
        return
    table = plain_table("endpoint", "listens", "passive", "TLS", "state", "entries")
    for e in found.endpoints:
        state = (
            Text("starts", "green")
            if e.starts
            else Text("off", "dim")
            if not e.enabled
            else Text("does not start", "red")
        )
        table.add_row(
            e.name,
            f"{e.protocol} {e.address}:{e.port}",
            e.passive_ports or "",
            e.tls or "",
            state,
            "\n".join(e.entries),
        )
    out = console()
    out.print(table)
    for e in found.endpoints:
        if e.clash:
            out.print(Text("  ! ", "yellow").append(f"{e.name}: {e.clash}", "default"))


def add_to(group: click.Group) -> None:
    for command in (store, folder, vpath, endpoint):
        group.add_command(command)
