"""Which keys the items of a model have: how each is read, written, described, and told to people.

The model file, the API's changes, the command line's options and the published JSON Schema all
come from these tables.
"""

from collections.abc import Callable, Iterable
from typing import Any, NamedTuple

from drawknife.core.model import items as m
from drawknife.core.model.soundness import check_leads_to, check_virtual_path
from drawknife.core.prepared import settings as s
from drawknife.core.words.hours import read_hours
from drawknife.core.words.names import check_name, check_path, check_subject_name, check_unit, parse_place

from . import values as v
from .units import read_duration, read_size, write_duration, write_size

REQUIRED = object()


class Key(NamedTuple):
    """One key of an item. `read` raises BadValue; `many` says that it holds a list."""

    name: str
    read: v.Read
    schema: v.Schema
    about: str
    default: Any = None
    many: bool = False
    write: Callable[[Any], Any] | None = None


def _size_or_unlimited(value: Any) -> Any:
    return value if value == m.UNLIMITED else write_size(value)


ACCOUNT = (
    Key("name", v.of(check_name), v.NAME, "what it signs in as", REQUIRED),
    Key("kind", v.one_of(m.KINDS), v.choice(m.KINDS), "person, service or anonymous", "person"),
    Key("display", v.text, v.STRING, "its name for people"),
    Key("mail", v.text, v.STRING, "its mail address"),
    Key("unit", v.of(check_unit), v.STRING, "the organisational unit it is in, such as fleet/inshore"),
    Key("home", v.of(parse_place), v.PLACE, "its own folder, such as homes:/ines", write=str),
    Key("enabled", v.yes_no, v.BOOL, "may it sign in at all?", True),
    Key("expires", v.day, {"type": "string", "format": "date"}, "its last day (UTC), such as 2031-04-30", write=str),
    Key("methods", v.one_of(m.METHODS), v.choice(m.METHODS), "what it has credentials for", ("password",), many=True),
    Key("source", v.of(check_name), v.NAME, "local, or the directory it comes from", "local"),
)
UNIT = (
    Key("path", v.of(check_unit), v.STRING, "the unit, such as fleet/inshore", REQUIRED),
    Key("source", v.of(check_name), v.NAME, "local, or the directory it comes from", "local"),
)
GROUP = (
    Key("name", v.of(check_subject_name), v.NAME, "its name", REQUIRED),
    Key("members", v.of(m.parse_subject), v.STRING, "account:NAME, group:NAME or unit:PATH", (), many=True, write=str),
    Key("source", v.of(check_name), v.NAME, "local, or the directory it comes from", "local"),
)
FOLDER = (
    Key("path", v.of(check_path), v.PATH, "where it is in its store", REQUIRED),
    Key("owner", v.of(check_name), v.NAME, "the account that owns it"),
    Key("sealed", v.yes_no, v.BOOL, "do the entries of the folders above stop here?", False),
    Key("entries", v.of(m.parse_entry), v.STRING, "EFFECT SUBJECT RIGHTS [REACH]", (), many=True, write=str),
)
STORE = (
    Key("name", v.of(check_name), v.NAME, "its name", REQUIRED),
    Key("root", v.text, v.STRING, "the folder on disk; left out while it is only planned"),
    Key(
        "baseline", v.one_of(("closed", "open")), v.choice(("closed", "open")),
        "what happens to a right that nothing decides", "closed",
    ),
    Key("capacity", read_size, v.SIZE, "how much fits into it, such as 8 TiB", write=write_size),
)  # fmt: skip
VIRTUAL_PATH = (
    Key("path", v.of(check_virtual_path), v.PATH, "where accounts see it", REQUIRED),
    Key("leads_to", v.of(check_leads_to), v.STRING, "the store folder, such as homes:/{account}", REQUIRED),
    Key(
        "listing", v.one_of(("reachable", "all")), v.choice(("reachable", "all")),
        "which subfolders a listing shows", "reachable",
    ),
    Key("grants", v.of(m.parse_grant), v.STRING, "SUBJECT RIGHTS", (), many=True, write=str),
)  # fmt: skip
ENDPOINT = (
    Key("name", v.of(check_name), v.NAME, "its name", REQUIRED),
    Key("protocol", v.one_of(m.PROTOCOLS), v.choice(m.PROTOCOLS), "ftp, ftps (implicit TLS) or sftp", REQUIRED),
    Key("address", v.address, v.STRING, "the address it listens on", "0.0.0.0"),
    Key("port", v.number(1, 65535), v.PORT, "the port it listens on", REQUIRED),
    Key("passive_ports", v.port_range, v.PORTS, "for data connections, such as 40000-40099", write=v.write_ports),
    Key("tls", v.one_of(m.TLS_POLICIES), v.choice(m.TLS_POLICIES), "off, optional or required"),
    Key("host_names", v.host_name, v.STRING, "the names clients use", (), many=True),
    Key("enabled", v.yes_no, v.BOOL, "is it to run?", True),
    Key(
        "entries", v.of(lambda t: m.parse_entry(t, at_endpoint=True)), v.STRING, "EFFECT SUBJECT RIGHTS",
        (m.SIGNED_IN_ALL,), many=True, write=str,
    ),
    Key("never", v.of(m.parse_subject), v.STRING, "who is never admitted here", (), many=True, write=str),
    Key("only", v.of(m.parse_subject), v.STRING, "only these are admitted; nobody, if it is empty", many=True, write=str),
    Key("certificate", v.text, v.STRING, "the PEM file with its certificate"),
    Key("certificate_key", v.text, v.STRING, "the PEM file with the certificate's key"),
)  # fmt: skip
_ABOUT_NUMBERS = {
    "quota_bytes": "how much it may own",
    "quota_files": "how many files it may own",
    "upload_limit": "the largest file it may send",
    "rate_up": "bytes a second that it may send",
    "rate_down": "bytes a second that it may fetch",
    "sessions": "how many sessions at once",
    "idle_timeout": "seconds without a command before a session ends",
}
SETTING = (
    Key("for", v.of(m.parse_subject), v.STRING, "whom it is set for, such as group:boats", REQUIRED, write=str),
    *(
        Key(n, v.or_unlimited(read_size), v.unlimited(v.SIZE), _ABOUT_NUMBERS[n], write=_size_or_unlimited)
        if n in s.SIZES
        else Key(n, v.or_unlimited(v.COUNT), v.unlimited(v.NUMBER), _ABOUT_NUMBERS[n])
        for n in s.NUMBERS
    ),
    Key("require_tls", v.yes_no, v.BOOL, "must it use TLS?"),
    Key("methods", v.one_of(m.METHODS), v.choice(m.METHODS), "the ways of signing in that are permitted", many=True),
    Key("addresses", v.address_line, v.STRING, "allow CIDR or deny CIDR: where it may come from", many=True),
    Key("hours", v.of(read_hours), v.STRING, "when it may sign in (UTC), such as mon-fri 06:00-20:00", many=True),
    Key("landing", v.of(check_path), v.PATH, "the virtual location where a session starts"),
    Key("greeting", v.text, v.STRING, "what is said at sign-in"),
    Key("uploads_owner", v.of(check_name), v.NAME, "the account that owns what it creates"),
)
QUOTA = (
    Key("name", v.of(check_name), v.NAME, "its name", REQUIRED),
    Key("shared_by", v.of(m.parse_subject), v.STRING, "whose files it counts", (), many=True, write=str),
    Key("folder", v.of(parse_place), v.PLACE, "or: the store folder that it is on", write=str),
    Key("hard_bytes", read_size, v.SIZE, "no more than this", write=write_size),
    Key("soft_bytes", read_size, v.SIZE, "above this, only for the grace period", write=write_size),
    Key("hard_files", v.COUNT, v.NUMBER, "no more files than this"),
    Key("soft_files", v.COUNT, v.NUMBER, "above this many files, only for the grace period"),
    Key("grace", read_duration, v.DURATION, "how long above a soft limit, such as 7 days", write=write_duration),
    Key("bytes_over_since", v.moment, v.MOMENT, "when its bytes went above the soft limit", write=v.write_moment),
    Key("files_over_since", v.moment, v.MOMENT, "when its files went above the soft limit", write=v.write_moment),
)
LOCKOUT = (
    Key("of", v.one_of(("account", "address")), v.choice(("account", "address")), "what is locked", REQUIRED),
    Key("failures", v.number(1, 1000), v.NUMBER, "after so many failed sign-ins", REQUIRED),
    Key("within", read_duration, v.DURATION, "within so long, such as 10 minutes", REQUIRED, write=write_duration),
    Key("lasts", read_duration, v.DURATION, "for so long, such as 30 minutes", REQUIRED, write=write_duration),
)
USAGE = (
    Key("folder", v.of(parse_place), v.PLACE, "the folder in which the files are", REQUIRED, write=str),
    Key("owner", v.of(check_name), v.NAME, "the account that owns them"),
    Key("bytes", read_size, v.SIZE, "how much they are", REQUIRED, write=write_size),
    Key("files", v.COUNT, v.NUMBER, "how many they are", REQUIRED),
)

SECTIONS: dict[str, tuple[tuple[Key, ...], Callable[..., Any]]] = {
    "accounts": (ACCOUNT, m.Account),
    "groups": (GROUP, m.Group),
    "stores": (STORE, m.Store),
    "virtual_paths": (VIRTUAL_PATH, m.VirtualPath),
    "endpoints": (ENDPOINT, m.Endpoint),
    "settings": (SETTING, m.Setting),
    "quotas": (QUOTA, m.Quota),
    "lockouts": (LOCKOUT, m.Lockout),
    "usage": (USAGE, m.Usage),
}
#: Sections that are lists of lines: how a line is read, and what it is about.
LINES: dict[str, tuple[v.Read, str]] = {
    "inside": (v.network, "networks whose clients come straight to where an endpoint listens"),
    "openings": (v.opening, "ADDRESS PORTS from NETWORK: what clients from elsewhere may connect to"),
    "forwardings": (v.forwarding, "ADDRESS PORTS to ADDRESS PORTS: what leads from outside to inside"),
    "gone": (v.of(m.parse_subject), "subjects that a directory has no more, and that something still names"),
}


def plain(item: Any, table: Iterable[Key]) -> dict[str, Any]:
    """An item as plain data; what is as by default is left out."""
    out = {}
    for key in table:
        value = getattr(item, key.name)
        if value == key.default or (key.default is None and value is None):
            continue
        if key.many:
            out[key.name] = [key.write(x) for x in value] if key.write else list(value)
        else:
            out[key.name] = key.write(value) if key.write else value
    return out


def account_data(account: m.Account) -> dict[str, Any]:
    """One account as the model file has it; an anonymous account has no methods to tell."""
    out = plain(account, ACCOUNT)
    if account.kind == "anonymous":
        out.pop("methods", None)
    return out


def setting_data(setting: m.Setting) -> dict[str, Any]:
    """What is set for one subject as the model file has it."""
    values = dict(setting.values)
    out: dict[str, Any] = {"for": str(setting.subject)}
    for key in SETTING[1:]:
        if key.name in values:
            value = values[key.name]
            out[key.name] = list(value) if key.many else key.write(value) if key.write else value
    return out


def quota_data(quota: m.Quota) -> dict[str, Any]:
    """One quota as the model file has it; one that is on no folder is shared, if by nobody."""
    out = plain(quota, QUOTA)
    if quota.folder is None:
        out.setdefault("shared_by", [])
    return out


def store_data(store: m.Store, folders: bool = True) -> dict[str, Any]:
    """One store as the model file has it, with its folders or without."""
    out = plain(store, STORE)
    if folders and store.folders:
        out["folders"] = [plain(f, FOLDER) for f in store.folders]
    return out


def item_schema(table: tuple[Key, ...], more: v.Schema | None = None) -> v.Schema:
    """The JSON Schema of the items that a table describes."""
    properties: v.Schema = {
        key.name: {"type": "array", "items": key.schema, "description": key.about}
        if key.many
        else {**key.schema, "description": key.about}
        for key in table
    }
    properties.update(more or {})
    required = [key.name for key in table if key.default is REQUIRED]
    return {"type": "object", "additionalProperties": False, "required": required, "properties": properties}
