"""Places: stores, folders, virtual paths, endpoints."""

from __future__ import annotations

import click
from rich.text import Text

from drawknife.core.words.sizes import show_size

from .columns import plain_table
from .common import Answers, asks, console, print_json
from .items import add_command, change_command, remove_command, rename_command, show_command
from .marks import line_of


@click.group()
def store() -> None:
    """Stores: list, show, add, change, rename, remove."""


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
        table.add_row(
            s.name, s.baseline, capacity, str(s.folders), str(s.entries), s.root or "planned"
        )
    console().print(table)


@click.group()
def folder() -> None:
    """Folders: show, add, change, rename, remove."""


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
    out.print(
        Text().append(f.place, "bold").append(f"   {', '.join(facts)}" if facts else "", "dim")
    )
    if f.note:
        out.print(Text(f"  “{f.note}”", "dim italic"))
    for entry in f.entries:
        out.print(Text("  ").append_text(line_of(entry)))
    if not f.entries:
        out.print("  no entries of its own", style="dim")
    sealed = f.sealed
    for level in f.above:
        if level.entries:
            out.print(
                Text(f"\n{'behind the seal, from' if sealed else 'from'} {level.place}", "dim")
            )
            for e in level.entries:
                passes = (not sealed or e.entry.startswith("forbid")) and not e.fate
                text = Text(f"  {e.entry}", "default" if passes else "dim")
                out.print(text.append(f"  {e.fate}" if e.fate else "", "yellow"))
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
    """Virtual paths: list, show, add, change, remove."""


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
        table.add_row(v.path, v.leads_to, Text("\n").join(map(line_of, v.grants)))
    console().print(table)


@click.group()
def endpoint() -> None:
    """Endpoints: list, show, add, change, rename, remove."""


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
            Text("\n").join(map(line_of, e.entries)),
        )
    out = console()
    out.print(table)
    for e in found.endpoints:
        if e.clash:
            text = f"{e.name}: {e.clash}; give one of them other ports"
            out.print(Text("  ! ", "yellow").append(text, "default"))
        for word, subjects in (("never admits", e.never), ("admits only", e.only)):
            if subjects:
                out.print(f"  {e.name} {word} {', '.join(subjects)}", style="dim")
        if e.passive_ports:
            first, _, last = e.passive_ports.partition("-")
            many = "as many as they like" if e.sessions_allowed is None else str(e.sessions_allowed)
            out.print(
                f"  {e.name} has {int(last) - int(first) + 1} passive ports; sessions of its"
                f" accounts at once: {many}",
                style="dim",
            )


@endpoint.command("certificate")
@click.argument("name")
@asks
def show_certificate(answers: Answers, name: str, as_json: bool) -> None:
    """What an endpoint's certificate says, and what is wrong with it.

    Exit status 1 if something is.

    \b
    Example:
      drawknife endpoint certificate harbour
    """
    c = answers.certificate(name)
    if as_json:
        print_json(c)
    else:
        out = console()
        out.print(Text(c.endpoint, "bold").append(f"  {c.file}", "dim"))
        if c.valid_until and c.valid_from:
            out.print(
                f"  for {', '.join(c.names) or 'no name'}, from {c.valid_from:%Y-%m-%d} to"
                f" {c.valid_until:%Y-%m-%d}"
            )
        if c.key_matches:
            out.print("  its key is the one that is named")
        for line in [c.problem] if c.problem else c.warnings:
            out.print(Text("  ! ", "yellow").append(str(line), "default"))
    raise SystemExit(1 if c.problem or c.warnings else 0)


# --- editing ------------------------------------------------------------------------------------

show_command(store, "store", "NAME", "Show one store, and what names it.", "store show survey")
add_command(
    store,
    "store",
    "NAME",
    "Add a store.",
    'store add wrecks --root /srv/tidewrack/wrecks --capacity "2 TiB"',
)
change_command(store, "store", "NAME", "Change a store.", 'store change survey --capacity "12 TiB"')
rename_command(
    store,
    "store",
    "NAME",
    "Rename a store; all that names it goes along.",
    "store rename public shelf",
)
remove_command(
    store,
    "store",
    "NAME",
    "Remove a store. Refused while something is in it.",
    "store remove wrecks",
)
add_command(
    folder, "folder", "STORE:/PATH", "Record a folder.",
    'folder add survey:/inbox/gannet --owner kittiwake --entry "allow owner delete-file"',
)  # fmt: skip
change_command(
    folder,
    "folder",
    "STORE:/PATH",
    "Change a folder's owner, seal or entries; record it if it is not.",
    "folder change survey:/charts/exchange --not-sealed --preview",
    'folder change survey:/inbox/turnstone --entry "allow account:turnstone add"',
)
rename_command(
    folder,
    "folder",
    "STORE:/PATH",
    "Move a folder's record, with those below it; what leads there goes along.",
    "folder rename survey:/charts/issued survey:/charts/published",
)
remove_command(
    folder,
    "folder",
    "STORE:/PATH",
    "Forget a folder's owner, seal and entries.",
    "folder remove survey:/archive/lab",
)
show_command(vpath, "virtual-path", "PATH", "Show one virtual path.", "vpath show /soundings")
add_command(
    vpath, "virtual-path", "PATH", "Add a virtual path.",
    'vpath add /wrecks --leads-to survey:/soundings/wrecks --grant "group:sonar-lab read"',
)  # fmt: skip
change_command(
    vpath,
    "virtual-path",
    "PATH",
    "Change a virtual path. Where several have PATH, name one as PATH>LEADS_TO.",
    'vpath change /soundings --grant "group:night-watch read"',
    'vpath change "/archive>survey:/archive/lab" --path /archive/lab --preview',
)
rename_command(
    vpath, "virtual-path", "PATH",
    "Move a virtual path to another location; start folders, promises and trials there follow.",
    "vpath rename /notices /news --preview",
)  # fmt: skip
remove_command(
    vpath, "virtual-path", "PATH", "Remove a virtual path.", "vpath remove /notices --preview"
)
show_command(endpoint, "endpoint", "NAME", "Show one endpoint.", "endpoint show harbour")
add_command(
    endpoint, "endpoint", "NAME", "Add an endpoint.",
    "endpoint add pier --protocol sftp --port 2022 --entry \"allow group:boats all\"",
)  # fmt: skip
change_command(
    endpoint,
    "endpoint",
    "NAME",
    "Change an endpoint.",
    "endpoint change old-quay --port 2122 --preview",
    "endpoint change public-tides --tls required",
)
rename_command(endpoint, "endpoint", "NAME", "Rename an endpoint.", "endpoint rename old-quay quay")
remove_command(endpoint, "endpoint", "NAME", "Remove an endpoint.", "endpoint remove old-quay")


def add_to(group: click.Group) -> None:
    for command in (store, folder, vpath, endpoint):
        group.add_command(command)
