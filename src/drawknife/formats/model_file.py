"""The model file: a whole model as one YAML or JSON document (docs/reference/model-file.md).

One table per section says which keys there are, how each is read, how it is written, and how the
published JSON Schema describes it.
"""

import gc
import re
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from datetime import date
from functools import lru_cache
from ipaddress import ip_address, ip_network
from typing import Any, NamedTuple

from drawknife.core import model as m
from drawknife.core import settings as s
from drawknife.core.names import BadValue, check_name, check_path, check_subject_name, check_unit, parse_place
from drawknife.core.soundness import Where, check_leads_to, nearest, problems, sound

from .document import BadDocument, Mistake, Places, read_document, write_json, write_yaml
from .units import read_duration, read_size, write_duration, write_size

VERSION = 1
FORMAT = "drawknife"

Read = Callable[[Any], Any]
Schema = dict[str, Any]
_REQUIRED = object()


class Key(NamedTuple):
    """One key of an item: how its value is read (raising BadValue), written, and described."""

    name: str
    read: Read
    schema: Schema
    default: Any = None
    many: bool = False
    write: Callable[[Any], Any] | None = None


# --- how single values are read -----------------------------------------------------------------


def _shown(value: Any) -> str:
    text = {None: "nothing", True: "true", False: "false"}.get(value) if not isinstance(value, dict | list) else None
    text = text or ("a list" if isinstance(value, list) else "a mapping" if isinstance(value, dict) else str(value))
    return text if len(text) <= 60 else text[:57] + "..."


def _text(value: Any) -> str:
    if not isinstance(value, str):
        raise BadValue(f"{_shown(value)} is not text", "text (in quotation marks, if it looks like a number)")
    for c in value:
        if "\ud800" <= c <= "\udfff" or c == "\x00":
            raise BadValue("the text holds a character that cannot be kept", "text without it")
    return value


def _of(read: Callable[[str], Any]) -> Read:
    return lambda value: read(_text(value))


def _one_of(words: tuple[str, ...]) -> Read:
    def read(value: Any) -> str:
        if value not in words or not isinstance(value, str):
            raise BadValue(f"{_shown(value)!r} is none of the choices", " or ".join(words))
        return value

    return read


def _yes_no(value: Any) -> bool:
    if not isinstance(value, bool):
        raise BadValue(f"{_shown(value)} is neither true nor false", "true or false")
    return value


def _number(low: int, high: int) -> Read:
    def read(value: Any) -> int:
        if not isinstance(value, int) or isinstance(value, bool) or not low <= value <= high:
            raise BadValue(f"{_shown(value)} is out of place", f"a whole number from {low} to {high}")
        return value

    return read


def _day(value: Any) -> date:
    try:
        if len(_text(value)) == 10:
            return date.fromisoformat(value)
    except ValueError:
        pass
    raise BadValue(f"{_shown(value)} is no day", "a day such as 2031-04-30")


def _address(value: Any) -> str:
    try:
        return str(ip_address(_text(value)))
    except ValueError:
        raise BadValue(f"{_shown(value)} is no address", "an IPv4 or IPv6 address") from None


def _passive(value: Any) -> tuple[int, int]:
    first, dash, last = _text(value).partition("-") if isinstance(value, str) else ("", "", "")
    if dash and first.isdecimal() and last.isdecimal() and len(first) < 6 and len(last) < 6:
        ports = int(first), int(last)
        if 0 < ports[0] <= ports[1] < 65536:
            return ports
    raise BadValue(f"{_shown(value)} is no range of ports", "a range such as 40000-40099")


def _address_line(value: Any) -> str:
    words = _text(value).split()
    if len(words) == 2 and words[0] in ("allow", "deny"):
        try:
            return f"{words[0]} {ip_network(words[1])}"
        except ValueError:
            raise BadValue(
                f"{words[1]!r} is no network", "a network such as 192.0.2.0/24, with no bits set behind the prefix"
            ) from None
    raise BadValue(f"{_shown(value)!r} is no address line", "allow CIDR or deny CIDR")


def _host_name(value: Any) -> str:
    text = _text(value).lower()
    labels = text.split(".")
    if (
        not text
        or len(text) > 253
        or any(not x or len(x) > 63 or x[0] == "-" or x[-1] == "-" or not x.replace("-", "").isalnum() for x in labels)
    ):
        raise BadValue(f"{_shown(value)!r} is no host name", "a name such as files.tidewrack.example")
    return text


def _or_unlimited(read: Read) -> Read:
    return lambda value: m.UNLIMITED if value == m.UNLIMITED else read(value)


_COUNT = _number(0, 2**63 - 1)
_STRING: Schema = {"type": "string"}
_SIZE: Schema = {"type": ["integer", "string"], "minimum": 0, "pattern": r"^\d+( ?(B|[KMGTP]i?B))?$"}
_NUMBER: Schema = {"type": "integer", "minimum": 0}
_DURATION: Schema = {"type": ["integer", "string"], "minimum": 0, "pattern": r"^\d+ ?(day|hour|minute|second)s?$"}
_BOOL: Schema = {"type": "boolean"}
_NAME: Schema = {"type": "string", "minLength": 1, "maxLength": 64}
_PATH: Schema = {"type": "string", "pattern": "^/"}
_PLACE: Schema = {"type": "string", "pattern": "^[^:]+:/"}


def _choice(words: tuple[str, ...]) -> Schema:
    return {"enum": list(words)}


def _unlimited(schema: Schema) -> Schema:
    return {"anyOf": [{"const": m.UNLIMITED}, schema]}


_ACCOUNT = (
    Key("name", _of(check_name), _NAME, _REQUIRED),
    Key("kind", _one_of(m.KINDS), _choice(m.KINDS), "person"),
    Key("display", _text, _STRING),
    Key("mail", _text, _STRING),
    Key("unit", _of(check_unit), _STRING),
    Key("home", _of(parse_place), _PLACE, write=str),
    Key("enabled", _yes_no, _BOOL, True),
    Key("expires", _day, {"type": "string", "format": "date"}, write=str),
    Key("methods", _one_of(m.METHODS), _choice(m.METHODS), ("password",), many=True),
    Key("source", _of(check_name), _NAME, "local"),
)
_GROUP = (
    Key("name", _of(check_subject_name), _NAME, _REQUIRED),
    Key("members", _of(m.parse_subject), _STRING, (), many=True, write=str),
)
_FOLDER = (
    Key("path", _of(check_path), _PATH, _REQUIRED),
    Key("owner", _of(check_name), _NAME),
    Key("sealed", _yes_no, _BOOL, False),
    Key("entries", _of(m.parse_entry), _STRING, (), many=True, write=str),
)
_STORE = (
    Key("name", _of(check_name), _NAME, _REQUIRED),
    Key("root", _text, _STRING),
    Key("baseline", _one_of(("closed", "open")), _choice(("closed", "open")), "closed"),
    Key("capacity", read_size, _SIZE, write=write_size),
)
_VIRTUAL_PATH = (
    Key("path", _of(check_path), _PATH, _REQUIRED),
    Key("leads_to", _of(check_leads_to), _STRING, _REQUIRED),
    Key("listing", _one_of(("reachable", "all")), _choice(("reachable", "all")), "reachable"),
    Key("grants", _of(m.parse_grant), _STRING, (), many=True, write=str),
)
_ENDPOINT = (
    Key("name", _of(check_name), _NAME, _REQUIRED),
    Key("protocol", _one_of(m.PROTOCOLS), _choice(m.PROTOCOLS), _REQUIRED),
    Key("address", _address, _STRING, "0.0.0.0"),
    Key("port", _number(1, 65535), {"type": "integer", "minimum": 1, "maximum": 65535}, _REQUIRED),
    Key("passive_ports", _passive, {"type": "string", "pattern": r"^\d+-\d+$"}, write=lambda r: f"{r[0]}-{r[1]}"),
    Key("tls", _one_of(m.TLS_POLICIES), _choice(m.TLS_POLICIES)),
    Key("host_names", _host_name, _STRING, (), many=True),
    Key("enabled", _yes_no, _BOOL, True),
    Key(
        "entries", _of(lambda t: m.parse_entry(t, at_endpoint=True)), _STRING, (m.SIGNED_IN_ALL,), many=True, write=str
    ),
)
_SETTING = (
    Key("for", _of(m.parse_subject), _STRING, _REQUIRED, write=str),
    *(
        Key(n, _or_unlimited(read_size), _unlimited(_SIZE), write=lambda v: v if v == m.UNLIMITED else write_size(v))
        if n in s.SIZES
        else Key(n, _or_unlimited(_COUNT), _unlimited(_NUMBER))
        for n in s.NUMBERS
    ),
    Key("require_tls", _yes_no, _BOOL),
    Key("methods", _one_of(m.METHODS), _choice(m.METHODS), many=True),
    Key("addresses", _address_line, _STRING, many=True),
    Key("landing", _of(check_path), _PATH),
    Key("greeting", _text, _STRING),
    Key("uploads_owner", _of(check_name), _NAME),
)
_QUOTA = (
    Key("name", _of(check_name), _NAME, _REQUIRED),
    Key("shared_by", _of(m.parse_subject), _STRING, (), many=True, write=str),
    Key("folder", _of(parse_place), _PLACE, write=str),
    Key("hard_bytes", read_size, _SIZE, write=write_size),
    Key("soft_bytes", read_size, _SIZE, write=write_size),
    Key("hard_files", _COUNT, _NUMBER),
    Key("soft_files", _COUNT, _NUMBER),
    Key("grace", read_duration, _DURATION, write=write_duration),
)
_USAGE = (
    Key("folder", _of(parse_place), _PLACE, _REQUIRED, write=str),
    Key("owner", _of(check_name), _NAME),
    Key("bytes", read_size, _SIZE, _REQUIRED, write=write_size),
    Key("files", _COUNT, _NUMBER, _REQUIRED),
)
_SECTIONS: dict[str, tuple[tuple[Key, ...], Callable[..., Any]]] = {
    "accounts": (_ACCOUNT, m.Account),
    "groups": (_GROUP, m.Group),
    "stores": (_STORE, m.Store),
    "virtual_paths": (_VIRTUAL_PATH, m.VirtualPath),
    "endpoints": (_ENDPOINT, m.Endpoint),
    "settings": (_SETTING, m.Setting),
    "quotas": (_QUOTA, m.Quota),
    "usage": (_USAGE, m.Usage),
}
SECTIONS = ("units", *_SECTIONS)


# --- reading ------------------------------------------------------------------------------------


class _Reading:
    """Reads one document and gathers its mistakes."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.found: list[tuple[Where, Any, str, str, str | None]] = []
        #: By list, the positions in the document of the items that were taken, and the broken ones.
        self.kept: dict[Where, list[int]] = {}
        self.broken: list[Any] = []

    def wrong(self, where: Where, value: Any, message: str, expected: str, near: str | None = None) -> None:
        self.found.append((where, value, message, expected, near))

    def give_up(self) -> None:
        if self.found:
            places = Places(self.text)
            told = [
                Mistake(where, places.line(where), _shown(value), message, expected, near)
                for where, value, message, expected, near in self.found
            ]
            raise BadDocument(sorted(told, key=lambda m: m.line or 0))

    def original(self, where: Where) -> Where:
        """A place in the model as a place in the document, where broken items were left out."""
        out: Where = ()
        for step in where:
            kept = self.kept.get(out)
            out = (*out, kept[step] if kept is not None and isinstance(step, int) else step)
        return out

    def lost_names(self) -> set[str]:
        """Names that broken items define: that they are missing is no mistake of its own."""
        names = (item.get("name") for item in self.broken if isinstance(item, dict))
        return {name for name in names if isinstance(name, str) and name}

    def lines(self, where: Where, value: Any, read: Read) -> tuple[Any, ...]:
        if not isinstance(value, list):
            self.wrong(where, value, f"{_shown(value)} is no list", "a list")
            return ()
        out = []
        for i, line in enumerate(value):
            try:
                out.append(read(line))
            except BadValue as bad:
                self.wrong((*where, i), line, str(bad), bad.expected)
        return tuple(out)

    def item(self, where: Where, value: Any, keys: dict[str, Key], besides: str | None = None) -> dict[str, Any] | None:
        """The values of one mapping by key. A required key that is missing makes it None."""
        if not isinstance(value, dict):
            self.wrong(where, value, f"{_shown(value)} is no mapping", "a mapping with " + ", ".join(keys))
            return None
        out: dict[str, Any] = {}
        for name, given in value.items():
            key = keys.get(name)
            if key is None:
                if name != besides:
                    near = nearest(name, keys)
                    self.wrong((*where, name), name, f"unknown key {name!r}", "one of " + ", ".join(keys), near)
            elif key.many:
                out[name] = self.lines((*where, name), given, key.read)
            else:
                try:
                    out[name] = key.read(given)
                except BadValue as bad:
                    self.wrong((*where, name), given, str(bad), bad.expected)
                    if key.default is _REQUIRED:
                        out[name] = None
        whole = True
        for name, key in keys.items():
            if key.default is _REQUIRED and out.get(name) is None:
                if name not in value:
                    self.wrong(where, value, f"the key {name!r} is missing", name)
                whole = False
        return out if whole else None

    def section(self, data: dict[str, Any], name: str) -> tuple[Any, ...]:
        """The items of a section. A broken one is left out, and the positions of the others kept."""
        value = data.get(name, [])
        if not isinstance(value, list):
            self.wrong((name,), value, f"{_shown(value)} is no list", "a list")
            return ()
        table, make = _SECTIONS[name]
        keys = {key.name: key for key in table}
        out = []
        kept = self.kept[(name,)] = []
        for i, item in enumerate(value):
            got = self.item((name, i), item, keys, "folders" if name == "stores" else None)
            if got is None:
                self.broken.append(item)
                continue
            kept.append(i)
            if name == "stores":
                got["folders"] = self.folders((name, i, "folders"), item.get("folders", []))
            if name == "settings":
                got = {"subject": got.pop("for"), "values": tuple(sorted(got.items()))}
            if name == "accounts" and got.get("kind") == "anonymous":
                got.setdefault("methods", ())
            if name == "quotas":
                self.quota((name, i), item, got)
            if name == "endpoints":
                self.endpoint((name, i), item, got)
            out.append(make(**got))
        return tuple(out)

    def folders(self, where: Where, value: Any) -> tuple[m.Folder, ...]:
        if not isinstance(value, list):
            self.wrong(where, value, f"{_shown(value)} is no list", "a list")
            return ()
        keys = {key.name: key for key in _FOLDER}
        out = []
        kept = self.kept[where] = []
        for i, item in enumerate(value):
            folder = _plain_folder(item)
            if folder is None:
                got = self.item((*where, i), item, keys)
                if got is None:
                    continue
                folder = m.Folder(**got)
            kept.append(i)
            out.append(folder)
        return tuple(out)

    def quota(self, where: Where, item: Any, got: dict[str, Any]) -> None:
        if ("shared_by" in item) == ("folder" in item):
            self.wrong(
                where, item, "a quota is either shared or on a folder", "shared_by or folder, and one of them only"
            )
        for what in ("bytes", "files"):
            hard, soft = got.get(f"hard_{what}"), got.get(f"soft_{what}")
            if hard is not None and soft is not None and soft > hard:
                self.wrong((*where, f"soft_{what}"), soft, "the soft limit is above the hard one", f"at most {hard}")

    def endpoint(self, where: Where, item: Any, got: dict[str, Any]) -> None:
        if got["protocol"] == "sftp":
            for key in ("tls", "passive_ports"):
                if key in item:
                    self.wrong((*where, key), item[key], f"sftp has no {key}", "the key left out")
        elif got["protocol"] == "ftps" and got.get("tls", "required") != "required":
            self.wrong((*where, "tls"), item["tls"], "ftps is always with TLS", "required, or the key left out")


def model_from(data: Any, text: str = "") -> m.Model:
    """The sound model of a document's plain data. Raises :class:`BadDocument` with every mistake.

    `text` is the document, to tell the lines of mistakes.
    """
    with _collector_paused():
        return _model_from(data, text)


@contextmanager
def _collector_paused() -> Iterator[None]:
    """Making a great many lasting objects, the garbage collector would look at all of them in vain."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()


def _model_from(data: Any, text: str) -> m.Model:
    reading = _Reading(text)
    if not isinstance(data, dict):
        reading.wrong((), data, f"the document is {_shown(data)}", f"a mapping that begins with `{FORMAT}: {VERSION}`")
        reading.give_up()
    first = next(iter(data), None)
    if first != FORMAT:
        reading.wrong((), first, f"the first key is {first!r}", f"`{FORMAT}: {VERSION}`, the version of the format")
    version = data.get(FORMAT)
    if first == FORMAT and (version != VERSION or isinstance(version, bool)):
        reading.wrong((FORMAT,), version, f"version {_shown(version)} of the format is not known", str(VERSION))
    for key in data:
        if key != FORMAT and key not in SECTIONS:
            near = nearest(key, SECTIONS)
            reading.wrong((key,), key, f"unknown key {key!r}", "one of " + ", ".join(SECTIONS), near)
    units = reading.lines(("units",), data.get("units", []), _of(check_unit))
    model = m.Model(units=units, **{name: reading.section(data, name) for name in _SECTIONS})
    lost = reading.lost_names()
    for p in problems(model):
        where = reading.original(p.where)
        found = _at(data, where)
        if lost.isdisjoint(re.split("[ :]", str(found))):
            reading.wrong(where, found, p.message, p.expected, p.nearest)
    reading.give_up()
    return sound(model)


def _at(data: Any, where: Where) -> Any:
    for step in where:
        try:
            data = data[step]
        except (KeyError, IndexError, TypeError):
            return data
    return data


def read_model(raw: bytes | str) -> m.Model:
    """Read a model file. Raises :class:`BadDocument` with every mistake in it."""
    data, text = read_document(raw)
    return model_from(data, text)


_FEW_KEYS = frozenset({"path", "owner", "entries"})
_entry_line = lru_cache(1 << 16)(m.parse_entry)


def _plain_folder(item: Any) -> m.Folder | None:
    """A folder with nothing wrong and nothing but a path and entries, as nearly all are, read at once.

    There can be a million of them. None: read it key by key, which also finds what is wrong.
    """
    try:
        if _FEW_KEYS.issuperset(item):
            lines, owner = item.get("entries", ()), item.get("owner")
            if owner is not None:
                check_name(owner)
            elif "owner" in item:
                return None
            return m.Folder(check_path(item["path"]), owner, False, tuple([_entry_line(line) for line in lines]))
    except (BadValue, KeyError, TypeError, AttributeError):
        pass
    return None


# --- writing ------------------------------------------------------------------------------------


def _plain(item: Any, table: Iterable[Key]) -> dict[str, Any]:
    out = {}
    for key in table:
        value = getattr(item, key.name)
        if value == key.default or (key.default is None and value is None):
            continue
        if key.many:
            out[key.name] = [key.write(v) for v in value] if key.write else list(value)
        else:
            out[key.name] = key.write(value) if key.write else value
    return out


def folder_data(folder: m.Folder) -> dict[str, Any]:
    """One folder as the model file has it."""
    return _plain(folder, _FOLDER)


def account_data(account: m.Account) -> dict[str, Any]:
    """One account as the model file has it; an anonymous account has no methods to tell."""
    out = _plain(account, _ACCOUNT)
    if account.kind == "anonymous":
        out.pop("methods", None)
    return out


def _setting(setting: m.Setting) -> dict[str, Any]:
    values = dict(setting.values)
    out: dict[str, Any] = {}
    for key in _SETTING:
        if key.name == "for":
            out["for"] = str(setting.subject)
        elif key.name in values:
            value = values[key.name]
            out[key.name] = list(value) if key.many else key.write(value) if key.write else value
    return out


def model_data(model: m.Model) -> dict[str, Any]:
    """A sound model as the plain data of a model file. Equal models give equal data."""
    data: dict[str, Any] = {FORMAT: VERSION, "units": list(model.units)}
    data["accounts"] = [account_data(a) for a in model.accounts]
    data["groups"] = [_plain(g, _GROUP) for g in model.groups]
    data["stores"] = []
    for store in model.stores:
        one = _plain(store, _STORE)
        if store.folders:
            one["folders"] = [folder_data(f) for f in store.folders]
        data["stores"].append(one)
    data["virtual_paths"] = [_plain(v, _VIRTUAL_PATH) for v in model.virtual_paths]
    data["endpoints"] = [_plain(e, _ENDPOINT) for e in model.endpoints]
    data["settings"] = [_setting(x) for x in model.settings]
    data["quotas"] = [_plain(q, _QUOTA) for q in model.quotas]
    data["usage"] = [_plain(u, _USAGE) for u in model.usage]
    return {key: value for key, value in data.items() if value or key == FORMAT}


def write_model(model: m.Model, as_json: bool = False) -> str:
    """A sound model as a model file; byte for byte the same for equal models."""
    return (write_json if as_json else write_yaml)(model_data(model))


def json_schema() -> Schema:
    """The JSON Schema (2020-12) of the model file. Names that must exist are beyond it."""

    def item(table: tuple[Key, ...], more: Schema | None = None) -> Schema:
        properties = {
            key.name: {"type": "array", "items": key.schema} if key.many else dict(key.schema) for key in table
        }
        properties.update(more or {})
        required = [key.name for key in table if key.default is _REQUIRED]
        return {"type": "object", "additionalProperties": False, "required": required, "properties": properties}

    sections: Schema = {"units": {"type": "array", "items": _STRING}}
    for name, (table, _) in _SECTIONS.items():
        more = {"folders": {"type": "array", "items": item(_FOLDER)}} if name == "stores" else None
        sections[name] = {"type": "array", "items": item(table, more)}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Drawknife model file",
        "type": "object",
        "additionalProperties": False,
        "required": [FORMAT],
        "properties": {FORMAT: {"const": VERSION}, **sections},
    }
