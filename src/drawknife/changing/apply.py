"""Changes as they are written down, done to a model.

A change is a mapping:

    {"op": "add", "kind": "account", "item": {"name": "lidia", "unit": "shore/lab"}}
    {"op": "change", "kind": "group", "name": "night-watch", "set": {…}, "add": {"members": […]},
    "drop": {…}} {"op": "rename", "kind": "unit", "name": "shore/lab", "to": "shore/sonar"} {"op":
    "remove", "kind": "account", "name": "bram", "everywhere": true}

``"stops": true`` says of a change of an endpoint that it may take ports of another that runs (see
:mod:`ports`).

Items have the keys of the model file. A folder's name is ``STORE:/path``; in `set`, null takes a
key back to its default; `add` and `drop` add lines to lists and take lines away.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import groupby
from typing import Any, NamedTuple

from drawknife.core.follows.pairing import Renames, Renaming
from drawknife.core.model import edits
from drawknife.core.model.fields import Field
from drawknife.core.model.items import Folder, Model, parse_subject
from drawknife.core.model.kinds import KINDS, NETWORK, NETWORK_FIELDS, fields_of
from drawknife.core.model.removal import remove
from drawknife.core.model.values import note as read_note
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue, check_unit, fold, parse_place
from drawknife.formats.document import BadDocument, Mistake
from drawknife.formats.model_file import read_item

from .items import LOCAL_KEYS, Lines, check_local, check_named_by, data_of, lines_of
from .near import NearFolders
from .ports import keep_ports
from .working import Working

#: A change, and its place in the list.
Numbered = tuple[int, dict[str, Any]]
OPS = ("add", "change", "rename", "remove")


class Applied(NamedTuple):
    """The model after some changes, what they renamed, and what whoever makes them should know
    besides.

    `doubts` are questions: what is written looks like a slip.
    """

    model: Model
    renames: Renames
    notes: tuple[str, ...]
    doubts: tuple[str, ...]


def apply(model: Model, changes: Sequence[dict[str, Any]]) -> Applied:
    """The model after all of the changes.

    Raises :class:`BadDocument` with the places of mistakes in what is written,
    ``changes[0].item.unit``; :class:`edits.ChangeRefused` or :class:`NotFound` where the model does
    not allow it.
    """
    doing = _Doing(model)
    for (op, kind, everywhere), some in groupby(enumerate(changes), lambda x: _alike(x[1])):
        if op == "rename":
            for run in _runs(some):
                doing.together(op, kind, everywhere, run)
        elif op == "remove":
            doing.together(op, kind, everywhere, list(some))
        else:
            for i, one in some:
                doing.one(i, one)
    renames = Renames(doing.renames)
    model, notes = keep_ports(model, doing.settle(), renames, changes)
    return Applied(model, renames, (*doing.notes, *notes), tuple(doing.doubts))


def _alike(change: dict[str, Any]) -> tuple[Any, Any, bool]:
    return change.get("op"), change.get("kind"), bool(change.get("everywhere"))


def _runs(renames: Iterable[Numbered]) -> Iterator[list[Numbered]]:
    """Renames in runs as long as can be, in each of which no name is that of another: in those the
    order says nothing.
    """
    run: list[Numbered] = []
    names: set[str] = set()
    for number, change in renames:
        pair = {fold(str(change.get("name") or "")), fold(str(change.get("to") or ""))}
        if run and not names.isdisjoint(pair):
            yield run
            run, names = [], set()
        run.append((number, change))
        names |= pair
    if run:
        yield run


class _Draft:
    """An item being edited: read once, and written once, however many changes there are of its
    lists.
    """

    def __init__(self, kind: str, old: Any, store: str) -> None:
        self.kind, self.old, self.store, self.number = kind, old, store, 0
        self._data = data_of(kind, old)
        if kind == "account" and old.kind == "anonymous":
            self._data["methods"] = []
        self._lists: dict[str, Lines] = {}

    def set(self, key: str, value: Any) -> None:
        """Another value for a key; None takes it back to its default."""
        self._lists.pop(key, None)
        if value is None:
            self._data.pop(key, None)
        else:
            self._data[key] = value

    def edit(self, key: Field, lines: Any, way: str) -> int:
        """Add lines to a list, or take them away; how many are there then."""
        found = self._lists.get(key.name)
        if found is None:
            found = self._lists[key.name] = Lines(key, lines_of(self._data, key))
        found.edit(lines, way)
        return len(found)

    def item(self) -> Any:
        """The item as it is now. A setting whose list has no line is not set any more."""
        data = dict(self._data)
        for name, lines in self._lists.items():
            data[name] = lines.all()
            if self.kind == "setting" and not lines:
                del data[name]
        new = read_item(self.kind, data)
        return replace(new, folders=self.old.folders) if self.kind == "store" else new


class _Doing:
    """Changes being done, one after the other."""

    def __init__(self, model: Model) -> None:
        self.before = model
        self.working = Working(model)
        self.renames: list[Renaming] = []
        self.notes: list[str] = []
        self.doubts: list[str] = []
        self.folders = NearFolders(model)
        #: Items whose lists are being edited, by the identity of what they were.
        self.drafts: dict[int, _Draft] = {}

    def one(self, number: int, change: dict[str, Any]) -> None:
        """Add or change one item."""
        try:
            self._one(number, change)
        except BadDocument as bad:
            part = "item" if change.get("op") == "add" else "set"
            raise BadDocument(
                [
                    Mistake(
                        ("changes", number, part, *x.where),
                        None,
                        x.found,
                        x.message,
                        x.expected,
                        x.nearest,
                    )
                    for x in bad.mistakes
                ]
            ) from None
        except edits.ChangeRefused as refused:
            raise _numbered(refused, number) from None
        except BadValue as bad:
            raise BadInput("name", str(bad), bad.expected) from None

    def together(self, op: str, kind: str, everywhere: bool, some: list[Numbered]) -> None:
        """Rename or remove several items of a kind, as a whole."""
        check_kind(kind)
        pairs = [(str(c.get("name") or ""), str(c.get("to") or "")) for _, c in some]
        model = self.settle()
        first = some[0][0]
        try:
            if op == "remove":
                names = [name for name, _ in pairs]
                for name in names:
                    check_local(model, kind, self.working.find(kind, name), removing=True)
                model = remove(model, kind, names, everywhere)
            else:
                spelled = [self._renaming(model, kind, name, to) for name, to in pairs]
                if kind == "folder":
                    self._note_on_disk(model, spelled)
                model = edits.rename(model, kind, spelled)
                if (
                    kind != "virtual-path"
                ):  # what was at one location, and is at another, is told as that
                    self.renames += [Renaming(kind, old, new) for old, new in spelled]
        except BadValue as bad:
            raise BadInput("name", str(bad), bad.expected) from None
        except edits.ChangeRefused as refused:
            raise _numbered(refused, first) from None
        self.working.begin_with(model)

    def _renaming(self, model: Model, kind: str, name: str, to: str) -> tuple[str, str]:
        if kind == "virtual-path":
            return name, to
        item = self.working.find(kind, name)
        check_local(model, kind, item)
        if kind == "folder":
            return str(self.working.place(name)), str(self.working.place(to))
        declared = KINDS[kind]
        if declared.can_be_renamed:
            declared.fields[0].read(to)
        return declared.called(item), to

    def _note_on_disk(self, model: Model, moved: Iterable[tuple[str, str]]) -> None:
        """Say that the folders on the disk have to follow, where it is known where they are."""
        roots = {s.name: s.root for s in model.stores}
        for pair in moved:
            old, new = map(parse_place, pair)
            if (root := roots.get(old.store)) is not None and (
                to := roots.get(new.store)
            ) is not None:
                where = f"{root.rstrip('/')}{old.path} to {to.rstrip('/')}{new.path}"
                self.notes.append(f"nothing is renamed on the disk: rename {where} there")

    def _one(self, number: int, change: dict[str, Any]) -> None:
        op, kind = change.get("op"), str(change.get("kind"))
        if op not in OPS:
            raise BadInput("op", f"{op!r} is no change", " or ".join(OPS))
        if kind == NETWORK and op == "change":
            self._change_network(number, change)
            return
        check_kind(kind)
        if kind == "store":
            _check_root(change, op)
        if op == "add":
            self._add(number, kind, change.get("item") or {}, str(change.get("name") or ""))
        else:
            self._change(number, kind, str(change.get("name") or ""), change)

    def _add(self, number: int, kind: str, item: dict[str, Any], name: str) -> None:
        if kind == "unit":
            try:
                path = check_unit(str(item.get("path") or name))
            except BadValue as bad:
                raise BadInput("path", str(bad), bad.expected) from None
            self.working.add(kind, path, number)
            self._note_unit(path, item, "item")
            return
        if item.get("source", "local") != "local" or item.get("source_id") is not None:
            raise BadInput(
                "source", "what comes from a directory comes by a sync", "the key left out"
            )
        if kind == "folder":
            try:
                place = parse_place(name)
            except BadValue as bad:
                raise BadInput("name", str(bad), "a folder such as survey:/inbox") from None
            place = self.working.place(name)
            self.working.add(
                kind, read_item("folder", {**item, "path": place.path}), number, place.store
            )
            self._note_near(name)
            return
        self.working.add(kind, read_item(kind, item), number)

    def _note_unit(self, path: str, given: dict[str, Any], where: str) -> None:
        """Why a unit is there: all that can be said of it, but for its name."""
        for key, value in given.items():
            if key == "note":
                try:
                    self.working.note_unit(path, None if value is None else read_note(value))
                except BadValue as bad:
                    raise BadInput(f"{where}.note", str(bad), bad.expected) from None
            elif not (where == "item" and key == "path"):
                raise BadInput(
                    f"{where}.{key}",
                    f"a unit has no {key!r} that can be changed",
                    "note, or a rename",
                )

    def _change(self, number: int, kind: str, name: str, change: dict[str, Any]) -> None:
        if kind == "unit":
            self._note_unit(self.working.find(kind, name), change.get("set") or {}, "set")
            return
        old, is_new = self._found_or_new(kind, name)
        to_set = dict(change.get("set") or {})
        touched = {*to_set, *(change.get("add") or {}), *(change.get("drop") or {})}
        keys = {key.name: key for key in fields_of(kind)}
        check_named_by(kind, keys, to_set)
        if kind != "account" or not touched <= LOCAL_KEYS:
            check_local(self.before, kind, old)
        draft = self.drafts.pop(id(old), None) or _Draft(kind, old, self._store_of(kind, name))
        for key, value in to_set.items():
            draft.set(key, value)
        for way in ("add", "drop"):
            for key, lines in (change.get(way) or {}).items():
                if key not in keys or not keys[key].many:
                    lists = ", ".join(k.name for k in keys.values() if k.many)
                    raise BadInput(
                        f"{way}.{key}", f"{key!r} is no list of this {kind}", f"one of {lists}"
                    )
                if not draft.edit(keys[key], lines, way):
                    self._note_empty(kind, name, key)
        draft.number = number
        if is_new or to_set:
            self._take(draft, is_new)
            if is_new and kind == "folder":
                self._note_near(name)
        else:
            self.drafts[id(old)] = draft

    def _store_of(self, kind: str, name: str) -> str:
        return self.working.place(name).store if kind == "folder" else ""

    def _take(self, draft: _Draft, is_new: bool = False) -> None:
        """Put an item that was edited in the place of what it was."""
        new = draft.item()
        if is_new:
            self.working.add(draft.kind, new, draft.number, draft.store)
        else:
            self.working.change(draft.kind, draft.old, new, draft.number, draft.store)

    def settle(self) -> Model:
        """The sound model of all that was done so far."""
        drafts, self.drafts = self.drafts, {}
        for draft in drafts.values():
            self._take(draft)
        return self.working.settle()

    def _note_empty(self, kind: str, name: str, key: str) -> None:
        """Say what a list without lines means."""
        if kind == "setting":
            self.notes.append(
                f"{key} of {name}: no line is left, so it is set no more and narrows nothing"
            )
        elif key == "only":
            self.notes.append(
                f"`only` of {name} names nobody any more, so nobody is admitted there; clear it to"
                " admit all"
            )
        elif kind == "endpoint" and key == "entries":
            self.notes.append(f"{name} has no entries any more, so nobody may do anything there")

    def _note_near(self, name: str) -> None:
        place = self.working.place(name)
        near = self.folders.near(place)
        if near is not None:
            self.doubts.append(f"{place} was not recorded before; did you mean {near}?")

    def _found_or_new(self, kind: str, name: str) -> tuple[Any, bool]:
        """The item, and whether it is new.

        Settings are there for every subject, if empty; so is a folder that is not recorded.
        """
        if kind == "folder":
            place = self.working.place(name)
            there = self.working.folder(place)
            return there or Folder(place.path), there is None
        if kind != "setting":
            return self.working.find(kind, name), False
        return self.working.setting(parse_subject(name))

    def _change_network(self, number: int, change: dict[str, Any]) -> None:
        data = {name: [str(line) for line in lines] for name, lines in self.working.lines.items()}
        keys = {key.name: key for key in NETWORK_FIELDS}
        for way in ("set", "add", "drop"):
            for name, lines in (change.get(way) or {}).items():
                if name not in keys:
                    raise BadInput(
                        f"{way}.{name}", f"there is no {name!r}", "one of " + ", ".join(keys)
                    )
                if way == "set":
                    data[name] = list(lines or [])
                else:
                    edited = Lines(keys[name], data[name])
                    edited.edit(lines, way)
                    data[name] = edited.all()
        made: dict[str, tuple[Any, ...]] = {}
        for name, key in keys.items():
            try:
                made[name] = tuple(key.read(line) for line in data[name])
            except BadValue as bad:
                raise BadInput(name, str(bad), bad.expected) from None
        self.working.set_lines(made, number)


def _check_root(change: dict[str, Any], op: str) -> None:
    """A store's root is an absolute path, of this system or of Windows: a relative one would depend
    on who reads it.
    """
    part = "item" if op == "add" else "set"
    root = (change.get(part) or {}).get("root")
    if isinstance(root, str) and not _ABSOLUTE.match(root):
        raise BadInput(
            f"{part}.root", f"{root!r} is no absolute path", "a path such as /srv/survey"
        )


#: A path from the root, of a drive, or of a share.
_ABSOLUTE = re.compile(r"/|[A-Za-z]:[\\/]|\\\\")


def check_kind(kind: Any) -> None:
    """Is it a kind that can be edited in this way? :class:`BadInput` if not."""
    if kind not in KINDS:
        raise BadInput(
            "kind", f"{kind!r} cannot be edited in this way", "one of " + ", ".join(KINDS)
        )


def _numbered(refused: edits.ChangeRefused, number: int) -> edits.ChangeRefused:
    """The places of the model are of no use to who wrote the change."""
    return edits.ChangeRefused(
        [replace(p, where=("changes", number)) for p in refused.problems], str(refused)
    )
