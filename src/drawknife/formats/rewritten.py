"""A model file with some of its items changed: all else stays as it is written,
comments included.
"""

from __future__ import annotations

import io
import re
from typing import Any

from ruamel.yaml import YAML, YAMLError
from ruamel.yaml.resolver import VersionedResolver

from drawknife.core.follows.pairing import Item, Renames, items_differing
from drawknife.core.model.difference import Differs
from drawknife.core.model.fields import Field
from drawknife.core.model.items import Model
from drawknife.core.model.kinds import FOLDER, LINES, OF_SECTION, Kind
from drawknife.core.words.names import fold, parse_place

from .model_file import read_item, read_model, write_model

#: Nothing was renamed.
NONE = Renames()


class _Resolver(VersionedResolver):
    """YAML 1.2 has no times: a day is text, and is written back as it stands."""

    def add_version_implicit_resolver(
        self, version: Any, tag: Any, regexp: Any, first: Any
    ) -> None:
        if not str(tag).endswith("timestamp"):
            super().add_version_implicit_resolver(version, tag, regexp, first)


def rewritten(text: str, before: Model, after: Model, renames: Renames = NONE) -> tuple[str, bool]:
    """The document `text`, which is `before`, with what differs in `after`; false if its comments
    went.

    What is renamed stays where it is. What comes out is read again: if it is not `after`, the whole
    is written anew.
    """
    if text.lstrip()[:1] == "{":
        return write_model(after, as_json=True), True
    yaml = _like(text)
    try:
        document = yaml.load(text)
        for item in _in_order(items_differing(before, after, renames)):
            _apply(document, item.differs, item.was, renames)
        out = io.StringIO()
        yaml.dump(document, out)
        made = out.getvalue()
        if read_model(made) == after:
            return made, True
    except (YAMLError, LookupError, ValueError):
        pass
    return write_model(after), "#" not in text


def _like(text: str) -> YAML:
    """A writer that indents lists as the document does."""
    yaml = YAML()
    yaml.Resolver = _Resolver
    yaml.preserve_quotes = True
    yaml.width = 4096
    if re.search(r"^\S.*:[ ]*(?:#.*)?\n(?:[ ]*#.*\n)*[ ]+- ", text, re.MULTILINE):
        yaml.indent(mapping=2, sequence=4, offset=2)
    return yaml


def _in_order(items: list[Item]) -> list[Item]:
    """Stores before folders; the folders of a store that comes or goes come and go with it."""
    whole = {
        x.was
        for x in items
        if x.differs.section == "stores" and None in (x.differs.before, x.differs.after)
    }
    kept = [
        x for x in items if x.differs.section != "folders" or x.was.partition(":")[0] not in whole
    ]
    return sorted(kept, key=lambda x: x.differs.section != "stores")


def _apply(document: Any, differs: Differs, name: str, renames: Renames) -> None:
    """Do one difference to the document; `name` is what the thing is called in it."""
    section = differs.section
    if section in LINES or section == "units":
        _edit_lines(document.setdefault(section, []), differs, name)
        return
    kind = OF_SECTION[section]
    inside = document
    if kind is FOLDER:
        # A store that is renamed has its new name by now; a folder may have moved to another store.
        was = parse_place(name)
        stores = {fold(str(s["name"])): s for s in document["stores"]}
        named_now = fold(renames.name("store", was.store))
        inside = stores[fold(was.store) if fold(was.store) in stores else named_now]
        name = was.path
        there = (
            stores[fold(parse_place(differs.name).store)] if differs.after is not None else inside
        )
        if differs.before is not None and there is not inside:
            raw = inside["folders"].pop(_position(kind, inside["folders"], name, differs.before))
            _edit(kind, raw, differs.before, differs.after)
            there.setdefault("folders", []).append(raw)
            return
    items = inside.setdefault(section, [])
    at = _position(kind, items, name, differs.before)
    if differs.after is None:
        del items[at]
    elif differs.before is None:
        items.append(kind.data(differs.after))
    else:
        _edit(kind, items[at], differs.before, differs.after)


def _edit_lines(items: Any, differs: Differs, was: str) -> None:
    """Lines of text; a unit that comes from a directory is a mapping."""

    def said(item: Any) -> str:
        if isinstance(item, dict):
            return fold(str(item["path"]))
        read = LINES[differs.section].read(item) if differs.section in LINES else item
        return fold(str(read))

    at = next((i for i, x in enumerate(items) if said(x) == fold(was)), None)
    if differs.after is None and at is not None:
        del items[at]
    elif differs.after is not None and at is not None:
        items[at] = differs.after
    elif differs.after is not None:
        items.append(differs.after)


def _position(kind: Kind, items: Any, name: str, before: Any) -> int:
    """Where an item stands in its list; -1 where it is new."""
    if before is None:
        return -1
    found = []
    for i, raw in enumerate(items):
        there = read_item(kind.name, dict(raw))
        if fold(kind.called(there)) == fold(name):
            found.append((kind.data(there) != kind.data(before), i))
    return min(found)[1]


def _edit(kind: Kind, raw: Any, before: Any, after: Any) -> None:
    """Write the fields that differ."""
    was, now = kind.data(before), kind.data(after)
    for field in kind.fields:
        a, b = was.get(field.name), now.get(field.name)
        if a == b:
            continue
        if b is None:
            raw.pop(field.name, None)
        elif field.many and not field.in_order and isinstance(raw.get(field.name), list):
            _edit_list(raw[field.name], field, b)
        else:
            raw[field.name] = b


def _edit_list(lines: Any, field: Field, wanted: list[Any]) -> None:
    """Take away the lines that are not wanted, and add those that are missing."""

    def said(line: Any) -> str:
        return fold(field.says(field.read(_plain(line))))

    want = {said(line): line for line in wanted}
    for i in reversed(range(len(lines))):
        now = want.pop(said(lines[i]), None)
        if now is None:
            del lines[i]
        elif field.read(_plain(lines[i])) != field.read(now):  # another end, or another note
            lines[i] = now
    lines.extend(want.values())


def _plain(line: Any) -> Any:
    return dict(line) if isinstance(line, dict) else line
