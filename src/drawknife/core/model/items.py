"""The model: immutable data, as an administrator writes it down.

A :class:`Model` that has passed through :func:`drawknife.core.model.soundness.sound` is in canonical
form: sorted, without repetitions, every name spelled as it is defined. Equal models are then equal.
"""

from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any, NamedTuple

from ..words.names import BadValue, Place, check_name, check_unit, fold
from ..words.rights import format_rights, parse_rights

EFFECTS = ("allow", "deny", "forbid")
REACHES = ("tree", "here", "below", "children")
KINDS = ("person", "service", "anonymous")
BASELINES = ("closed", "open")
LISTINGS = ("reachable", "all")
METHODS = ("password", "key", "directory")
PROTOCOLS = ("ftp", "ftps", "sftp")
TLS_POLICIES = ("off", "optional", "required")
BUILT_IN = ("anyone", "signed-in", "anonymous", "owner")
NAMED = ("account", "group", "unit")
UNLIMITED = "unlimited"


class Subject(NamedTuple):
    """Whom an entry, a grant, a setting or a quota speaks of, written ``kind:name`` or ``kind``."""

    kind: str
    name: str = ""

    def __str__(self) -> str:
        return f"{self.kind}:{self.name}" if self.name else self.kind

    @property
    def key(self) -> "Subject":
        """The form in which subjects are compared."""
        return Subject(self.kind, fold(self.name))


def parse_subject(text: str, *, owner: bool = False) -> Subject:
    """Read a subject; `owner` says whether the built-in subject ``owner`` is one here."""
    kind, colon, name = text.partition(":")
    if colon and kind in NAMED:
        return Subject(kind, check_unit(name) if kind == "unit" else check_name(name))
    if not colon and kind in BUILT_IN and (owner or kind != "owner"):
        return Subject(kind)
    words = "account:NAME, group:NAME, unit:PATH, anyone, signed-in, anonymous" + (", owner" if owner else "")
    raise BadValue(f"{text!r} is no subject", words)


class Entry(NamedTuple):
    """One line of a folder: ``EFFECT SUBJECT RIGHTS [REACH]``. `rights` is a set as in rights.py."""

    effect: str
    subject: Subject
    rights: int
    reach: str = "tree"

    def __str__(self) -> str:
        line = f"{self.effect} {self.subject} {format_rights(self.rights)}"
        return line if self.reach == "tree" else f"{line} {self.reach}"


def parse_entry(text: str, *, at_endpoint: bool = False) -> Entry:
    """Read an entry; at an endpoint there is no reach and no ``owner``."""
    words = text.split()
    shape = "EFFECT SUBJECT RIGHTS" if at_endpoint else "EFFECT SUBJECT RIGHTS [REACH]"
    if not 3 <= len(words) <= (3 if at_endpoint else 4):
        raise BadValue(f"{text!r} is no entry", f"{shape}, such as `allow group:boats read`")
    effect, subject, rights = words[:3]
    if effect not in EFFECTS:
        raise BadValue(f"{effect!r} is no effect", "allow, deny or forbid")
    reach = words[3] if len(words) == 4 else "tree"
    if reach not in REACHES:
        raise BadValue(f"{reach!r} is no reach", "tree, here, below or children")
    return Entry(effect, parse_subject(subject, owner=not at_endpoint), parse_rights(rights), reach)


class Grant(NamedTuple):
    """One line of a virtual path: ``SUBJECT RIGHTS``."""

    subject: Subject
    rights: int

    def __str__(self) -> str:
        return f"{self.subject} {format_rights(self.rights)}"


def parse_grant(text: str) -> Grant:
    """Read a grant."""
    words = text.split()
    if len(words) != 2:
        raise BadValue(f"{text!r} is no grant", "SUBJECT RIGHTS, such as `group:boats change`")
    return Grant(parse_subject(words[0]), parse_rights(words[1]))


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


@dataclass(frozen=True, slots=True)
class Group:
    """Members are accounts, groups and units. `source` is ``local`` or the name of a directory."""

    name: str
    members: tuple[Subject, ...] = ()
    source: str = "local"


@dataclass(frozen=True, slots=True)
class Folder:
    """A recorded folder of a store."""

    path: str
    owner: str | None = None
    sealed: bool = False
    entries: tuple[Entry, ...] = ()


@dataclass(frozen=True, slots=True)
class Store:
    """A named place where files are kept. `capacity` in bytes."""

    name: str
    root: str | None = None
    baseline: str = "closed"
    capacity: int | None = None
    folders: tuple[Folder, ...] = ()


@dataclass(frozen=True, slots=True)
class VirtualPath:
    """Puts a store folder into what accounts see. `leads_to` may hold placeholders."""

    path: str
    leads_to: str
    listing: str = "reachable"
    grants: tuple[Grant, ...] = ()


SIGNED_IN_ALL = parse_entry("allow signed-in all", at_endpoint=True)


@dataclass(frozen=True, slots=True)
class Endpoint:
    """Where clients come in. `passive_ports` is a first and last port.

    Nobody in `never` is admitted. Where there is an `only`, nobody else is: nobody at all, if it is empty. The certificate and its key are
    paths of PEM files.
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


@dataclass(frozen=True, slots=True)
class Setting:
    """What is set for one subject: `values` holds (name, value), sorted by name."""

    subject: Subject
    values: tuple[tuple[str, Any], ...] = ()


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


@dataclass(frozen=True, slots=True)
class Usage:
    """What lies directly in one folder and belongs to one owner."""

    folder: Place
    owner: str | None
    bytes: int
    files: int


class Opening(NamedTuple):
    """Ports of an address that clients of some networks may connect to, ``ADDRESS PORTS from NETWORK,…``."""

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
    """So many failures of an `account` or an `address` within so many seconds lock it for so many."""

    of: str
    failures: int
    within: int
    lasts: int


@dataclass(frozen=True, slots=True)
class Model:
    """Everything, at one revision.

    `unit_sources` names the directory that a unit comes from, for those that are not local. `gone` are
    subjects that a directory no longer has, and that entries or memberships still name. `inside` are
    the networks from which clients come straight to an endpoint.
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
    unit_sources: tuple[tuple[str, str], ...] = ()
    gone: tuple[Subject, ...] = ()
    lockouts: tuple[Lockout, ...] = ()
    inside: tuple[str, ...] = ()
    openings: tuple[Opening, ...] = ()
    forwardings: tuple[Forwarding, ...] = ()

    def with_folder(self, store: str, folder: Folder) -> "Model":
        """A model in which `folder` takes the place of the folder of that path, or is added."""
        from ..words.names import tree_key

        def put(s: Store) -> Store:
            folders = [f for f in s.folders if f.path != folder.path]
            folders.append(folder)
            folders.sort(key=lambda f: tree_key(f.path))
            return replace(s, folders=tuple(folders))

        return replace(self, stores=tuple(put(s) if s.name == store else s for s in self.stores))
