"""The model file: a whole model as one YAML or JSON document (docs/reference/model-file.md)."""

import re
from functools import lru_cache
from typing import Any

from drawknife.core.model import items as m
from drawknife.core.model.canonical import sound
from drawknife.core.model.fields import REQUIRED, Field, schema_of
from drawknife.core.model.kinds import BY_NAME, FOLDER, LINES, OF_SECTION, SECTIONS, UNIT, Kind
from drawknife.core.model.soundness import flaws, nearest
from drawknife.core.model.units import unit_data, unit_facts
from drawknife.core.model.values import STRING, Read, Schema, of, shown
from drawknife.core.words.collecting import many_objects
from drawknife.core.words.key_paths import Where
from drawknife.core.words.names import BadValue, check_name, check_path, check_unit
from drawknife.core.words.sizes import show_size

from .document import BadDocument, Mistake, Places, read_document, write_json, write_yaml

VERSION = 1
FORMAT = "drawknife"
WORDS = ("units", *SECTIONS, *LINES)


# --- reading ------------------------------------------------------------------------------------


read_unit = of(check_unit)


#: After so many mistakes a document is not read on.
MOST_MISTAKES = 200
#: Seconds in which the lines of mistakes are looked up; in a huge document those at its end are
#: told without.
LOOKED_UP_WITHIN = 10


class _Reading:
    """Reads one document and gathers its mistakes."""

    def __init__(self, text: str) -> None:
        self.text = text
        self.found: list[tuple[Where, Any, str, str, str | None]] = []
        #: By list, the positions in the document of the items that were taken, and the broken ones.
        self.kept: dict[Where, list[int]] = {}
        self.broken: list[Any] = []

    def wrong(
        self, where: Where, value: Any, message: str, expected: str, near: str | None = None
    ) -> None:
        self.found.append((where, value, message, expected, near))
        if len(self.found) > MOST_MISTAKES:
            self.found.pop()
            self.give_up(more=True)

    def give_up(self, more: bool = False) -> None:
        if self.found:
            places = Places(self.text, LOOKED_UP_WITHIN)
            mistakes = [
                Mistake(where, places.line(where), shown(value), message, expected, near)
                for where, value, message, expected, near in self.found
            ]
            raise BadDocument(sorted(mistakes, key=lambda m: m.line or 0), more)

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
            self.wrong(where, value, f"{shown(value)} is no list", "a list")
            return ()
        out = []
        for i, line in enumerate(value):
            try:
                out.append(read(line))
            except BadValue as bad:
                self.wrong((*where, i), line, str(bad), bad.expected)
        return tuple(out)

    def item(
        self, where: Where, value: Any, keys: dict[str, Field], besides: str | None = None
    ) -> dict[str, Any] | None:
        """The values of one mapping by key. A required key that is missing makes it None."""
        if not isinstance(value, dict):
            self.wrong(
                where, value, f"{shown(value)} is no mapping", "a mapping with " + ", ".join(keys)
            )
            return None
        out: dict[str, Any] = {}
        for name, given in value.items():
            key = keys.get(name)
            if key is None:
                if name != besides:
                    near = nearest(name, keys)
                    self.wrong(
                        (*where, name),
                        name,
                        f"unknown key {name!r}",
                        "one of " + ", ".join(keys),
                        near,
                    )
            elif key.many:
                out[name] = self.lines((*where, name), given, key.read)
            else:
                try:
                    out[name] = key.read(given)
                except BadValue as bad:
                    self.wrong((*where, name), given, str(bad), bad.expected)
                    if key.default is REQUIRED:
                        out[name] = None
        whole = True
        for name, key in keys.items():
            if key.default is REQUIRED and out.get(name) is None:
                if name not in value:
                    self.wrong(where, value, f"the key {name!r} is missing", name)
                whole = False
        return out if whole else None

    def section(self, data: dict[str, Any], name: str) -> tuple[Any, ...]:
        """The items of a section.

        A broken one is left out, and the positions of the others kept.
        """
        value = data.get(name, [])
        if not isinstance(value, list):
            self.wrong((name,), value, f"{shown(value)} is no list", "a list")
            return ()
        out = []
        kept = self.kept[(name,)] = []
        for i, item in enumerate(value):
            made = self.made(OF_SECTION[name], (name, i), item)
            if made is None:
                self.broken.append(item)
                continue
            kept.append(i)
            out.append(made)
        return tuple(out)

    def made(self, kind: Kind, where: Where, item: Any) -> Any:
        """One item of a kind; None if a required key is missing."""
        got = self.item(where, item, kind.by_name, "folders" if kind.name == "store" else None)
        if got is None:
            return None
        if kind.name == "store":
            got["folders"] = self.folders((*where, "folders"), item.get("folders", []))
        elif kind.name == "setting":
            for key, value in got.items():
                if value == ():
                    lines = "at least one line, or the key left out: it then narrows nothing"
                    self.wrong(
                        (*where, key), [], f"an empty list of {key} cannot be written", lines
                    )
        elif kind.name == "quota":
            self.quota(where, item, got)
        elif kind.name == "endpoint":
            self.endpoint(where, item, got)
        return kind.made_from(got)

    def units(self, value: Any) -> dict[str, tuple[Any, ...]]:
        """The units, and what is known of those that are written as mappings, as parts of the
        model.
        """
        if not isinstance(value, list):
            self.wrong(("units",), value, f"{shown(value)} is no list", "a list")
            return {}
        keys = UNIT.by_name
        found = []
        for i, item in enumerate(value):
            try:
                got = (
                    self.item(("units", i), item, keys)
                    if isinstance(item, dict)
                    else {"path": read_unit(item)}
                )
            except BadValue as bad:
                self.wrong(("units", i), item, str(bad), bad.expected)
                continue
            if got is not None:
                found.append(m.UnitFacts(**got))
        return {"units": tuple(x.path for x in found), "unit_facts": unit_facts(found)}

    def folders(self, where: Where, value: Any) -> tuple[m.Folder, ...]:
        if not isinstance(value, list):
            self.wrong(where, value, f"{shown(value)} is no list", "a list")
            return ()
        keys = FOLDER.by_name
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
                where,
                item,
                "a quota is either shared or on a folder",
                "shared_by or folder, and one of them only",
            )
        for what in ("bytes", "files"):
            hard, soft = got.get(f"hard_{what}"), got.get(f"soft_{what}")
            if hard is not None and soft is not None and soft > hard:
                most = show_size(hard) if what == "bytes" else hard
                self.wrong(
                    (*where, f"soft_{what}"),
                    soft,
                    "the soft limit is above the hard one",
                    f"at most {most}",
                )

    def endpoint(self, where: Where, item: Any, got: dict[str, Any]) -> None:
        if got["protocol"] == "sftp":
            for key in ("tls", "passive_ports"):
                if key in item:
                    self.wrong((*where, key), item[key], f"sftp has no {key}", "the key left out")
        elif got["protocol"] == "ftps" and got.get("tls", "required") != "required":
            self.wrong(
                (*where, "tls"),
                item["tls"],
                "ftps is always with TLS",
                "required, or the key left out",
            )


def model_from(data: Any, text: str = "") -> m.Model:
    """The sound model of a document's plain data. Raises :class:`BadDocument` with every mistake.

    `text` is the document, to tell the lines of mistakes.
    """
    with many_objects():
        return _model_from(data, text)


def _model_from(data: Any, text: str) -> m.Model:
    reading = _Reading(text)
    if not isinstance(data, dict):
        reading.wrong(
            (),
            data,
            f"the document is {shown(data)}",
            f"a mapping that begins with `{FORMAT}: {VERSION}`",
        )
        reading.give_up()
    first = next(iter(data), None)
    if first != FORMAT:
        reading.wrong(
            (),
            first,
            f"the first key is {first!r}",
            f"`{FORMAT}: {VERSION}`, the version of the format",
        )
    version = data.get(FORMAT)
    if first == FORMAT and (version != VERSION or isinstance(version, bool)):
        reading.wrong(
            (FORMAT,), version, f"version {shown(version)} of the format is not known", str(VERSION)
        )
    for key in data:
        if key != FORMAT and key not in WORDS:
            near = nearest(key, WORDS)
            reading.wrong((key,), key, f"unknown key {key!r}", "one of " + ", ".join(WORDS), near)
    units = reading.units(data.get("units", []))
    lines = {
        name: reading.lines((name,), data.get(name, []), field.read)
        for name, field in LINES.items()
    }
    sections = {name: reading.section(data, name) for name in SECTIONS}
    model = m.Model(**units, **sections, **lines)
    lost = reading.lost_names()
    for p in flaws(model):
        where = reading.original(p.where)
        found = _at(data, where)
        if lost.isdisjoint(re.split("[ :]", str(found))):
            reading.wrong(where, found, p.message, p.expected, p.nearest)
    reading.give_up()
    return sound(model)


def read_section(section: str, data: Any, text: str) -> tuple[Any, ...]:
    """The items of one section of a document that is no model.

    :class:`BadDocument` with every mistake in them.
    """
    reading = _Reading(text)
    found = reading.section(data, section)
    reading.give_up()
    return found


def read_item(kind: str, data: Any) -> Any:
    """One item of a kind, of a store without its folders.

    :class:`BadDocument` with every mistake in it.
    """
    reading = _Reading("")
    made = reading.made(BY_NAME[kind], (), data)
    reading.give_up()
    return made


def _at(data: Any, where: Where) -> Any:
    for step in where:
        try:
            data = data[step]
        except (KeyError, IndexError, TypeError):
            return data
    return data


def read_model(raw: bytes | str, within: float | None = None) -> m.Model:
    """Read a model file.

    Raises :class:`BadDocument` with its mistakes, or where YAML takes over `within` seconds.
    """
    data, text = read_document(raw, within)
    return model_from(data, text)


_FEW_KEYS = frozenset({"path", "owner", "entries"})
_entry_line = lru_cache(1 << 16)(m.parse_entry)


def _plain_folder(item: Any) -> m.Folder | None:
    """A folder with nothing wrong and nothing but a path and entries, as nearly all are, read at
    once.

    There can be a million of them. None: read it key by key, which also finds what is wrong.
    """
    try:
        if _FEW_KEYS.issuperset(item):
            path = check_path(item["path"])
            if len(item) == 1:
                return m.Folder(path)
            lines, owner = item.get("entries", ()), item.get("owner")
            if owner is not None:
                check_name(owner)
            elif "owner" in item:
                return None
            return m.Folder(path, owner, False, tuple([_entry_line(line) for line in lines]))
    except (BadValue, KeyError, TypeError, AttributeError):
        pass
    return None


# --- writing ------------------------------------------------------------------------------------


def change_data(section: str, item: Any) -> Any:
    """One item as previews and the journal tell it: as the model file has it, a store without its
    folders.
    """
    if item is None or isinstance(item, str | dict):
        return item
    if section in LINES:
        return str(item)
    return OF_SECTION[section].alone(item)


def model_data(model: m.Model) -> dict[str, Any]:
    """A sound model as the plain data of a model file. Equal models give equal data."""
    known = model.facts_of_units()
    data: dict[str, Any] = {FORMAT: VERSION}
    data["units"] = [unit_data(u, known.get(u)) for u in model.units]
    for section, kind in SECTIONS.items():
        data[section] = [kind.data(item) for item in getattr(model, section)]
    for section in LINES:
        data[section] = [str(line) for line in getattr(model, section)]
    return {key: value for key, value in data.items() if value or key == FORMAT}


def write_model(model: m.Model, as_json: bool = False) -> str:
    """A sound model as a model file; byte for byte the same for equal models."""
    return (write_json if as_json else write_yaml)(model_data(model))


def json_schema() -> Schema:
    """The JSON Schema (2020-12) of the model file. Names that must exist are beyond it."""
    sections: Schema = {
        "units": {"type": "array", "items": {"anyOf": [STRING, schema_of(UNIT.fields)]}}
    }
    for name, kind in SECTIONS.items():
        more = (
            {"folders": {"type": "array", "items": schema_of(FOLDER.fields)}}
            if name == "stores"
            else None
        )
        sections[name] = {"type": "array", "items": schema_of(kind.fields, more)}
    for name, field in LINES.items():
        sections[name] = {"type": "array", "items": STRING, "description": field.about}
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Drawknife model file",
        "type": "object",
        "additionalProperties": False,
        "required": [FORMAT],
        "properties": {FORMAT: {"const": VERSION}, **sections},
    }
