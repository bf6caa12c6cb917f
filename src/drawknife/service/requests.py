"""What is sent: JSON in which every key stands once, and text that can be kept."""

from __future__ import annotations

import re
from typing import Any

from flask import Request as FlaskRequest

from drawknife.core.words.errors import BadInput
from drawknife.core.words.plain import HIDDEN, hidden_in
from drawknife.formats.document import BadDocument, Mistake, read_json

#: What a text looks like that may hold a character that is not kept, as it stands or escaped.
_DOUBTFUL = re.compile(
    f"[{HIDDEN}\ud800-\udfff]"
    + r"|\\[bf]|\\u(0[06][0-9a-fA-F]{2}|20[0-9a-fA-F]{2}|[dD][89a-fA-F][0-9a-fA-F]{2})"
)


#: A NUL, also as an address spells it, and half of a surrogate pair.
_NOT_KEPT = re.compile(r"\x00|%00|[\ud800-\udfff]")


def check_text(text: str) -> None:
    """:class:`BadInput` if a text holds a NUL, or half of a surrogate pair."""
    if _NOT_KEPT.search(text):
        raise BadInput(
            "",
            "the text holds a character that cannot be kept",
            "text without NUL and without halves of pairs",
        )


def read_body(raw: bytes) -> Any:
    """Plain data from a body; :class:`BadDocument` if it is no JSON in UTF-8, a key stands twice,
    or a text cannot be kept.
    """
    try:
        text = raw.decode()
    except UnicodeDecodeError:
        raise BadDocument(
            [Mistake((), None, "", "the body is not UTF-8", "JSON in UTF-8")]
        ) from None
    data = read_json(text)
    if _DOUBTFUL.search(text):
        _check_all(data, ())
    return data


class Request(FlaskRequest):
    """A request whose JSON is read strictly, and once: mistakes are told with their places."""

    _read: tuple[Any] | None = None

    def get_json(self, force: bool = False, silent: bool = False, cache: bool = True) -> Any:
        if not (force or self.is_json):
            return super().get_json(force, silent, cache)
        if self._read is None:
            self._read = (read_body(self.get_data(cache=cache)),)
        return self._read[0]


def _check_all(data: Any, where: tuple[str | int, ...]) -> None:
    """Look at every text of the data; what holds a character that cannot be kept is a mistake at
    its place.
    """
    todo: list[tuple[Any, tuple[str | int, ...]]] = [(data, where)]
    while todo:
        value, at = todo.pop()
        if isinstance(value, str):
            try:
                check_text(value.replace("%00", ""))
            except BadInput as bad:
                raise BadDocument([Mistake(at, None, "", bad.message, bad.expected)]) from None
            hidden = hidden_in(value.replace("\r\n", "\n"), lines=True)
            if hidden is not None:
                said = f"the text holds the character {hidden}"
                raise BadDocument(
                    [Mistake(at, None, "", said, "text without control and direction characters")]
                )
        elif isinstance(value, dict):
            for key, one in value.items():
                todo += [(key, at), (one, (*at, key))]
        elif isinstance(value, list):
            todo += [(one, (*at, i)) for i, one in enumerate(value)]
