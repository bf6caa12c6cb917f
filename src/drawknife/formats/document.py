"""A YAML 1.2 or JSON document as plain data, and where each part of it stands.

Places are only looked up when there is a mistake to report: a sound document is read at full speed.
"""

import contextlib
import json
import math
import re
import time
from collections.abc import Iterator
from itertools import count
from typing import Any

import yaml

from drawknife.core.words.key_paths import Where

from .mistakes import BadDocument, Mistake

__all__ = ["BadDocument", "Mistake", "Places", "read_document", "read_json", "write_yaml"]


MAX_DEPTH = 32
#: Bytes that data takes for each such mark in a document, about; it may take so many times the
#: document's size, and more.
_WEIGHTS = {"{": 184, "[": 64, ",": 48, "\n": 48, "- ": 48}
MOST_TIMES, MORE = 10, 2**26

_INT = re.compile(r"[-+]?[0-9]{1,100}|0o[0-7]{1,100}|0x[0-9a-fA-F]{1,100}")
_FLOAT = re.compile(
    r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?|[-+]?\.(inf|Inf|INF)|\.(nan|NaN|NAN)"
)
_WORDS = {
    **dict.fromkeys(("", "~", "null", "Null", "NULL")),
    **dict.fromkeys(("true", "True", "TRUE"), True),
    **dict.fromkeys(("false", "False", "FALSE"), False),
}


def _scalar(text: str) -> Any:
    """A plain scalar by the core schema of YAML 1.2: dates and `yes` are text there."""
    if text in _WORDS:
        return _WORDS[text]
    if text[0] in "-+.0123456789":
        if _INT.fullmatch(text):
            return int(text, 0) if text[:2] in ("0o", "0x") else int(text)
        if _FLOAT.fullmatch(text):
            return float(text.replace(".inf", "inf").replace(".nan", "nan").lower())
    return text


class _Wrong(Exception):
    def __init__(self, message: str, mark: Any) -> None:
        super().__init__(message)
        self.line = mark.line + 1 if mark else None


def _line(event: Any) -> int:
    return int(event.start_mark.line) + 1


def _check_size(text: str) -> None:
    """:class:`BadDocument` where a document holds so many items that they would take many times its
    own room.
    """
    weight = sum(each * text.count(mark) for mark, each in _WEIGHTS.items())
    if weight > MOST_TIMES * len(text) + MORE:
        raise BadDocument(
            [
                Mistake(
                    (),
                    None,
                    "",
                    "the document has far too many items for its size",
                    "a model with fewer empty items",
                )
            ]
        )


class _Open:
    """A collection that is being read: its own place, and the key that waits for its value."""

    def __init__(self, value: Any, place: Where) -> None:
        self.value, self.place = value, place
        self.key: str | None = None

    def add_key(self, key: Any, event: yaml.NodeEvent) -> None:
        if not isinstance(key, str):
            raise _Wrong("a key is not text", event.start_mark)
        if key in self.value:
            raise _Wrong(f"the key {key!r} is there twice", event.start_mark)
        self.key = key

    def add(self, value: Any) -> str | int:
        """Put a value at its key, or at the end of a list; returns that."""
        if not isinstance(self.value, dict):
            self.value.append(value)
            return len(self.value) - 1
        key, self.key = self.key, None
        assert key is not None
        self.value[key] = value
        return key


def _yaml(text: str, lines: dict[Where, int] | None = None, until: float = math.inf) -> Any:
    """Plain data from YAML, without recursion; `lines` receives the line of every part.

    One document, text keys, each once, no tags and no aliases: a model needs none. TimeoutError
    after `until`, by the monotonic clock.
    """
    root: list[Any] = []
    stack = [_Open(root, ())]
    for event in _nodes(text, until):
        if isinstance(event, yaml.CollectionEndEvent):
            stack.pop()
            continue
        value: Any
        if isinstance(event, yaml.ScalarEvent):
            value = _scalar(event.value) if event.implicit[0] else event.value
        else:
            value = {} if isinstance(event, yaml.MappingStartEvent) else []
        into = stack[-1]
        if isinstance(into.value, dict) and into.key is None:
            into.add_key(value, event)
            if lines is not None:
                lines[(*into.place, value)] = _line(event)
            continue
        step = into.add(value)
        place: Where = ()
        if lines is not None and into.value is not root:
            place = (*into.place, step)
            lines.setdefault(place, _line(event))
        if not isinstance(event, yaml.ScalarEvent):
            if len(stack) > MAX_DEPTH:
                raise _Wrong("the document is nested too deep", event.start_mark)
            stack.append(_Open(value, place))
    return root[0] if root else None


def _nodes(text: str, until: float) -> Iterator[Any]:
    """The values, keys, and beginnings and ends of collections of one document."""
    parser = yaml.CSafeLoader(text)
    documents = 0
    for number in count(1):
        event = parser.get_event()
        if number % 4096 == 0 and time.monotonic() > until:
            raise TimeoutError
        if event is None or isinstance(event, yaml.StreamEndEvent):
            return
        if isinstance(event, yaml.DocumentStartEvent):
            documents += 1
            if documents > 1:
                raise _Wrong("there is a second document", event.start_mark)
        elif isinstance(event, yaml.AliasEvent):
            raise _Wrong("aliases are not used here", event.start_mark)
        elif isinstance(event, yaml.NodeEvent | yaml.CollectionEndEvent):
            tag = getattr(event, "tag", None)
            if tag not in (None, "!"):
                raise _Wrong(f"the tag {tag!r} is not used here", event.start_mark)
            yield event


def _pairs(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found = dict(pairs)
    if len(found) != len(pairs):
        seen: set[str] = set()
        for key, _ in pairs:
            if key in seen:
                raise BadDocument(
                    [Mistake((), None, key, f"the key {key!r} is there twice", "each key once")]
                )
            seen.add(key)
    return found


def _no_constant(text: str) -> Any:
    raise BadDocument([Mistake((), None, text, f"{text} is no JSON", "a number")])


def read_json(text: str) -> Any:
    """Plain data from JSON (RFC 8259); :class:`BadDocument` with the line if it is none, or is far
    too full.
    """
    _check_size(text)
    try:
        return json.loads(text, object_pairs_hook=_pairs, parse_constant=_no_constant)
    except json.JSONDecodeError as error:
        raise BadDocument(
            [Mistake((), error.lineno, "", f"this is no JSON: {error.msg}", "JSON")]
        ) from None
    except (RecursionError, ValueError) as error:
        if isinstance(error, BadDocument):
            raise
        raise BadDocument(
            [
                Mistake(
                    (),
                    None,
                    "",
                    "this is no JSON that can be read: too deep or too long a number",
                    "JSON",
                )
            ]
        ) from None


def read_document(raw: bytes | str, within: float | None = None) -> tuple[Any, str]:
    """Plain data from a YAML or JSON document, and its text. :class:`BadDocument` if it is neither.

    That is also raised where reading takes longer than `within` seconds, or much more room than the
    document.
    """
    until = math.inf if within is None else time.monotonic() + within
    if isinstance(raw, bytes):
        try:
            text = raw.decode("utf-8-sig")
        except UnicodeDecodeError as error:
            at = raw.count(b"\n", 0, error.start) + 1
            raise BadDocument(
                [Mistake((), at, "", "the document is not UTF-8", "UTF-8 text")]
            ) from None
    else:
        text = raw
    _check_size(text)
    if text.lstrip()[:1] == "{":
        try:
            return json.loads(text, object_pairs_hook=_pairs, parse_constant=_no_constant), text
        except (ValueError, RecursionError) as error:
            if isinstance(error, BadDocument):
                raise
    line: int | None
    try:
        return _yaml(text, until=until), text
    except TimeoutError:
        line, message = None, f"reading took more than {within:g} seconds; JSON is read much faster"
    except _Wrong as error:
        line, message = error.line, str(error)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        line, message = (
            mark.line + 1 if mark else None,
            " ".join(filter(None, (error.problem, error.context))),
        )
    except yaml.YAMLError as error:
        line, message = None, f"this cannot be read as YAML: {str(error)[:200]}"
    raise BadDocument([Mistake((), line, "", message, "YAML 1.2 or JSON")])


class Places:
    """The lines of a document, by key path."""

    def __init__(self, text: str, within: float = math.inf) -> None:
        """Look them up, for so many seconds; after that only those found until then are known."""
        self._lines: dict[Where, int] = {}
        with contextlib.suppress(yaml.YAMLError, _Wrong, TimeoutError):
            _yaml(text, self._lines, time.monotonic() + within)

    def line(self, where: Where) -> int | None:
        """The line of the key path, or of the nearest part of it that the document has."""
        while where and where not in self._lines:
            where = where[:-1]
        return self._lines.get(where)


class _Writer(yaml.CSafeDumper):
    """Writes plain data; dates stay bare, as YAML 1.2 knows no dates."""

    def ignore_aliases(self, data: Any) -> bool:
        return True


_Writer.yaml_implicit_resolvers = {
    first: [(tag, pattern) for tag, pattern in found if not tag.endswith("timestamp")]
    for first, found in yaml.CSafeDumper.yaml_implicit_resolvers.items()
}


#: No line is broken: a later edit of the file would put it together again, and so touch what it has
#: nothing to do with.
WIDTH = 1 << 20


def write_yaml(data: Any) -> str:
    """Plain data as YAML, keys in the order given."""
    return yaml.dump(
        data, Dumper=_Writer, sort_keys=False, allow_unicode=True, width=WIDTH, indent=2
    )


def write_json(data: Any) -> str:
    """Plain data as JSON, keys in the order given."""
    return json.dumps(data, ensure_ascii=False, indent=1) + "\n"
