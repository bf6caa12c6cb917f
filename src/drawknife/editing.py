"""Changes as they are written down, done to a model.

A change is a mapping:

    {"op": "add", "kind": "account", "item": {"name": "lidia", "unit": "shore/lab"}}
    {"op": "change", "kind": "group", "name": "night-watch", "set": {…}, "add": {"members": […]}, "drop": {…}}
    {"op": "rename", "kind": "unit", "name": "shore/lab", "to": "shore/sonar"}
    {"op": "remove", "kind": "account", "name": "bram", "everywhere": true}

Items have the keys of the model file. A folder's name is ``STORE:/path``; in `set`, null takes a key back
to its default; `add` and `drop` add lines to lists and take lines away.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

from drawknife.asking import BadInput
from drawknife.core import edits
from drawknife.core.model import Folder, Model, Setting, Subject, parse_subject
from drawknife.core.names import BadValue, check_name, check_subject_name, check_unit, fold, parse_place
from drawknife.core.soundness import Names
from drawknife.formats.document import BadDocument, Mistake
from drawknife.formats.keys import FOLDER, LINES, SECTIONS, SETTING, Key
from drawknife.formats.model_file import item_data, read_item
from drawknife.formats.values import STRING

OPS = ("add", "change", "rename", "remove")
#: What an administrator may say of an account that comes from a directory.
LOCAL_KEYS = frozenset({"expires", "methods"})
_SPELLING: dict[str, Callable[[str], Any]] = {
    "account": check_name,
    "group": check_subject_name,
    "unit": check_unit,
    "store": check_name,
    "endpoint": check_name,
    "quota": check_name,
}


#: How networks reach each other is one item, made of three lists of lines.
NETWORK = "network"
NETWORK_KEYS = tuple(
    Key(name, read, STRING, about, (), many=True, write=str) for name, (read, about) in LINES.items() if name != "gone"
)


def keys_of(kind: str) -> tuple[Key, ...]:
    """The keys that an item of this kind has; a unit has none but its path."""
    if kind == NETWORK:
        return NETWORK_KEYS
    if kind == "unit":
        return ()
    return FOLDER if kind == "folder" else SECTIONS[edits.SECTION_OF[kind]][0]


def apply(model: Model, changes: Sequence[dict[str, Any]], first: int = 0) -> Model:
    """The model after all of the changes, one after the other; the first is told as number `first`.

    Raises :class:`BadDocument` with the places of mistakes in what is written, ``changes[0].item.unit``;
    :class:`edits.EditRefused` or :class:`edits.NotThere` where the model does not allow it.
    """
    for i, one in enumerate(changes, first):
        try:
            model = _apply_one(model, one)
        except BadDocument as bad:
            mistakes = [
                Mistake(("changes", i, _part(one), *x.where), None, x.found, x.message, x.expected, x.nearest)
                for x in bad.mistakes
            ]
            raise BadDocument(mistakes) from None
        except edits.EditRefused as refused:
            for p in refused.problems:
                # The places of the model are of no use to who wrote the change.
                object.__setattr__(p, "where", ("changes", i))
            raise
    return model


def _part(change: dict[str, Any]) -> str:
    return "item" if change.get("op") == "add" else "set"


def _apply_one(model: Model, change: dict[str, Any]) -> Model:
    op, kind = change.get("op"), change.get("kind")
    if op not in OPS:
        raise BadInput("op", f"{op!r} is no change", " or ".join(OPS))
    if kind == NETWORK and op == "change":
        return _change_network(model, change)
    if kind not in edits.KINDS:
        raise BadInput("kind", f"{kind!r} cannot be edited in this way", "one of " + ", ".join(edits.KINDS))
    if op == "add":
        return _add(model, kind, change.get("item") or {}, str(change.get("name") or ""))
    name = str(change.get("name") or "")
    try:
        if op == "change":
            return _change(model, kind, name, change)
        if op == "rename":
            return _rename(model, kind, name, str(change.get("to") or ""))
        _check_local(model, kind, edits.find(model, kind, name), removing=True)
        return edits.remove(model, kind, name, bool(change.get("everywhere")))
    except BadValue as bad:
        raise BadInput("name", str(bad), bad.expected) from None


def _add(model: Model, kind: str, item: dict[str, Any], name: str) -> Model:
    if kind == "unit":
        try:
            return edits.add(model, kind, check_unit(str(item.get("path") or name)))
        except BadValue as bad:
            raise BadInput("path", str(bad), bad.expected) from None
    if item.get("source", "local") != "local":
        raise BadInput("source", "what comes from a directory comes by a sync", "the key left out")
    if kind == "folder":
        try:
            place = parse_place(name)
        except BadValue as bad:
            raise BadInput("name", str(bad), "a folder such as survey:/inbox") from None
        return edits.add(model, kind, read_item("folders", {**item, "path": place.path}), place.store)
    return edits.add(model, kind, read_item(edits.SECTION_OF[kind], item))


def _rename(model: Model, kind: str, name: str, to: str) -> Model:
    item = edits.find(model, kind, name)
    _check_local(model, kind, item)
    if kind in _SPELLING:
        _SPELLING[kind](to)
    elif kind == "folder":
        parse_place(to)
    return edits.rename(model, kind, name, to)


def _change(model: Model, kind: str, name: str, change: dict[str, Any]) -> Model:
    if kind == "unit":
        raise BadInput("kind", "a unit has nothing but its name", "a rename")
    section = "folders" if kind == "folder" else edits.SECTION_OF[kind]
    old = _found_or_new(model, kind, name)
    to_set = dict(change.get("set") or {})
    touched = {*to_set, *(change.get("add") or {}), *(change.get("drop") or {})}
    keys = {key.name: key for key in keys_of(kind)}
    _check_named_by(kind, keys, to_set)
    if kind != "account" or not touched <= LOCAL_KEYS:
        _check_local(model, kind, old)
    data = _item_data(section, old)
    if kind == "account" and old.kind == "anonymous":
        data["methods"] = []
    for key, value in to_set.items():
        if value is None:
            data.pop(key, None)
        else:
            data[key] = value
    for way in ("add", "drop"):
        for key, lines in (change.get(way) or {}).items():
            if key not in keys or not keys[key].many:
                lists = ", ".join(k.name for k in keys.values() if k.many)
                raise BadInput(f"{way}.{key}", f"{key!r} is no list of this {kind}", f"one of {lists}")
            data[key] = _edited(model, keys[key], _lines(data, keys[key]), lines, way)
    new = read_item(section, data)
    if kind == "store":
        new = replace(new, folders=old.folders)
    store = parse_place(name).store if kind == "folder" else None
    if kind == "setting" and not any(s is old for s in model.settings):
        return edits.add(model, kind, new)
    if store is not None and not _recorded(model, store, old):
        return edits.add(model, kind, new, store)
    return edits.change(model, kind, old, new, store)


def _found_or_new(model: Model, kind: str, name: str) -> Any:
    """The item. Settings are there for every subject, if empty; so is a folder that is not recorded."""
    if kind == "folder":
        try:
            return edits.find(model, kind, name)
        except edits.NotThere as missing:
            if missing.kind == "store":
                raise
            return Folder(parse_place(name).path)
    if kind != "setting":
        return edits.find(model, kind, name)
    subject = Names(model).subject(parse_subject(name))
    return next((s for s in model.settings if s.subject == subject), Setting(subject))


def _change_network(model: Model, change: dict[str, Any]) -> Model:
    data = {key.name: [str(line) for line in getattr(model, key.name)] for key in NETWORK_KEYS}
    keys = {key.name: key for key in NETWORK_KEYS}
    for way in ("set", "add", "drop"):
        for name, lines in (change.get(way) or {}).items():
            if name not in keys:
                raise BadInput(f"{way}.{name}", f"there is no {name!r}", "one of " + ", ".join(keys))
            data[name] = list(lines or []) if way == "set" else _edited(model, keys[name], data[name], lines, way)
    made: dict[str, tuple[Any, ...]] = {}
    for name, key in keys.items():
        try:
            made[name] = tuple(key.read(line) for line in data[name])
        except BadValue as bad:
            raise BadInput(name, str(bad), bad.expected) from None
    return edits.checked(replace(model, **made), model)


def _recorded(model: Model, store: str, folder: Folder) -> bool:
    return any(f is folder for f in edits.find(model, "store", store).folders)


def _item_data(section: str, item: Any) -> dict[str, Any]:
    data = item_data(section, item)
    data.pop("folders", None)
    return data


def _check_named_by(kind: str, keys: dict[str, Key], to_set: dict[str, Any]) -> None:
    """What a thing is called by is changed by a rename, which carries along what names it."""
    for key in ("name", "for", "of", "source") + (("path",) if kind == "folder" else ()):
        if key in keys and key in to_set:
            raise BadInput(f"set.{key}", f"{key} is not changed in this way", "a rename" if key != "source" else "")


def _lines(data: dict[str, Any], key: Key) -> list[str]:
    default = [key.write(x) if key.write else x for x in key.default or ()]
    return list(data.get(key.name, default))


def _edited(model: Model, key: Key, there: list[str], lines: Any, way: str) -> list[str]:
    """A list with lines added, or taken away. Lines that say the same are the same line."""

    def said(line: Any) -> str:
        read = key.read(line)
        return fold(str(key.write(read) if key.write else read))

    if not isinstance(lines, list):
        raise BadInput(f"{way}.{key.name}", "this is no list", "a list of lines")
    out = list(there)
    known = {said(line): line for line in there}
    for line in lines:
        try:
            wanted = said(line)
        except BadValue as bad:
            raise BadInput(f"{way}.{key.name}", str(bad), bad.expected) from None
        if way == "add":
            if wanted not in known:
                out.append(line)
                known[wanted] = line
        elif wanted not in known:
            raise BadInput(
                f"drop.{key.name}", f"`{line}` is not there", "one of " + (", ".join(there) or "none: it is empty")
            )
        else:
            out.remove(known.pop(wanted))
    return out


def _check_local(model: Model, kind: str, item: Any, removing: bool = False) -> None:
    """What comes from a directory is changed there; an account that it has no more may be removed."""
    source = dict(model.unit_sources).get(item, "local") if kind == "unit" else getattr(item, "source", "local")
    if source == "local" or (removing and kind == "account" and not item.enabled):
        return
    called = edits.name_of(kind, item)
    raise edits.refuse(f"{kind} {called} comes from the directory {source}", f"a change there, and a sync of {source}")


def subject_of(text: str) -> Subject:
    """A subject as it is written; :class:`BadInput` if it is none."""
    try:
        return parse_subject(text)
    except BadValue as bad:
        raise BadInput("subject", str(bad), bad.expected) from None


#: The settings there are, with what each is about.
SETTING_KEYS = {key.name: key for key in SETTING[1:]}
