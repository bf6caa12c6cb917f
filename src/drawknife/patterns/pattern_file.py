"""Pattern files: what they ask, what they change, and what must hold afterwards (docs/reference/patterns.md)."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from drawknife.core.model import values as v
from drawknife.core.model.items import parse_subject
from drawknife.core.words.errors import NotFound
from drawknife.core.words.names import check_name, check_path, check_subject_name, check_unit, parse_place
from drawknife.core.words.quantities import read_size
from drawknife.formats.document import BadDocument, Mistake, Places, read_document

#: What an answer can be, and how it is read. What it gives is what the changes get, as the model file has it.
READ: dict[str, Callable[[str], Any]] = {
    "account": check_name,
    "group": check_subject_name,
    "unit": check_unit,
    "subject": lambda text: str(parse_subject(text)),
    "folder": lambda text: str(parse_place(text)),
    "location": check_path,
    "name": check_name,
    "size": lambda text: _size(text),
    "day": lambda text: str(v.day(text)),
    "port": lambda text: v.number(1, 65535)(int(text) if text.isdecimal() else text),
    "text": v.text,
}
Kind = Literal["account", "group", "unit", "subject", "folder", "location", "name", "size", "day", "port", "text"]


def _size(text: str) -> str:
    read_size(text)
    return text


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class Ask(_Strict):
    """One question. The default may name answers that stand before it, ``/$name``."""

    key: str = Field(pattern=r"^[a-z][a-z_]*$")
    asks: str
    kind: Kind = Field(alias="is")
    default: str | None = None
    optional: bool = False


class Trials(_Strict):
    """What must hold after the changes: answers, what there is before, and who can do what, and who cannot.

    A line is ``ACCOUNT ACTION LOCATION``, with ``of OWNER`` where the file is somebody's.
    """

    given: dict[str, str]
    before: list[dict[str, Any]] = []
    can: list[str]
    cannot: list[str]


class Pattern(_Strict):
    """A pattern as its file has it. `name` is the file's name."""

    name: str
    about: str
    asks: list[Ask]
    changes: list[dict[str, Any]]
    trials: list[Trials] = []

    def ask(self, key: str) -> Ask:
        """The question of that key; :class:`NotFound` if there is none."""
        found = next((a for a in self.asks if a.key == key), None)
        if found is None:
            raise NotFound("question", key, [a.key for a in self.asks], where=key)
        return found


HEAD = "drawknife-pattern"


def read_pattern(name: str, raw: bytes) -> Pattern:
    """A pattern from the bytes of its file. :class:`BadDocument` with every mistake and its place."""
    data, text = read_document(raw)
    if not isinstance(data, dict) or data.get(HEAD) != 1:
        raise BadDocument([Mistake((), 1, "", f"{name} is no pattern", f"`{HEAD}: 1`, the version of the format")])
    try:
        return Pattern.model_validate({"name": name, **{k: x for k, x in data.items() if k != HEAD}})
    except ValidationError as bad:
        places = Places(text)
        raise BadDocument(
            [
                Mistake(tuple(e["loc"]), places.line(tuple(e["loc"])), "", e["msg"].lower(), _expected(e), None)
                for e in bad.errors()
            ]
        ) from None


def _expected(error: Any) -> str:
    return str(error.get("ctx", {}).get("expected", ""))


@lru_cache(1)
def _shipped() -> tuple[Pattern, ...]:
    found = files("drawknife.patterns").joinpath("shipped").iterdir()
    return tuple(
        read_pattern(f.name.removesuffix(".yaml"), f.read_bytes())
        for f in sorted(found, key=lambda f: f.name)
        if f.name.endswith(".yaml")
    )


def all_patterns(folders: Iterable[Path] = ()) -> list[Pattern]:
    """The shipped patterns and those in the folders, by name; one in a folder stands for a shipped one of its name.

    :class:`BadDocument` for the first file that is none.
    """
    found = {p.name: p for p in _shipped()}
    for folder in folders:
        for path in sorted(folder.glob("*.yaml")):
            found[path.stem] = read_pattern(path.stem, path.read_bytes())
    return [found[name] for name in sorted(found)]


def find_pattern(name: str, folders: Iterable[Path] = ()) -> Pattern:
    """The pattern of that name. :class:`NotFound` with the nearest."""
    every = all_patterns(folders)
    found = next((p for p in every if p.name == name), None)
    if found is None:
        raise NotFound("pattern", name, [p.name for p in every])
    return found


def source_of(name: str) -> str:
    """The file of a shipped pattern. :class:`NotFound` with the nearest."""
    names = [p.name for p in _shipped()]
    if name not in names:
        raise NotFound("pattern", name, names)
    return files("drawknife.patterns").joinpath("shipped", f"{name}.yaml").read_text()
