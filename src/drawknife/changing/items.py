"""What the items that can be changed are made of, and lists with lines added or taken away."""

from __future__ import annotations

from typing import Any

from drawknife.core.model import edits
from drawknife.core.model.fields import REQUIRED, Field
from drawknife.core.model.items import Model, Subject, parse_subject
from drawknife.core.model.kinds import KINDS, OF_A_DIRECTORY
from drawknife.core.words.errors import BadInput
from drawknife.core.words.names import BadValue, fold

#: What an administrator may say of an account that comes from a directory.
LOCAL_KEYS = frozenset({"expires", "methods", "note"})


def subject_of(text: str) -> Subject:
    """A subject as it is written; :class:`BadInput` if it is none."""
    try:
        return parse_subject(text)
    except BadValue as bad:
        raise BadInput("subject", str(bad), bad.expected) from None


def data_of(kind: str, item: Any) -> dict[str, Any]:
    """An item as the model file has it, without the folders of a store."""
    return KINDS[kind].alone(item)


def check_local(model: Model, kind: str, item: Any, removing: bool = False) -> None:
    """What comes from a directory is changed there; an account that it has no more may
    be removed.
    """
    known = model.facts_of_units().get(item) if kind == "unit" else item
    source = getattr(known, "source", "local")
    if source == "local" or (removing and kind == "account" and not item.enabled):
        return
    called = KINDS[kind].called(item)
    raise edits.refuse(
        f"{kind} {called} comes from the directory {source}",
        f"a change there, and a sync of {source}",
    )


def check_named_by(kind: str, fields: dict[str, Field], to_set: dict[str, Any]) -> None:
    """What a thing is called by is changed by a rename, which carries along what names it."""
    for key in ("name", "for", "of", *sorted(OF_A_DIRECTORY)) + (
        ("path",) if kind == "folder" else ()
    ):
        if key in fields and key in to_set:
            raise BadInput(
                f"set.{key}",
                f"{key} is not changed in this way",
                "a rename" if key not in OF_A_DIRECTORY else "",
            )


def lines_of(data: dict[str, Any], field: Field) -> list[Any]:
    """The lines of a list as they are, those by default included."""
    if field.name in data:
        return list(data[field.name])
    return [] if field.default is REQUIRED else list(field.written(field.default or ()))


class Lines:
    """A list with lines added, or taken away. Lines that say the same are the same line.

    One that is added and is there already ends from then on as it is written now; its note stays,
    unless there is another.
    """

    def __init__(self, field: Field, there: list[Any]) -> None:
        self._field = field
        self._known = {self._said(line): line for line in there}

    def _said(self, line: Any) -> str:
        return fold(self._field.says(self._field.read(line)))

    def _as_now(self, there: Any, line: Any) -> Any:
        """A line that is there, as it is written now."""
        if self._field.names != "line":
            return there
        was, now = self._field.read(there), self._field.read(line)
        return (
            self._field.write(was._replace(until=now.until, note=now.note or was.note))
            if self._field.write
            else there
        )

    def edit(self, lines: Any, way: str) -> None:
        """``add`` lines, or ``drop`` them; :class:`BadInput` with the place of what
        cannot be done.
        """
        where = f"{way}.{self._field.name}"
        if not isinstance(lines, list):
            raise BadInput(where, "this is no list", "a list of lines")
        for line in lines:
            try:
                said = self._said(line)
            except BadValue as bad:
                raise BadInput(where, str(bad), bad.expected) from None
            if way == "add":
                self._known[said] = (
                    self._as_now(self._known[said], line) if said in self._known else line
                )
            elif self._known.pop(said, None) is None:
                there = ", ".join(
                    self._field.says(self._field.read(x)) for x in self._known.values()
                )
                raise BadInput(
                    where,
                    f"`{self._field.says(self._field.read(line))}` is not there",
                    f"one of {there or 'none: it is empty'}",
                )

    def __len__(self) -> int:
        return len(self._known)

    def all(self) -> list[Any]:
        return list(self._known.values())
