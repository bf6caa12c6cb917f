"""Pattern files: what they ask, what they change, and what must hold afterwards
(docs/reference/patterns.md).
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from string import Template
from typing import Annotated, Any, NamedTuple

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError

from drawknife.core.model import values as v
from drawknife.core.model.items import parse_subject
from drawknife.core.model.kinds import FOLDER, KINDS, SETTING
from drawknife.core.words.errors import BadInput, NotFound
from drawknife.core.words.key_paths import Where
from drawknife.core.words.names import (
    check_name,
    check_path,
    check_subject_name,
    check_unit,
    parse_place,
)
from drawknife.core.words.quantities import read_size
from drawknife.formats.document import BadDocument, Mistake, Places, read_document


class AnswerKind(NamedTuple):
    """What an answer can be: how it is read (what that gives is what the changes get), what it is
    called, and an example.
    """

    read: Callable[[str], Any]
    called: str
    example: str = ""

    @property
    def expected(self) -> str:
        return f"{self.called}, such as {self.example}" if self.example else self.called


def _size(text: str) -> str:
    read_size(text)
    return text


ANSWER_KINDS = {
    "account": AnswerKind(check_name, "an account", "ines"),
    "group": AnswerKind(check_subject_name, "a group", "night-watch"),
    "unit": AnswerKind(check_unit, "a unit", "shore/lab"),
    "subject": AnswerKind(lambda text: str(parse_subject(text)), "a subject", "group:night-watch"),
    "folder": AnswerKind(lambda text: str(parse_place(text)), "a store folder", "survey:/exchange"),
    "location": AnswerKind(check_path, "a virtual location", "/exchange"),
    "name": AnswerKind(check_name, "a name"),
    "size": AnswerKind(_size, "a size", "20 GiB"),
    "day": AnswerKind(lambda text: str(v.day(text)), "a day", "2031-04-30"),
    "port": AnswerKind(
        lambda text: v.number(1, 65535)(int(text) if text.isdecimal() else text), "a port", "2222"
    ),
    "text": AnswerKind(v.text, "text"),
}


def _known_kind(kind: str) -> str:
    if kind not in ANSWER_KINDS:
        raise ValueError(
            f"{kind!r} is no kind of answer; expected one of {', '.join(ANSWER_KINDS)}"
        )
    return kind


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, populate_by_name=True)


class Ask(_Strict):
    """One question. The default may name answers that stand before it, ``/$name``."""

    key: str = Field(pattern=r"^[a-z][a-z_]*$")
    asks: str
    kind: Annotated[str, AfterValidator(_known_kind)] = Field(alias="is")
    default: str | None = None
    optional: bool = False


class PatternPart(_Strict):
    """A part of a pattern that can be done by itself: what it does, the keys of what it asks, and
    its changes.
    """

    does: str
    asks: list[str]
    changes: list[dict[str, Any]]


class Trials(_Strict):
    """What must hold after the changes: answers, what there is before, and who can do what, and who
    cannot.

    A line is ``ACCOUNT ACTION LOCATION``, with ``folder`` where a folder is renamed, and ``of
    OWNER`` where it is somebody's.
    """

    given: dict[str, str]
    before: list[dict[str, Any]] = []
    can: list[str]
    cannot: list[str]


class Pattern(_Strict):
    """A pattern as its file has it.

    `name` is the file's name. One that has steps changes what they do, in their order.
    """

    name: str
    about: str
    asks: list[Ask]
    changes: list[dict[str, Any]] = []
    steps: list[PatternPart] = []
    trials: list[Trials] = []

    @property
    def all_changes(self) -> list[dict[str, Any]]:
        return [*self.changes, *(change for step in self.steps for change in step.changes)]

    def step(self, number: int) -> Pattern:
        """One step, from 1 on, as a pattern of its own. :class:`BadInput` if there is none."""
        if not 1 <= number <= len(self.steps):
            if not self.steps:
                raise BadInput(
                    "step", f"{self.name} is done at once, and has no steps", "no step at all"
                )
            raise BadInput("step", f"there is no step {number}", f"1 to {len(self.steps)}")
        one = self.steps[number - 1]
        return self.model_copy(
            update={
                "asks": [self.ask(key) for key in one.asks],
                "changes": one.changes,
                "steps": [],
            }
        )

    def ask(self, key: str) -> Ask:
        """The question of that key; :class:`NotFound` if there is none."""
        found = next((a for a in self.asks if a.key == key), None)
        if found is None:
            raise NotFound("question", key, [a.key for a in self.asks], where=key)
        return found


HEAD = "drawknife-pattern"
#: The forms of a change that only patterns have, by the key that they are known by, and all keys of
#: each.
FORMS = {"ensure": {"ensure", "item"}, "each": {"each", "of", "changes"}, "if": {"if", "changes"}}


def read_pattern(name: str, raw: bytes) -> Pattern:
    """A pattern from the bytes of its file.

    :class:`BadDocument` with every mistake and its place.
    """
    data, text = read_document(raw)
    places = Places(text)

    def mistake(where: Where, message: str, expected: str = "") -> Mistake:
        line = places.line(where) if where else 1
        return Mistake(where, line, "", f"pattern {name}: {message}", expected, None)

    if not isinstance(data, dict) or data.get(HEAD) != 1:
        raise BadDocument(
            [mistake((), "it is no pattern", f"`{HEAD}: 1`, the version of the format")]
        )
    try:
        pattern = Pattern.model_validate(
            {"name": name, **{k: x for k, x in data.items() if k != HEAD}}
        )
    except ValidationError as bad:
        found = [
            mistake(tuple(e["loc"]), e["msg"].removeprefix("Value error, ").lower(), _expected(e))
            for e in bad.errors()
        ]
        raise BadDocument(found) from None
    if wrong := [mistake(where, message, expected) for where, message, expected in _wrong(pattern)]:
        raise BadDocument(wrong)
    return pattern


def _wrong(pattern: Pattern) -> Iterator[tuple[Where, str, str]]:
    """What cannot be, though each key has what it is to have: where, what, and what
    would be right.
    """
    known: set[str] = set()
    for number, ask in enumerate(pattern.asks):
        yield from _unknown(("asks", number, "default"), ask.default, known)
        known |= _keys(ask)
    if bool(pattern.changes) == bool(pattern.steps):
        yield (
            (),
            "it has both changes and steps" if pattern.steps else "it changes nothing",
            "changes, or steps",
        )
    yield from _wrong_changes(("changes",), pattern.changes, known)
    asks = {a.key: a for a in pattern.asks}
    for number, step in enumerate(pattern.steps):
        known = set()
        for place, key in enumerate(step.asks):
            where: Where = ("steps", number, "asks", place)
            if key not in asks:
                yield where, f"there is no question {key!r}", "the key of a question"
                continue
            yield from _unknown(where, asks[key].default, known)
            known |= _keys(asks[key])
        yield from _wrong_changes(("steps", number, "changes"), step.changes, known)


def _keys(ask: Ask) -> set[str]:
    """What changes may name of an answer."""
    return {ask.key, f"{ask.key}_in"} if ask.kind == "folder" else {ask.key}


def _wrong_changes(at: Where, changes: Any, known: set[str]) -> Iterator[tuple[Where, str, str]]:
    if not isinstance(changes, list) or not all(isinstance(c, dict) for c in changes):
        yield at, "the changes are no list of changes", "as docs/reference/patterns.md has them"
        return
    for number, change in enumerate(changes):
        where = (*at, number)
        form = next((f for f in FORMS if f in change), None)
        if form is None:
            yield from _unknown(where, change, known)
        elif set(change) != FORMS[form]:
            yield where, f"a change with `{form}` has other keys", ", ".join(sorted(FORMS[form]))
        elif form == "ensure":
            kind = KINDS.get(str(change["ensure"]))
            key = "for" if kind is SETTING else kind.key if kind is not None else ""
            if kind is None or kind is FOLDER:
                yield (
                    where,
                    f"{change['ensure']!r} cannot be ensured",
                    "one of " + ", ".join(k for k in KINDS if k != "folder"),
                )
            elif not isinstance(change["item"], dict) or key not in change["item"]:
                yield where, f"the item has no {key}", f"an item with its {key}"
            yield from _unknown(where, change["item"], known)
        elif form == "each":
            yield from _unknown(where, change["of"], known)
            yield from _wrong_changes(
                (*where, "changes"), change["changes"], known | {str(change["each"])}
            )
        else:
            if change["if"] not in known:
                yield where, f"there is no question {change['if']!r}", "the key of a question"
            yield from _wrong_changes((*where, "changes"), change["changes"], known)


def _unknown(where: Where, data: Any, known: set[str]) -> Iterator[tuple[Where, str, str]]:
    """Texts, however deep, that name an answer that there is not."""
    if isinstance(data, dict):
        for key, part in data.items():
            yield from _unknown((*where, key), part, known)
    elif isinstance(data, list):
        for number, part in enumerate(data):
            yield from _unknown((*where, number), part, known)
    elif isinstance(data, str):
        template = Template(data)
        if not template.is_valid():
            yield where, f"{data!r} has a $ that names nothing", "$key, ${key}, or $$ for a dollar"
        for name in template.get_identifiers() if template.is_valid() else ():
            if name not in known:
                yield (
                    where,
                    f"{data!r} names {name}, which is not asked",
                    "the key of a question before it",
                )


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
    """The shipped patterns and those in the folders, by name; one in a folder stands for a shipped
    one of its name.

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
