"""The kinds of items that a model is made of: one declaration for each, with all its fields.

From these come the model file and its JSON Schema, the canonical form, what a rename carries along
and a removal strikes out, what is told as a difference, how an item is kept in the database, what
can be changed, the options of the changing commands, the console's forms, and the tables of the
reference pages. What is special about a kind is a method beside its declaration.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from ..words.names import (
    check_name,
    check_path,
    check_subject_name,
    check_unit,
    fold,
    parse_place,
    tree_key,
)
from ..words.quantities import read_duration, read_size, write_duration, write_size
from . import described_folders as w
from . import disk as d
from . import items as m
from . import values as v
from .fields import REQUIRED, Field
from .kind import Kind as Kind
from .placeholders import check_leads_to, check_virtual_path
from .setting_fields import SETTING_FIELDS


class _Accounts(Kind):
    def made_from(self, values: dict[str, Any]) -> Any:
        if values.get("kind") == "anonymous":
            values = {"methods": (), **values}
        return super().made_from(values)

    def alone(self, item: m.Account) -> dict[str, Any]:
        found = super().alone(item)
        if item.kind == "anonymous":  # it has no methods to tell
            found.pop("methods", None)
        return found


class _Stores(Kind):
    def data(self, item: m.Store) -> dict[str, Any]:
        found = self.alone(item)
        if item.folders:
            found["folders"] = [FOLDER.data(f) for f in item.folders]
        return found


class _Folders(Kind):
    def order(self, item: m.Folder) -> Any:
        return tree_key(item.path)


class _VirtualPaths(Kind):
    """Several may have one path: each is called ``PATH>LEADS_TO``."""

    def called(self, item: m.VirtualPath) -> str:
        return f"{item.path}>{item.leads_to}"

    def placed(self, item: m.VirtualPath) -> str:
        return item.path

    def order(self, item: m.VirtualPath) -> Any:
        grants = [(str(g), g.note or "") for g in item.grants]
        return tree_key(item.path), item.leads_to, item.listing, grants, item.note or ""


class _Settings(Kind):
    """What is set for one subject: only the fields that are set are there."""

    def order(self, item: m.Setting) -> Any:
        return item.subject.kind, fold(item.subject.name)

    def get(self, item: m.Setting, field: Field) -> Any:
        if field.name in ("for", "note"):
            return item.subject if field.name == "for" else item.note
        return next((value for name, value in item.values if name == field.name), None)

    def values(self, fields: Sequence[Field]) -> Callable[[Any], Sequence[Any]]:
        return lambda item: [self.get(item, f) for f in fields]

    def but(self, item: m.Setting, values: dict[str, Any]) -> m.Setting:
        merged: dict[str, Any] = {**dict(item.values), **values}
        subject, note = merged.pop("for", item.subject), merged.pop("note", item.note)
        return m.Setting(
            subject, tuple(sorted((k, x) for k, x in merged.items() if x is not None)), note
        )

    def made_from(self, values: dict[str, Any]) -> m.Setting:
        return self.but(m.Setting(values["for"]), values)


class _Quotas(Kind):
    def alone(self, item: m.Quota) -> dict[str, Any]:
        found = super().alone(item)
        if item.folder is None:  # one that is on no folder is shared, if by nobody
            found.setdefault("shared_by", [])
        return found


class _Trials(Kind):
    """Some fields are called by words that Python keeps for itself."""

    def attribute(self, name: str) -> str:
        return {"as": "account", "at": "endpoint", "from": "client", "when": "moment"}.get(
            name, name
        )


class _Usage(Kind):
    def called(self, item: m.Usage) -> str:
        return f"{item.folder} {item.owner or ''}".strip()

    def placed(self, item: m.Usage) -> str:
        return str(item.folder)

    def order(self, item: m.Usage) -> Any:
        return fold(item.folder.store), tree_key(item.folder.path), fold(item.owner or "")

    def made_from(self, values: dict[str, Any]) -> m.Usage:
        return m.Usage(**{"owner": None, **values})


class _Units(Kind):
    """A unit is its path; where it comes from is kept beside it."""

    def called(self, item: str) -> str:
        return item

    def data(self, item: str) -> dict[str, Any]:
        return {"path": item}


# --- the declarations ---------------------------------------------------------------------------


def _lines_field(
    name: str,
    parse: Callable[[str], Any],
    about: str,
    word: str,
    default: Any = (),
    key: str = "line",
) -> Field:
    """A list of lines that name somebody, each of which may have an end and a note."""
    return Field(
        name, v.line(parse, key), v.line_schema(key), about, default, many=True,
            write=v.write_line(key), names="line",
        word=word,
    )  # fmt: skip


_NOTE = Field("note", v.note, v.STRING, "why it is there; it decides nothing")
_SOURCE = Field(
    "source", v.of(check_name), v.NAME, "local, or the directory it comes from", "local"
)
_SOURCE_ID = Field(
    "source_id", v.text, v.STRING, "what its directory knows it by, whatever it is called there"
)
#: The fields that only a directory gives.
OF_A_DIRECTORY = frozenset((_SOURCE.name, _SOURCE_ID.name))
_NAME = Field("name", v.of(check_name), v.NAME, "its name", REQUIRED)

UNIT = _Units(
    "unit", "units", str,
    (Field("path", v.of(check_unit), v.STRING, "the unit, such as fleet/inshore", REQUIRED),
        _SOURCE, _SOURCE_ID, _NOTE),
    "path",
)  # fmt: skip
ACCOUNT = _Accounts("account", "accounts", m.Account, (
    Field("name", v.of(check_name), v.NAME, "what it signs in as", REQUIRED),
    Field("kind", v.one_of(m.KINDS), v.choice(m.KINDS), "person, service or anonymous", "person"),
    Field("display", v.text, v.STRING, "its name for people"),
    Field("mail", v.text, v.STRING, "its mail address"),
    Field("unit", v.of(check_unit), v.STRING,
        "the organisational unit it is in, such as fleet/inshore", names="unit"),
    Field("home", v.of(parse_place), v.PLACE, "its own folder, such as homes:/ines", write=str,
        names="place"),
    Field("enabled", v.yes_no, v.BOOL, "may it sign in at all?", True),
    Field("expires", v.day, v.DAY, "its last day (UTC), such as 2031-04-30", write=str),
    Field("methods", v.one_of(m.METHODS), v.choice(m.METHODS), "what it has credentials for",
        ("password",), many=True, word="method"),
    _SOURCE, _SOURCE_ID, _NOTE,
))  # fmt: skip
GROUP = Kind("group", "groups", m.Group, (
    Field("name", v.of(check_subject_name), v.NAME, "its name", REQUIRED),
    _lines_field("members", m.parse_member, "account:NAME, group:NAME or unit:PATH", "member",
        key="member"),
    _SOURCE, _SOURCE_ID, _NOTE,
))  # fmt: skip
STORE = _Stores("store", "stores", m.Store, (
    _NAME,
    Field("root", v.text, v.STRING, "the folder on disk; left out while it is only planned"),
    Field("baseline", v.one_of(m.BASELINES), v.choice(m.BASELINES),
        "what happens to a right that nothing decides", "closed"),
    Field("capacity", read_size, v.SIZE, "how much fits into it, such as 8 TiB", write=write_size),
    Field("creation_mode", v.of(d.parse_creation_mode), v.STRING,
        "the modes that servers give to new files and folders there, such as 0660 0770"),
    _NOTE,
))  # fmt: skip
FOLDER = _Folders("folder", "folders", m.Folder, (
    Field("path", v.of(check_path), v.PATH, "where it is in its store", REQUIRED),
    Field("owner", v.of(check_name), v.NAME, "the account that owns it", names="account"),
    Field("sealed", v.yes_no, v.BOOL, "do the entries of the folders above stop here?", False),
    _lines_field("entries", m.parse_entry, "EFFECT SUBJECT RIGHTS [REACH]", "entry"),
    _NOTE,
), "path")  # fmt: skip
VIRTUAL_PATH = _VirtualPaths("virtual-path", "virtual_paths", m.VirtualPath, (
    Field("path", v.of(check_virtual_path), v.PATH, "where accounts see it", REQUIRED),
    Field("leads_to", v.of(check_leads_to), v.STRING, "the store folder, such as homes:/{account}",
        REQUIRED, names="leads-to"),
    Field("listing", v.one_of(m.LISTINGS), v.choice(m.LISTINGS),
        "which subfolders a listing shows", "reachable"),
    _lines_field("grants", m.parse_grant, "SUBJECT RIGHTS", "grant"),
    _NOTE,
), "path", can_be_renamed=False, each_once=False)  # fmt: skip
ENDPOINT = Kind("endpoint", "endpoints", m.Endpoint, (
    _NAME,
    Field("protocol", v.one_of(m.PROTOCOLS), v.choice(m.PROTOCOLS),
        "ftp, ftps (implicit TLS) or sftp", REQUIRED),
    Field("address", v.address, v.STRING, "the address it listens on", "0.0.0.0"),
    Field("port", v.number(1, 65535), v.PORT, "the port it listens on", REQUIRED),
    Field("passive_ports", v.port_range, v.PORTS, "for data connections, such as 40000-40099",
        write=v.write_ports),
    Field("tls", v.one_of(m.TLS_POLICIES), v.choice(m.TLS_POLICIES), "off, optional or required"),
    Field("host_names", v.host_name, v.STRING, "the names clients use", (), many=True,
        word="host-name"),
    Field("enabled", v.yes_no, v.BOOL, "is it to run?", True),
    _lines_field("entries", lambda t: m.parse_entry(t, at_endpoint=True), "EFFECT SUBJECT RIGHTS",
        "entry", (m.SIGNED_IN_ALL,)),
    Field("never", v.of(m.parse_subject), v.STRING, "who is never admitted here", (), many=True,
        write=str, names="subject", word="never"),
    Field("only", v.of(m.parse_subject), v.STRING,
        "only these are admitted; nobody, if it is empty", many=True, write=str, names="subject",
            word="only"),
    Field("certificate", v.text, v.STRING, "the PEM file with its certificate"),
    Field("certificate_key", v.text, v.STRING, "the PEM file with the certificate's key"),
    _NOTE,
))  # fmt: skip
SETTING = _Settings("setting", "settings", m.Setting, (
    Field("for", v.of(m.parse_subject), v.STRING, "whom it is set for, such as group:boats",
        REQUIRED, write=str, names="subject"),
    *SETTING_FIELDS,
    _NOTE,
), "subject", can_be_renamed=False)  # fmt: skip
QUOTA = _Quotas("quota", "quotas", m.Quota, (
    _NAME,
    Field("shared_by", v.of(m.parse_subject), v.STRING, "whose files it counts", (), many=True,
        write=str, names="subject", word="shared-by"),
    Field("folder", v.of(parse_place), v.PLACE, "or: the store folder that it is on", write=str,
        names="place"),
    Field("hard_bytes", read_size, v.SIZE, "no more than this", write=write_size),
    Field("soft_bytes", read_size, v.SIZE, "above this, only for the grace period",
        write=write_size),
    Field("hard_files", v.COUNT, v.NUMBER, "no more files than this"),
    Field("soft_files", v.COUNT, v.NUMBER, "above this many files, only for the grace period"),
    Field("grace", read_duration, v.DURATION, "how long above a soft limit, such as 7 days",
        write=write_duration),
    Field("bytes_over_since", v.moment, v.MOMENT, "when its bytes went above the soft limit",
        write=v.write_moment),
    Field("files_over_since", v.moment, v.MOMENT, "when its files went above the soft limit",
        write=v.write_moment),
    _NOTE,
))  # fmt: skip
LOCKOUT = Kind("lockout", "lockouts", m.Lockout, (
    Field("of", v.one_of(("account", "address")), v.choice(("account", "address")),
        "what is locked", REQUIRED),
    Field("failures", v.number(1, 1000), v.NUMBER, "after so many failed sign-ins", REQUIRED),
    Field("within", read_duration, v.DURATION, "within so long, such as 10 minutes", REQUIRED,
        write=write_duration),
    Field("lasts", read_duration, v.DURATION, "for so long, such as 30 minutes", REQUIRED,
        write=write_duration),
    _NOTE,
), "of", can_be_renamed=False)  # fmt: skip
PROMISE = Kind("promise", "promises", m.Promise, (
    _NAME,
    Field("says", v.of(m.parse_says), v.STRING,
        "nobody in, only, or everybody in SUBJECTS may RIGHTS at PLACE [REACH] [through ENDPOINT]",
            REQUIRED, write=str, names="promise"),
    Field("kept", v.one_of(m.KEPT), v.choice(m.KEPT),
        "always: what breaks it is refused; watched: that is a finding", "watched"),
    _NOTE,
))  # fmt: skip
TRIAL = _Trials("trial", "trials", m.Trial, (
    Field("name", v.title, v.TITLE, "what it is about", REQUIRED),
    Field("as", v.of(check_name), v.NAME, "the account that does it", REQUIRED, names="account"),
    Field("at", v.of(check_name), v.NAME,
        "the endpoint; left out: signing in and the endpoint are not asked", names="endpoint"),
    Field("from", v.address, v.STRING, "the client's address"),
    Field("tls", v.yes_no, v.BOOL, "does the client use TLS?"),
    Field("method", v.one_of(m.METHODS), v.choice(m.METHODS), "how it signs in"),
    Field("when", v.moment, v.MOMENT, "the time that counts; left out: now", write=v.write_moment),
    Field("steps", m.read_step, v.STEP,
        "what is done, and what is to come of it, such as upload /inbox/a.xyz: yes", REQUIRED,
            many=True, write=str, names="steps", word="step", in_order=True),
    _NOTE,
))  # fmt: skip
DISK = Kind("disk-reading", "disk_readings", m.DiskReading, (
    Field("store", v.of(check_name), v.NAME, "the store whose disk was read", REQUIRED,
        names="store"),
    Field("taken", v.moment, v.MOMENT, "when it was read", write=v.write_moment),
    Field("confined", v.yes_no, v.BOOL, "does a server see nothing above the store's root?", False),
    Field("above", v.of(d.parse_folder), v.STRING,
        "the folders above the store's root, from the top: UID:GID MODE [acl=…] [default=…] /path",
            (), many=True, write=str, word="folder-above", in_order=True),
    Field("folders", v.of(d.parse_folder), v.STRING,
        "those of its folders that have permissions of their own: other than the folder above"
        " gives them", REQUIRED, many=True, write=str, word="folder-on-disk", in_order=True),
    Field("files", v.of(d.parse_files), v.STRING,
        "its files: COUNT of UID:GID MODE [acl=…] in /path", (), many=True, write=str,
            word="files-on-disk", in_order=True),
    Field("users", v.of(d.parse_user), v.STRING, "the machine's users: NAME UID GID[,GID…]", (),
        many=True, write=str, word="os-user"),
    Field("groups", v.of(d.parse_group), v.STRING, "the machine's groups: NAME GID", (), many=True,
        write=str, word="os-group"),
    Field("odd", v.COUNT, v.NUMBER, "so many names that no model can hold were met", 0),
    Field("notes", v.text, v.STRING, "what else was seen and is not judged", (), many=True,
        word="seen"),
    Field("absent", v.of(check_path), v.PATH, "recorded folders that are not on the disk", (),
        many=True, word="absent"),
    Field("unknown", v.of(d.parse_unknown), v.STRING,
        "folders below which nothing was read: unreadable /path, or mount /path", (), many=True,
            write=str, word="unknown"),
    Field("empty", v.of(check_path), v.PATH,
        "folders that are not listed and have nothing in them", (), many=True, word="empty-folder"),
    Field("complete", v.yes_no, v.BOOL,
        "does the reading name every folder: listed, with files, above one of these, or empty?",
            False),
), "store", can_be_renamed=False)  # fmt: skip
DESCRIPTORS = Kind("descriptor-reading", "descriptor_readings", m.DescriptorReading, (
    Field("store", v.of(check_name), v.NAME,
        "the store whose descriptors or NFSv4 lists were read", REQUIRED, names="store"),
    Field("taken", v.moment, v.MOMENT, "when it was read", write=v.write_moment),
    Field("folders", v.of(w.parse_described), v.STRING,
        "its folders, each with its security descriptor or NFSv4 list: SDDL /path, or NFS4"
        " O:OWNER G:GROUP ENTRY… /path", REQUIRED, many=True, write=str, word="described-folder",
        in_order=True),
    _lines_field("names", w.parse_sid_name, "IDENTIFIER SUBJECT", "sid-name"),
    Field("notes", v.text, v.STRING, "what else was seen and is not judged", (), many=True,
        word="seen"),
), "store", can_be_renamed=False)  # fmt: skip
USAGE = _Usage("usage", "usage", m.Usage, (
    Field("folder", v.of(parse_place), v.PLACE, "the folder in which the files are", REQUIRED,
        write=str, names="place"),
    Field("owner", v.of(check_name), v.NAME, "the account that owns them", names="account"),
    Field("bytes", read_size, v.SIZE, "how much they are", REQUIRED, write=write_size),
    Field("files", v.COUNT, v.NUMBER, "how many they are", REQUIRED),
), can_be_renamed=False)  # fmt: skip

#: Every kind, in the order of the model file; folders are in their stores.
EVERY = (
    UNIT, ACCOUNT, GROUP, STORE, FOLDER, VIRTUAL_PATH, ENDPOINT, SETTING, QUOTA, LOCKOUT, PROMISE,
        TRIAL, DISK, DESCRIPTORS,
    USAGE,
)  # fmt: skip
BY_NAME = {kind.name: kind for kind in EVERY}
#: Those that are changed one by one; usage comes as a whole, by a census.
KINDS = {name: kind for name, kind in BY_NAME.items() if kind is not USAGE}
#: The kinds that a subject can be of.
SUBJECT_KINDS = tuple(name for name in KINDS if name in m.NAMED)
OF_SECTION = {kind.section: kind for kind in EVERY}
#: The sections that are lists of items with fields.
SECTIONS = {kind.section: kind for kind in EVERY if kind not in (UNIT, FOLDER)}
#: The settings there are.
SETTINGS = {field.name: field for field in SETTING.fields[1:] if field is not _NOTE}


def _lines(name: str, word: str, read: v.Read, about: str) -> Field:
    return Field(name, read, v.STRING, about, (), many=True, write=str, word=word)


#: Sections that are lists of lines.
LINES = {field.name: field for field in (
    _lines("inside", "inside", v.network,
        "networks whose clients come straight to where an endpoint listens"),
    _lines("openings", "opening", v.opening,
        "ADDRESS PORTS from NETWORK: what clients from elsewhere may connect to"),
    _lines("forwardings", "forwarding", v.forwarding,
        "ADDRESS PORTS to ADDRESS PORTS: what leads from outside to inside"),
    _lines("gone", "gone", v.of(m.parse_subject),
        "subjects that a directory has no more, and that something still names"),
)}  # fmt: skip
#: How networks reach each other is one item, made of three of the lists.
NETWORK = "network"
NETWORK_FIELDS = tuple(LINES[name] for name in ("inside", "openings", "forwardings"))


def fields_of(kind: str) -> tuple[Field, ...]:
    """The fields of a kind that can be given and changed, or of the network."""
    if kind == NETWORK:
        return NETWORK_FIELDS
    return (_NOTE,) if kind == "unit" else KINDS[kind].fields
