"""Reading a disk: on this machine, from a scan of another, or from text that its own
tools print.
"""

from __future__ import annotations

import json
import os
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from io import StringIO
from typing import IO, TYPE_CHECKING, Any, TypeVar

import click

from drawknife.core.model.items import DescriptorReading, DiskReading
from drawknife.core.model.kinds import DESCRIPTORS, DISK
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.sizes import number_of

from .changing import Apply, asking_with, edits, put
from .common import FAILED, Answers, asks, counting, fail, say, write_output

if TYPE_CHECKING:
    from drawknife.core.model.described_folders import SidName
    from drawknife.formats.nfs4_text import Nfs4Item

F = TypeVar("F", bound=Callable[..., Any])
#: The options of files that each source takes.
GO_WITH = {
    "scan": {"names"},
    "getfacl": {"passwd", "group", "folders"},
    "descriptors": {"names"},
    "nfs4": {"owners", "names"},
    "": {"names"},
}
OWNERS = "find ROOT -printf '%y\\t%u\\t%g\\t%p\\n'"


@dataclass(frozen=True, slots=True)
class _Asked:
    """What is to be read, and what the model has of it."""

    answers: Answers
    store: str
    root: str | None
    given_root: str | None
    confined: bool
    files: Mapping[str, bytes]

    @property
    def top(self) -> str:
        """The root of the store. UsageError if it has none."""
        if self.root is None:
            raise click.UsageError(
                f"store {self.store} is only planned: it has no root; name one with --root"
            )
        return self.root

    def recorded(self) -> list[str]:
        """The folders of the store that the model has."""
        top = f"{self.store}:"
        return [
            x.name.removeprefix(top)
            for x in self.answers.items("folder").items
            if x.name.startswith(top)
        ]

    def acting(self) -> list[str]:
        """The users of the machine that accounts act as."""
        return list(self.answers.host_users().users)

    def text(self, name: str) -> str:
        """The lines of a file that another machine exported; empty if it was not given."""
        from drawknife.formats.exported import exported_text

        return exported_text(self.files.get(name, b""), name)


def _source(files: Mapping[str, bytes]) -> str:
    """Where the reading comes from: the name of an option, or empty for this machine.

    UsageError if options do not go together.
    """
    sources = [name for name in GO_WITH if name in files]
    if len(sources) > 1:
        raise click.UsageError(
            f"one of {', '.join('SCAN' if x == 'scan' else '--' + x for x in sources)} at a time"
        )
    source = sources[0] if sources else ""
    for name in files.keys() - {source} - GO_WITH[source]:
        goes_with = [
            other for other, some in GO_WITH.items() if name in some and other not in ("", "scan")
        ]
        raise click.UsageError(
            f"--{name} goes with {' or '.join('--' + other for other in goes_with)}"
        )
    if source == "nfs4" and "owners" not in files:
        raise click.UsageError(f"--nfs4 needs --owners: the lines of {OWNERS}")
    return source


def _file(option: str, text: str) -> Callable[[F], F]:
    return click.option(f"--{option}", type=click.File("rb"), metavar="FILE", help=text)


@click.command()
@click.argument("store")
@click.argument("scan", type=click.File("rb"), required=False)
@click.option("--root", metavar="FOLDER", help="Read this folder instead of the store's root.")
@click.option(
    "--confined", is_flag=True, help="Ignore folders above the root: the server sees none of them."
)
@_file("getfacl", "Read the text of `getfacl -R` instead.")
@_file("passwd", "With --getfacl: the machine's users, as in /etc/passwd.")
@_file("group", "With --getfacl: the machine's groups, as in /etc/group.")
@_file("folders", "With --getfacl: its folders, as `find -type d` lists them.")
@_file("nfs4", "Read the text of `nfs4_getfacl -R` instead.")
@_file("owners", f"With --nfs4: the lines of `{OWNERS}`.")
@_file("descriptors", "Read a CSV file of a Windows tree: path,owner,descriptor.")
@_file("names", "CSV file of identifiers: sid,subject or principal,subject.")
@edits
def read(
    apply: Apply,
    store: str,
    scan: IO[bytes] | None,
    root: str | None,
    confined: bool,
    **options: IO[bytes] | None,
) -> None:
    """Read the permissions on the disk of STORE.

    These are owners, modes and access control lists. Folders that their parent would create alike
    are left out, and equal files are counted. The users and groups of the machine are read, too.
    Links are not followed and other file systems not entered. Folders that cannot be read and mount
    points stay unknown, so run it as root. The new reading replaces the last one.

    For a disk of another machine, run the script of `disk scanner` there and give its output as
    SCAN (`-` for standard input). Other sources are the text of `getfacl -R` or `nfs4_getfacl -R`,
    and for a Windows tree a CSV file of security descriptors. Identifiers of Windows and NFSv4 need
    a file that maps them to accounts and groups.

    \b
    Examples:
      drawknife disk read survey --root .run/files/survey
      drawknife disk read survey --getfacl demo/disk/survey.getfacl \\
          --passwd demo/disk/passwd --group demo/disk/group
    """
    files = {
        name: file.read() for name, file in {"scan": scan, **options}.items() if file is not None
    }
    source = _source(files)
    answers = asking_with(apply.writer)
    stores = {s.name.casefold(): s for s in answers.stores().stores}
    line = stores.get(store.casefold())
    if line is None:
        raise NotFound("store", store, [s.name for s in stores.values()], "store")
    if confined and source in ("descriptors", "nfs4"):
        raise click.UsageError(
            f"--confined does not go with --{source}: folders above the root are not judged"
        )
    reading = _READERS[source](_Asked(answers, line.name, root or line.root, root, confined, files))
    kind, other = (DISK, DESCRIPTORS) if isinstance(reading, DiskReading) else (DESCRIPTORS, DISK)
    lines = [x for x in answers.disks().disks if x.store.casefold() == line.name.casefold()]
    there = {DESCRIPTORS if x.windows else DISK for x in lines}
    say(f"{line.name}: {_in_short(reading)}")
    for note in reading.notes:
        say(f"  not judged: {note}")
    replaced = [{"op": "remove", "kind": other.name, "name": line.name}] if other in there else []
    apply([*replaced, put(kind, kind.data(reading), kind in there)])


def _in_short(reading: DiskReading | DescriptorReading) -> str:
    if isinstance(reading, DescriptorReading):
        what = "NFSv4 lists" if reading.folders[0].is_nfs4 else "descriptors"
        return (
            f"{number_of(len(reading.folders), 'folder')} with {what},"
            f" {number_of(len(reading.names), 'name')}"
        )
    files = sum(x.number for x in reading.files)
    odd = f", {number_of(reading.odd, 'name')} that no model can hold" if reading.odd else ""
    own = "its own" if len(reading.folders) == 1 else "their own"
    return (
        f"{number_of(len(reading.folders), 'folder')} with permissions of {own}, "
        f"{number_of(files, 'file')}, {number_of(len(reading.users), 'user')}{odd}"
    )


def _read_here(asked: _Asked) -> DiskReading | DescriptorReading:
    from drawknife.disk.standalone.scanning import scan
    from drawknife.disk.walking import nfs4_items, reading_of

    with counting("reading") as tell:
        try:
            found = scan(
                asked.top, asked.recorded(), asked.acting(), lambda n: tell(number_of(n, "thing"))
            )
        except OSError as error:
            fail(
                FAILED,
                f"{os.fsdecode(error.filename or asked.top)} cannot be read: {error.strerror}",
            )
    if found.nfs4:
        return _with_nfs4_lists(asked, nfs4_items(found.nfs4), found.taken)
    _check_no_names(asked)
    return reading_of(found, asked.store, asked.confined)


def _read_scan(asked: _Asked) -> DiskReading | DescriptorReading:
    from drawknife.disk.walking import nfs4_items
    from drawknife.formats.model_file import read_item

    remedy = f"the output of the script that `drawknife disk scanner {asked.store}` prints"
    try:
        data = json.loads(asked.files["scan"])
    except ValueError:
        raise BadInput("scan", "not a scan", remedy) from None
    if not isinstance(data, dict) or not isinstance(data.get("nfs4"), list):
        raise BadInput("scan", "not a scan", remedy)
    items = nfs4_items(data.pop("nfs4"))
    reading: DiskReading = read_item(DISK.name, data)
    if reading.store.casefold() != asked.store.casefold():
        raise BadInput(
            "scan", f"a scan of store {reading.store}", f"`drawknife disk scanner {asked.store}`"
        )
    if items:
        return _with_nfs4_lists(asked, items, reading.taken)
    _check_no_names(asked)
    return replace(reading, store=asked.store, confined=reading.confined or asked.confined)


def _read_getfacl(asked: _Asked) -> DiskReading:
    from drawknife.disk import reading_from, users_from

    lines = [asked.text(name).splitlines() for name in ("passwd", "group")]
    users, groups = users_from(*lines)
    folders = asked.files.get("folders", b"").splitlines(keepends=True)
    reading = reading_from(
        asked.files["getfacl"],
        asked.store,
        asked.top,
        users,
        groups,
        folders=folders,
        recorded=asked.recorded(),
    )
    referring = sum(line.startswith(("+", "-")) for some in lines for line in some)
    if referring:
        note = (
            f"{number_of(referring, 'line')} of passwd or group that refer to a directory of users"
        )
        reading = replace(reading, notes=(*reading.notes, note))
    return replace(reading, confined=asked.confined)


def _read_descriptors(asked: _Asked) -> DescriptorReading:
    from drawknife.formats.descriptors_csv import folders_from_csv

    folders, notes = folders_from_csv(
        StringIO(asked.text("descriptors"), newline=""), asked.given_root
    )
    names = tuple(_names(asked, "sid"))
    return DescriptorReading(asked.store, _now(), tuple(folders), names, tuple(notes))


def _read_nfs4(asked: _Asked) -> DescriptorReading:
    from drawknife.formats.nfs4_text import items_from_text

    items, notes = items_from_text(asked.files["nfs4"], asked.files["owners"], asked.top)
    return _with_nfs4_lists(asked, items, _now(), notes)


def _with_nfs4_lists(
    asked: _Asked, items: Iterable[Nfs4Item], taken: datetime | None, notes: Iterable[str] = ()
) -> DescriptorReading:
    from drawknife.formats.nfs4_text import folders_from_items

    names = tuple(_names(asked, "principal"))
    folders, more = folders_from_items(items, names)
    return DescriptorReading(asked.store, taken, tuple(folders), names, (*notes, *more))


def _names(asked: _Asked, column: str) -> list[SidName]:
    from drawknife.formats.descriptors_csv import names_from_csv

    if "names" not in asked.files:
        return []
    return names_from_csv(StringIO(asked.text("names"), newline=""), column)


def _check_no_names(asked: _Asked) -> None:
    """UsageError where identifiers were given and nothing is named by them."""
    if "names" in asked.files:
        raise click.UsageError(
            "--names is for NFSv4 lists and descriptors: this disk has owners and groups by number"
        )


def _now() -> datetime:
    return datetime.now(UTC).replace(microsecond=0)


_READERS = {
    "": _read_here,
    "scan": _read_scan,
    "getfacl": _read_getfacl,
    "descriptors": _read_descriptors,
    "nfs4": _read_nfs4,
}


@click.command()
@click.argument("store")
@click.option("--root", metavar="FOLDER", help="Read this folder instead of the store's root.")
@click.option(
    "--confined", is_flag=True, help="Ignore folders above the root: the server sees none of them."
)
@asks
def scanner(answers: Answers, store: str, root: str | None, confined: bool, as_json: bool) -> None:
    """Print a script that reads a disk on another machine.

    The script needs Debian's Python and nothing else, changes nothing, and prints what `disk read
    STORE -` takes. Run it as root. It holds the root of STORE, its recorded folders, and the host
    users of accounts (`acts_as`); with --json, only these are printed.

    \b
    Example:
      drawknife disk scanner survey > scanner.py
    """
    from drawknife.disk.plan_text import scanner as script

    stores = {s.name.casefold(): s for s in answers.stores().stores}
    line = stores.get(store.casefold())
    if line is None:
        raise NotFound("store", store, [s.name for s in stores.values()], "store")
    asked = _Asked(answers, line.name, root or line.root, root, confined, {})
    data = {
        "store": asked.store,
        "root": asked.top,
        "confined": int(confined),
        "recorded": asked.recorded(),
        "acting": asked.acting(),
    }
    write_output(json.dumps(data, ensure_ascii=False, indent=2) + "\n" if as_json else script(data))
