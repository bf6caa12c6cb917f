"""The model: immutable data, as an administrator writes it down.

A :class:`Model` that has passed through :func:`drawknife.core.model.soundness.sound` is in
canonical form: sorted, without repetitions, every name spelled as it is defined. Equal models are
then equal.
"""

from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any, NamedTuple

from ..words.names import Place
from .described_folders import DescribedFolder, SidName
from .disk import FilesOnDisk, FolderOnDisk, OsGroup, OsUser, UnknownBelow
from .lines import (
    BUILT_IN,
    EFFECTS,
    NAMED,
    REACHES,
    Entry,
    Grant,
    Member,
    Subject,
    parse_day,
    parse_entry,
    parse_grant,
    parse_member,
    parse_subject,
)
from .promises import Says, parse_says
from .trials import Trial, read_step

__all__ = [
    "BUILT_IN",
    "EFFECTS",
    "NAMED",
    "REACHES",
    "Entry",
    "Grant",
    "Member",
    "Says",
    "Subject",
    "Trial",
    "parse_day",
    "parse_entry",
    "parse_grant",
    "parse_member",
    "parse_says",
    "parse_subject",
    "read_step",
]  # fmt: skip

KEPT = ("always", "watched")
KINDS = ("person", "service", "anonymous")
BASELINES = ("closed", "open")
LISTINGS = ("reachable", "all")
METHODS = ("password", "key", "directory")
PROTOCOLS = ("ftp", "ftps", "sftp")
TLS_POLICIES = ("off", "optional", "required")
UNLIMITED = "unlimited"


@dataclass(frozen=True, slots=True)
class Account:
    """Someone or something that signs in."""

    name: str
    kind: str = "person"
    display: str | None = None
    mail: str | None = None
    unit: str | None = None
    home: Place | None = None
    enabled: bool = True
    expires: date | None = None
    methods: tuple[str, ...] = ("password",)
    source: str = "local"
    note: str | None = None
    source_id: str | None = None


@dataclass(frozen=True, slots=True)
class Group:
    """Members are accounts, groups and units.

    `source` is ``local`` or the name of a directory; it is `source_id` there.
    """

    name: str
    members: tuple[Member, ...] = ()
    source: str = "local"
    note: str | None = None
    source_id: str | None = None


class UnitFacts(NamedTuple):
    """What is known of a unit, besides that it is there.

    `source` and `source_id` as for a group; `note`: why it is there.
    """

    path: str
    source: str = "local"
    source_id: str | None = None
    note: str | None = None


@dataclass(frozen=True, slots=True)
class Folder:
    """A recorded folder of a store."""

    path: str
    owner: str | None = None
    sealed: bool = False
    entries: tuple[Entry, ...] = ()
    note: str | None = None


@dataclass(frozen=True, slots=True)
class Store:
    """A named place where files are kept.

    `capacity` in bytes; `creation_mode` are the modes that servers ask for there.
    """

    name: str
    root: str | None = None
    baseline: str = "closed"
    capacity: int | None = None
    folders: tuple[Folder, ...] = ()
    note: str | None = None
    creation_mode: str | None = None


@dataclass(frozen=True, slots=True)
class VirtualPath:
    """Puts a store folder into what accounts see. `leads_to` may hold placeholders."""

    path: str
    leads_to: str
    listing: str = "reachable"
    grants: tuple[Grant, ...] = ()
    note: str | None = None


SIGNED_IN_ALL = parse_entry("allow signed-in all", at_endpoint=True)


@dataclass(frozen=True, slots=True)
class Endpoint:
    """Where clients come in. `passive_ports` is a first and last port.

    Nobody in `never` is admitted. Where there is an `only`, nobody else is: nobody at all, if it is
    empty. The certificate and its key are paths of PEM files.
    """

    name: str
    protocol: str
    port: int
    address: str = "0.0.0.0"
    passive_ports: tuple[int, int] | None = None
    tls: str | None = None
    host_names: tuple[str, ...] = ()
    enabled: bool = True
    entries: tuple[Entry, ...] = (SIGNED_IN_ALL,)
    never: tuple[Subject, ...] = ()
    only: tuple[Subject, ...] | None = None
    certificate: str | None = None
    certificate_key: str | None = None
    note: str | None = None


@dataclass(frozen=True, slots=True)
class Setting:
    """What is set for one subject: `values` holds (name, value), sorted by name."""

    subject: Subject
    values: tuple[tuple[str, Any], ...] = ()
    note: str | None = None


@dataclass(frozen=True, slots=True)
class Quota:
    """Shared by subjects, or on a folder. Sizes in bytes, `grace` in seconds.

    `bytes_over_since` and `files_over_since` are when usage went above the soft limit, if it is.
    """

    name: str
    shared_by: tuple[Subject, ...] = ()
    folder: Place | None = None
    hard_bytes: int | None = None
    soft_bytes: int | None = None
    hard_files: int | None = None
    soft_files: int | None = None
    grace: int | None = None
    bytes_over_since: datetime | None = None
    files_over_since: datetime | None = None
    note: str | None = None


@dataclass(frozen=True, slots=True)
class Usage:
    """What lies directly in one folder and belongs to one owner."""

    folder: Place
    owner: str | None
    bytes: int
    files: int


class Opening(NamedTuple):
    """Ports of an address that clients of some networks may connect to, ``ADDRESS PORTS from
    NETWORK,…``.
    """

    address: str
    ports: tuple[int, int]
    networks: tuple[str, ...]

    def __str__(self) -> str:
        return f"{self.address} {_ports(self.ports)} from {','.join(self.networks)}"


class Forwarding(NamedTuple):
    """Ports outside that lead to ports inside, ``ADDRESS PORTS to ADDRESS PORTS``."""

    address: str
    ports: tuple[int, int]
    to_address: str
    to_ports: tuple[int, int]

    def __str__(self) -> str:
        return f"{self.address} {_ports(self.ports)} to {self.to_address} {_ports(self.to_ports)}"


def _ports(ports: tuple[int, int]) -> str:
    return str(ports[0]) if ports[0] == ports[1] else f"{ports[0]}-{ports[1]}"


@dataclass(frozen=True, slots=True)
class Lockout:
    """So many failures of an `account` or an `address` within so many seconds lock it
    for so many.
    """

    of: str
    failures: int
    within: int
    lasts: int
    note: str | None = None


@dataclass(frozen=True, slots=True)
class Promise:
    """A sentence about everybody.

    `kept` is ``always``, and no change may break it, or ``watched``.
    """

    name: str
    says: Says
    kept: str = "watched"
    note: str | None = None


@dataclass(frozen=True, slots=True)
class DiskReading:
    """What was read of the disk that a store is on: its folders and files, those above its root,
    the machine's users and groups.

    `odd` counts names that no model can hold. `confined` says that a server sees nothing above the
    store's root. `absent` are folders that the model records and that are not on the disk,
    `unknown` those below which nothing was read. Of the folders that are not listed, `empty` are
    those with nothing in them; where the reading is `complete`, no others are without files. A
    folder that is not listed is as :func:`drawknife.core.disk.read_folders.made_below` has it.
    """

    store: str
    taken: datetime | None = None
    confined: bool = False
    above: tuple[FolderOnDisk, ...] = ()
    folders: tuple[FolderOnDisk, ...] = ()
    files: tuple[FilesOnDisk, ...] = ()
    users: tuple[OsUser, ...] = ()
    groups: tuple[OsGroup, ...] = ()
    odd: int = 0
    notes: tuple[str, ...] = ()
    absent: tuple[str, ...] = ()
    unknown: tuple[UnknownBelow, ...] = ()
    empty: tuple[str, ...] = ()
    complete: bool = False


@dataclass(frozen=True, slots=True)
class DescriptorReading:
    """What was read of a Windows tree that a store is on, or of one with NFSv4 lists: folders with
    these, and whom identifiers stand for.

    A folder that is not listed is as the nearest above that is would make it.
    """

    store: str
    taken: datetime | None = None
    folders: tuple[DescribedFolder, ...] = ()
    names: tuple[SidName, ...] = ()
    notes: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Model:
    """Everything, at one revision.

    `unit_facts` are of the units of which more is known than their paths, in the order of these.
    `gone` are subjects that a directory no longer has, and that entries or memberships still name.
    `inside` are the networks from which clients come straight to an endpoint.
    """

    units: tuple[str, ...] = ()
    accounts: tuple[Account, ...] = ()
    groups: tuple[Group, ...] = ()
    stores: tuple[Store, ...] = ()
    virtual_paths: tuple[VirtualPath, ...] = ()
    endpoints: tuple[Endpoint, ...] = ()
    settings: tuple[Setting, ...] = ()
    quotas: tuple[Quota, ...] = ()
    usage: tuple[Usage, ...] = field(default=())
    unit_facts: tuple[UnitFacts, ...] = ()
    gone: tuple[Subject, ...] = ()
    lockouts: tuple[Lockout, ...] = ()
    promises: tuple[Promise, ...] = ()
    trials: tuple[Trial, ...] = ()
    disk_readings: tuple[DiskReading, ...] = ()
    descriptor_readings: tuple[DescriptorReading, ...] = ()
    inside: tuple[str, ...] = ()
    openings: tuple[Opening, ...] = ()
    forwardings: tuple[Forwarding, ...] = ()
    #: Where the model is a part of one (everybody/shown.py): what counts against limits, and is not
    #: in `usage`: kind and name of the limit, bytes, files.
    beside: tuple[tuple[str, str, int, int], ...] = ()

    def facts_of_units(self) -> "dict[str, UnitFacts]":
        """What is known of units, by their paths; those of which nothing is known are left out."""
        return {facts.path: facts for facts in self.unit_facts}

    def with_folder(self, store: str, folder: Folder) -> "Model":
        """A model in which `folder` takes the place of the folder of that path, or is added."""
        from ..words.names import tree_key

        def put(s: Store) -> Store:
            folders = [f for f in s.folders if f.path != folder.path]
            folders.append(folder)
            folders.sort(key=lambda f: tree_key(f.path))
            return replace(s, folders=tuple(folders))

        return replace(self, stores=tuple(put(s) if s.name == store else s for s in self.stores))
